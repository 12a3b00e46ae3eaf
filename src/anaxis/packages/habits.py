"""Habits: what a package does to a file on arrival that the file did not ask for.

Each is data (a code and parameters) and, here, what it does to a camera that arrives. The stand-in does
them in the order of the profile's list; :mod:`anaxis.packages.compensation` undoes them beforehand, by
its own arithmetic. To add one, write what it does and add one entry to HABITS.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from anaxis.core.camera.channels import CHANNELS
from anaxis.core.camera.lens import Image, used_rectangle
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.scene.nodes import UP_AXES
from anaxis.core.scene.tree import level_axes
from anaxis.core.space.axes import ORDERS, Convention, axis_vector
from anaxis.core.space.rotation import angles_from_matrices, matrices_from_angles
from anaxis.core.time.rates import parse_rate, rate_label
from anaxis.core.typing import Floats

Params = dict[str, Any]
_DISTANCES = ("focus_m", "near_m", "far_m")


@dataclass(frozen=True, eq=False)
class Arriving:
    """A camera on its way into a package, in canonical space at the file's own samples.

    ``local`` (n, 4, 4) is its pose below all parents and ``top`` (n, 4, 4) the transform of the topmost node
    above it (its own where it has no parent), both canonical. ``file_up`` and ``file_unit_m`` are what the
    file says of its axes and unit; None for files that are in the package's own numbers.
    """

    track: Track
    image: Image
    fit: str
    local: Floats
    top: Floats
    file_up: str | None = None
    file_unit_m: float | None = None


@dataclass(frozen=True)
class HabitField:
    """A parameter: ``kind`` is number, choice or text."""

    name: str
    label: str
    kind: str = "number"
    unit: str = ""
    choices: tuple[str, ...] = ()
    default: Any = None


@dataclass(frozen=True)
class HabitKind:
    """A habit: ``arrive`` does it, ``says`` says it as a sentence about the package; rarer ones cost more."""

    code: str
    label: str
    fields: tuple[HabitField, ...]
    arrive: Callable[[Arriving, Params, Convention], Arriving]
    says: Callable[[Params], str]
    cost: float = 1.0


def _moved(arriving: Arriving, position_m: Floats, rotation: Floats) -> Arriving:
    return replace(arriving, track=replace(arriving.track, position_m=position_m, rotation=rotation))


def _turned(arriving: Arriving, turn: Floats) -> Arriving:
    """The whole world turned about the origin by a canonical rotation (3, 3)."""
    track = arriving.track
    return _moved(arriving, track.position_m @ turn.T, turn @ track.rotation)


def _with_lens(arriving: Arriving, **channels: Floats) -> Arriving:
    track = arriving.track
    return replace(arriving, track=replace(track, lens=replace(track.lens, **channels)))


def _up_axis(a: Arriving, p: Params, _: Convention) -> Arriving:
    if a.file_up is None:
        return a
    return _turned(a, UP_AXES[p["up"]].T @ UP_AXES[a.file_up])


def _scaled(a: Arriving, factor: float) -> Arriving:
    lens = {k: getattr(a.track.lens, k) * factor for k in _DISTANCES}
    return _with_lens(_moved(a, a.track.position_m * factor, a.track.rotation), **lens)


def _unit(a: Arriving, p: Params, _: Convention) -> Arriving:
    return a if a.file_unit_m is None else _scaled(a, p["metres_per_unit"] / a.file_unit_m)


def about_axis(axis: str, angle_deg: float, convention: Convention) -> Floats:
    """A turn about one of a package's axes, counter-clockwise seen from its positive end, in canonical space."""
    own = Rotation.from_rotvec(np.radians(angle_deg) * axis_vector(axis)).as_matrix()
    # In a left-handed world the same picture of a turn runs the other way; as numbers it is this matrix.
    return convention.world.T @ own @ convention.world


