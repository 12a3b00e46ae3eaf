"""What was done to a camera's world and axes: the pose solved in closed form, in the words of the habits list.

With R' = Q R K and p' = s Q p + t the turn K of the camera is tried in all its 24 right angles, Q is then the
mean of R' (R K)^T, and s and t follow by least squares.
"""

from __future__ import annotations

import warnings
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from itertools import permutations, product

import numpy as np
import scipy

from anaxis.core.camera.track import Lens, Track
from anaxis.core.scene.nodes import UP_AXES
from anaxis.core.scene.tree import roll_deg
from anaxis.core.space.axes import ORDERS, Convention
from anaxis.core.space.rotation import angles_from_matrices, camera_turn, matrices_from_angles
from anaxis.core.typing import Floats
from anaxis.diagnosis.case import Aligned, Case
from anaxis.diagnosis.time import Cause
from anaxis.packages.habits import HABITS

# How far from constant a turn may be and still be one turn: a thirtieth of a degree.
_HOLDS = 6e-4
# A camera that rolls by less stands level.
_LEVEL_DEG = 2e-3


@dataclass(frozen=True, eq=False)
class Pose:
    causes: tuple[Cause, ...]
    cost: float
    track: Track
    rough: float


FACTORS = tuple(
    f * s for f in (1.0, 10.0, 100.0, 1000.0, 2.54, 25.4, 254.0, 39.37007874015748, 30.48, 3.048, 12.0) for s in (1.0,)
)


def _right_angles() -> list[Floats]:
    """The 24 turns by right angles, the identity first."""
    found = []
    for order, signs in product(permutations(range(3)), product((1.0, -1.0), repeat=3)):
        m = np.zeros((3, 3))
        m[range(3), order] = signs
        if np.linalg.det(m) > 0:
            found.append(m)
    return sorted(found, key=lambda m: -np.trace(m))


TURNS = np.array(_right_angles())
# Every way in which three channels may be taken for each other, with signs (48, 3), and its name.
_WAYS = list(product(permutations(range(3)), product((1.0, -1.0), repeat=3)))
_TAKEN, _SIGNS = np.array([order for order, _ in _WAYS]), np.array([signs for _, signs in _WAYS])
CHANNELS = [
    "".join(("+" if s > 0 else "-") + "XYZ"[o] for o, s in zip(order, signs, strict=True)) for order, signs in _WAYS
]
LOOKS = {
    camera_turn(look, up).round().astype(int).tobytes(): (look, up)
    for look, up in product(("+X", "-X", "+Y", "-Y", "+Z", "-Z"), repeat=2)
    if look[1] != up[1]
}


def bases(case: Case, should: Track, bare: tuple[Track, ...]) -> Iterator[tuple[tuple[Cause, ...], float, Track]]:
    """The camera meant, and what is left of it after the mistakes that are no similarity."""
    yield (), 0.0, should
    here, convention = case.arriving(should), case.convention
    for axis in "XYZ":
        yield (
            (("mirror", {"axis": axis}),),
            HABITS["mirror"].cost,
            HABITS["mirror"].arrive(here, {"axis": axis}, convention).track,
        )
    for alone in bare:
        yield (("parents", {}),), HABITS["parents"].cost, alone
    # The top transform twice, for a file with its own up axis, and for one in the package's numbers.
    tops = [
        (should.rotation @ between, should.position_m)
        for between in {
            m.tobytes(): m for m in (np.eye(3), UP_AXES["Z"], convention.camera.T @ convention.world)
        }.values()
    ]
    # With parents in the source the topmost of them is what is applied twice: what a camera has more than without it.
    for alone in bare:
        turn = should.rotation @ np.swapaxes(alone.rotation, 1, 2)
        tops.append((turn, should.position_m - (turn @ alone.position_m[:, :, None])[:, :, 0]))
    for turn, shift in tops:
        place = (turn @ should.position_m[:, :, None])[:, :, 0] + shift
        twice = replace(should, position_m=place, rotation=turn @ should.rotation)
        yield (("twice", {}),), HABITS["twice"].cost, twice
    yield (("no_roll", {}),), HABITS["no_roll"].cost, HABITS["no_roll"].arrive(here, {}, convention).track


