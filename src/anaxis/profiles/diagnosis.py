"""Diagnosis: given the camera meant and the camera that arrived, what happened to it on the way.

A fault is a mistake of time, one of pose, and one of the lens, each possibly none. For every mistake of time
the pose is solved in closed form: with R' = Q R K and p' = s Q p + t the turn K of the camera is tried in all
its 24 right angles, Q is then the mean of R' (R K)^T, and s and t follow by least squares. What the numbers
say is then put into the words of the habits list, the lens's mistake is sought under the pose found, and
everything is scored by the pixels left over. Fewer and commoner causes come first.
"""

from __future__ import annotations

import warnings
from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import permutations, product
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from anaxis.core.axes import Convention
from anaxis.core.lens import Image
from anaxis.core.project import pixel_matrices
from anaxis.core.proof import deviations_px, make_test_points
from anaxis.core.resample import sampled
from anaxis.core.rotation import angles_from_matrices
from anaxis.core.scene import UP_AXES
from anaxis.core.timing import plain_frame, rate_label
from anaxis.core.track import Lens, Track
from anaxis.core.tree import angle_between_deg
from anaxis.core.typing import Floats
from anaxis.profiles.diagnosis_time import Timing, timings_of
from anaxis.profiles.habits import HABITS, Arriving, camera_turn

Cause = tuple[str, dict[str, Any]]
# What a camera that went through single precision may still be off, px.
EXPLAINED_PX = 0.05
_SAMPLES = 16
# How far from constant a turn may be and still be one turn: a thirtieth of a degree.
_HOLDS = 6e-4
# By the rough measure of a pose, beyond which it is not worth a look at the lens.
_ROUGH_PX = 50.0
# Steps of the turn that differ by less are the same.
_ALIKE_DEG = 2e-3
# Causes that differ by less are as likely as each other, and both are said.
_AS_LIKELY = 0.25
_NO_MARKS = np.zeros((1, 0, 3))
_FACTORS = tuple(
    f * s for f in (1.0, 10.0, 100.0, 1000.0, 2.54, 25.4, 254.0, 39.37007874015748, 30.48, 3.048, 12.0) for s in (1.0,)
)  # fmt: skip


@dataclass(frozen=True, eq=False)
class Explanation:
    """``causes`` in the order they happened; ``residual_px`` the worst of what they leave, over the frames that fit."""

    sentence: str
    causes: tuple[Cause, ...]
    residual_px: float
    cost: float
    frames: tuple[tuple[float, float], ...]
    deviation_px: Floats

    def as_dict(self) -> dict[str, Any]:
        return {
            "sentence": self.sentence,
            "causes": [{"code": code, **params} for code, params in self.causes],
            "residual_px": self.residual_px,
            "frames": [[plain_frame(a), plain_frame(b)] for a, b in self.frames],
        }


@dataclass(frozen=True, eq=False)
class Diagnosis:
    """Explanations, best first; ``explained`` where the first leaves nothing to speak of.

    ``frames`` (m,) are those both cameras have, ``deviation_px`` (m,) how far apart they are as they stand.
    """

    explanations: tuple[Explanation, ...]
    explained: bool
    frames: Floats
    deviation_px: Floats


@dataclass(frozen=True, eq=False)
class _Pose:
    causes: tuple[Cause, ...]
    cost: float
    track: Track
    rough: float


def diagnose(
    meant: Track, arrived: Track, image: Image, fit: str, convention: Convention, local: Track | None = None
) -> Diagnosis:
    """What makes ``arrived`` of ``meant``, both canonical; ``convention`` is the package's, for its words.

    ``local`` is the camera meant without its parents, where a file has them. Raises nothing a caller must
    catch: where nothing explains the difference, the diagnosis says so.
    """
    found: list[Explanation] = []
    timings = list(timings_of(meant, arrived))
    # How far the camera turns from sample to sample is the same whatever was done to the world and its axes:
    # mistakes of time that agree in it are looked at first, and the others only where those explain nothing.
    agree = [_turns_alike(meant, arrived, t) for t in timings]
    for wanted in (True, False):
        for timing in (t for t, alike in zip(timings, agree, strict=True) if alike is wanted):
            done = min((e.cost for e in found if e.residual_px < EXPLAINED_PX), default=np.inf)
            if timing.cost >= done + _AS_LIKELY:
                break  # whatever comes is dearer
            found += _explained_by(timing, meant, arrived, image, fit, convention, local)
        if any(e.residual_px < EXPLAINED_PX for e in found):
            break
    best = _best(found)
    whole = [_on_every_frame(e, meant, arrived, image, fit, convention, local) for e in best]
    whole.sort(key=_likelihood)
    plain_at, plain = _as_they_stand(meant, arrived, image, fit)
    return Diagnosis(tuple(whole), bool(whole) and whole[0].residual_px <= EXPLAINED_PX, plain_at, plain)


