"""The command line in this process: a process of its own would load everything anew for each command."""

from __future__ import annotations

import atexit
import contextlib
import io
import json
import os
import sys
from dataclasses import dataclass
from typing import Any
from unittest import mock

from anaxis.cli import main
from anaxis.cli import read as cli_read
from anaxis.sandbox.guard import Limits, ParserPool


class _Shared(ParserPool):
    """Readers that outlive a command: they are the next one's, too."""

    def close(self) -> None:
        pass


_readers: dict[Limits, _Shared] = {}


def _shared(limits: Limits, only_for: str = "") -> _Shared:
    if limits not in _readers:
        _readers[limits] = _Shared(limits)
        atexit.register(ParserPool.close, _readers[limits])
    return _readers[limits]


@dataclass(frozen=True)
class Ran:
    """What a command printed and its exit code."""

    returncode: int
    stdout: str
    stderr: str

    @property
    def document(self) -> dict[str, Any]:
        found: dict[str, Any] = json.loads(self.stdout)
        return found


def run(*words: object, **environment: str) -> Ran:
    """``anaxis`` with these words and settings."""
    out, err = io.TextIOWrapper(io.BytesIO(), encoding="utf-8"), io.StringIO()
    code: Any = 0
    with (
        mock.patch.object(sys, "argv", ["anaxis", *map(str, words)]),
        mock.patch.dict(os.environ, environment),
        mock.patch.object(cli_read, "ParserPool", _shared),
        contextlib.redirect_stdout(out),
        contextlib.redirect_stderr(err),
    ):
        try:
            main()
        except SystemExit as ended:
            code = ended.code or 0
    out.flush()
    return Ran(int(code), out.buffer.getvalue().decode(), err.getvalue())


def said(*words: object, code: int = 0, **environment: str) -> dict[str, Any]:
    """The document that a command prints with ``--json``; the sentence as ``said`` where it prints none."""
    done = run(*words, "--json", **environment)
    assert done.returncode == code, done.stderr + done.stdout
    return done.document if done.stdout.startswith("{") else {"said": done.stderr}
