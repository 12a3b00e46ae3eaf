"""What a simulated package does to numbers that it is sent, by the codes and parameters of its profile."""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from anaxis.simulated import space
from anaxis.simulated.space import Rows, columns

Image = tuple[int, int, float]


def arrived(profile: dict[str, Any], frames: Rows, rows: Rows, image: Image) -> tuple[Rows, Rows]:
    """Frames and rows as the package has them once it has done to them what it does."""
    for habit in profile.get("habits", ()):
        if habit.get("on", True) and habit["code"] in _DOES:
            frames, rows = _DOES[habit["code"]](profile, habit, frames.copy(), rows.copy(), image)
    return frames, rows


def _frame_offset(profile: Any, habit: Any, frames: Rows, rows: Rows, image: Image) -> tuple[Rows, Rows]:
    return frames + habit.get("frames", 1.0), rows


def _snap(profile: Any, habit: Any, frames: Rows, rows: Rows, image: Image) -> tuple[Rows, Rows]:
    whole, first = np.unique(np.round(frames), return_index=True)
    return whole, rows[first]


def _world_shift(profile: Any, habit: Any, frames: Rows, rows: Rows, image: Image) -> tuple[Rows, Rows]:
    rows[:, columns("position")] += [habit.get(a, 0.0) for a in "xyz"]
    return frames, rows


def _world_turn(profile: Any, habit: Any, frames: Rows, rows: Rows, image: Image) -> tuple[Rows, Rows]:
    turn = Rotation.from_rotvec(
        np.radians(habit.get("angle_deg", -90.0)) * space.axis(habit.get("axis", "X"))
    ).as_matrix()
    rows[:, columns("position")] = rows[:, columns("position")] @ turn.T
    return frames, _turned(profile, rows, lambda r: turn @ r)


def _look_axis(profile: Any, habit: Any, frames: Rows, rows: Rows, image: Image) -> tuple[Rows, Rows]:
    back, up = -space.axis(habit.get("look", "+X")), space.axis(habit.get("up", "+Y"))
    own = space.sides(profile["camera"])
    turn = own @ np.stack([np.cross(up, back), up, back], axis=1) @ own.T
    return frames, _turned(profile, rows, lambda r: r @ turn)


def _no_roll(profile: Any, habit: Any, frames: Rows, rows: Rows, image: Image) -> tuple[Rows, Rows]:
    own, up = space.sides(profile["camera"]), space.sides(profile["world"])[:, 1]

    def level(turned: Rows) -> Rows:
        back = turned @ own[:, 2]
        right = np.linalg.det(own) * np.cross(up, back)
        right /= np.linalg.norm(right, axis=1, keepdims=True)
        high = np.linalg.det(own) * np.cross(back, right)
        return np.asarray(np.stack([right, high, back], axis=2) @ own.T)

    return frames, _turned(profile, rows, level)


def _turned(profile: Any, rows: Rows, by: Any) -> Rows:
    part = columns("rotation")
    rows[:, part] = space.angles(profile, by(space.matrices(profile, rows[:, part])), rows[:, part])
    return rows


def _scale(profile: Any, habit: Any, frames: Rows, rows: Rows, image: Image) -> tuple[Rows, Rows]:
    for group in ("position", "focus", "clips"):
        rows[:, columns(group)] *= habit.get("factor", 1.0)
    return frames, rows


def _film_factor(profile: Any, habit: Any, frames: Rows, rows: Rows, image: Image) -> tuple[Rows, Rows]:
    focal = space.focal_mm(profile, rows, image)
    rows[:, space.START["lens"] + 1 : space.START["lens"] + 3] *= habit.get("factor", 1.0)
    return frames, space.with_focal(profile, rows, image, focal)


def _film_default(profile: Any, habit: Any, frames: Rows, rows: Rows, image: Image) -> tuple[Rows, Rows]:
    focal, first = space.focal_mm(profile, rows, image), space.START["lens"]
    rows[:, first + 1] = habit.get("width_mm", 36.0) / space.film_mm(profile)
    rows[:, first + 2] = habit.get("height_mm", 24.0) / space.film_mm(profile)
    rows[:, first + 5] = 1.0
    return frames, space.with_focal(profile, rows, image, focal)


def _focal_factor(profile: Any, habit: Any, frames: Rows, rows: Rows, image: Image) -> tuple[Rows, Rows]:
    focal = space.focal_mm(profile, rows, image) * habit.get("factor", 1.0)
    return frames, space.with_focal(profile, rows, image, focal)


def _vertical_as_horizontal(profile: Any, habit: Any, frames: Rows, rows: Rows, image: Image) -> tuple[Rows, Rows]:
    wide, high = space.used_mm(profile, rows, image)
    focal = space.focal_mm(profile, rows, image) * wide / high
    return frames, space.with_focal(profile, rows, image, focal)


def _no_offsets(profile: Any, habit: Any, frames: Rows, rows: Rows, image: Image) -> tuple[Rows, Rows]:
    rows[:, space.START["lens"] + 3 : space.START["lens"] + 5] = 0.0
    return frames, rows


def _channels(profile: Any, habit: Any, frames: Rows, rows: Rows, image: Image) -> tuple[Rows, Rows]:
    for group in ("position", "rotation"):
        text = habit.get(group, "+X+Y+Z")
        named = [text[i : i + 2] for i in range(0, 6, 2)]
        part = rows[:, columns(group)]
        rows[:, columns(group)] = part[:, ["XYZ".index(n[1]) for n in named]] * [
            1.0 if n[0] == "+" else -1.0 for n in named
        ]
    return frames, rows


_DOES = {
    "frame_offset": _frame_offset, "snap": _snap, "world_shift": _world_shift, "world_turn": _world_turn, "look_axis": _look_axis,
    "no_roll": _no_roll, "scale": _scale, "film_factor": _film_factor, "film_default": _film_default, "focal_factor": _focal_factor,
    "vfov_as_hfov": _vertical_as_horizontal, "no_offsets": _no_offsets, "channels": _channels,
}  # fmt: skip
