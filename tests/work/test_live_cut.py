"""A thousand changes on both sides and a run of 500 shots, while servers, workers, a side and the network go at random: equal, none
lost, none twice.

Servers, workers and packages are processes of their own, killed without a word. The servers stand behind one address, a proxy that
gives each connection to the next of them, and that cuts.
"""

from __future__ import annotations

import itertools
import json
import os
import random
import shutil
import signal
import socket
import subprocess
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import pytest
from sqlalchemy import Engine, func, select
from websockets.exceptions import WebSocketException
from websockets.sync.client import ClientConnection, connect

from anaxis.app.context import Context
from anaxis.app.exchange.links import LinkAsked, clashes_in, link, settle
from anaxis.app.people.people import add_person
from anaxis.app.people.tokens import new_token
from anaxis.app.plates.plates import ask_for_proxies, attach_plate
from anaxis.app.roles import LOCAL, Role
from anaxis.app.shows.plan import set_target, start_run
from anaxis.program import anaxis_command
from anaxis.queue.jobs import OPEN, has_open_work
from anaxis.simulated import space
from anaxis.simulated.scene import SimulatedScene
from anaxis.store.exchange import Client, ExchangeChange
from anaxis.store.local_postgres import free_port
from anaxis.store.models import Delivery, Job, PlateProxy, Show
from lanes import sized
from linked import apart_px, quiet, random_profile, remote_ids, shown
from test_store import keep

CHANGES, FRAMES, CUTS = sized(1000, 100), 30, sized(20, 4)
SERVERS, WORKERS, RUN_SHOTS, PLATES = sized(3, 2), sized(4, 1), sized(500, 5), sized(20, 1)
# Beside a whole test run, a killed server needs half a minute to come back.
PATIENCE_S = sized(400, 120)


def wait(condition: Callable[[], bool], seconds: float = 90, said: str = "what was waited for did not come") -> None:
    deadline = time.monotonic() + seconds
    while True:
        with suppress(httpx.HTTPError, OSError, WebSocketException):
            if condition():
                return
        assert time.monotonic() < deadline, said
        time.sleep(0.2)


class Killed:
    """A process that is killed now and then, and started again."""

    def __init__(self, *args: str, environment: dict[str, str]) -> None:
        self.args, self.environment = args, environment
        self.process = self.begun()

    def begun(self) -> subprocess.Popen[bytes]:
        return subprocess.Popen(
            anaxis_command(*self.args), env={**os.environ, **self.environment}, stderr=subprocess.DEVNULL
        )

    def kill(self) -> None:
        self.process.send_signal(signal.SIGKILL)
        self.process.wait()
        self.process = self.begun()


class Proxy:
    """Gives each connection that comes to the next of some ports where a server is, until it is cut: then every connection ends at once,
    and none is taken for a while."""

    def __init__(self, to: Sequence[int]) -> None:
        self.to, self.port, self.cut = itertools.cycle(to), free_port(), False
        self.count = len(to)
        self._open: list[socket.socket] = []
        self._listens = socket.create_server(("127.0.0.1", self.port))
        threading.Thread(target=self._take, daemon=True).start()

    def _take(self) -> None:
        while True:
            try:
                came, _ = self._listens.accept()
            except OSError:
                return
            try:
                if self.cut:
                    raise OSError
                there = self._next_server()
            except OSError:
                came.close()
                continue
            self._open += [came, there]
            for a, b in ((came, there), (there, came)):
                threading.Thread(target=self._pass, args=(a, b), daemon=True).start()

    def _next_server(self) -> socket.socket:
        """A connection to the next server that takes one. Raises OSError where none does."""
        for _ in range(self.count):
            with suppress(OSError):
                there = socket.create_connection(("127.0.0.1", next(self.to)), timeout=5)
                there.settimeout(None)
                return there
        raise OSError

    def _pass(self, a: socket.socket, b: socket.socket) -> None:
        with suppress(OSError):
            while data := a.recv(65536):
                b.sendall(data)
        for end in (a, b):
            with suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)
            end.close()

    def drop(self, seconds: float) -> None:
        self.cut = True
        for end in self._open:
            with suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)
        self._open.clear()
        time.sleep(seconds)
        self.cut = False

    def close(self) -> None:
        self._listens.close()