def _world_turn(a: Arriving, p: Params, convention: Convention) -> Arriving:
    return _turned(a, about_axis(p["axis"], p["angle_deg"], convention))


def _world_shift(a: Arriving, p: Params, convention: Convention) -> Arriving:
    shift = convention.position_to_canonical(np.array([p["x"], p["y"], p["z"]]))
    return _moved(a, a.track.position_m + shift, a.track.rotation)


def camera_turn(look: str, up: str) -> Floats:
    """The turn (3, 3) of a camera whose reader takes it to look along ``look`` with ``up`` up. Raises BadInput."""
    back, high = -axis_vector(look), axis_vector(up)
    if abs(float(back @ high)) > 0.5:
        raise BadInput(f"A camera cannot look along {look} with {up} up: choose another up axis.")
    return np.stack([np.cross(high, back), high, back], axis=1)


def _look_axis(a: Arriving, p: Params, _: Convention) -> Arriving:
    return _moved(a, a.track.position_m, a.track.rotation @ camera_turn(p["look"], p["up"]))


def _mirror(a: Arriving, p: Params, convention: Convention) -> Arriving:
    """The world mirrored along one of the package's axes; the camera stays proper, its picture is mirrored in turn."""
    flip = np.eye(3) - 2 * np.outer(*(axis_vector(p["axis"]),) * 2)
    flip = convention.world.T @ flip @ convention.world
    return _moved(a, a.track.position_m @ flip.T, flip @ a.track.rotation @ np.diag([-1.0, 1.0, 1.0]))


def _scale(a: Arriving, p: Params, _: Convention) -> Arriving:
    return _scaled(a, p["factor"])


def _parents(a: Arriving, _p: Params, _: Convention) -> Arriving:
    return _moved(a, a.local[:, :3, 3], a.local[:, :3, :3])


def _twice(a: Arriving, _p: Params, _: Convention) -> Arriving:
    turn, place = a.top[:, :3, :3], a.top[:, :3, 3]
    track = a.track
    return _moved(a, np.einsum("nij,nj->ni", turn, track.position_m) + place, turn @ track.rotation)


def _frames(a: Arriving, frames: Floats) -> Arriving:
    return replace(a, track=replace(a.track, frames=frames))


def _frame_offset(a: Arriving, p: Params, _: Convention) -> Arriving:
    return _frames(a, a.track.frames + p["frames"])


def _own_rate(a: Arriving, p: Params, _: Convention) -> Arriving:
    rate = parse_rate(str(p["rate"]))
    return replace(a, track=replace(a.track, frames=a.track.frames * float(rate / a.track.rate), rate=rate))


def _own_first(a: Arriving, p: Params, _: Convention) -> Arriving:
    return _frames(a, a.track.frames - a.track.frames[0] + p["first"])


def _kept(a: Arriving, keep: Any) -> Arriving:
    index = np.flatnonzero(keep)
    if not len(index):
        raise BadInput("By this habit of the package not one frame arrives.")
    return replace(a, track=a.track.take(index), local=a.local[index], top=a.top[index])


def _no_negative(a: Arriving, _p: Params, _: Convention) -> Arriving:
    return _kept(a, a.track.frames >= 0)


def _only_first(a: Arriving, _p: Params, _: Convention) -> Arriving:
    return _kept(a, np.arange(len(a.track)) == 0)


def _first_keys(a: Arriving, p: Params, _: Convention) -> Arriving:
    return _kept(a, np.arange(len(a.track)) < max(1, int(p["count"])))


def _film_factor(a: Arriving, p: Params, _: Convention) -> Arriving:
    lens = a.track.lens
    return _with_lens(
        a, film_width_mm=lens.film_width_mm * p["factor"], film_height_mm=lens.film_height_mm * p["factor"]
    )


def _film_default(a: Arriving, p: Params, _: Convention) -> Arriving:
    n = len(a.track)
    return _with_lens(
        a,
        film_width_mm=np.full(n, p["width_mm"]),
        film_height_mm=np.full(n, p["height_mm"]),
        squeeze=np.ones(n),
    )


