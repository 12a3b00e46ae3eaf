"""A change of one frame from one package to another, through a server, and what of it the database alone costs.

Server and both packages are processes of their own. Shown: the time from the change made on one side until the other side
holds it, 95 of 100, at one change every 50 ms, and against the time that three transactions like its own (kept, sent,
acknowledged) take when nothing else is done in them.
"""

from __future__ import annotations

import asyncio
import json
import os
import subprocess
import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
from sqlalchemy import Engine, select, text

from anaxis.app.context import Context
from anaxis.app.exchange.links import LinkAsked, link
from anaxis.app.people.people import add_person
from anaxis.app.people.tokens import new_token
from anaxis.app.roles import LOCAL, Role
from anaxis.packages import shipped_profiles
from anaxis.program import anaxis_command
from anaxis.simulated.client import PackageLine
from anaxis.simulated.made_up import scene_document
from anaxis.simulated.scene import SimulatedScene
from anaxis.store.database import connect, migrate
from anaxis.store.exchange import RemoteCamera
from anaxis.store.local_postgres import LocalPostgres
from anaxis.store.models import Show
from sizes import sized

PORT, EVERY_S, HABIT = 8497, 0.05, [{"code": "frame_offset", "frames": 1.0}]


def _scene(folder: Path, key: str, frames: int, habits: list[dict[str, object]]) -> SimulatedScene:
    profile = shipped_profiles()[key].model_dump(mode="json") | {"habits": habits}
    return SimulatedScene.opened(folder / f"{key}.json", scene_document(key, profile, 1, frames))


async def _receive(folder: Path, frames: int, token: str) -> None:
    """The receiving package: writes down when it holds each change."""
    times: list[float] = []
    scene = _scene(folder, "zup-lh-cm", frames, HABIT)
    line = PackageLine(
        scene, f"http://127.0.0.1:{PORT}", "", token, lambda c, f: times.append(time.monotonic()), lambda f: None
    )
    task = asyncio.create_task(line.line.run())
    while not (folder / "over").exists():
        await asyncio.sleep(0.05)
    (folder / "times.json").write_text(json.dumps(times))
    task.cancel()


async def _send(folder: Path, frames: int, token: str, engine: Engine, count: int) -> list[float]:
    scene = _scene(folder, "zup-rh-m", frames, [])
    line = PackageLine(scene, f"http://127.0.0.1:{PORT}", "", token, lambda c, f: None, lambda f: None)
    task = asyncio.create_task(line.line.run())
    await asyncio.to_thread(_linked, engine)
    await asyncio.sleep(1.0)
    camera, made = scene.cameras["cam1"], []
    for k in range(count):
        row = camera.rows[k % frames]
        began = time.monotonic()
        made.append(began)
        values = {"position": [(row[:3] + 0.001 * k).tolist()], "rotation": [(row[3:6] + 0.01).tolist()]}
        await line.make("cam1", [float(camera.frames[k % frames])], values)
        await asyncio.sleep(max(0.0, EVERY_S - (time.monotonic() - began)))
    await asyncio.sleep(2.0)
    task.cancel()
    return made


def _linked(engine: Engine) -> None:
    while True:
        with Context(engine, LOCAL) as store, store.begin():
            known = {s.client.name: s.id for s in store.execute(select(RemoteCamera)).unique().scalars() if s.known}
            if len(known) == 2:
                link(
                    store,
                    LinkAsked(first=known["zup-rh-m"], second=known["zup-lh-cm"], both_ways=True, frame_for_frame=True),
                )
                return
        time.sleep(0.1)


def _transactions(engine: Engine, count: int = 200) -> float:
    """Seconds that three transactions of one row each take, one after the other: the median."""
    with engine.begin() as connection:
        connection.execute(text("CREATE TABLE plain (id serial PRIMARY KEY, data bytea)"))
    took = []
    for _ in range(count):
        began = time.monotonic()
        for _ in range(3):
            with engine.begin() as connection:
                connection.execute(text("INSERT INTO plain (data) VALUES (:data)"), {"data": b"0" * 200})
        took.append(time.monotonic() - began)
    return float(np.median(took))


def main() -> None:
    print(f"{'frames':>7} {'median ms':>10} {'95 of 100':>10} {'worst':>8} {'x transactions':>15} {'lost':>5}")
    for frames, count in sized(((120, 200), (5000, 200)), ((24, 5),)):
        with (
            TemporaryDirectory(prefix="anaxis-live-") as name,
            LocalPostgres(Path(name) / "cluster", throwaway=True) as own,
        ):
            folder = Path(name)
            engine = connect(own.url)
            migrate(engine)
            with Context(engine, LOCAL) as store, store.begin():
                store.add(Show(name="The Tidewright"))
                token, _ = new_token(store, add_person(store, "bench", Role.ADMINISTRATOR), "bench", Role.ARTIST, 1)
            environment = {**os.environ, "DATABASE_URL": own.url}
            server = subprocess.Popen(
                anaxis_command("serve", "--port", str(PORT)), env=environment, stderr=subprocess.DEVNULL
            )
            other = subprocess.Popen([sys.executable, __file__, "receive", name, str(frames), token])
            try:
                made = asyncio.run(_send(folder, frames, token, engine, count))
                (folder / "over").touch()
                other.wait(30)
                plain = _transactions(engine)
            finally:
                server.terminate()
                server.wait(20)
            held = json.loads((folder / "times.json").read_text())[-count:]
            delays = (np.array(held) - np.array(made[: len(held)])) * 1000
            print(
                f"{frames:7d} {np.median(delays):10.1f} {np.percentile(delays, 95):10.1f} {delays.max():8.1f} "
                f"{np.median(delays) / 1000 / plain:15.1f} {count - len(held):5d}"
            )
            engine.dispose()


if __name__ == "__main__":
    if sys.argv[1:2] == ["receive"]:
        asyncio.run(_receive(Path(sys.argv[2]), int(sys.argv[3]), sys.argv[4]))
    else:
        main()