def _explained_by(
    timing: Timing,
    meant: Track,
    arrived: Track,
    image: Image,
    fit: str,
    convention: Convention,
    local: Track | None,
) -> Iterator[Explanation]:
    """What explains the camera under one mistake of time, on a few of its frames."""
    at = _spread(len(timing.arrived_at))
    seen, should, bare = _aligned(timing, at, meant, arrived, local)
    poses = sorted(
        _poses(should, seen, bare, convention),
        key=lambda p: (p.rough > 1.0, p.cost if p.rough <= 1.0 else p.rough),
    )
    apart = _Apart(seen, image, fit)
    for i, pose in enumerate(poses[:3]):
        if i and pose.rough > _ROUGH_PX:
            break
        for causes, lensed, cost in _lenses(pose.track, seen, image, fit, convention):
            off = apart(lensed)
            every = (*timing.causes, *pose.causes, *causes)
            yield Explanation(
                "", every, float(off.max()), timing.cost + pose.cost + cost + 0.1 * len(every), (), off
            )
            if pose.rough > _ROUGH_PX:
                break  # no lens makes up for a pose that is wrong


def _aligned(
    timing: Timing, at: Any, meant: Track, arrived: Track, local: Track | None
) -> tuple[Track, Track, Track | None]:
    """What arrived at some places, and the camera meant (and its own part alone) at the frames behind them."""
    seen = arrived.take(timing.arrived_at[at])

    def behind(track: Track) -> Track:
        return replace(sampled(track, timing.meant_frames[at]), frames=seen.frames, rate=seen.rate)

    return seen, behind(meant), None if local is None else behind(local)


def _turns_alike(meant: Track, arrived: Track, timing: Timing) -> bool:
    at = _spread(len(timing.arrived_at))
    theirs = arrived.rotation[timing.arrived_at[at]]
    near = np.clip(np.round(timing.meant_frames[at] - meant.frames[0]).astype(int), 0, len(meant) - 1)
    whole = np.allclose(meant.frames[near], timing.meant_frames[at], rtol=0, atol=1e-6)
    mine = meant.rotation[near] if whole else sampled(meant, timing.meant_frames[at]).rotation
    return bool(np.abs(_steps_deg(mine) - _steps_deg(theirs)).max(initial=0.0) < _ALIKE_DEG)


def _steps_deg(rotation: Floats) -> Floats:
    return angle_between_deg(rotation[:-1], rotation[1:])


def _likelihood(found: Explanation) -> tuple[bool, float]:
    """Those that explain come before those that do not: the former by cost, the latter by what they leave."""
    leaves = found.residual_px > EXPLAINED_PX
    return leaves, found.residual_px if leaves else found.cost


def _best(found: list[Explanation]) -> list[Explanation]:
    """The cheapest that explain everything, then those that leave least; no two of the same causes."""
    ordered = sorted(found, key=_likelihood)
    out: list[Explanation] = []
    for one in ordered:
        causes = [str(c) for c in one.causes]
        # The same with something more that does nothing is no other explanation.
        more = any(all(str(c) in causes for c in o.causes) for o in out if o.residual_px <= EXPLAINED_PX)
        near = not out or one.residual_px <= max(EXPLAINED_PX, 50 * out[0].residual_px + 1)
        if near and not more and all(one.causes != o.causes for o in out):
            out.append(one)
        if len(out) == 3:
            break
    return out


def _spread(count: int) -> Any:
    return np.unique(np.linspace(0, count - 1, min(_SAMPLES, count)).round().astype(int))


class _Apart:
    """Pixels between a camera seen and others on the same frames, (m,), at a grid in front of the one seen."""

    def __init__(self, seen: Track, image: Image, fit: str) -> None:
        self._image, self._fit = image, fit
        self._points = make_test_points(seen, pixel_matrices(seen, image, fit), image, _NO_MARKS)

    def __call__(self, other: Track) -> Floats:
        return deviations_px(self._points, pixel_matrices(other, self._image, self._fit), self._image)


