"""What tests of the exchange share: random packages, sides that speak it, an oracle for what they hold.

The oracle is the simulated package's own arithmetic (:mod:`anaxis.simulated.space`), which imports nothing of ours.
"""

from __future__ import annotations

import asyncio
import itertools
import time
from collections.abc import Callable, Coroutine, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
from sqlalchemy import Engine, select

from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from anaxis.packages.model import Profile
from anaxis.simulated import space
from anaxis.simulated.client import PackageLine
from anaxis.simulated.made_up import scene_document
from anaxis.simulated.scene import SimulatedScene
from anaxis.store.exchange import RemoteCamera
from anaxis.store.models import Show

Array = np.ndarray[Any, np.dtype[np.float64]]
IMAGE = (1920, 1080, 1.0)
# Habits of numbers that a delivery can make up for, with parameters drawn for each.
_UNDONE: tuple[Callable[[np.random.Generator], dict[str, Any]], ...] = (
    lambda r: {"code": "frame_offset", "frames": float(r.choice([-1, 1, 2]))},
    lambda r: {"code": "focal_factor", "factor": float(r.uniform(0.5, 2))},
    lambda r: {"code": "film_factor", "factor": float(r.choice([0.1, 10, 1.5]))},
    lambda r: {"code": "world_shift", "x": float(r.normal()), "y": float(r.normal()), "z": float(r.normal())},
    lambda r: {"code": "world_turn", "axis": str(r.choice(list("XYZ"))), "angle_deg": float(r.choice([-90, 90, 37.5]))},
    lambda r: {"code": "look_axis", "look": "+X", "up": "+Y"},
    lambda r: {"code": "scale", "factor": float(r.uniform(0.3, 3))},
    lambda r: {"code": "vfov_as_hfov"},
    lambda r: {"code": "channels", "position": "+X-Z+Y", "rotation": "-Y+X+Z"},
)
R = TypeVar("R")


def random_profile(rng: np.random.Generator, habits: int = 0, fit: str = "") -> dict[str, Any]:
    """The document of a package nobody has shipped."""

    def axes(hand: int) -> dict[str, str]:
        while True:
            names = [f"{rng.choice(['+', '-'])}{a}" for a in rng.permutation(list("XYZ"))]
            m = space.sides(dict(zip(("right", "up", "back"), names, strict=True)))
            if round(float(np.linalg.det(m))) == hand:
                return dict(zip(("right", "up", "back"), names, strict=True))

    hand = int(rng.choice([-1, 1]))
    lens = {
        "shown": str(rng.choice(["focal", "hfov", "vfov", "zoom"])), "film_unit": str(rng.choice(["mm", "cm", "in"])),
        "fit": fit or str(rng.choice(["width", "height"])), "offset_unit": str(rng.choice(["film_unit", "width_share", "side_share"])),
        "offset_signs": [int(v) for v in rng.choice([-1, 1], 2)],
    }  # fmt: skip
    document = {
        "key": "any", "label": "Any package", "world": axes(hand), "camera": axes(hand), "metres_per_unit": float(rng.choice([1, 0.01, 0.3048])),
        "rotation": {"order": str(rng.choice(["XYZ", "XZY", "YXZ", "YZX", "ZXY", "ZYX"])), "signs": [int(v) for v in rng.choice([-1, 1], 3)]},
        "lens": lens, "time": {"rate": "24/1", "first_frame": int(rng.choice([0, 1, 1001, -20, 86400]))},
        "habits": [_UNDONE[k](rng) for k in rng.permutation(len(_UNDONE))[:habits]],
    }  # fmt: skip
    return Profile.model_validate(document).model_dump(mode="json")


def own_points(profile: dict[str, Any], points_m: Array) -> Array:
    """Canonical points (..., 3) in a package's own numbers."""
    return points_m @ space.sides(profile["world"]).T / profile["metres_per_unit"]


def pixels(profile: dict[str, Any], rows: Array, points_m: Array, image: tuple[int, int, float] = IMAGE) -> Array:
    """Where a package with these rows (n, 16) sees canonical points (n, m, 3), (n, m, 2) px."""
    seen = np.einsum("nij,nmj->nmi", space.views(profile, rows, image)[:, :, :3], own_points(profile, points_m))
    seen = seen + space.views(profile, rows, image)[:, None, :, 3]
    return seen[..., :2] / seen[..., 2:]


