"""Diagnosis: given the camera meant and the camera that arrived, what happened to it on the way.

A fault is a mistake of time, one of pose, and one of the lens, each possibly none. For every mistake of time
the pose is solved (:mod:`anaxis.diagnosis.pose`), the lens's mistake is sought under the pose found,
and everything is scored by the pixels left over. Fewer and commoner causes come first.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track, on_common_frames
from anaxis.core.number_text import px_text
from anaxis.core.scene.tree import angle_between_deg
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import plain_frame, rate_label
from anaxis.core.typing import Floats, Ints
from anaxis.diagnosis.case import Aligned, Apart, Case, larger, spread
from anaxis.diagnosis.lens import lenses
from anaxis.diagnosis.noise import MAY_BE_NOISE_PX, NO_FLOOR, Floor, is_noise, of_decimals
from anaxis.diagnosis.pose import bases, known, poses
from anaxis.diagnosis.time import Cause, Timing, timings_of
from anaxis.packages.habits import HABITS

# What a camera that went through single precision may still be off, px.
EXPLAINED_PX = 0.05
# By the rough measure of a pose, beyond which it is not worth a look at the lens.
_ROUGH_PX = 50.0
# Steps of the turn that differ by less are the same.
_ALIKE_DEG = 2e-3
# Of fewer frames than these nothing is fitted: only causes without a number of their own are named.
_FEW_FRAMES = 5
# Causes that differ by less are as likely as each other, and both are said.
_AS_LIKELY = 0.25


@dataclass(frozen=True, eq=False)
class Explanation:
    """``causes`` in the order they happened; ``residual_px`` the worst of what they leave, over the frames they cover.

    ``rests_on`` is how many frames that are, ``floor`` what the numbers themselves leave open.
    """

    sentence: str
    causes: tuple[Cause, ...]
    residual_px: float
    cost: float
    frames: tuple[tuple[float, float], ...]
    deviation_px: Floats
    timing: Timing
    rests_on: int = 0
    floor: Floor = NO_FLOOR

    @property
    def explains(self) -> bool:
        return self.residual_px <= max(EXPLAINED_PX, self.floor.px)

    def as_dict(self) -> dict[str, Any]:
        return {
            "sentence": self.sentence,
            "causes": [{"code": code, **params} for code, params in self.causes],
            "residual_px": self.residual_px,
            "frames": [[plain_frame(a), plain_frame(b)] for a, b in self.frames],
            "rests_on": self.rests_on,
            "floor_px": self.floor.px,
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


def diagnose(
    meant: Track,
    arrived: Track,
    image: Image,
    fit: str,
    convention: Convention,
    bare: tuple[Track, ...] = (),
    typed: bool = False,
    lens_said: bool = True,
) -> Diagnosis:
    """What makes ``arrived`` of ``meant``, both canonical; ``convention`` is the package's, for its words.

    ``bare`` are the camera meant without what stands above it, where a file has that; ``typed`` says that a person
    typed some of the frames; ``lens_said`` is False where what arrived says nothing of the lens. Raises nothing a caller must
    catch: where nothing explains the difference, the diagnosis says so.
    """
    case = Case(meant, arrived, image, fit, convention, bare, lens_said)
    floor = NO_FLOOR
    if len(arrived):
        beside, _ = on_common_frames(meant, arrived)
        same = beside if len(beside) == len(arrived) else None
        floor = of_decimals(arrived, convention, case.apart(arrived, same))
    enough = max(EXPLAINED_PX, floor.px)
    found: list[Explanation] = []
    timings = list(timings_of(meant, arrived, typed))
    match = _match_as_they_stand(timings, case, floor)
    if match is not None:
        plain_at, plain = _as_they_stand(case)
        return Diagnosis((match,), True, plain_at, plain)
    # How far the camera turns from sample to sample is the same whatever was done to the world and its axes:
    # mistakes of time that agree in it are looked at first, and the others only where those explain nothing.
    case.draw_for(timings)
    agree = [_turns_alike(case, t, floor) for t in timings]
    for wanted in (True, False):
        for timing in (t for t, alike in zip(timings, agree, strict=True) if alike is wanted):
            done = min((e.cost for e in found if e.residual_px < enough), default=np.inf)
            if timing.cost >= done + _AS_LIKELY:
                break  # whatever comes is dearer
            found += [
                e for e in _explained_by(timing, case, floor) if _affords(e, distinct(arrived, timing.arrived_at))
            ]
        if any(e.residual_px < enough for e in found):
            break
    whole = [_on_every_frame(e, case, floor) for e in _best(found, enough)]
    if not any(e.explains for e in whole):
        # What remains may be no more than noise, which defeats no cause and is no cause of its own.
        noisy = [_on_every_frame(e, case, floor) for e in _quiet(found)]
        whole = [e for e in noisy if e.explains] + whole
    whole.sort(key=_likelihood)
    plain_at, plain = _as_they_stand(case)
    return Diagnosis(tuple(whole[:3]), bool(whole) and whole[0].explains, plain_at, plain)


def free_numbers(causes: tuple[Cause, ...]) -> int:
    """How many numbers of a chain of causes were fitted to what arrived, and are none that packages are known for."""
    count = 0
    for code, params in causes:
        if code == "world_shift":
            count += 3
        elif code == "world_turn":
            count += params["angle_deg"] % 90 != 0
        elif code in ("scale", "film_factor", "focal_factor"):
            count += not known(float(params["factor"]))
    return count


def distinct(track: Track, at: Ints) -> int:
    """How many of a track's samples ``at`` are different ones: frames that show the same are one piece of evidence."""
    lens = np.column_stack([track.lens.focal_mm, track.lens.film_width_mm])
    rows = np.column_stack([track.position_m, track.rotation.reshape(len(track), 9), lens])[at]
    return len(np.unique(np.round(rows, 9), axis=0))


