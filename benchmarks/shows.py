"""What a show of many shots costs: its pages against those of a small one, and a run on two workers against one.

Run with ``make bench``; the number of shots of a run may be given: ``benchmarks/shows.py 500``.
"""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory

from sqlalchemy import Engine, func, select

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT / "demo"))

from anaxis.app.cameras.edit import keep_camera  # noqa: E402
from anaxis.app.context import Context  # noqa: E402
from anaxis.app.roles import LOCAL  # noqa: E402
from anaxis.app.shows.plan import board, set_target, start_run  # noqa: E402
from anaxis.app.shows.shots import ShotFilter, listed  # noqa: E402
from anaxis.core.scene.picture import picture_of  # noqa: E402
from anaxis.formats import read_file  # noqa: E402
from anaxis.library.archive import scene_to_bytes  # noqa: E402
from anaxis.library.scene_report import look  # noqa: E402
from anaxis.program import anaxis_command  # noqa: E402
from anaxis.queue.jobs import OPEN, address_of  # noqa: E402
from anaxis.store.database import connect, migrate  # noqa: E402
from anaxis.store.keep import find_or_make_shot, find_or_make_show, stage_file  # noqa: E402
from anaxis.store.local_postgres import LocalPostgres  # noqa: E402
from anaxis.store.models import Job, Show  # noqa: E402
from make_scenes import make_all  # noqa: E402
from sizes import sized  # noqa: E402


def fill(engine: Engine, show: str, path: Path, count: int) -> None:
    """A show of ``count`` shots, each with a camera of its own taken in from one file."""
    scene = read_file(path)
    data, held = path.read_bytes(), scene_to_bytes(scene)
    with Context(engine, LOCAL) as session, session.begin():
        source = stage_file(session, path.name, data, held)
        (report, *_) = look(held, {})
        for n in range(count):
            shot = find_or_make_shot(session, find_or_make_show(session, show), f"SH_{n:04}")
            keep_camera(session, shot, source, report, "shotcam", picture_of(scene, None, None))


def show_of(session: Context, name: str) -> Show:
    return session.execute(select(Show).where(Show.name == name)).scalar_one()


def opened_s(engine: Engine, name: str, asked: ShotFilter) -> float:
    """The best of five times of what the page of the shots asks the store."""
    times = []
    for _ in range(5):
        began = time.perf_counter()
        with Context(engine, LOCAL) as session:
            for row in listed(session, show_of(session, name), asked).rows:
                _ = row.state, row.derived
        times.append(time.perf_counter() - began)
    return min(times)


def board_s(engine: Engine, name: str) -> float:
    began = time.perf_counter()
    with Context(engine, LOCAL) as session:
        board(session, show_of(session, name))
    return time.perf_counter() - began


def postgres_s() -> float:
    """Processor time of all PostgreSQL processes, of those that have ended too."""
    ticks, total = os.sysconf("SC_CLK_TCK"), 0
    for stat in Path("/proc").glob("[0-9]*/stat"):
        try:
            name, rest = stat.read_text().rsplit(")", 1)
        except OSError:
            continue
        if name.endswith("(postgres"):
            total += sum(int(v) for v in rest.split()[11:15])
    return total / ticks


def run_s(engine: Engine, name: str, workers: int) -> tuple[float, float]:
    """Seconds for a run of the show's plan on so many workers, from their first job on; PostgreSQL's seconds in it."""
    with Context(engine, LOCAL) as session, session.begin():
        number = start_run(session, show_of(session, name)).id
    command = anaxis_command("worker", "--concurrency", "1")
    environment = {
        **os.environ,
        "DATABASE_URL": address_of(engine),
        "OMP_NUM_THREADS": "1",
        "OPENBLAS_NUM_THREADS": "1",
    }
    started = [subprocess.Popen(command, env=environment) for _ in range(workers)]
    try:
        began, used = None, 0.0
        while True:
            with engine.connect() as connection:  # looked at cheaply: it is no part of what is measured
                count = select(func.count(), func.count().filter(Job.state.not_in(OPEN))).where(Job.run_id == number)
                jobs, over = connection.execute(count).one()
            if began is None and over:
                began, used, first = time.perf_counter(), postgres_s(), over
            if began is not None and over == jobs:
                seconds, theirs = time.perf_counter() - began, postgres_s() - used
                scale = jobs / (jobs - first)
                return seconds * scale, theirs * scale
            time.sleep(0.25)
    finally:
        for process in started:
            process.terminate()
        for process in started:
            process.wait()


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else sized(100, 6)
    with TemporaryDirectory() as folder, LocalPostgres(Path(folder) / "cluster", throwaway=True) as server:
        path = next(p for p in make_all(Path(folder)) if p.name.startswith("TW_020"))
        engine = connect(server.url)
        migrate(engine)
        fill(engine, "small", path, sized(200, 2))
        fill(engine, "large", path, sized(2000, 4))
        for label, asked in (
            ("as it opens", ShotFilter()),
            ("by state, worst first", ShotFilter(state="taken in", sort="worst")),
        ):
            small, large = opened_s(engine, "small", asked), opened_s(engine, "large", asked)
            print(f"shots {label}: {large * 1000:.0f} ms of 2,000, x {large / small:.1f} of 200")
        with Context(engine, LOCAL) as session, session.begin():
            for name in ("small", "large"):
                for key in ("usd", "json", "columns"):
                    set_target(session, show_of(session, name), "zup-lh-cm", key)
        print(f"board of 3 targets: {board_s(engine, 'large') * 1000:.0f} ms of 2,000, x {board_s(engine, 'large') / board_s(engine, 'small'):.1f} of 200")  # fmt: skip
        times = {}
        for workers in (1, 2):
            name = f"run of {workers}"
            fill(engine, name, path, count)
            with Context(engine, LOCAL) as session, session.begin():
                set_target(session, show_of(session, name), "zup-lh-cm", "usd")
            times[workers], theirs = run_s(engine, name, workers)
            cores = min(os.cpu_count() or 1, workers)
            print(
                f"{count} shots on {workers}: {times[workers]:.1f} s, {theirs / times[workers] / cores:.0%} of it PostgreSQL's"
            )
        print(f"two workers: 1/{times[1] / times[2]:.2f} of one worker's time")
        engine.dispose()


if __name__ == "__main__":
    main()