class Package:
    """A package's process, driven as its page drives it."""

    def __init__(self, folder: Path, name: str, profile: dict[str, Any], server: int, token: str) -> None:
        self.name, self.profile, self.port = name, profile, free_port()
        self.file = folder / f"{name}.json"
        (folder / f"{name}.profile.json").write_text(json.dumps(profile))
        self.process = Killed(
            "simulate", "package", "--profile", str(folder / f"{name}.profile.json"), "--name", name, "--file", str(self.file), "--port", str(self.port),
            "--frames", str(FRAMES), "--server", f"http://127.0.0.1:{server}", environment={"ANAXIS_TOKEN": token},
        )  # fmt: skip
        self._page: ClientConnection | None = None
        self.last = 0

    def state(self) -> dict[str, Any]:
        found: dict[str, Any] = httpx.get(f"http://127.0.0.1:{self.port}/state", timeout=5).json()
        return found

    def page(self) -> ClientConnection:
        if self._page is None:
            wait(lambda: bool(self.state()))
            here = f"127.0.0.1:{self.port}"
            self._page = connect(  # type: ignore[call-overload]
                f"ws://{here}/line", origin=f"http://{here}", max_size=None, ping_interval=None, legacy=True
            )
            self.last = int(self.state()["last"])
        return self._page

    def kill(self) -> None:
        self.process.kill()
        self._page = None

    def set(self, frame: float, group: str, value: list[float]) -> None:
        """A change, made: told by the package that it is in its file."""
        while True:
            with suppress(WebSocketException, OSError, httpx.HTTPError, TimeoutError):
                page, before = self.page(), self.last
                page.send(json.dumps({"do": "set", "frame": frame, "group": group, "value": value}))
                while self.last == before:
                    told = json.loads(page.recv(timeout=10))
                    self.last = told["last"] if told["t"] == "state" else self.last
                return
            self._page = None


@contextmanager
def running(
    folder: Path, database_url: str, token: str, profiles: tuple[dict[str, Any], dict[str, Any]], mounts: list[Path]
) -> Iterator[tuple[list[Killed], list[Killed], Proxy, list[Package]]]:
    """Servers, workers, the proxy before the servers, and two packages that reach them by it. The workers have the plates mounted at
    one of ``mounts`` each."""
    store, ports = {"DATABASE_URL": database_url}, [free_port() for _ in range(SERVERS)]
    servers = [Killed("serve", "--port", str(port), environment=store) for port in ports]
    workers = [
        Killed("worker", "--concurrency", "1", environment=store | media_root(mounts[n % len(mounts)]))
        for n in range(WORKERS)
    ]
    proxy = Proxy(ports)
    packages = [
        Package(folder, name, of, proxy.port, token) for name, of in zip(("first", "second"), profiles, strict=True)
    ]
    try:
        yield servers, workers, proxy, packages
    finally:
        everything = [*(p.process for p in packages), *servers, *workers]
        for process in everything:
            process.process.send_signal(signal.SIGTERM)
        for process in everything:
            try:
                process.process.wait(15)
            except subprocess.TimeoutExpired:
                process.process.kill()
        proxy.close()


def media_root(mount: Path) -> dict[str, str]:
    return {"ANAXIS_MEDIA_ROOTS": f"mill={mount}", "ANAXIS_MEDIA_SHOWS": "mill=*"}


def open_jobs(engine: Engine, run: int) -> int:
    with Context(engine, LOCAL) as store:
        count = select(func.count()).select_from(Job).where(Job.run_id == run, Job.state.in_(OPEN))
        return store.execute(count).scalar_one()