def _levelled(case: Case, should: Track, bare: tuple[Track, ...]) -> Iterator[tuple[tuple[Cause, ...], float, Track]]:
    """The horizon levelled after something else: a world on its side, another look axis, or what is no similarity.

    What a turn about up, or the camera's own up axis, does besides is gone with the roll, so one of each kind is
    enough.
    """
    level = HABITS["no_roll"]

    def levelled(causes: tuple[Cause, ...], cost: float, track: Track) -> tuple[tuple[Cause, ...], float, Track]:
        made = level.arrive(case.arriving(track), {}, case.convention).track
        return (*causes, ("no_roll", {})), cost + level.cost, made

    for causes, cost, base in bases(case, should, bare):
        if causes and causes[-1][0] != "no_roll":
            yield levelled(causes, cost, base)
    ups, looks = {(0.0, 1.0, 0.0)}, {(0.0, 0.0, 1.0)}
    for turn in TURNS:
        up = tuple(turn[1].tolist())  # what of the world is up afterwards
        if up not in ups:
            ups.add(up)
            named, cost, exact = named_turn(turn, case.convention)
            turned = replace(should, position_m=should.position_m @ exact.T, rotation=exact @ should.rotation)
            yield levelled(tuple(named), cost, turned)
        back = tuple(turn[:, 2].tolist())
        if back not in looks:
            looks.add(back)
            look, up_axis = LOOKS[turn.round().astype(int).tobytes()]
            turned = replace(should, rotation=should.rotation @ turn)
            yield levelled((("look_axis", {"look": look, "up": up_axis}),), HABITS["look_axis"].cost, turned)


def poses(case: Case, aligned: Aligned) -> Iterator[Pose]:
    """What could have been done to the world and the camera's axes, each with what is left by a rough measure."""
    seen, should, bare = aligned
    convention = case.convention
    zoom = float((seen.lens.focal_mm / seen.lens.film_width_mm).max()) * 2000
    # A focus distance that arrived is in the world that arrived; without one a few metres of the world meant are taken.
    focus = float(np.nanmean(seen.lens.focus_m)) if np.isfinite(seen.lens.focus_m).any() else 0.0

    def depth(scale: float) -> float:
        return focus if 1e-6 < focus < 1e4 * max(scale, 1.0) else 5.0 * max(scale, 1e-9)

    for causes, cost, base in bases(case, should, bare):
        yield from _similarities(base, seen, causes, cost, convention, zoom, depth)
    if float(np.abs(roll_deg(seen.rotation)).max()) < _LEVEL_DEG:
        for causes, cost, base in _levelled(case, should, bare):
            yield from _similarities(base, seen, causes, cost, convention, zoom, depth, TURNS[:1])
    yield from _channels(case, should, seen, zoom, depth)
    yield from _orders(case, should, seen, zoom, depth)


def _orders(case: Case, should: Track, seen: Track, zoom: float, depth: Callable[[float], float]) -> Iterator[Pose]:
    """Angles written in one of the six orders and read in another; about moving axes that is the order reversed."""
    convention = case.convention
    mine, theirs = (convention.rotation_from_canonical(track.rotation) for track in (should, seen))
    angles = np.concatenate([angles_from_matrices(mine, written).deg for written in ORDERS])
    found = []
    for read in ORDERS:
        made = matrices_from_angles(angles, read).reshape(len(ORDERS), len(mine), 3, 3)
        worst = _apart(made, theirs).max(axis=1).tolist()
        found += [
            (off, written != convention.order, written, read, turn)
            for off, written, turn in zip(worst, ORDERS, made, strict=True)
            if read != written
        ]
    found.sort(key=lambda f: (round(f[0], 5), f[1], ORDERS.index(f[2]), ORDERS.index(f[3])))
    for _, _, written, read, turned in found[:2]:
        turn = convention.rotation_to_canonical(turned)
        for scale, shift in _scales(should.position_m, seen.position_m):
            moved = replace(should, position_m=scale * should.position_m + shift, rotation=turn)
            more, dearer = _scaled_and_shifted(scale, shift, convention)
            yield Pose(
                (("rotation_order", {"written": written, "read": read}), *more),
                HABITS["rotation_order"].cost + dearer,
                replace(moved, lens=_scaled_lens(moved.lens, scale)),
                _rough(moved, seen, zoom, depth(scale)),
            )


