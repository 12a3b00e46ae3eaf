"""Floods a running Anaxis as strangers and careless programs would, and measures how long a page takes meanwhile.

``floods.py URL [--size 1.0] [--token TOKEN]``. Each flood is of one kind: large bodies of nobody, bodies and headers that trickle in,
large first messages of the exchange, sockets that watch, and with a token messages that make no sense. It exits with 1 where a page took longer than 2 s meanwhile, or an answer was a server error.
"""

from __future__ import annotations

import argparse
import json
import socket
import sys
import time
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack, suppress
from dataclasses import dataclass, field
from urllib.parse import urlsplit

import httpx
from page_watch import watched_page
from websockets.exceptions import ConnectionClosed, InvalidStatus
from websockets.sync.client import connect

# So long a page may take while others flood the server.
MOST_S = 2.0


@dataclass
class Meanwhile:
    """What a visitor saw: the slowest page of each flood, and the statuses that flooders got."""

    slowest_s: dict[str, float] = field(default_factory=dict)
    statuses: Counter[str] = field(default_factory=Counter)
    wrong: list[str] = field(default_factory=list)


def floods(url: str, size: float = 1.0, token: str = "") -> Meanwhile:
    """All of them, one after the other; ``size`` 1 is as strong as a machine of two cores is to bear."""
    found = Meanwhile()
    many = max(2, round(40 * size))
    kinds: dict[str, Callable[[], None]] = {
        "large JSON of nobody": lambda: _at_once(
            many, lambda: _post(url, found, "/api/v1/shows", b'{"a": [' + b"1," * 5_000_000)
        ),
        "large forms of nobody": lambda: _at_once(
            many, lambda: _post(url, found, "/take-in", b"x" * 20_000_000, "multipart/form-data; boundary=x")
        ),
        "bodies that trickle": lambda: _trickle(url, round(80 * size) or 2, _half_a_body(url)),
        "headers that trickle": lambda: _trickle(url, round(300 * size) or 2, _HALF_A_HEAD),
        "large first messages": lambda: _at_once(many, lambda: _first_message(url, found, 1_000_000)),
        "sockets of nobody": lambda: _at_once(many, lambda: _watch(url, found)),
    }
    if token:
        kinds["messages that make no sense"] = lambda: _no_sense(url, found, token, many)
    for kind, flood in kinds.items():
        with watched_page(url, 0.1, follow_redirects=True) as seen:
            flood()
        found.slowest_s[kind] = seen.slowest_s
        found.wrong += [f"{kind}: {wrong}" for wrong in seen.wrong]
    return found


def _at_once(many: int, one: Callable[[], None]) -> None:
    with ThreadPoolExecutor(min(many, 16)) as pool:
        for asked in [pool.submit(one) for _ in range(many)]:
            asked.result()


def _post(url: str, found: Meanwhile, path: str, body: bytes, content: str = "application/json") -> None:
    try:
        status = httpx.post(
            f"{url}{path}", content=body, headers={"Content-Type": content, "Origin": url}, timeout=60
        ).status_code
    except httpx.HTTPError:  # answered and closed before all of it was sent
        found.statuses["closed"] += 1
        return
    found.statuses[str(status)] += 1
    if status >= 500 and status != 503:
        found.wrong.append(f"{path}: {status}")


_HALF_A_HEAD = b"GET / HTTP/1.1\r\nHost: 127.0.0.1\r\nX-Half: "


def _half_a_body(url: str) -> bytes:
    head = f"POST /sign-in HTTP/1.1\r\nHost: 127.0.0.1\r\nOrigin: {url}\r\nContent-Type: application/x-www-form-urlencoded\r\nContent-Length: 100000"
    return f"{head}\r\n\r\nname=".encode()


def _trickle(url: str, many: int, begins: bytes, seconds: float = 3.0) -> None:
    """So many connections that send a byte a second and never come to an end."""
    where = urlsplit(url)
    with ExitStack() as stack:
        lines = []
        for _ in range(many):
            line = stack.enter_context(socket.create_connection((where.hostname or "", where.port or 80), timeout=10))
            with suppress(OSError):
                line.sendall(begins)
            lines.append(line)
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            for line in lines:
                with suppress(OSError):
                    line.sendall(b"x")
            time.sleep(1.0)


def _exchange(url: str) -> str:
    return f"{url.replace('http', 'ws', 1)}/exchange/v1"


def _first_message(url: str, found: Meanwhile, size: int) -> None:
    with (
        suppress(ConnectionClosed, InvalidStatus, OSError),
        connect(_exchange(url), legacy=True, max_size=None) as line,
    ):
        line.send(
            json.dumps(
                {
                    "type": "hello",
                    "protocol": 1,
                    "client": "f" * 8,
                    "name": "flood",
                    "profile": {"x": ["y"] * (size // 5)},
                }
            )
        )
        found.statuses[str(json.loads(line.recv(timeout=30)).get("code"))] += 1


def _watch(url: str, found: Meanwhile) -> None:
    try:
        with connect(f"{url.replace('http', 'ws', 1)}/live/watch?show=1&a=1", legacy=True) as line:
            line.recv(timeout=2)
    except (ConnectionClosed, InvalidStatus, TimeoutError, OSError) as error:
        found.statuses[type(error).__name__] += 1


def _no_sense(url: str, found: Meanwhile, token: str, many: int) -> None:
    """Long changes that are wrong in every place, over one connection with a token."""
    with suppress(ConnectionClosed), connect(_exchange(url), legacy=True, max_size=None) as line:
        line.send(
            json.dumps(
                {
                    "type": "hello",
                    "protocol": 1,
                    "client": "nonsense",
                    "name": "flood",
                    "token": token,
                    "profile": "zup-rh-m",
                }
            )
        )
        if json.loads(line.recv(timeout=30))["type"] != "welcome":
            found.wrong.append("a package with a token was not welcome")
            return
        for number in range(1, many + 1):
            line.send(json.dumps({"type": "change", "number": number, "camera": "c", "frames": ["x"] * 190_000}))
            for _ in range(2):
                found.statuses[str(json.loads(line.recv(timeout=60)).get("type"))] += 1


def main() -> None:
    asked = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    asked.add_argument("url")
    asked.add_argument("--size", default=1.0, type=float)
    asked.add_argument("--token", default="")
    given = asked.parse_args()
    found = floods(given.url.rstrip("/"), given.size, given.token)
    for kind, seconds in found.slowest_s.items():
        print(f"{kind}: the slowest page took {seconds:.2f} s{'  TOO LONG' if seconds > MOST_S else ''}")
    print(f"answers: {dict(found.statuses)}")
    for line in found.wrong[:20]:
        print("WRONG", line)
    sys.exit(1 if found.wrong or max(found.slowest_s.values()) > MOST_S else 0)


if __name__ == "__main__":
    main()
