"""A camera in a package's own numbers, one row a frame, and back: what packages tell each other while they are linked.

A row has a column for each number of each *group*; what of a camera changes together is one group. Numbers are those
that the package shows: its axes, unit, rotation order and signs, its quantity for the lens, its film back's unit. What
a camera does not say is NaN.
"""

from __future__ import annotations

from collections.abc import Iterable
from fractions import Fraction

import numpy as np

from anaxis.core.camera.lens import Image, field_of_view_deg, focal_of_view_mm, zoom_px
from anaxis.core.camera.track import Track, make_lens
from anaxis.core.errors import BadInput
from anaxis.core.outgoing import pose_matrices
from anaxis.core.space.rotation import angles_from_matrices, matrices_from_angles, nearest_angles
from anaxis.core.typing import Floats
from anaxis.packages.model import Profile

GROUPS: dict[str, tuple[str, ...]] = {
    "position": ("position_x", "position_y", "position_z"),
    "rotation": ("rotation_x", "rotation_y", "rotation_z"),
    "lens": ("lens", "film_width", "film_height", "offset_x", "offset_y", "squeeze"),
    "focus": ("focus",),
    "stop": ("stop",),
    "clips": ("near", "far"),
}
# What people call them.
GROUP_WORDS = {
    "position": "position", "rotation": "rotation", "lens": "lens and film back", "focus": "focus distance", "stop": "stop", "clips": "near and far clip",
}  # fmt: skip
COLUMNS = tuple(name for names in GROUPS.values() for name in names)
_ENDS = np.cumsum([len(names) for names in GROUPS.values()]).tolist()
SLICES = {g: slice(end - len(names), end) for (g, names), end in zip(GROUPS.items(), _ENDS, strict=True)}
# A group that a camera cannot be without.
NEEDED = ("position", "rotation", "lens")


def columns_of(groups: tuple[str, ...]) -> list[int]:
    """The places of the groups' columns in a row, in the order of GROUPS."""
    return [i for g in GROUPS if g in groups for i in range(SLICES[g].start, SLICES[g].stop)]


def chosen_groups(names: Iterable[str]) -> tuple[str, ...]:
    """The groups of these names, in the order of GROUPS. Raises BadInput for none."""
    wanted = set(names)
    groups = tuple(g for g in GROUPS if g in wanted)
    if not groups:
        raise BadInput("No channels chosen: tick at least one.")
    return groups


def own_rows(track: Track, profile: Profile, image: Image, near: Floats | None = None) -> Floats:
    """A track's rows (n, 16) as the package shows it; its film back must be the one handed over for the package's fit.

    ``near`` (n, 16) are the rows that were there before: of all angles that mean the same, those nearest to them are taken.
    """
    convention, lens, rule = profile.convention, track.lens, profile.lens
    matrix = pose_matrices(track, convention)
    angles = angles_from_matrices(matrix[:, :3, :3], convention.order, convention.signs).deg
    if near is not None:
        angles = nearest_angles(angles, near[:, SLICES["rotation"]], convention.order, convention.signs)
    used = lens.used(image, rule.fit)
    shown = {
        "focal": lambda: lens.focal_mm,
        "hfov": lambda: field_of_view_deg(used.width_mm, lens.focal_mm),
        "vfov": lambda: field_of_view_deg(used.height_mm, lens.focal_mm),
        "zoom": lambda: zoom_px(lens.focal_mm, used.width_mm, image),
    }[rule.shown]()
    film, offset_x, offset_y = (
        profile.film_scale,
        *_offset_scales(profile, lens.film_width_mm, lens.film_height_mm, lens.squeeze),
    )
    unit = profile.metres_per_unit
    return np.column_stack(
        [
            matrix[:, :3, 3], angles, shown, lens.film_width_mm * film, lens.film_height_mm * film,
            lens.offset_x_mm * offset_x, lens.offset_y_mm * offset_y, lens.squeeze,
            lens.focus_m / unit, lens.fstop, lens.near_m / unit, lens.far_m / unit,
        ]
    )  # fmt: skip


def track_of_rows(name: str, frames: Floats, rate: Fraction, rows: Floats, profile: Profile, image: Image) -> Track:
    """The canonical track of rows (n, 16) on ``frames`` (n,), the inverse of :func:`own_rows`. Raises BadInput for a lens that
    none can be."""
    convention, rule, unit = profile.convention, profile.lens, profile.metres_per_unit
    column = dict(zip(COLUMNS, rows.T, strict=True))
    width, height, squeeze = (
        column["film_width"] / profile.film_scale,
        column["film_height"] / profile.film_scale,
        column["squeeze"],
    )
    lens = make_lens(len(frames), film_width_mm=width, film_height_mm=height, squeeze=squeeze)
    used = lens.used(image, rule.fit)
    focal = column["lens"]
    if rule.shown in ("hfov", "vfov"):
        focal = focal_of_view_mm(used.width_mm if rule.shown == "hfov" else used.height_mm, focal)
    elif rule.shown == "zoom":
        focal = focal * used.width_mm / image.width_px
    offset_x, offset_y = _offset_scales(profile, width, height, squeeze)
    whole = make_lens(
        len(frames), focal_mm=focal, film_width_mm=width, film_height_mm=height, squeeze=squeeze,
        offset_x_mm=column["offset_x"] / offset_x, offset_y_mm=column["offset_y"] / offset_y,
        focus_m=column["focus"] * unit, fstop=column["stop"], near_m=column["near"] * unit, far_m=column["far"] * unit,
    )  # fmt: skip
    turn = matrices_from_angles(rows[:, SLICES["rotation"]], convention.order, convention.signs)
    return Track(
        name,
        frames,
        rate,
        convention.position_to_canonical(rows[:, SLICES["position"]]),
        convention.rotation_to_canonical(turn),
        whole,
    )


def require_rows(rows: Floats, groups: tuple[str, ...], where: str) -> None:
    """Raise BadInput that names the first number of ``rows`` (n, 16) that none can be: not finite where one is needed, a film
    back or lens at or below zero."""
    for group in groups:
        part = rows[:, SLICES[group]]
        if group in NEEDED and not np.isfinite(part).all():
            raise BadInput(
                f"{where}: its {group} has a value that is not a number: send finite numbers.", "not_a_number"
            )
        if np.isinf(part).any() or (np.abs(part[np.isfinite(part)]) > 1e15).any():
            raise BadInput(f"{where}: its {group} has a number that is too large.", "not_a_number")
    if "lens" in groups:
        lens = rows[:, SLICES["lens"]]
        if (lens[:, [0, 1, 2, 5]] <= 0).any():
            raise BadInput(f"{where}: its lens, film back and squeeze must be above zero.", "not_above_zero")


def _offset_scales(profile: Profile, width: Floats, height: Floats, squeeze: Floats) -> tuple[Floats, Floats]:
    """What one millimetre of offset is in the package's numbers, right and up, (n,) each."""
    wide, rule = width * squeeze, profile.lens
    plain = np.full(len(wide), profile.film_scale)
    x, y = {"film_unit": (plain, plain), "width_share": (1 / wide, 1 / wide), "side_share": (1 / wide, 1 / height)}[
        rule.offset_unit
    ]
    return x * rule.offset_signs[0], y * rule.offset_signs[1]
