"""What a simulated package's numbers mean: its axes, its angles, its lens, by the document of its profile.

A row is 16 numbers, as the exchange has them: position x y z; angles about x, y, z; the lens (the quantity the package
shows), film back width and height, offsets, squeeze; focus; stop; near and far clip.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

Rows = np.ndarray[Any, np.dtype[np.float64]]
GROUPS = {"position": 3, "rotation": 3, "lens": 6, "focus": 1, "stop": 1, "clips": 2}
WIDTH = sum(GROUPS.values())
START = dict(zip(GROUPS, np.cumsum([0, *GROUPS.values()]).tolist(), strict=False))


def columns(group: str) -> slice:
    return slice(START[group], START[group] + GROUPS[group])


def axis(name: str) -> Rows:
    out = np.zeros(3)
    out["XYZ".index(name[-1])] = -1.0 if name.startswith("-") else 1.0
    return out


def sides(axes: dict[str, str]) -> Rows:
    """(3, 3): where right, up and back point, as columns."""
    return np.stack([axis(axes[side]) for side in ("right", "up", "back")], axis=1)


def matrices(profile: dict[str, Any], angles_deg: Rows) -> Rows:
    """(n, 3, 3) of shown angles (n, 3)."""
    rule = profile["rotation"]
    order, spoken = rule["order"], angles_deg * np.array(rule["signs"], dtype=np.float64)
    picked = spoken[:, ["XYZ".index(a) for a in order]]
    return np.asarray(Rotation.from_euler(order.lower(), picked, degrees=True).as_matrix())


def angles(profile: dict[str, Any], turned: Rows, near_deg: Rows | None = None) -> Rows:
    """Shown angles (n, 3) of matrices, those nearest to ``near_deg`` of all that mean the same."""
    rule = profile["rotation"]
    places, signs = ["XYZ".index(a) for a in rule["order"]], np.array(rule["signs"], dtype=np.float64)
    out = np.empty((len(turned), 3))
    with np.errstate(all="ignore"):
        out[:, places] = Rotation.from_matrix(turned).as_euler(rule["order"].lower(), degrees=True)
    if near_deg is not None:
        near = near_deg * signs
        other = out.copy()
        other[:, places] = out[:, places] * [1, -1, 1] + 180.0
        ways = [w + 360.0 * np.round((near - w) / 360.0) for w in (out, other)]
        gaps = [np.square(w - near).sum(axis=1) for w in ways]
        out = np.where((gaps[1] < gaps[0])[:, None], ways[1], ways[0])
    return out * signs


def film_mm(profile: dict[str, Any]) -> float:
    """Millimetres in one of the package's film units."""
    return {"mm": 1.0, "cm": 10.0, "in": 25.4}[profile["lens"].get("film_unit", "mm")]


def used_mm(profile: dict[str, Any], rows: Rows, image: tuple[int, int, float]) -> tuple[Rows, Rows]:
    """Width and height of what the image shows of the film back, desqueezed, in mm."""
    lens = rows[:, columns("lens")]
    scale, aspect = film_mm(profile), image[0] * image[2] / image[1]
    wide, high = lens[:, 1] * scale * lens[:, 5], lens[:, 2] * scale
    fit = profile["lens"].get("fit", "width")
    by_width = {
        "width": np.ones(len(rows), bool), "height": np.zeros(len(rows), bool), "inside": aspect > wide / high, "outside": aspect <= wide / high,
    }.get(fit)  # fmt: skip
    if by_width is None:
        return wide, high
    return np.where(by_width, wide, high * aspect), np.where(by_width, wide / aspect, high)


def focal_mm(profile: dict[str, Any], rows: Rows, image: tuple[int, int, float]) -> Rows:
    shown, lens = profile["lens"].get("shown", "focal"), rows[:, START["lens"]]
    wide, high = used_mm(profile, rows, image)
    if shown == "hfov":
        return np.asarray(wide / 2 / np.tan(np.radians(lens) / 2))
    if shown == "vfov":
        return np.asarray(high / 2 / np.tan(np.radians(lens) / 2))
    return np.asarray(lens * wide / image[0] if shown == "zoom" else lens)


def with_focal(profile: dict[str, Any], rows: Rows, image: tuple[int, int, float], focal: Rows) -> Rows:
    """Rows whose shown lens is that of focal lengths (n,) in mm."""
    shown, out = profile["lens"].get("shown", "focal"), rows.copy()
    wide, high = used_mm(profile, rows, image)
    out[:, START["lens"]] = {
        "focal": focal,
        "hfov": 2 * np.degrees(np.arctan2(wide, 2 * focal)),
        "vfov": 2 * np.degrees(np.arctan2(high, 2 * focal)),
        "zoom": focal * image[0] / wide,
    }[shown]
    return out


def views(profile: dict[str, Any], rows: Rows, image: tuple[int, int, float]) -> Rows:
    """(n, 3, 4): a point of the package's world to (x px * depth, y px * depth, depth)."""
    camera = sides(profile["camera"])
    turned = matrices(profile, rows[:, columns("rotation")])
    right, up, ahead = (turned @ v for v in (camera[:, 0], camera[:, 1], -camera[:, 2]))
    wide, high = used_mm(profile, rows, image)
    focal, lens, rule = focal_mm(profile, rows, image), rows[:, columns("lens")], profile["lens"]
    film = np.full(len(rows), film_mm(profile))
    across, tall = lens[:, 1] * film * lens[:, 5], lens[:, 2] * film
    scale = {"film_unit": (film, film), "width_share": (across, across), "side_share": (across, tall)}[
        rule.get("offset_unit", "film_unit")
    ]
    signs = rule.get("offset_signs", (1, 1))
    off_x, off_y = lens[:, 3] * scale[0] * signs[0], lens[:, 4] * scale[1] * signs[1]
    out = np.zeros((len(rows), 3, 4))
    w, h = image[0], image[1]
    px = (w * focal / wide)[:, None] * right + (w * (0.5 - off_x / wide))[:, None] * ahead
    py = -(h * focal / high)[:, None] * up + (h * (0.5 + off_y / high))[:, None] * ahead
    for i, row in enumerate((px, py, ahead)):
        out[:, i, :3] = row
        out[:, i, 3] = -np.sum(row * rows[:, columns("position")], axis=1)
    return out