def _affords(found: Explanation, frames: int) -> bool:
    """Whether an explanation has far fewer fitted numbers than frames that differ; of three or four it fits none."""
    free = free_numbers(found.causes)
    return free == 0 if frames < _FEW_FRAMES else 2 * free <= frames


def _explained_by(timing: Timing, case: Case, floor: Floor) -> Iterator[Explanation]:
    """What explains the camera under one mistake of time, on a few of its frames."""
    aligned = case.aligned(timing, spread(len(timing.arrived_at)))
    # What the numbers leave open makes no pose the better one.
    near = max(1.0, 1.5 * floor.px)
    ordered = sorted(poses(case, aligned), key=lambda p: (p.rough > near, p.cost if p.rough <= near else p.rough))
    apart = case.apart(aligned.seen, aligned.should)
    for i, pose in enumerate(ordered[:3]):
        if i and pose.rough > _ROUGH_PX:
            break
        for causes, lensed, cost in lenses(case, pose.track, aligned.seen):
            off = apart(lensed)
            every = (*timing.causes, *pose.causes, *causes)
            yield Explanation(
                "", every, float(off.max()), timing.cost + pose.cost + cost + 0.1 * len(every), (), off, timing
            )
            if pose.rough > _ROUGH_PX:
                break  # no lens makes up for a pose that is wrong


def _turns_alike(case: Case, timing: Timing, floor: Floor) -> bool:
    at = spread(len(timing.arrived_at))
    theirs = case.arrived.rotation[timing.arrived_at[at]]
    mine = case.meant_at(timing.meant_frames[at], timing.straight).rotation
    alike = _ALIKE_DEG if floor.px == 0 else 0.2
    return bool(np.abs(_steps_deg(mine) - _steps_deg(theirs)).max(initial=0.0) < alike)


def _steps_deg(rotation: Floats) -> Floats:
    return angle_between_deg(rotation[:-1], rotation[1:])


def _likelihood(found: Explanation, enough: float = EXPLAINED_PX) -> tuple[bool, float]:
    """Those that explain come before those that do not: the former by cost, the latter by what they leave."""
    leaves = found.residual_px > max(enough, found.floor.px)
    return leaves, found.residual_px if leaves else found.cost


def _best(found: list[Explanation], enough: float) -> list[Explanation]:
    """The cheapest that explain everything, then those that leave least; no two of the same causes."""
    ordered = sorted(found, key=lambda e: _likelihood(e, enough))
    out: list[Explanation] = []
    for one in ordered:
        causes = [str(c) for c in one.causes]
        # The same with something more that does nothing is no other explanation.
        more = any(all(str(c) in causes for c in o.causes) for o in out if o.residual_px <= enough)
        near = not out or one.residual_px <= max(enough, 50 * out[0].residual_px + 1)
        if near and not more and all(one.causes != o.causes for o in out):
            out.append(one)
        if len(out) == 3:
            break
    return out


def _match_as_they_stand(timings: list[Timing], case: Case, floor: Floor) -> Explanation | None:
    """That nothing happened, where each frame of both cameras matches the other's: no cause is cheaper than none, so none is looked
    for."""
    frames = len(case.arrived)
    untouched = (t for t in timings if not t.causes and t.cost == 0 and len(t.arrived_at) == frames == len(case.meant))
    for timing in untouched:
        match = _on_every_frame(Explanation("", (), np.inf, 0.0, (), np.empty(0), timing), case, floor)
        if match.residual_px <= EXPLAINED_PX:
            return match
    return None


def _quiet(found: list[Explanation]) -> list[Explanation]:
    """The cheapest of those that leave so little that it may be noise."""
    return sorted((e for e in found if e.residual_px <= MAY_BE_NOISE_PX), key=lambda e: e.cost)[:4]