def _focal_factor(a: Arriving, p: Params, _: Convention) -> Arriving:
    return _with_lens(a, focal_mm=a.track.lens.focal_mm * p["factor"])


def _view_swapped(a: Arriving, _p: Params, _: Convention) -> Arriving:
    """The horizontal angle becomes what the vertical one was."""
    lens = a.track.lens
    used = used_rectangle(lens.film_width_mm, lens.film_height_mm, lens.squeeze, a.image, a.fit)
    return _with_lens(a, focal_mm=lens.focal_mm * used.width_mm / used.height_mm)


def _no_lens_animation(a: Arriving, _p: Params, _: Convention) -> Arriving:
    return _with_lens(a, **{k: np.full(len(a.track), getattr(a.track.lens, k)[0]) for k in CHANNELS})


def _no_offsets(a: Arriving, _p: Params, _: Convention) -> Arriving:
    nothing = np.zeros(len(a.track))
    return _with_lens(a, offset_x_mm=nothing, offset_y_mm=nothing)


def signed_channels(text: str) -> tuple[list[int], Floats]:
    """``"+X-Z+Y"``: which channel each of x, y, z takes, and its sign. Raises BadInput."""
    parts = [text[i : i + 2] for i in range(0, len(text), 2)]
    if (
        len(text) != 6
        or any(p[0] not in "+-" or p[1] not in "XYZ" for p in parts)
        or {p[1] for p in parts} != set("XYZ")
    ):
        raise BadInput(f"'{text}' does not say which channel goes where: write +X+Y+Z, or such as +X-Z+Y.")
    return ["XYZ".index(p[1]) for p in parts], np.array([1.0 if p[0] == "+" else -1.0 for p in parts])


def _channels(a: Arriving, p: Params, convention: Convention) -> Arriving:
    """The package's own numbers under each other's names, or with other signs."""
    track = a.track
    order, signs = signed_channels(p["position"])
    place = convention.position_from_canonical(track.position_m)[:, order] * signs
    order, signs = signed_channels(p["rotation"])
    angles = angles_from_matrices(
        convention.rotation_from_canonical(track.rotation), convention.order, convention.signs
    )
    turn = matrices_from_angles(angles.deg[:, order] * signs, convention.order, convention.signs)
    return _moved(a, convention.position_to_canonical(place), convention.rotation_to_canonical(turn))


def _snap(a: Arriving, _p: Params, _: Convention) -> Arriving:
    frames, first = np.unique(np.round(a.track.frames), return_index=True)
    kept = _kept(a, np.isin(np.arange(len(a.track)), first))
    return _frames(kept, frames)


def _rotation_order(a: Arriving, p: Params, convention: Convention) -> Arriving:
    return _moved(a, a.track.position_m, reordered(a.track.rotation, p["written"], p["read"], convention))


def _no_roll(a: Arriving, _p: Params, _: Convention) -> Arriving:
    track = a.track
    return _moved(a, track.position_m, level_axes(track.rotation[:, :, 2], track.rotation[:, :, 0]))


def number(value: float) -> str:
    return f"{value:.6g}"


_AXIS, _LETTERS = ("+X", "-X", "+Y", "-Y", "+Z", "-Z"), ("X", "Y", "Z")
_FACTOR = (HabitField("factor", "Factor", default=1.0),)

