"""Asks for the shots' page again and again while a script loads the server, and measures how long that takes."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

import httpx


@dataclass
class PageWatch:
    """The slowest answer, and what went wrong, a sentence each."""

    slowest_s: float = 0.0
    wrong: list[str] = field(default_factory=list)


@contextmanager
def watched_page(url: str, every_s: float, follow_redirects: bool = False) -> Iterator[PageWatch]:
    """Meanwhile the shots' page is asked for every so many seconds, at least once."""
    seen, over = PageWatch(), threading.Event()

    def look() -> None:
        with httpx.Client(base_url=url, timeout=60, follow_redirects=follow_redirects) as line:
            while True:
                begun = time.monotonic()
                try:
                    answer = line.get("/")
                    if answer.status_code != 200:
                        seen.wrong.append(f"the shots' page: {answer.status_code}")
                except httpx.HTTPError as error:
                    seen.wrong.append(f"the shots' page: {error!r}")
                seen.slowest_s = max(seen.slowest_s, time.monotonic() - begun)
                if over.wait(every_s):
                    return

    looking = threading.Thread(target=look, daemon=True)
    looking.start()
    try:
        yield seen
    finally:
        over.set()
        looking.join(90)