def points_before(profile: dict[str, Any], rows: Array, depths_m: tuple[float, ...] = (2.0, 8.0, 50.0)) -> Array:
    """Canonical points (n, m, 3) in the picture of a package's camera."""
    turned = space.matrices(profile, rows[:, space.columns("rotation")])
    own, unit = space.sides(profile["camera"]), profile["metres_per_unit"]
    right, up, ahead = (turned @ v for v in (own[:, 0], own[:, 1], -own[:, 2]))
    place = rows[:, space.columns("position")] * unit
    out = [
        place + d * (ahead + 0.2 * x * right + 0.15 * y * up)
        for d in depths_m
        for x, y in itertools.product((-1, 1), repeat=2)
    ]
    return np.stack(out, axis=1) @ space.sides(profile["world"])


def apart_px(a: dict[str, Any], rows_a: Array, b: dict[str, Any], rows_b: Array) -> float:
    """How far apart two packages see the same points, at most."""
    points = points_before(a, rows_a)
    return float(np.linalg.norm(pixels(a, rows_a, points) - pixels(b, rows_b, points), axis=-1).max())


# Sides that speak


class Side:
    """A simulated package on the test's own loop; ``frames`` of its first camera, numbered from its profile's first."""

    def __init__(
        self,
        folder: Path,
        name: str,
        profile: dict[str, Any],
        site: str,
        token: str = "",
        frames: int = 24,
        cameras: int = 1,
    ) -> None:
        self.scene = SimulatedScene.opened(
            folder / f"{name}.json", scene_document(name, profile, None, frames, cameras)
        )
        self.line = PackageLine(self.scene, site, "", token, lambda c, f: None, lambda f: None)
        self._task: asyncio.Task[None] | None = None

    @property
    def camera(self) -> Any:
        return next(iter(self.scene.cameras.values()))

    def begin(self) -> None:
        self._task = asyncio.create_task(self.line.line.run())

    async def end(self) -> None:
        if self._task is not None:
            self._task.cancel()
            await asyncio.gather(self._task, return_exceptions=True)
            self._task = None
            self.line.line.connection, self.line.line.state = None, "away"

    async def set(self, place: int, **groups: list[float]) -> None:
        """Change groups of one of its frames, by its place."""
        camera = self.camera
        await self.line.make(camera.id, [float(camera.frames[place])], {g: [v] for g, v in groups.items()})

    def row(self, place: int, group: str) -> list[float]:
        found: list[float] = self.camera.rows[place, space.columns(group)].tolist()
        return found


async def until(condition: Callable[[], bool], seconds: float = 30) -> None:
    deadline = time.monotonic() + seconds
    while not await asyncio.to_thread(condition):
        assert time.monotonic() < deadline, "what was waited for did not come"
        await asyncio.sleep(0.02)


def shown(engine: Engine, name: str = "The Tidewright") -> int:
    """A show to be connected in."""
    with Context(engine, LOCAL) as store, store.begin():
        row = Show(name=name)
        store.add(row)
        store.flush()
        return row.id


def remote_ids(engine: Engine) -> dict[str, int]:
    """The cameras whose frames are known here, by package and camera."""
    with Context(engine, LOCAL) as store:
        return {s.called: s.id for s in store.execute(select(RemoteCamera)).unique().scalars() if s.known}


def quiet(engine: Engine) -> bool:
    """Whether nothing is in transit to anybody."""
    from anaxis.store.exchange import ExchangeChange

    with Context(engine, LOCAL) as store:
        open_ones = select(ExchangeChange.id).where(
            ExchangeChange.direction == "out", ExchangeChange.acknowledged_at.is_(None)
        )
        return store.execute(open_ones.limit(1)).first() is None


def apart(what: Callable[[], R]) -> R:
    """In a thread of its own: a browser that an earlier test opened in this process keeps a loop running in the first one."""
    with ThreadPoolExecutor(1) as thread:
        return thread.submit(what).result()


class Apart:
    """Runs coroutines in a thread of their own."""

    def run(self, scenario: Coroutine[Any, Any, Any]) -> None:
        apart(lambda: asyncio.run(scenario))


@contextmanager
def loop() -> Iterator[Apart]:
    yield Apart()
