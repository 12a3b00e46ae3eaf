"""A command done for several files, each in a process of its own: one table and one JSON at the end, the gravest exit code."""

from __future__ import annotations

import json
import subprocess
import sys
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any, NamedTuple

import click

from anaxis.cli.tables import OFF_TOLERANCE, REFUSED, WARNED, console, print_json, said_on_the_way, table
from anaxis.core.errors import BadInput
from anaxis.program import anaxis_command

_ARGS = "anaxis.args"
# The gravest first, as docs/command-line.md lists them.
_GRAVEST = (2, OFF_TOLERANCE, REFUSED, WARNED, 0)
_WORDS = {0: "matches", 2: "bad input", OFF_TOLERANCE: "does not match", REFUSED: "a format was refused", WARNED: "matches, with a warning"}  # fmt: skip


class KeepsArgs(click.Command):
    """A command that remembers the words it was called with."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        ctx.meta[_ARGS] = list(args)
        return super().parse_args(ctx, args)


class _Done(NamedTuple):
    file: Path
    code: int
    document: dict[str, Any] | None
    said: str


def each_of(ctx: click.Context, files: tuple[Path, ...], jobs: int, as_json: bool) -> None:
    """The command of ``ctx`` for every file, ``jobs`` at a time; what fails of one stops no other. Ends the process.

    Raises BadInput for files whose deliveries would be called alike.
    """
    alike = [stem for stem, count in Counter(f.stem for f in files).items() if count > 1]
    if alike:
        raise BadInput(
            f"Several files are named {alike[0]}, so their deliveries would collide: write each to its own folder."
        )
    words = _without_files(ctx.meta[_ARGS], files)
    with ThreadPoolExecutor(jobs) as at_once:
        waiting = [at_once.submit(_one, str(ctx.info_name), f, words) for f in files]
        done = [w.result() for w in said_on_the_way(waiting, "files")]
    code = min((d.code for d in done), key=lambda c: _GRAVEST.index(c) if c in _GRAVEST else -1)
    _say(done, code, as_json)
    sys.exit(code)


def _without_files(args: list[str], files: tuple[Path, ...]) -> list[str]:
    """The words a call was made with, less its files and what is said of the call as a whole."""
    left, kept = [str(f) for f in files], list[str]()
    words = iter(args)
    for word in words:
        if Path(word).as_posix() in {Path(f).as_posix() for f in left} and not (
            kept and kept[-1] in ("--plate", "--out")
        ):
            left = [f for f in left if Path(f).as_posix() != Path(word).as_posix()]
        elif word == "--jobs":
            next(words, None)
        elif word not in ("--json", "--") and not word.startswith("--jobs="):
            kept.append(word)
    return kept


def _one(command: str, file: Path, words: list[str]) -> _Done:
    done = subprocess.run(anaxis_command(command, *words, "--json", "--", str(file)), capture_output=True, text=True)
    try:
        document = json.loads(done.stdout)
    except ValueError:
        document = None
    said = done.stderr.strip()
    code = done.returncode
    if document is None and code not in _GRAVEST[:-1]:
        code, said = 2, f"{file.name} failed: its process ended with {done.returncode}; run it alone."
    return _Done(file, code, document, said.removeprefix("anaxis: "))


def _say(done: list[_Done], code: int, as_json: bool) -> None:
    worst = [d.document["proof"]["max_px"] for d in done if d.document and d.document.get("proof")]
    if as_json:
        entries = [{"file": str(d.file), "exit": d.code, "said": d.said, **({"result": d.document} if d.document else {})} for d in done]  # fmt: skip
        print_json({"exit": code, "worst_px": max(worst, default=None), "files": entries})
        return
    rows = table("file", "worst, px", "written", "result")
    for d in done:
        proof = (d.document or {}).get("proof")
        written = len((d.document or {}).get("files", []))
        rows.add_row(d.file.name, f"{proof['max_px']:.3g}" if proof else "", str(written or ""), _WORDS.get(d.code, ""))
    console().print(rows)
    for d in done:
        if d.code:
            click.echo(f"{d.file.name}: {' '.join(d.said.split()) or _WORDS[d.code]}", err=True)