def _as_they_stand(meant: Track, arrived: Track, image: Image, fit: str) -> tuple[Floats, Floats]:
    both = np.intersect1d(meant.frames, arrived.frames)
    if not len(both):
        return both, np.zeros(0)
    a = arrived.take(np.flatnonzero(np.isin(arrived.frames, both)))
    b = meant.take(np.flatnonzero(np.isin(meant.frames, both)))
    return both, _Apart(b, image, fit)(a)


# The pose


def _right_angles() -> list[Floats]:
    """The 24 turns by right angles, the identity first."""
    found = []
    for order, signs in product(permutations(range(3)), product((1.0, -1.0), repeat=3)):
        m = np.zeros((3, 3))
        m[range(3), order] = signs
        if np.linalg.det(m) > 0:
            found.append(m)
    return sorted(found, key=lambda m: -np.trace(m))


_TURNS = np.array(_right_angles())
_LOOKS = {
    camera_turn(look, up).round().astype(int).tobytes(): (look, up)
    for look, up in product(("+X", "-X", "+Y", "-Y", "+Z", "-Z"), repeat=2)
    if look[1] != up[1]
}


def _bases(
    should: Track, bare: Track | None, convention: Convention
) -> Iterator[tuple[tuple[Cause, ...], float, Track]]:
    """The camera meant, and what is left of it after the mistakes that are no similarity."""
    yield (), 0.0, should
    here = Arriving(should, Image(16, 9), "width", np.zeros((1, 4, 4)), np.zeros((1, 4, 4)))
    for axis in "XYZ":
        yield (
            (("mirror", {"axis": axis}),),
            HABITS["mirror"].cost,
            HABITS["mirror"].arrive(here, {"axis": axis}, convention).track,
        )
    if bare is not None:
        yield (("parents", {}),), HABITS["parents"].cost, bare
    # The top transform twice, for a file with its own up axis, and for one in the package's numbers.
    for between in {
        m.tobytes(): m for m in (np.eye(3), UP_AXES["Z"], convention.camera.T @ convention.world)
    }.values():
        turn = should.rotation @ between
        place = np.einsum("nij,nj->ni", turn, should.position_m) + should.position_m
        yield (
            (("twice", {}),),
            HABITS["twice"].cost,
            replace(should, position_m=place, rotation=turn @ should.rotation),
        )
    yield (("no_roll", {}),), HABITS["no_roll"].cost, HABITS["no_roll"].arrive(here, {}, convention).track


def _poses(should: Track, seen: Track, bare: Track | None, convention: Convention) -> Iterator[_Pose]:
    zoom = float((seen.lens.focal_mm / seen.lens.film_width_mm).max()) * 2000
    depth = float(np.nanmean(seen.lens.focus_m)) if np.isfinite(seen.lens.focus_m).any() else 5.0
    depth = depth if 1e-6 < depth < 1e9 else 5.0
    for causes, cost, base in _bases(should, bare, convention):
        yield from _similarities(base, seen, causes, cost, convention, zoom, depth)
    yield from _channels(should, seen, convention, zoom, depth)


