"""What grows faster than what it is given: every step at once, twice and four times the frames, nodes, cameras and shots.

Run with ``make bench``. A step that is linear takes twice as long for twice as much; one that is quadratic four times.
"""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TypeVar

import numpy as np

from anaxis.app.cameras.edit import keep_camera
from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Track
from anaxis.core.checks.examine import examine
from anaxis.core.motion.keys import KeyRule
from anaxis.core.motion.reduce import reduce
from anaxis.core.motion.resample import at_rate
from anaxis.core.proof.proof import prove
from anaxis.core.scene.bake import bake_camera
from anaxis.core.scene.nodes import Node, Scene
from anaxis.core.scene.picture import Picture
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import parse_rate
from anaxis.library.archive import scene_to_bytes
from anaxis.library.scene_report import look
from anaxis.store.database import connect, migrate
from anaxis.store.keep import find_or_make_shot, find_or_make_show, stage_file
from anaxis.store.local_postgres import LocalPostgres
from anaxis.store.queries import cameras_on_the_list, find_show
from resample import make_track, timed
from sizes import sized

IMAGE = Image(1920, 1080)
T = TypeVar("T")


def grown(what: str, sizes: tuple[int, int, int], of: Callable[[int], Callable[[], object]]) -> None:
    """One step at three sizes, each twice the one before: seconds, and how many times longer than half as much."""
    seconds = [timed(of(n)) for n in sizes]
    ratios = [b / a for a, b in pairwise(seconds)]
    print(f"{what:<34}" + "".join(f"{n:>8} {s * 1000:8.1f} ms" for n, s in zip(sizes, seconds, strict=True)), end="")
    print("   x " + ", x ".join(f"{r:.2f}" for r in ratios))


def on(make: Callable[[int], T], do: Callable[[T], object]) -> Callable[[int], Callable[[], object]]:
    """A step on what ``make`` makes of a size, which is made before the clock runs."""

    def of(n: int) -> Callable[[], object]:
        made = make(n)
        return lambda: do(made)

    return of


def scene_of(nodes: int, cameras: int, frames: int = 24) -> Scene:
    """A scene of transforms in chains of eight, with cameras at the ends of the first of them."""
    whole = np.tile(np.eye(4), (frames, 1, 1))
    whole[:, 0, 3] = np.linspace(0, 1, frames)
    at = np.arange(frames, dtype=np.float64)
    out: list[Node] = []
    for i in range(nodes):
        parent = None if i % 8 == 0 else out[-1].path
        path, local = f"{parent or ''}/n{i}", whole.copy()
        local[:, 1, 3] = i  # every chain somewhere else
        out.append(Node(path=path, parent=parent, kind="transform", frames=at, local=local, keys=at))
    lens = make_track(1).lens
    for c in range(cameras):
        parent = out[min(len(out) - 1, 8 * c + 7)].path
        out.append(
            Node(path=f"{parent}/cam{c}", parent=parent, kind="camera", frames=at, local=whole, keys=at, lens=lens,
                 lens_frames=np.zeros(0), lens_keys=np.zeros(0))
        )  # fmt: skip
    return Scene("grown.usda", "usd", Convention(), parse_rate("24"), 0.0, float(frames - 1), tuple(out))


def main() -> None:
    whole = np.zeros((1, 0, 3))

    def proof(track: Track) -> object:
        camera = projection_of(track, IMAGE, "width")
        return prove(track, camera, camera, whole)

    frames, rule = sized((2500, 5000, 10_000), (50, 100, 200)), KeyRule(Convention(), "bezier")
    grown("frames: proof", frames, on(make_track, proof))
    grown("frames: retime 24 to 25", frames, on(make_track, lambda t: at_rate(t, parse_rate("25"), "time")))
    grown(
        "frames: few keys, 1 px",
        sized((600, 1200, 2400), (20, 40, 80)),
        on(make_track, lambda t: reduce(t, IMAGE, "width", whole, rule, 1.0)),
    )
    nodes = sized((1000, 2000, 4000), (20, 40, 80))
    grown("nodes: bake of one camera", nodes, on(lambda n: scene_of(n, 1), bake_camera))
    grown("nodes: every check", nodes, on(lambda n: scene_of(n, 1), examine))
    grown("cameras of a file: every check", sized((20, 40, 80), (2, 4, 8)), on(lambda n: scene_of(8 * n, n), examine))
    with TemporaryDirectory() as folder, LocalPostgres(Path(folder) / "pg", throwaway=True) as server:
        engine = connect(server.url)
        migrate(engine)
        kept, scene = 0, scene_to_bytes(scene_of(8, 1))
        report = look(scene, {})[0]

        def listed(n: int) -> Callable[[], object]:
            nonlocal kept
            with Context(engine, LOCAL) as store, store.begin():
                source = stage_file(store, "grown.usda", b"made up", scene)
                show = find_or_make_show(store, "The Tidewright")
                for i in range(kept, n):
                    shot = find_or_make_shot(store, show, f"TW_{i:04d}")
                    keep_camera(store, shot, source, report, "cam", Picture(IMAGE, "width", False, False))
            kept = n

            def rows() -> int:
                with Context(engine, LOCAL) as store:
                    show = find_show(store, "The Tidewright")
                    assert show is not None
                    return sum(len(c.head.noticed) for c in cameras_on_the_list(store, show))

            return rows

        grown("shots: the list of them", sized((100, 200, 400), (2, 4, 8)), listed)
        engine.dispose()


if __name__ == "__main__":
    main()
