"""A simulated mail server: it takes every mail and keeps each as a file, for the demonstration and the tests."""

from __future__ import annotations

import itertools
import socket
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from aiosmtpd.controller import Controller


class Inbox:
    """Keeps what comes as ``0001.eml`` and so on in a folder; refuses everything while ``refuses`` is set."""

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self._folder, self.refuses = folder, False
        self._numbers = itertools.count(len(list(folder.glob("*.eml"))) + 1)

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        if self.refuses:
            return "451 Try again later"
        (self._folder / f"{next(self._numbers):04}.eml").write_bytes(envelope.original_content or b"")
        return "250 Kept"


@contextmanager
def serving(folder: Path, port: int = 0) -> Iterator[tuple[Inbox, int]]:
    """A mail server on this machine meanwhile: its inbox and its port."""
    inbox = Inbox(folder)
    if not port:
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
    controller = Controller(inbox, hostname="127.0.0.1", port=port)
    controller.start()
    try:
        yield inbox, port
    finally:
        controller.stop()


def run(folder: Path, port: int) -> None:
    """Serve until the process is ended."""
    with serving(folder, port):
        print(f"Simulated mail server at 127.0.0.1:{port}; mails are kept in {folder}", flush=True)
        while True:
            time.sleep(3600)