def _similarities(
    base: Track,
    seen: Track,
    causes: tuple[Cause, ...],
    cost: float,
    convention: Convention,
    zoom: float,
    depth: float,
) -> Iterator[_Pose]:
    turned = np.einsum("nij,kjl->knil", base.rotation, _TURNS)
    between = np.einsum("nij,knlj->knil", seen.rotation, turned)
    mean = between.mean(axis=1)
    u, _, vt = np.linalg.svd(mean)
    sign = np.sign(np.linalg.det(u @ vt))
    u[:, :, 2] *= sign[:, None]
    world = u @ vt
    off = np.linalg.norm(between - world[:, None], axis=(2, 3)).max(axis=1) / np.sqrt(2)
    ordered = np.argsort(off + 1e-6 * np.arange(len(off)))[:4].tolist()
    # A turn that does not hold on every frame is none; of the camera as it was meant the best is still looked at.
    for k in [k for i, k in enumerate(ordered) if off[k] < _HOLDS or (i == 0 and not causes)]:
        for turn in _candidates(world[k], base, seen):
            named, turn_cost, exact = _named_turn(turn, convention)
            place = base.position_m @ exact.T
            for scale, shift in _scales(place, seen.position_m):
                moved = replace(
                    base, position_m=scale * place + shift, rotation=exact @ base.rotation @ _TURNS[k]
                )
                rough = zoom * (
                    np.linalg.norm(moved.rotation - seen.rotation, axis=(1, 2)).max() / np.sqrt(2)
                    + np.linalg.norm(moved.position_m - seen.position_m, axis=1).max()
                    / (depth * max(scale, 1e-9))
                )
                out, total = [*causes], cost + turn_cost
                if k:
                    look, up = _LOOKS[_TURNS[k].round().astype(int).tobytes()]
                    out.append(("look_axis", {"look": look, "up": up}))
                    total += HABITS["look_axis"].cost
                out += named
                if scale != 1.0:
                    out.append(("scale", {"factor": scale}))
                    total += HABITS["scale"].cost if _known(scale) else HABITS["scale"].cost + 0.6
                if shift.any():
                    x, y, z = convention.position_from_canonical(shift).tolist()
                    out.append(("world_shift", {"x": x, "y": y, "z": z}))
                    total += HABITS["world_shift"].cost
                lens = _scaled_lens(moved.lens, scale)
                yield _Pose(tuple(out), total, replace(moved, lens=lens), float(rough))


def _candidates(turn: Floats, base: Track, seen: Track) -> list[Floats]:
    """The world's turn as the rotations say it, and the nearest right angle where it is nearly that."""
    nearest = _TURNS[int(np.argmax(np.einsum("kij,ij->k", _TURNS, turn)))]
    return [nearest] if np.abs(nearest - turn).max() < 2e-4 else [turn]


def _scales(place: Floats, target: Floats) -> list[tuple[float, Floats]]:
    """Scale and shift, simplest first: none, a scale, a shift, both."""
    none = np.zeros(3)
    size = float((place * place).sum())
    out = [(1.0, none)]
    scale = float((place * target).sum()) / size if size > 1e-18 else 1.0
    if scale > 1e-9:
        out.append((_rounded(scale), none))
    out.append((1.0, (target - place).mean(axis=0)))
    centred, goal = place - place.mean(axis=0), target - target.mean(axis=0)
    spread = float((centred * centred).sum())
    both = float((centred * goal).sum()) / spread if spread > 1e-18 else 1.0
    if both > 1e-9:
        both = _rounded(both)
        out.append((both, (target - both * place).mean(axis=0)))
    return out


def _rounded(scale: float) -> float:
    """A scale that is a known factor within what single precision leaves of it."""
    return next(
        (known for known in (*_FACTORS, *(1 / f for f in _FACTORS)) if abs(scale / known - 1) < 1e-5), scale
    )


def _known(scale: float) -> bool:
    return any(scale in (f, 1 / f) for f in _FACTORS)


def _scaled_lens(lens: Lens, scale: float) -> Lens:
    return replace(lens, focus_m=lens.focus_m * scale, near_m=lens.near_m * scale, far_m=lens.far_m * scale)


def _named_turn(turn: Floats, convention: Convention) -> tuple[list[Cause], float, Floats]:
    """A turn of the world as turns about the package's axes, what that costs, and the turn itself."""
    own = convention.world @ turn @ convention.world.T
    vector = Rotation.from_matrix(own).as_rotvec(degrees=True)
    angle = float(np.linalg.norm(vector))
    if angle < 1e-3:
        return [], 0.0, np.eye(3)
    cost = HABITS["world_turn"].cost
    axis = int(np.argmax(np.abs(vector)))
    if abs(abs(vector[axis]) - angle) < 1e-3 * max(1.0, angle):
        signed = float(vector[axis])
        right = round(signed / 90) * 90
        value = float(right) if abs(signed - right) < 0.01 else signed
        value = 180.0 if value == -180 else value
        return (
            [("world_turn", {"axis": "XYZ"[axis], "angle_deg": value})],
            cost + (0 if value % 90 == 0 else 0.5),
            turn,
        )
    # Any other turn as three about x, y and z in their order.
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", UserWarning)  # looking straight up: any split of the turn will do
        angles = Rotation.from_matrix(own).as_euler("xyz", degrees=True)
    named: list[Cause] = []
    for a, value in zip("XYZ", angles.tolist(), strict=True):
        value = float(round(value / 90) * 90) if abs(value - round(value / 90) * 90) < 0.01 else value
        if abs(value) > 1e-3:
            named.append(("world_turn", {"axis": a, "angle_deg": value}))
    return named, cost * len(named) + 0.3, turn


