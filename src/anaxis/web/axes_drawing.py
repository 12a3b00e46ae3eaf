"""Axes drawn on paper: a package's world and camera axes, as seen from one fixed corner.

Axes are told apart by letter and line style (X unbroken, Y dashed, Z dash and dot), never by
colour, and both packages are drawn from the same corner, so that the turn between them is seen.
"""

from __future__ import annotations

import numpy as np
from markupsafe import Markup

from anaxis.core.axes import Convention, axis_name
from anaxis.core.typing import Floats

# Where canonical right, up and back fall on the page (x right, y down): an oblique view in which
# back comes towards the reader, down and to the left.
_PAGE = np.array([[1.0, 0.0], [0.0, -1.0], [-0.55, 0.42]])
_DASH = {"X": "none", "Y": "7 4", "Z": "10 3 2 3"}


def axes_svg(convention: Convention, caption: str, size_px: int = 168) -> Markup:
    """World axes (long) and camera axes (short, at a camera symbol) of one convention."""
    middle = np.array([size_px * 0.30, size_px * 0.62])
    world = _arms(convention.world, middle, size_px * 0.34, 2.0)
    eye = np.array([size_px * 0.74, size_px * 0.27])
    camera = _camera_symbol(eye) + _arms(convention.camera, eye, size_px * 0.17, 1.4)
    up, look = convention.up_axis, convention.look_axis
    side = "right-handed" if convention.right_handed else "left-handed"
    label = f"{caption}: {up} up, {side}, the camera looks along {look}"
    return Markup(
        f'<svg class="axes" viewBox="0 0 {size_px} {size_px * 0.84:.0f}" role="img" aria-label="{label}">{world}{camera}</svg>'
    )


def _arms(axes: Floats, origin: Floats, length: float, width: float) -> str:
    """Arrows along the package's +X, +Y, +Z; the column of ``axes`` says where each lies."""
    out = []
    for i, letter in enumerate("XYZ"):
        direction = axes[i] @ _PAGE  # row i: this axis in canonical right, up, back
        tip = origin + direction * length
        unit = direction / np.linalg.norm(direction)
        side = np.array([-unit[1], unit[0]])
        head = [tip, tip - unit * 7 + side * 3, tip - unit * 7 - side * 3]
        at = tip + unit * 9
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
    lines = "".join(
        f'<line x1="{at[0]:.1f}" y1="{at[1]:.1f}" x2="{c[0]:.1f}" y2="{c[1]:.1f}"/>' for c in corners
    )
    outline = " ".join(f"{x:.1f},{y:.1f}" for x, y in corners)
    return f'<g class="eye">{lines}<polygon points="{outline}"/></g>'


def axis_turn(source: Convention, target: Convention) -> list[tuple[str, str]]:
    """Where each of the source's world axes ends up: [("+X", "+X"), ("+Y", "+Z"), ("+Z", "-Y")]."""
    turn = target.world @ source.world.T
    return [(f"+{letter}", axis_name(turn[:, i])) for i, letter in enumerate("XYZ")]