def test_a_thousand_changes_and_a_run_while_everything_goes_now_and_then(
    engine: Engine, database_url: str, tmp_path: Path, demo_files: dict[str, Path], solved: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    here, *mounts = (tmp_path / name / "plates" for name in ("here", "one_machine", "another_machine"))
    for mount in (here, *mounts):
        shutil.copytree(solved / "plate", mount / "TW_050" / "plate")
    for setting, given in media_root(here).items():
        monkeypatch.setenv(setting, given)
    rng, dice = np.random.default_rng(11), random.Random(11)
    profiles = random_profile(rng, 2), random_profile(rng, 2)
    show = shown(engine)
    with Context(engine, LOCAL) as store, store.begin():
        token, _ = new_token(store, add_person(store, "td", Role.ADMINISTRATOR), "packages", Role.ARTIST, 2)
        versions = [keep(store, demo_files["TW_020"], f"SH_{n:03}") for n in range(RUN_SHOTS)]
        for version in versions[:PLATES]:
            shot = version.camera.shot
            plate = attach_plate(store, shot, "mill", "TW_050/plate", "TW_050_plate.####.exr", "as shot")
            ask_for_proxies(store, version, plate)
        set_target(store, store.get_one(Show, show), "zup-lh-cm", "json")
        run = start_run(store, store.get_one(Show, show)).id
    with running(tmp_path, database_url, token, profiles, mounts) as (servers, workers, proxy, packages):
        wait(lambda: len(remote_ids(engine)) == 2, 240)  # every process loads all of Anaxis at once
        with Context(engine, LOCAL) as store, store.begin():
            ids = {n.split()[0]: i for n, i in remote_ids(engine).items()}
            link(store, LinkAsked(first=ids["first"], second=ids["second"], both_ways=True))
        wait(lambda: quiet(engine))
        begun = {p.name: int(p.state()["last"]) for p in packages}
        starts = {p.name: httpx.get(f"http://127.0.0.1:{p.port}/camera/cam1", timeout=60).json() for p in packages}
        made: dict[str, dict[tuple[int, str], list[float]]] = {p.name: {} for p in packages}
        cuts = sorted(dice.sample(range(20, CHANGES - 20), CUTS))
        happened = []  # type: ignore[var-annotated]
        for k in range(CHANGES):
            if k in cuts:
                what = ("server", "side", "network", "worker")[len(happened) % 4]
                happened.append(what)
                if what == "server":
                    dice.choice(servers).kill()
                elif what == "worker":
                    dice.choice(workers).kill()
                elif what == "side":
                    packages[dice.randrange(2)].kill()
                else:
                    proxy.drop(0.4)
            package = packages[dice.randrange(2)]
            # Of the frames some are everybody's, and the others one side's alone.
            own = packages.index(package)
            place = dice.randrange(FRAMES // 3) + (dice.choice((0, own + 1)) * (FRAMES // 3))
            group = dice.choice(list(space.GROUPS))
            value = [
                v * (1 + rng.normal() * 0.05) + rng.normal() * 0.01
                for v in starts[package.name]["values"][group][place]
            ]
            value = [abs(v) if group in ("focus", "stop", "clips") else v for v in value]
            if group == "lens":
                value[5] = 1.0
            package.set(starts[package.name]["frames"][place], group, value)
            made[package.name][place, group] = value
        assert set(happened) == {"server", "side", "network", "worker"}
        wait(lambda: all(not p.state()["waiting"] for p in packages) and quiet(engine), PATIENCE_S)
        settled = 0
        while True:  # what both changed is a person's to choose
            with Context(engine, LOCAL) as store, store.begin():
                clashes = clashes_in(store, store.get_one(Show, show))
                if not clashes:
                    break
                for clash in clashes:
                    settle(store, clash, dice.choice(("here", "sent")))
                    settled += 1
            wait(lambda: all(not p.state()["waiting"] for p in packages) and quiet(engine), PATIENCE_S)
        last = {p.name: p.state() for p in packages}
        wait(lambda: open_jobs(engine, run) == 0, sized(1200, 180), "the run has not ended")
        wait(lambda: not has_open_work(engine), sized(600, 120), "the proxies are not made")
    with Context(engine, LOCAL) as store:
        proxies = select(PlateProxy.plate_id, func.count()).group_by(PlateProxy.plate_id)
        assert [n for _, n in store.execute(proxies)] == [8] * PLATES, "wherever a worker has the plates mounted"
        states = store.execute(select(Job.state, func.count()).where(Job.run_id == run).group_by(Job.state)).all()
        assert [tuple(s) for s in states] == [("done", RUN_SHOTS)]
        delivered = store.execute(
            select(func.count(), func.count(Delivery.version_id.distinct())).select_from(Delivery)
        ).one()
        assert tuple(delivered) == (RUN_SHOTS, RUN_SHOTS), "each shot is delivered, and none twice"
    # None lost, none twice: each change of a side is there once, in order, and each that was sent is in force once.
    assert settled > 0 and sum(last[n]["last"] - begun[n] for n in begun) >= CHANGES
    with Context(engine, LOCAL) as store:
        for client in store.execute(select(Client)).scalars():
            heard = store.execute(
                select(ExchangeChange.number, ExchangeChange.said)
                .where(ExchangeChange.client_id == client.id, ExchangeChange.direction == "in")
                .order_by(ExchangeChange.number)
            ).all()
            assert [r.number for r in heard] == list(range(1, last[client.name]["last"] + 1)) and not any(
                r.said for r in heard
            )
            sent = store.execute(
                select(
                    func.count(), func.count(ExchangeChange.sequence.distinct()), func.max(ExchangeChange.number)
                ).where(ExchangeChange.client_id == client.id, ExchangeChange.direction == "out")
            ).one()
            assert sent[0] == sent[1] == sent[2] == last[client.name]["have"]
    # Both sides are equal, by an oracle that reads their own files; and what one side alone changed is as it left it.
    scenes = [SimulatedScene.opened(tmp_path / f"{p.name}.json") for p in packages]
    a, b = (s.cameras["cam1"] for s in scenes)
    assert len(a.frames) == len(b.frames) == FRAMES
    assert apart_px(profiles[0], a.rows, profiles[1], b.rows) < 1e-5
    for group in ("focus", "clips"):
        ours, theirs = (
            c.rows[:, space.columns(group)] * p["metres_per_unit"] for c, p in zip((a, b), profiles, strict=True)
        )
        np.testing.assert_allclose(ours, theirs, rtol=1e-9)
    for camera, package in zip((a, b), packages, strict=True):
        alone = {k: v for k, v in made[package.name].items() if k[0] >= FRAMES // 3}
        assert len(alone) > sized(50, 8)
        for (place, group), value in alone.items():
            np.testing.assert_allclose(camera.rows[place, space.columns(group)], value, rtol=1e-9, atol=1e-9)