_ALL = (
    HabitKind("up_axis", "Ignores the file's up axis", (HabitField("up", "Takes every file as", "choice", "up", ("X", "Y", "Z"), "Y"),),
              _up_axis, lambda p: f"takes every file as {p['up']} up, whatever it says", 1.0),
    HabitKind("unit", "Ignores the file's unit", (HabitField("metres_per_unit", "Takes a unit as", unit="m", default=0.01),), _unit,
              lambda p: f"takes a unit of every file as {number(p['metres_per_unit'])} m, whatever it says", 1.0),
    HabitKind("world_turn", "Rotates the world",
              (HabitField("axis", "About its axis", "choice", choices=_LETTERS, default="X"), HabitField("angle_deg", "By", unit="°", default=-90.0)),
              _world_turn, lambda p: f"rotates the world by {number(p['angle_deg'])} degrees about its {p['axis']}", 1.0),
    HabitKind("world_shift", "Shifts the world", tuple(HabitField(a, a.upper(), unit="its units", default=0.0) for a in "xyz"),
              _world_shift, lambda p: f"shifts the world by {number(p['x'])}, {number(p['y'])}, {number(p['z'])} of its units", 2.0),
    HabitKind("look_axis", "Takes another camera look axis",
              (HabitField("look", "Looks along", "choice", choices=_AXIS, default="+X"), HabitField("up", "With up", "choice", choices=_AXIS, default="+Y")),
              _look_axis, lambda p: f"takes the file's camera to look along {p['look']} with {p['up']} up", 1.1),
    HabitKind("mirror", "Mirrors the world", (HabitField("axis", "Along its axis", "choice", choices=_LETTERS, default="X"),), _mirror,
              lambda p: f"mirrors the world along its {p['axis']}", 1.5),
    HabitKind("scale", "Scales the root", _FACTOR, _scale, lambda p: f"scales everything by {number(p['factor'])}", 1.0),
    HabitKind("parents", "Ignores parents", (), _parents, lambda p: "leaves the camera's parents out", 1.2),
    HabitKind("twice", "Applies the top transform twice", (), _twice, lambda p: "applies the topmost transform twice", 1.6),
    HabitKind("frame_offset", "Is some frames late", (HabitField("frames", "Later by", unit="frames", default=1.0),), _frame_offset,
              lambda p: f"shows every frame {number(abs(p['frames']))} frame{'s' * (abs(p['frames']) != 1)} {'late' if p['frames'] > 0 else 'early'}", 1.0),
    HabitKind("own_rate", "Takes its own rate", (HabitField("rate", "Frames a second", "text", default="30"),), _own_rate,
              lambda p: f"plays the file's time at {rate_label(parse_rate(str(p['rate'])))} frames a second instead of the file's own", 1.2),
    HabitKind("own_first", "Starts at its own first frame", (HabitField("first", "First frame", default=0.0),), _own_first,
              lambda p: f"starts every file at frame {number(p['first'])}", 1.2),
    HabitKind("no_negative", "Drops negative frames", (), _no_negative, lambda p: "drops frames below 0", 1.4),
    HabitKind("only_first", "Takes only the first frame", (), _only_first, lambda p: "takes only the first frame", 1.2),
    HabitKind("first_keys", "Takes only the first keys", (HabitField("count", "How many", unit="frames", default=100.0),), _first_keys,
              lambda p: f"takes only the keys of the first {number(p['count'])} frames", 1.4),
    HabitKind("film_factor", "Film back by a factor", _FACTOR, _film_factor, lambda p: f"makes the film back {number(p['factor'])} times as large", 1.0),
    HabitKind("film_default", "Film back left at its default",
              (HabitField("width_mm", "Width", unit="mm", default=36.0), HabitField("height_mm", "Height", unit="mm", default=24.0)), _film_default,
              lambda p: f"leaves the film back at {number(p['width_mm'])} x {number(p['height_mm'])} mm", 1.1),
    HabitKind("focal_factor", "Focal length by a factor", _FACTOR, _focal_factor, lambda p: f"makes the focal length {number(p['factor'])} times as long", 1.05),
    HabitKind("vfov_as_hfov", "Vertical field of view read as horizontal", (), _view_swapped, lambda p: "takes the vertical field of view for the horizontal one", 1.0),
    HabitKind("no_lens_animation", "Drops lens animation", (), _no_lens_animation, lambda p: "keeps the lens of the first frame throughout", 1.1),
    HabitKind("no_offsets", "Drops offsets", (), _no_offsets, lambda p: "drops the film back's offsets", 1.1),
    HabitKind("channels", "Swaps or negates channels",
              (HabitField("position", "x, y, z take", "text", default="+X+Y+Z"), HabitField("rotation", "rotations take", "text", default="+X+Y+Z")), _channels,
              lambda p: "reads " + " and ".join(f"{what} as {p[what]}" for what in ("position", "rotation") if p[what] != "+X+Y+Z"), 1.8),
    HabitKind("rotation_order", "Reads another rotation order",
              (HabitField("written", "Angles are written in", "choice", choices=ORDERS, default="XYZ"),
               HabitField("read", "And read in", "choice", choices=ORDERS, default="ZXY")), _rotation_order,
              lambda p: f"reads angles that are written in the order {p['written']} in the order {p['read']} (about fixed axes; about moving ones that is "
                        f"{p['read'][::-1]})", 1.3),
    HabitKind("snap", "Snaps sub-frames", (), _snap, lambda p: "moves samples between frames to whole frames", 1.4),
    HabitKind("no_roll", "Drops the roll", (), _no_roll, lambda p: "levels the horizon", 1.3),
)  # fmt: skip

