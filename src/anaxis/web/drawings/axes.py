"""Axes drawn on paper: a package's world and camera axes, as seen from one fixed corner.

Axes are told apart by letter and line style (X unbroken, Y dashed, Z dash and dot), never by
colour, and both packages are drawn from the same corner, so that the turn between them is seen.
"""

from __future__ import annotations

import numpy as np
from markupsafe import Markup, escape

from anaxis.core.space.axes import SIDES, Convention, axis_name, handedness
from anaxis.core.typing import Floats

# Where canonical right, up and back fall on the page (x right, y down): an oblique view in which
# back comes towards the reader, down and to the left.
_PAGE = np.array([[1.0, 0.0], [0.0, -1.0], [-0.55, 0.42]])
_DASH = {"X": "none", "Y": "7 4", "Z": "10 3 2 3"}


def axes_svg(convention: Convention, caption: str, size_px: int = 168) -> Markup:
    """World axes (long) and camera axes (short, at a camera symbol) of one convention."""
    return axes_drawing(convention.world, convention.camera, caption, size_px)


def axes_drawing(world: Floats, camera: Floats, caption: str, size_px: int = 168, to_turn: bool = False) -> Markup:
    """The same of two signed permutations that need not agree; ``to_turn`` gives each arm a handle to be dragged by."""
    beyond = 15.0 if to_turn else 9.0  # the letter stands clear of the handle
    both = (
        ("world", world, np.array([size_px * 0.30, size_px * 0.62]), size_px * 0.34, 2.0),
        ("camera", camera, np.array([size_px * 0.74, size_px * 0.27]), size_px * 0.17, 1.4),
    )
    arms, reached = _camera_symbol(both[1][2]), [np.zeros(2), np.array([size_px, size_px * 0.84])]
    for side, axes, origin, length, width in both:
        arms += _arms(axes, origin, length, width, beyond)
        rests = np.concatenate([_PAGE, -_PAGE]) if to_turn else axes @ _PAGE
        reached += [origin + r * (length + beyond + 7) for r in rests]
        if to_turn:
            arms += _handles(axes, origin, length, side)
    # An arm that points down, or away, needs more paper than the usual ones.
    low, high = np.min(reached, axis=0), np.max(reached, axis=0)
    sides = ["right-handed" if handedness(a) > 0 else "left-handed" for a in (world, camera)]
    side = sides[0] if sides[0] == sides[1] else f"{sides[0]}, its camera {sides[1]}"
    label = escape(
        f"{caption}: {axis_name(world[:, 1]).removeprefix('+')} up, {side}, the camera looks along {axis_name(-camera[:, 2])}"
    )
    box = f"{low[0]:.0f} {low[1]:.0f} {high[0] - low[0]:.0f} {high[1] - low[1]:.0f}"
    return Markup(f'<svg class="axes" viewBox="{box}" role="img" aria-label="{label}">{arms}</svg>')


def _handles(axes: Floats, origin: Floats, length: float, side: str) -> str:
    """A ring at the tip of each arm, and where an arm may be let go: both ends of right, up and back."""
    out = []
    for towards, (x, y) in directions(origin, length * 1.06):
        out.append(
            f'<circle class="rest" data-side="{side}" data-towards="{towards}" cx="{x:.1f}" cy="{y:.1f}" r="3"/>'
        )
    for i, letter in enumerate("XYZ"):
        x, y = origin + (axes[i] @ _PAGE) * length
        out.append(
            f'<circle class="handle" data-side="{side}" data-arm="{letter}" data-x="{origin[0]:.1f}" data-y="{origin[1]:.1f}" '
            f'cx="{x:.1f}" cy="{y:.1f}" r="7"><title>Drag {letter} to where it points</title></circle>'
        )
    return "".join(out)


def directions(origin: Floats, length: float) -> list[tuple[str, tuple[float, float]]]:
    """Where the ends of canonical right, up and back fall on the page: ("+right", (x, y))..."""
    ends = [
        (f"{s}{name}", origin + k * length * _PAGE[i]) for i, name in enumerate(SIDES) for s, k in (("+", 1), ("-", -1))
    ]
    return [(towards, (float(at[0]), float(at[1]))) for towards, at in ends]


def _arms(axes: Floats, origin: Floats, length: float, width: float, beyond: float = 9.0) -> str:
    """Arrows along the package's +X, +Y, +Z; the column of ``axes`` says where each lies."""
    out = []
    for i, letter in enumerate("XYZ"):
        direction = axes[i] @ _PAGE  # row i: this axis in canonical right, up, back
        tip = origin + direction * length
        unit = direction / np.linalg.norm(direction)
        side = np.array([-unit[1], unit[0]])
        head = [tip, tip - unit * 7 + side * 3, tip - unit * 7 - side * 3]
        at = tip + unit * beyond
        points = " ".join(f"{x:.1f},{y:.1f}" for x, y in head)
        out.append(
            f'<line x1="{origin[0]:.1f}" y1="{origin[1]:.1f}" x2="{tip[0]:.1f}" y2="{tip[1]:.1f}" '
            f'stroke-width="{width}" stroke-dasharray="{_DASH[letter]}"/>'
            f'<polygon points="{points}"/>'
            f'<text x="{at[0]:.1f}" y="{at[1] + 4:.1f}" text-anchor="middle">{letter}</text>'
        )
    return f'<g class="arms">{"".join(out)}</g>'


def _camera_symbol(at: Floats) -> str:
    """A small pyramid opening away from the reader: the canonical camera looks along -back."""
    far = at - 26 * _PAGE[2]
    right, up = _PAGE[0] * 13, _PAGE[1] * 9
    corners = [far - right + up, far + right + up, far + right - up, far - right - up]
    lines = "".join(f'<line x1="{at[0]:.1f}" y1="{at[1]:.1f}" x2="{c[0]:.1f}" y2="{c[1]:.1f}"/>' for c in corners)
    outline = " ".join(f"{x:.1f},{y:.1f}" for x, y in corners)
    return f'<g class="eye">{lines}<polygon points="{outline}"/></g>'


def axis_turn(source: Convention, target: Convention) -> list[tuple[str, str]]:
    """Where each of the source's world axes ends up: [("+X", "+X"), ("+Y", "+Z"), ("+Z", "-Y")]."""
    turn = target.world @ source.world.T
    return [(f"+{letter}", axis_name(turn[:, i])) for i, letter in enumerate("XYZ")]