def _channels(
    should: Track, seen: Track, convention: Convention, zoom: float, depth: float
) -> Iterator[_Pose]:
    """The package's own numbers under each other's names: positions and angles each for themselves."""
    mine, theirs = (
        convention.position_from_canonical(should.position_m),
        convention.position_from_canonical(seen.position_m),
    )

    def angles(track: Track) -> Floats:
        return angles_from_matrices(
            convention.rotation_from_canonical(track.rotation), convention.order, convention.signs
        ).deg

    ours, others = angles(should), angles(seen)
    names, place_off, turn_off = [], [], []
    for order, signs in product(permutations(range(3)), product((1.0, -1.0), repeat=3)):
        names.append("".join(("+" if s > 0 else "-") + "XYZ"[o] for o, s in zip(order, signs, strict=True)))
        place_off.append(np.abs(mine[:, order] * signs - theirs).max())
        gap = ours[:, order] * signs - others
        turn_off.append(np.abs(gap - 360 * np.round(gap / 360)).max())
    place, turn = names[int(np.argmin(place_off))], names[int(np.argmin(turn_off))]
    plain = "+X+Y+Z"
    for p, t in {(place, turn), (place, plain), (plain, turn)} - {(plain, plain)}:
        params = {"position": p, "rotation": t}
        here = Arriving(should, Image(16, 9), "width", np.zeros((1, 4, 4)), np.zeros((1, 4, 4)))
        moved = HABITS["channels"].arrive(here, params, convention).track
        rough = zoom * (
            np.linalg.norm(moved.rotation - seen.rotation, axis=(1, 2)).max() / np.sqrt(2)
            + np.linalg.norm(moved.position_m - seen.position_m, axis=1).max() / depth
        )
        yield _Pose((("channels", params),), HABITS["channels"].cost, moved, float(rough))


# The lens


def _lenses(
    pose: Track, seen: Track, image: Image, fit: str, convention: Convention
) -> Iterator[tuple[tuple[Cause, ...], Track, float]]:
    """Lens mistakes, alone and with what is dropped beside them, as (causes, camera, cost); simplest first."""
    here = Arriving(pose, image, fit, np.zeros((1, 4, 4)), np.zeros((1, 4, 4)))
    sizes: list[tuple[Cause, ...]] = [()]
    ours, theirs = pose.lens, seen.lens
    view, other = _view(pose, image, fit), _view(seen, image, fit)
    ratio = float(np.median(other / view))
    film = float(np.median(theirs.film_width_mm / ours.film_width_mm))
    if abs(ratio - 1) > 1e-7:
        for code, factor in (("film_factor", film), ("film_factor", ratio), ("focal_factor", 1 / ratio)):
            sizes.append(((code, {"factor": _rounded(factor)}),))
        sizes.append((("vfov_as_hfov", {}),))
        if abs(film - 1) > 1e-6:
            sizes.append((("vfov_as_hfov", {}), ("film_factor", {"factor": _rounded(film)})))
        width, height = float(theirs.film_width_mm[0]), float(theirs.film_height_mm[0])
        if np.ptp(theirs.film_width_mm) < 1e-6:
            sizes.append((("film_default", {"width_mm": round(width, 4), "height_mm": round(height, 4)}),))
    offsets = max(np.abs(ours.offset_x_mm).max(), np.abs(ours.offset_y_mm).max()) > 1e-9
    moves = np.ptp(view) > 1e-12 * view[0]
    drops: list[tuple[Cause, ...]] = [()]
    if offsets:
        drops.append((("no_offsets", {}),))
    if moves:
        drops.append((("no_lens_animation", {}),))
    if offsets and moves:
        drops.append((("no_lens_animation", {}), ("no_offsets", {})))
    tried = set()
    for dropped, sized in product(drops, sizes):
        causes = (*dropped, *sized)
        if str(causes) in tried:
            continue
        tried.add(str(causes))
        made, cost = here, 0.0
        for code, params in causes:
            made = HABITS[code].arrive(made, params, convention)
            cost += HABITS[code].cost + (
                0.6 if code.endswith("_factor") and not _known(params["factor"]) else 0.0
            )
        yield causes, made.track, cost