def _rough(moved: Track, seen: Track, zoom: float, depth: float) -> float:
    """About how many pixels one pose is from another, for things at a depth."""
    turned = _apart(moved.rotation, seen.rotation).max()
    return float(zoom * (turned + np.linalg.norm(moved.position_m - seen.position_m, axis=1).max() / depth))


def _scaled_and_shifted(scale: float, shift: Floats, convention: Convention) -> tuple[list[Cause], float]:
    """A scale and a shift of the world as causes, where there are any, and what they cost."""
    causes: list[Cause] = []
    cost = 0.0
    if scale != 1.0:
        causes.append(("scale", {"factor": scale}))
        cost += HABITS["scale"].cost if known(scale) else HABITS["scale"].cost + 0.6
    if shift.any():
        x, y, z = convention.position_from_canonical(shift).tolist()
        causes.append(("world_shift", {"x": x, "y": y, "z": z}))
        cost += HABITS["world_shift"].cost
    return causes, cost


def _similarities(
    base: Track,
    seen: Track,
    causes: tuple[Cause, ...],
    cost: float,
    convention: Convention,
    zoom: float,
    depth: Callable[[float], float],
    turns: Floats = TURNS,
) -> Iterator[Pose]:
    """``turns`` (k, 3, 3) of the camera that are tried; the world's turn, scale and shift follow."""
    # Two frames of a turn that holds differ by twice what it may be off: those that differ by more need no mean.
    between = seen.rotation @ np.swapaxes(base.rotation @ turns[:, None], 2, 3)
    tried = np.arange(len(turns))
    if causes:
        tried = np.flatnonzero(_apart(between, between[:, :1]).max(axis=1) < 2 * _HOLDS)
        if not len(tried):
            return
        between = between[tried]
    u, _, vt = np.linalg.svd(between.mean(axis=1))
    u[:, :, 2] *= np.sign(np.linalg.det(u @ vt))[:, None]
    world = u @ vt
    off = _apart(between, world[:, None]).max(axis=1)
    ordered = np.argsort(off + 1e-6 * np.arange(len(off)))[:4].tolist()
    # A turn that does not hold on every frame is none; of the camera as it was meant the best is still looked at.
    for at in [at for i, at in enumerate(ordered) if off[at] < _HOLDS or (i == 0 and not causes)]:
        k = int(tried[at])
        for turn in _candidates(world[at]):
            named, turn_cost, exact = named_turn(turn, convention)
            place = base.position_m @ exact.T
            for scale, shift in _scales(place, seen.position_m):
                moved = replace(base, position_m=scale * place + shift, rotation=exact @ base.rotation @ TURNS[k])
                out, total = [*causes], cost + turn_cost
                if k:
                    look, up = LOOKS[TURNS[k].round().astype(int).tobytes()]
                    out.append(("look_axis", {"look": look, "up": up}))
                    total += HABITS["look_axis"].cost
                more, dearer = _scaled_and_shifted(scale, shift, convention)
                lens = _scaled_lens(moved.lens, scale)
                yield Pose(
                    (*out, *named, *more),
                    total + dearer,
                    replace(moved, lens=lens),
                    _rough(moved, seen, zoom, depth(scale)),
                )


def _apart(one: Floats, other: Floats) -> Floats:
    """How far rotations (..., 3, 3) are from others, about in radians where that is little."""
    return np.asarray(np.sqrt(np.square(one - other).sum(axis=(-2, -1)) / 2))


def _candidates(turn: Floats) -> list[Floats]:
    """The world's turn as the rotations say it, and the nearest right angle where it is nearly that."""
    nearest = TURNS[int(np.argmax((TURNS * turn).sum(axis=(1, 2))))]
    off = np.abs(nearest - turn).max()
    return [nearest] if off < 2e-4 else [nearest, turn] if off < 3e-3 else [turn]