def _as_they_stand(case: Case) -> tuple[Floats, Floats]:
    meant, arrived = on_common_frames(case.meant, case.arrived)
    if not len(meant):
        return meant.frames, np.zeros(0)
    return meant.frames, case.apart(meant)(arrived)


def _on_every_frame(found: Explanation, case: Case, floor: Floor) -> Explanation:
    """The explanation held against every frame, with its sentence and the frames it fits."""
    timing = found.timing
    aligned = case.aligned(timing, np.arange(len(timing.arrived_at)))
    seen, apart = aligned.seen, case.apart(aligned.seen, aligned.should)
    fitted = _forward(case, aligned, found.causes[len(timing.causes) :], apart)
    off = apart(fitted)
    residual = float(off.max())
    if max(EXPLAINED_PX, floor.px) < residual and is_noise(fitted, seen, larger(seen, aligned.should), residual):
        floor = Floor(residual, "which is only noise from frame to frame", "with only noise from frame to frame")
    fits = off <= max(0.1, EXPLAINED_PX, floor.px)
    different = distinct(case.arrived, timing.arrived_at)
    said = sentence_of(
        found.causes, case.meant, residual, float(seen.frames[int(np.argmax(off))]), floor, timing, different
    )
    return replace(
        found, sentence=said, residual_px=residual, frames=_ranges(seen.frames, fits), deviation_px=off, rests_on=different, floor=floor,
    )  # fmt: skip


def _forward(case: Case, aligned: Aligned, causes: tuple[Cause, ...], apart: Apart) -> Track:
    """The causes done to the camera meant, one after the other; of one that has several ways, that which leaves least."""
    track = aligned.should
    for i, (code, params) in enumerate(causes):
        if code in ("parents", "twice"):
            ways = [b for c, _, b in bases(case, track, aligned.bare) if c and c[0][0] == code]
            rest = causes[i + 1 :]
            ends = [_forward(case, aligned._replace(should=w), rest, apart) for w in ways]
            return min(ends, key=lambda end: float(apart(end).max()))
        track = HABITS[code].arrive(case.arriving(track), params, case.convention).track
    return track


def _ranges(frames: Floats, good: Any) -> tuple[tuple[float, float], ...]:
    """The runs of frames that are good."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], good, [False]]).astype(int)))
    return tuple((float(frames[a]), float(frames[b - 1])) for a, b in zip(edges[::2], edges[1::2], strict=True))


def sentence_of(
    causes: tuple[Cause, ...], meant: Track, residual_px: float, worst: float, floor: Floor, timing: Timing, count: int
) -> str:
    """The causes as one sentence about the package, with what remains and how many frames it rests on."""
    still = count == 1 < len(timing.arrived_at)
    rests = "from one view, since it is still" if still else f"from {count} frame{'s' * (count != 1)}"
    if not causes and residual_px <= EXPLAINED_PX:
        said = "Pose, lens and frames match the expected camera"
    elif not causes and residual_px <= floor.px:
        return f"Same camera, {floor.said}: up to {residual_px:.2g} px deviation; {rests}."
    elif not causes:
        said = "The closest match is the expected camera"
    else:
        parts = [HABITS[code].says(params) + aside_of(code, params, meant) for code, params in causes]
        said = "The package " + (
            ", and ".join(parts) if len(parts) < 3 else ", ".join(parts[:-1]) + ", and " + parts[-1]
        )
        if timing.straight:
            said += " (with linear interpolation between frames)"
    if residual_px <= EXPLAINED_PX:
        remains = f"{residual_px:.2g}" if residual_px >= 1e-3 else "less than 0.001"
        return f"{said}; {rests}, {remains} px remain."
    if residual_px <= floor.px:
        return f"{said}; {rests}, within {residual_px:.2g} px, {floor.why}."
    return f"{said}; {rests}, up to {px_text(residual_px)} remain, most at frame {plain_frame(worst)}."


def aside_of(code: str, params: dict[str, Any], meant: Track) -> str:
    if code == "world_turn" and params["axis"] == "X" and abs(abs(params["angle_deg"]) - 90) < 1e-6:
        return " (as when the up axis of a file is ignored)"
    if code == "scale":
        factor = params["factor"]
        words = {100.0: "centimetres for metres", 0.01: "metres for centimetres", 10.0: "millimetres for centimetres", 0.1: "centimetres for millimetres",
                 1000.0: "millimetres for metres", 0.001: "metres for millimetres", 2.54: "inches for centimetres"}  # fmt: skip
        return f" (as when it uses {words[factor]})" if factor in words else ""
    if code == "own_rate":
        return f" of {rate_label(meant.rate)}"
    return ""