def _view(track: Track, image: Image, fit: str) -> Floats:
    used = track.lens.used(image, fit)
    return np.asarray(used.width_mm / track.lens.focal_mm)


# The answer


def _on_every_frame(
    found: Explanation,
    meant: Track,
    arrived: Track,
    image: Image,
    fit: str,
    convention: Convention,
    local: Track | None,
) -> Explanation:
    """The explanation held against every frame, with its sentence and the frames it fits."""
    timing = next(
        t
        for t in timings_of(meant, arrived)
        if t.causes == found.causes[: len(t.causes)] and _is_time(t, found)
    )
    seen, should, bare = _aligned(timing, np.arange(len(timing.arrived_at)), meant, arrived, local)
    made = _forward(should, bare, found.causes[len(timing.causes) :], image, fit, convention, seen)
    off = _Apart(seen, image, fit)(made)
    fits = off <= max(0.1, EXPLAINED_PX)
    residual = float(off.max())
    return replace(
        found, sentence=sentence_of(found.causes, meant, residual, float(seen.frames[int(np.argmax(off))])), residual_px=residual,
        frames=_ranges(seen.frames, fits), deviation_px=off,
    )  # fmt: skip


def _is_time(timing: Timing, found: Explanation) -> bool:
    rest = found.causes[len(timing.causes) :]
    return not rest or rest[0][0] not in _TIME_CODES


_TIME_CODES = ("frame_offset", "own_rate", "own_first", "only_first", "first_keys", "no_negative")


def _forward(
    should: Track,
    bare: Track | None,
    causes: tuple[Cause, ...],
    image: Image,
    fit: str,
    convention: Convention,
    seen: Track,
) -> Track:
    """The causes done to the camera meant, one after the other."""
    here = Arriving(should, image, fit, np.zeros((1, 4, 4)), np.zeros((1, 4, 4)))
    for code, params in causes:
        if code == "parents" and bare is not None:
            here = replace(here, track=bare)
        elif code == "twice":
            options = [t for c, _, t in _bases(here.track, None, convention) if c and c[0][0] == "twice"]
            rest = causes[[c for c, _ in causes].index("twice") + 1 :]
            here = replace(
                here,
                track=min(
                    options,
                    key=lambda t: _Apart(seen, image, fit)(
                        _forward(t, None, rest, image, fit, convention, seen)
                    ).max(),
                ),
            )
        else:
            here = HABITS[code].arrive(here, params, convention)
    return here.track


def _ranges(frames: Floats, good: Any) -> tuple[tuple[float, float], ...]:
    """The runs of frames that are good."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], good, [False]]).astype(int)))
    return tuple(
        (float(frames[a]), float(frames[b - 1])) for a, b in zip(edges[::2], edges[1::2], strict=True)
    )


def sentence_of(causes: tuple[Cause, ...], meant: Track, residual_px: float, worst: float) -> str:
    """The causes as one sentence about the package, with what remains."""
    if not causes:
        said = "Nothing happened to it: it is the camera meant"
    else:
        parts = [HABITS[code].says(params) + _aside(code, params, meant) for code, params in causes]
        said = "The package " + (
            ", and ".join(parts) if len(parts) < 3 else ", ".join(parts[:-1]) + ", and " + parts[-1]
        )
    if residual_px <= EXPLAINED_PX:
        return f"{said}; {residual_px:.2g} px remain."
    return f"{said}; up to {residual_px:.3g} px remain, most at frame {plain_frame(worst)}."


def _aside(code: str, params: dict[str, Any], meant: Track) -> str:
    if code == "world_turn" and params["axis"] == "X" and abs(abs(params["angle_deg"]) - 90) < 1e-6:
        return " (as where a file's up axis is ignored)"
    if code == "scale":
        factor = params["factor"]
        words = {100.0: "centimetres for metres", 0.01: "metres for centimetres", 10.0: "millimetres for centimetres", 0.1: "centimetres for millimetres",
                 1000.0: "millimetres for metres", 0.001: "metres for millimetres", 2.54: "inches for centimetres"}  # fmt: skip
        return f" (as where it takes {words[factor]})" if factor in words else ""
    if code == "own_rate":
        return f" of {rate_label(meant.rate)}"
    return ""
