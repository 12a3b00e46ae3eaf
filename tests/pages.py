"""What tests of the pages share."""

from __future__ import annotations

import asyncio
import logging
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
from sqlalchemy import Engine
from sqlalchemy.exc import SQLAlchemyError

from anaxis.app.context import Context
from anaxis.app.people.people import add_person, person_named
from anaxis.app.roles import LOCAL, Role
from anaxis.queue.jobs import has_open_work
from anaxis.store.database import connect
from anaxis.web.app import create_app, serve_from
from anaxis.worker.process import work
from loops import WatchedLoop, not_kept_waiting


class Visitor(httpx.Client):
    """A client that says which page its forms come from, as every browser does."""

    def __init__(self, timeout: float = 60, **more: Any) -> None:  # a busy machine is no fault of a page
        super().__init__(event_hooks={"request": [self._from_here]}, timeout=timeout, **more)

    def _from_here(self, request: httpx.Request) -> None:
        request.headers.setdefault("Origin", f"{request.url.scheme}://{request.url.netloc.decode()}")


PASSWORD = "a wheel turned by the tide"


def entered(address: str, name: str, password: str = PASSWORD) -> Visitor:
    client = Visitor(base_url=address, follow_redirects=False, timeout=60)
    answer = client.post("/sign-in", data={"name": name, "password": password})
    assert answer.status_code == 303, answer.text
    return client


def administrator(url: str, name: str) -> None:
    """Somebody who may do everything, with no password yet."""
    engine = connect(url)
    with Context(engine, LOCAL) as store, store.begin():
        if person_named(store, name) is None:
            add_person(store, name, Role.ADMINISTRATOR)
    engine.dispose()


class WorkerThread:
    """Does the work in a database's queue in this process, once there is some; a worker process would load everything anew."""

    def __init__(self, engine: Engine) -> None:
        self._engine, self._over, self._lock = engine, threading.Event(), threading.Lock()
        self._working: threading.Thread | None = None
        self._watching = threading.Thread(target=self._watch, daemon=True)
        self._watching.start()

    def _watch(self) -> None:
        while not self._over.wait(0.3):
            with suppress(SQLAlchemyError):
                if has_open_work(self._engine):
                    self.ensure()

    def ensure(self) -> None:
        with self._lock:
            if not self._over.is_set() and (self._working is None or not self._working.is_alive()):
                self._working = threading.Thread(target=asyncio.run, args=(self._work(),), daemon=True)
                self._working.start()

    async def _work(self) -> None:
        working = asyncio.create_task(work(self._engine))
        while not (working.done() or self._over.is_set()):  # it ends by itself where the database was away
            await asyncio.sleep(0.1)
        working.cancel()
        await asyncio.gather(working, return_exceptions=True)

    def close(self) -> None:
        """Work under way comes to its end first."""
        self._over.set()
        self._watching.join()
        if self._working is not None:
            self._working.join(60)
            assert not self._working.is_alive(), "work of a test goes on after its end"


class FailedDrawings(logging.Handler):
    """Keeps what the log says of drawings that failed: a page shows a sentence in place of such a drawing."""

    def __init__(self) -> None:
        super().__init__()
        self.said: list[str] = []

    def emit(self, record: logging.LogRecord) -> None:
        self.said.append(self.format(record))


@contextmanager
def every_drawing_made() -> Iterator[FailedDrawings]:
    """Fails where a drawing of a page failed meanwhile; a test that means it clears ``said``."""
    failed, log = FailedDrawings(), logging.getLogger("anaxis.drawings")
    log.addHandler(failed)
    try:
        yield failed
    finally:
        log.removeHandler(failed)
    assert not failed.said, failed.said[0]


class Server:
    """The application on a free port: started once, and then served from one database after the other."""

    def __init__(self, url: str, log_level: str = "error") -> None:
        """``url`` is the database that it is served from in between."""
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        self.address = f"http://127.0.0.1:{port}"
        self.app = create_app(url, readers_ready=False)
        self._idle = self.app.state.engine
        config = uvicorn.Config(self.app, port=port, log_level=log_level, timeout_graceful_shutdown=2)
        self._server = uvicorn.Server(config)
        self._loop = WatchedLoop()
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()
        deadline = time.monotonic() + 60
        while not self._server.started and time.monotonic() < deadline:
            time.sleep(0.02)
        assert self._server.started

    def _serve(self) -> None:
        asyncio.set_event_loop(self._loop)
        self._loop.run_until_complete(self._server.serve())

    @contextmanager
    def on(self, url: str, visitor: str = "demo") -> Iterator[str]:
        """Served from a database; yields the address. Whoever comes is signed in as the visitor, as in the demonstration; ""
        for nobody."""
        if visitor:
            administrator(url, visitor)
        engine = connect(url)
        self.app.state.visitor, self.app.state.worker = visitor, WorkerThread(engine)
        self._serve_from(engine)
        try:
            with not_kept_waiting(self._loop), every_drawing_made():
                yield self.address
        finally:
            self._serve_from(self._idle)
            self.app.state.worker.close()
            self.app.state.worker = None
            engine.dispose()

    def _serve_from(self, engine: Engine) -> None:
        asyncio.run_coroutine_threadsafe(serve_from(self.app, engine), self._loop).result(60)

    def close(self) -> None:
        self._server.should_exit = True
        self._thread.join(30)


@contextmanager
def served(url: str, log_level: str = "error") -> Iterator[str]:
    """An application of the test's own: for tests that end it, or what it needs."""
    server = Server(url, log_level)
    try:
        with server.on(url) as address:
            yield address
    finally:
        server.close()


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
    """Nothing runs out of the window sideways; measured once the page is there, while one gives way to the next too."""
    measured = page.wait_for_function(
        "() => document.readyState === 'complete' && [document.documentElement.scrollWidth, innerWidth]"
    )
    wide_px, window_px = measured.json_value()
    assert wide_px <= window_px


# A page is visible before its scripts run, and its controls do nothing until then. A test is quick enough to press one, so controls
# stay hidden until the scripts have run. Controls that the page itself focuses stay visible: a hidden control takes no focus.
_CONTROLS_LATER = """
const later = new CSSStyleSheet();
later.replaceSync(":is(select, input, textarea, button, summary):not([autofocus], [aria-invalid]) { visibility: hidden !important }");
document.adoptedStyleSheets = [later];
addEventListener("DOMContentLoaded", () => { document.adoptedStyleSheets = []; }); // after those of the page itself
"""


def opened_page(browser: Any, **more: Any) -> Page:
    """A page of a window of its own, whose controls a test finds when they work."""
    page: Page = browser.new_page(**more)
    page.add_init_script(_CONTROLS_LATER)
    return page


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