def _scales(place: Floats, target: Floats) -> list[tuple[float, Floats]]:
    """Scale and shift, simplest first: none, a scale, a shift, both."""
    none = np.zeros(3)
    size = float((place * place).sum())
    out = [(1.0, none)]
    scale = float((place * target).sum()) / size if size > 1e-18 else 1.0
    if scale > 1e-9:
        out += [(s, none) for s in _nearly(scale)]
    shift = (target - place).mean(axis=0)
    if _stands_out(shift, target - place - shift, 1.0):
        out.append((1.0, shift))
    centred, goal = place - place.mean(axis=0), target - target.mean(axis=0)
    spread = float((centred * centred).sum())
    both = float((centred * goal).sum()) / spread if spread > 1e-18 else 1.0
    if both > 1e-9:
        # How well the shift is known beside a scale that was fitted too.
        lever = 1.0 + len(place) * float((place.mean(axis=0) ** 2).sum()) / max(spread, 1e-18)
        for s in _nearly(both):
            shift = (target - s * place).mean(axis=0)
            if _stands_out(shift, target - s * place - shift, lever):
                out.append((s, shift))
    return out


def _stands_out(shift: Floats, left: Floats, lever: float) -> bool:
    """Whether a fitted shift is more than the noise ``left`` (n, 3) makes of none: four standard errors."""
    error = np.sqrt((left * left).sum() / max(len(left) - 1, 1) / len(left) * lever)
    return bool(np.linalg.norm(shift) > 4 * error)


def _nearly(scale: float) -> list[float]:
    """The known factor that noise may hide, and the scale as it was measured."""
    near = next((k for k in (*FACTORS, *(1 / f for f in FACTORS)) if abs(scale / k - 1) < 3e-3), None)
    exact = rounded(scale)
    return [exact] if near is None or near == exact else [near, exact]


def rounded(scale: float) -> float:
    """A scale that is a known factor within what single precision leaves of it."""
    return next((known for known in (*FACTORS, *(1 / f for f in FACTORS)) if abs(scale / known - 1) < 1e-5), scale)


def known(scale: float) -> bool:
    return any(scale in (f, 1 / f) for f in FACTORS)


def _scaled_lens(lens: Lens, scale: float) -> Lens:
    return replace(lens, focus_m=lens.focus_m * scale, near_m=lens.near_m * scale, far_m=lens.far_m * scale)


def named_turn(turn: Floats, convention: Convention) -> tuple[list[Cause], float, Floats]:
    """A turn of the world as turns about the package's axes, what that costs, and the turn itself."""
    own = convention.world @ turn @ convention.world.T
    vector = scipy.spatial.transform.Rotation.from_matrix(own).as_rotvec(degrees=True)
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
        angles = scipy.spatial.transform.Rotation.from_matrix(own).as_euler("xyz", degrees=True)
    named: list[Cause] = []
    for a, value in zip("XYZ", angles.tolist(), strict=True):
        value = float(round(value / 90) * 90) if abs(value - round(value / 90) * 90) < 0.01 else value
        if abs(value) > 1e-3:
            named.append(("world_turn", {"axis": a, "angle_deg": value}))
    return named, cost * len(named) + 0.3, turn


def _channels(case: Case, should: Track, seen: Track, zoom: float, depth: Callable[[float], float]) -> Iterator[Pose]:
    """The package's own numbers under each other's names: positions and angles each for themselves."""
    convention = case.convention
    mine, theirs = (
        convention.position_from_canonical(should.position_m),
        convention.position_from_canonical(seen.position_m),
    )

    def angles(track: Track) -> Floats:
        return angles_from_matrices(
            convention.rotation_from_canonical(track.rotation), convention.order, convention.signs
        ).deg

    place_gap = mine[:, _TAKEN] * _SIGNS - theirs[:, None]
    turn_gap = angles(should)[:, _TAKEN] * _SIGNS - angles(seen)[:, None]
    turn_gap -= 360 * np.round(turn_gap / 360)
    place, turn = (CHANNELS[int(np.argmin(np.abs(gap).max(axis=(0, 2))))] for gap in (place_gap, turn_gap))
    plain = "+X+Y+Z"
    for p, t in {(place, turn), (place, plain), (plain, turn)} - {(plain, plain)}:
        params = {"position": p, "rotation": t}
        here = case.arriving(should)
        moved = HABITS["channels"].arrive(here, params, convention).track
        rough = _rough(moved, seen, zoom, depth(1.0))
        yield Pose((("channels", params),), HABITS["channels"].cost, moved, rough)
