"""The start command: what is killed comes back with what it was doing, and asked to stop everything ends."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import httpx
import psutil
import psycopg
import pytest

from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from anaxis.packages import shipped_profiles
from anaxis.program import anaxis_command
from anaxis.queue.jobs import ask_for
from anaxis.store.database import connect
from anaxis.store.local_postgres import free_port
from anaxis.store.models import Job
from jobs import wait_for
from pages import Visitor, take_in

Running = tuple[psutil.Process, str]


@pytest.fixture
def running(tmp_path: Path) -> Iterator[Running]:
    tmp_path.chmod(0o755)
    port = free_port()
    command = anaxis_command("start", "--port", str(port), "--folder", str(tmp_path / "var"))
    environment = {k: v for k, v in os.environ.items() if k != "DATABASE_URL"}
    with (tmp_path / "log").open("wb") as log:
        server = subprocess.Popen(command, env=environment, stdout=log, stderr=log)
    try:
        wait_for(lambda: _up(f"http://127.0.0.1:{port}"))
        yield psutil.Process(server.pid), f"http://127.0.0.1:{port}"
    finally:
        if server.poll() is None:
            server.kill()
            server.wait()


def _up(site: str) -> bool:
    try:
        return httpx.get(f"{site}/sign-in", timeout=10).status_code == 200
    except httpx.HTTPError:
        return False


def _keeps(url: str) -> bool:
    try:
        psycopg.connect(url).close()
    except psycopg.OperationalError:
        return False
    return True


def _administrator(site: str, log: str) -> httpx.Cookies:
    """Signed in by the link that the first start says; nobody who comes without it is."""
    link = re.search(r"http://127\.0\.0\.1:\d+/welcome#(\S+)", log)
    assert link, log
    password = "a wheel turned by the tide"
    with Visitor(base_url=site) as client:
        assert client.get("/").headers["location"].startswith("/sign-in")
        answer = client.post("/welcome", data={"secret": link[1], "password": password, "again": password})
        assert answer.status_code == 303, answer.text
        return client.cookies


def _find(start: psutil.Process, words: str) -> list[psutil.Process]:
    found = []
    for process in start.children(recursive=True):
        with suppress(psutil.Error):  # gone meanwhile
            if words in " ".join(process.cmdline()):
                found.append(process)
    return found


def test_what_is_killed_comes_back_and_asked_to_stop_all_of_it_ends(
    running: Running, demo_files: dict[str, Path], tmp_path: Path
) -> None:
    start, site = running
    take_in(site, demo_files["TW_020"], cookies=_administrator(site, (tmp_path / "log").read_text()))
    url = _find(start, "-m anaxis serve")[0].environ()["DATABASE_URL"]
    for words in ("-m anaxis worker", "-m anaxis serve", "bin/postgres -D", "postgres: anaxis"):
        before = {p.pid for p in _find(start, words)}
        os.kill(min(before), signal.SIGKILL)
        wait_for(lambda words=words, before=before: any(p.pid not in before for p in _find(start, words)))  # type: ignore[misc]
        wait_for(lambda: _up(site) and _keeps(url))
        with psycopg.connect(url) as line:
            assert line.execute("SELECT count(*) FROM versions").fetchone() == (1,)
        assert _worked(url) == "done"
    everything = [start, *start.children(recursive=True)]
    assert _find(start, "-m anaxis serve") and _find(start, "-m anaxis worker")
    folder = tmp_path / "var"
    assert [oct(p.stat().st_mode & 0o777) for p in (folder, folder / "postgres.log")] == ["0o711", "0o600"]
    # Somebody who holds a connection open and says nothing does not keep it.
    with httpx.Client(base_url=site) as held:
        held.get("/alive")
        start.send_signal(signal.SIGTERM)
        gone, alive = psutil.wait_procs(everything, timeout=30)
    assert not alive and len(gone) == len(everything)


def _profile() -> dict[str, object]:
    return shipped_profiles()["zup-lh-cm"].model_dump(mode="json")


def _worked(url: str) -> str:
    """What becomes of work that is asked for."""
    engine = connect(url)
    try:
        with Context(engine, LOCAL) as store, store.begin():
            asked = {"versions": [1], "profile": _profile(), "format": "usd", "reduce_px": 0.5}
            number = ask_for(store, "keys", 1, asked).id

        def state() -> str:
            with Context(engine, LOCAL) as store:
                return str(store.get_one(Job, number).state)

        wait_for(lambda: state() not in ("waiting", "running"))
        return state()
    finally:
        engine.dispose()


def test_a_killed_start_command_leaves_nothing_running(running: Running) -> None:
    start, _ = running
    everything = start.children(recursive=True)
    start.kill()
    _, alive = psutil.wait_procs(everything, timeout=30)
    assert not alive


def test_python_runs_the_command() -> None:
    done = subprocess.run([*anaxis_command("--version")], capture_output=True, text=True, check=True)
    assert done.stdout.startswith("anaxis") and sys.executable in anaxis_command()
