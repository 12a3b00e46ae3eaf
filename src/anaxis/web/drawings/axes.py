"""Axes drawn on paper: a package's world and camera axes, as seen from one fixed corner.

Axes are told apart by letter and line style (X unbroken, Y dashed, Z dash and dot), never by
colour, and both packages are drawn from the same corner, so that the turn between them is seen.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np
from markupsafe import Markup

from anaxis.core.space.axes import SIDES, Convention, axis_name, handedness
from anaxis.core.typing import Floats
from anaxis.web.drawings.svg import drawing, drawn

# Where canonical right, up and back fall on the page (x right, y down): an oblique view in which
# back comes towards the reader, down and to the left.
_PAGE = np.array([[1.0, 0.0], [0.0, -1.0], [-0.55, 0.42]])
_DASH = {"X": "none", "Y": "7 4", "Z": "10 3 2 3"}


@drawing
def axes_svg(convention: Convention, caption: str, size_px: int = 168) -> Markup:
    """World axes (long) and camera axes (short, at a camera symbol) of one convention."""
    return _drawn_once(convention.world.tobytes(), convention.camera.tobytes(), caption, size_px)


@lru_cache(maxsize=4000)  # a list of packages draws each of them every time it is looked at
def _drawn_once(world: bytes, camera: bytes, caption: str, size_px: int) -> Markup:
    return axes_drawing(np.frombuffer(world).reshape(3, 3), np.frombuffer(camera).reshape(3, 3), caption, size_px)


def axes_drawing(world: Floats, camera: Floats, caption: str, size_px: int = 168, to_turn: bool = False) -> Markup:
    """The same of two signed permutations that need not agree; ``to_turn`` gives each arm a handle to be dragged by."""
    beyond = 15.0 if to_turn else 9.0  # the letter stands clear of the handle
    both = (
        ("world", world, np.array([size_px * 0.30, size_px * 0.62]), size_px * 0.34, 2.0),
        ("camera", camera, np.array([size_px * 0.74, size_px * 0.27]), size_px * 0.17, 1.4),
    )
    sides, reached = [], [np.zeros(2), np.array([size_px, size_px * 0.84])]
    for side, axes, origin, length, width in both:
        rests = directions(origin, length * 1.06) if to_turn else []
        sides.append(
            {
                "name": side,
                "origin": origin,
                "width": width,
                "arms": _arms(axes, origin, length, beyond),
                "rests": rests,
            }
        )
        ends = np.concatenate([_PAGE, -_PAGE]) if to_turn else axes @ _PAGE
        reached += [origin + r * (length + beyond + 7) for r in ends]
    # An arm that points down, or away, needs more paper than the usual ones.
    low, high = np.min(reached, axis=0), np.max(reached, axis=0)
    hands = ["right-handed" if handedness(a) > 0 else "left-handed" for a in (world, camera)]
    hand = hands[0] if hands[0] == hands[1] else f"{hands[0]}, its camera {hands[1]}"
    up, look = axis_name(world[:, 1]).removeprefix("+"), axis_name(-camera[:, 2])
    label = f"{caption}: {up} up, {hand}, the camera looks along {look}"
    box = f"{low[0]:.0f} {low[1]:.0f} {high[0] - low[0]:.0f} {high[1] - low[1]:.0f}"
    return drawn("axes", box=box, label=label, eye=_camera_symbol(both[1][2]), sides=sides)


def directions(origin: Floats, length: float) -> list[tuple[str, tuple[float, float]]]:
    """Where the ends of canonical right, up and back fall on the page: ("+right", (x, y))..."""
    ends = [
        (f"{s}{name}", origin + k * length * _PAGE[i]) for i, name in enumerate(SIDES) for s, k in (("+", 1), ("-", -1))
    ]
    return [(towards, (float(at[0]), float(at[1]))) for towards, at in ends]


def _arms(axes: Floats, origin: Floats, length: float, beyond: float) -> list[dict[str, Any]]:
    """Arrows along the package's +X, +Y, +Z; the column of ``axes`` says where each lies."""
    out = []
    for i, letter in enumerate("XYZ"):
        direction = axes[i] @ _PAGE  # row i: this axis in canonical right, up, back
        tip = origin + direction * length
        unit = direction / np.linalg.norm(direction)
        side = np.array([-unit[1], unit[0]])
        head = [tip, tip - unit * 7 + side * 3, tip - unit * 7 - side * 3]
        out.append({"letter": letter, "tip": tip, "head": head, "label": tip + unit * beyond, "dash": _DASH[letter]})
    return out


def _camera_symbol(at: Floats) -> dict[str, Any]:
    """A small pyramid opening away from the reader: the canonical camera looks along -back."""
    far = at - 26 * _PAGE[2]
    right, up = _PAGE[0] * 13, _PAGE[1] * 9
    return {"at": at, "corners": [far - right + up, far + right + up, far + right - up, far - right - up]}


def axis_turn(source: Convention, target: Convention) -> list[tuple[str, str]]:
    """Where each of the source's world axes ends up: [("+X", "+X"), ("+Y", "+Z"), ("+Z", "-Y")]."""
    turn = target.world @ source.world.T
    return [(f"+{letter}", axis_name(turn[:, i])) for i, letter in enumerate("XYZ")]
