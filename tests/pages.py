"""What tests of the pages share."""

from __future__ import annotations

import re
import socket
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import httpx
import uvicorn
from playwright.sync_api import Error, Page
from sqlalchemy.orm import Session

from anaxis.app.people import add_person, person_named
from anaxis.app.roles import Role
from anaxis.store.database import connect, migrate


class Visitor(httpx.Client):
    """A client that says which page its forms come from, as every browser does."""

    def __init__(self, **more: Any) -> None:
        super().__init__(event_hooks={"request": [self._from_here]}, **more)

    def _from_here(self, request: httpx.Request) -> None:
        request.headers.setdefault("Origin", f"{request.url.scheme}://{request.url.netloc.decode()}")


def administrator(url: str, name: str) -> None:
    """Somebody who may do everything, with no password yet."""
    engine = connect(url)
    migrate(engine)
    with Session(engine) as store, store.begin():
        if person_named(store, name) is None:
            add_person(store, name, Role.ADMINISTRATOR)
    engine.dispose()


@contextmanager
def served(url: str, log_level: str = "error", visitor: str = "demo") -> Iterator[str]:
    """The application on a free port, on a database; yields its address. Whoever comes is signed in as the visitor, as in the
    demonstration; "" for nobody."""
    from anaxis.web.app import create_app

    if visitor:
        administrator(url, visitor)

    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    app = create_app(url, readers_ready=False, own_worker=True, visitor=visitor)
    server = uvicorn.Server(uvicorn.Config(app, port=port, log_level=log_level))
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    deadline = time.monotonic() + 30
    while not server.started and time.monotonic() < deadline:
        time.sleep(0.02)
    assert server.started
    yield f"http://127.0.0.1:{port}"
    server.should_exit = True
    thread.join(10)


def ink(page: Page, view: str) -> int:
    """How many pixels of a drawing are not empty."""
    return int(
        page.evaluate(
            """(view) => { const c = document.querySelector(`canvas[data-view=${view}], [data-view=${view}] canvas`);
            const d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data;
            let n = 0; for (let i = 3; i < d.length; i += 4) n += d[i] > 0; return n; }""",
            view,
        )
    )


def fits(page: Page) -> None:
    """Nothing runs out of the window sideways."""
    assert page.evaluate("document.documentElement.scrollWidth <= innerWidth")


def ready(page: Page) -> None:
    until(page, "window.anaxisReady === true")


def until(page: Page, condition: str, seconds: float = 30) -> None:
    """Asked from here: the pages allow no script that is made up in them."""
    deadline = time.monotonic() + seconds
    while True:
        with suppress(Error):  # on the way to another page
            if page.evaluate(condition):
                return
        assert time.monotonic() < deadline, condition
        page.wait_for_timeout(50)


def take_in(site: str, path: Path, shot: str = "TW_X", camera: str = "", cookies: Any = None) -> None:
    """The take-in through the pages' own forms, without a browser; the last camera of the file, or the one at a path."""
    with Visitor(base_url=site, timeout=60, cookies=cookies) as client:
        answer = client.post("/take-in", files={"file": (path.name, path.read_bytes())})
        assert answer.status_code == 303, answer.text
        review = client.get(answer.headers["location"]).text
        fields = dict(re.findall(r'name="(resolution|cameras)"\s+value="([^"]+)"', review)) or {}
        fields |= {k: v for v, k in re.findall(r'value="([^"]+)"[^>]*name="(resolution|cameras)"', review)}
        resolution = re.search(r'id="resolution"\s+name="resolution"\s+value="([^"]+)"', review)
        assert resolution
        fields |= {"show": "The Tidewright", "shot": shot, "source_fit": "width", "resolution": resolution[1]}
        fields |= {"cameras": camera} if camera else {}
        assert client.post(answer.headers["location"], data=fields).status_code == 303
