"""What a simulated package or tracker holds before anything is done to it: a crane over a sluice, in its own numbers."""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from anaxis.simulated import space
from anaxis.simulated.scene import values_of
from anaxis.simulated.space import GROUPS, Rows, columns

# Right, up, back in metres.
_MARKS = {
    "sluice_post_left": (-1.6, 0.0, -6.0), "sluice_post_right": (1.6, 0.0, -6.0), "gate_beam": (0.0, 2.2, -6.0),
    "tide_bell": (3.4, 1.5, -9.5), "mooring_stone": (-3.2, 0.3, -4.2),
}  # fmt: skip


def scene_document(
    name: str, profile: dict[str, Any], first: float | None = None, count: int = 120, cameras: int = 1
) -> dict[str, Any]:
    """A scene with a crane move, told in a profile's numbers."""
    rule = profile["time"]
    first = float(rule["first_frame"] if first is None else first)
    frames = first + np.arange(count)
    out = []
    for k in range(cameras):
        place, turned, focal = crane(np.arange(count) / max(1, count - 1), k)
        rows = own_rows(profile, place, turned, focal)
        out.append(
            {"id": f"cam{k + 1}", "name": f"sluice_cam{k + 1 if k else ''}", "rate": str(rule["rate"]), "width_px": 1920, "height_px": 1080,
             "pixel_aspect": 1.0, "frames": frames.tolist(), "values": values_of(rows, list(GROUPS))}
        )  # fmt: skip
    world, unit = space.sides(profile["world"]), profile["metres_per_unit"]
    marks = [{"name": n, "position": (world @ np.array(p) / unit).tolist()} for n, p in _MARKS.items()]
    lines = [[*(world @ a / unit).tolist(), *(world @ b / unit).tolist()] for a, b in _lines()]
    return {
        "name": name,
        "profile": profile,
        "marks": marks,
        "lines": lines,
        "cameras": out,
        "selected": out[0]["id"] if out else None,
    }


def crane(share: Rows, which: int = 0) -> tuple[Rows, Rows, Rows]:
    """Places (n, 3) m, rotations (n, 3, 3) and focal lengths (n,) mm over a move: right, up, back."""
    eased = share * share * (3 - 2 * share)
    place = np.stack([-2.5 + 4.5 * eased + which, 1.2 + 2.4 * eased, 3.0 - 2.2 * share], axis=1)
    yaw, pitch = np.radians(-14 + 26 * eased), np.radians(4 - 18 * eased)
    turned = Rotation.from_euler("YX", np.stack([yaw, pitch], axis=1)).as_matrix()
    return place, turned, 28.0 + 7.0 * share


def own_rows(profile: dict[str, Any], place: Rows, turned: Rows, focal: Rows) -> Rows:
    world, camera = space.sides(profile["world"]), space.sides(profile["camera"])
    unit, film = profile["metres_per_unit"], space.film_mm(profile)
    rows = np.full((len(place), space.WIDTH), np.nan)
    rows[:, columns("position")] = place @ world.T / unit
    rows[:, columns("rotation")] = np.unwrap(space.angles(profile, world @ turned @ camera.T), period=360.0, axis=0)
    lens = columns("lens").start
    rows[:, lens + 1], rows[:, lens + 2] = 25.6 / film, 14.4 / film
    rows[:, lens + 3 : lens + 5], rows[:, lens + 5] = 0.0, 1.0
    rows[:, columns("focus")], rows[:, columns("stop")] = 6.0 / unit, 4.0
    rows[:, columns("clips")] = np.array([0.1, 1000.0]) / unit
    return space.with_focal(profile, rows, (1920, 1080, 1.0), focal)


def _lines() -> list[tuple[Rows, Rows]]:
    """A floor in metres, and a gate over it."""
    out = [(np.array([x, 0.0, -12.0]), np.array([x, 0.0, 2.0])) for x in np.arange(-6.0, 6.5, 2.0)]
    out += [(np.array([-6.0, 0.0, z]), np.array([6.0, 0.0, z])) for z in np.arange(-12.0, 2.5, 2.0)]
    over, bell = np.array([0.0, 2.2, 0.0]), np.array([3.4, 0.0, -9.5])
    left, right = np.array([-1.6, 0.0, -6.0]), np.array([1.6, 0.0, -6.0])
    out += [(left, left + over), (right, right + over), (left + over, right + over)]
    out += [
        (bell, bell + np.array([0.0, 1.5, 0.0])),
        (bell + np.array([-0.3, 1.1, 0.0]), bell + np.array([0.3, 1.1, 0.0])),
    ]
    return out