HABITS: dict[str, HabitKind] = {k.code: k for k in _ALL}


def reordered(rotation: Floats, written: str, read: str, convention: Convention) -> Floats:
    """Rotations (n, 3, 3) whose angles about a package's axes, taken in one order, are put together in another."""
    own = convention.rotation_from_canonical(rotation)
    angles = angles_from_matrices(own, written).deg
    return convention.rotation_to_canonical(matrices_from_angles(angles, read))


def checked_habit(code: str, params: Params) -> Params:
    """The parameters as a habit takes them; raises BadInput naming the one that is wrong."""
    if code not in HABITS:
        raise BadInput(f"'{code}' is no habit: there are {', '.join(HABITS)}.")
    kind, out = HABITS[code], {}
    unknown = set(params) - {f.name for f in kind.fields}
    if unknown:
        raise BadInput(f"The habit '{code}' has no '{sorted(unknown)[0]}'.")
    for item in kind.fields:
        value = params.get(item.name, item.default)
        if item.kind == "number":
            try:
                value = float(value)
            except (TypeError, ValueError) as error:
                raise BadInput(f"'{value}' is no number for '{item.label}' of the habit '{code}'.") from error
            if not np.isfinite(value) or abs(value) > 1e9 or (item.name in _POSITIVE and value <= 0):
                raise BadInput(f"{value:g} cannot be '{item.label}' of the habit '{code}'.")
        elif item.kind == "choice" and value not in item.choices:
            raise BadInput(
                f"'{value}' is no choice for '{item.label}' of the habit '{code}': {', '.join(item.choices)}."
            )
        out[item.name] = value
    if code == "look_axis":
        camera_turn(out["look"], out["up"])
    elif code == "channels":
        for name in ("position", "rotation"):
            signed_channels(str(out[name]))
    elif code == "own_rate":
        parse_rate(str(out["rate"]))
    return out


_POSITIVE = ("factor", "metres_per_unit", "width_mm", "height_mm", "count")


def in_order(habits: list[tuple[str, Params]]) -> list[tuple[str, Params]]:
    """Habits as they happen: those about the file's tree while it is read, then the others as listed."""
    return sorted(habits, key=lambda h: h[0] not in ("parents", "twice"))


def arrived(arriving: Arriving, habits: list[tuple[str, Params]], convention: Convention) -> Arriving:
    """The camera after all habits, in their order; what is done while the file is read comes first."""
    for code, params in in_order(habits):
        arriving = HABITS[code].arrive(arriving, params, convention)
    return arriving
