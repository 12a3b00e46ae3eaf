"""The cause of what a picture shows: every candidate is held against the placed landmarks, and weighed by its evidence.

The evidence of a candidate is how likely the placed points are under it, times its prior, times how much of what its free
numbers could have been is left by the points (D. J. C. MacKay, Information Theory, Inference, and Learning Algorithms, 2003,
chapter 28): a cause without a free number that fits as well as one with some is the more likely one. A point that was placed
at another landmark is allowed for: each may lie anywhere in the picture, with a small probability.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
from scipy.spatial.transform import Rotation

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import intrinsics_px, projection_of
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.tree import angle_between_deg
from anaxis.core.space.axes import Convention
from anaxis.core.space.rotation import about_axis
from anaxis.core.time.rates import nearest_places
from anaxis.core.typing import Floats, Ints
from anaxis.diagnosis.case import Case
from anaxis.diagnosis.picture.candidates import (
    NATS_A_COST,
    OTHER_FIT,
    LensCandidate,
    PoseCandidate,
    TimeCandidate,
    frames_looked_at,
    lenses,
    on_film,
    poses,
    prior_of,
    times,
)
from anaxis.diagnosis.picture.points import FEWEST, PicturePoints
from anaxis.diagnosis.picture.solve import CLICK_PX, FEWEST_FREE, FoundCamera, found_camera
from anaxis.diagnosis.pose import FACTORS, bases
from anaxis.diagnosis.time import Cause
from anaxis.packages.habits import HABITS

# A placed point is at another landmark, or nowhere, with this probability.
_MISPLACED = 0.01
# Where a hidden landmark would be seen in the picture, it may be behind something.
_HIDDEN_NATS = 0.7
# Evidence in nats that a camera of no known cause has against it.
_UNKNOWN_NATS = 6.0
# Explanations of which the best has this share of the probability are named; else the picture does not decide.
DECIDED = 0.95
_TURN_SLACK_DEG, _TURNS_SLACK, _TURN_ASIDE_DEG = 1.0, 4.0, 3.0
# Where a point behind the camera is said to be seen.
_NOWHERE_PX = 1e7
# Free numbers that begin at the camera found and leave more, in standard deviations, are not worth a fit.
_HOPELESS = 60.0
_MOST_SURVIVORS = 40
_KEPT = 16
# Mistakes of time that are rarer are not looked at together with a turn by any angle.
_FAR_NATS = -7.5
# Points that were found by edges are off together, by about so many times as much as a person is off.
_FOUND_SIGMA = 2.0
_FRAMES_TRIED = 6
# Of a picture without points: frames, lenses and focal lengths that a search by its edges begins from.
_STARTS, _LENS_STARTS, _ZOOM_STARTS = 40, 12, (0.5, 0.7, 0.85, 1.2, 1.5, 2.0)
_HOPELESS_NATS = 30.0
# Frames on which explanations are compared, and below which pixels they show the same.
_VIEWS, _MOST_VIEWS, _SAME_PX = 25, 400, 0.2
# A second picture tells where landmarks are apart by so many times how well they are placed.
_TELLS = 6.0


@dataclass(frozen=True, eq=False)
class PictureCase:
    """A camera as meant, with its landmarks, how its picture is made, and the pictures that a package took of it; ``bare`` is the
    camera without what stands above it."""

    meant: Track
    landmarks: Landmarks
    image: Image
    fit: str
    convention: Convention
    pictures: tuple[PicturePoints, ...]
    bare: tuple[Track, ...] = ()

    def marks_m(self, picture: PicturePoints, frame: float) -> Floats:
        """Where the landmarks of a picture stand at a frame, (m, 3)."""
        return self._marks(picture.marks, frame)

    def hidden_m(self, picture: PicturePoints, frame: float) -> Floats:
        return self._marks(picture.hidden, frame)

    def _marks(self, marks: Ints, frame: float) -> Floats:
        place = self.landmarks.position_m
        at = 0 if len(place) == 1 else int(np.abs(self.meant.frames - frame).argmin())
        return np.asarray(place[at, marks])


class Seen(NamedTuple):
    """Camera poses and lenses of all pictures: positions (s, 3), rotations (s, 3, 3), intrinsics (s, 4)."""

    position_m: Floats
    rotation: Floats
    intrinsics: Floats


@dataclass(frozen=True, eq=False)
class Hypothesis:
    """Causes with what the pictures make of them: ``evidence`` in nats, the pixels that each placed landmark is off, and which
    frames of the shot the pictures show. ``free`` counts the numbers that were fitted; ``alike`` are other causes that make the
    same picture on every frame."""

    causes: tuple[Cause, ...]
    evidence: float
    residual_px: Floats
    shown: tuple[float, ...]
    seen: Seen
    free: int
    way: int = 0
    probability: float = 0.0
    alike: tuple[tuple[Cause, ...], ...] = ()


@dataclass(frozen=True, eq=False)
class Weighed:
    """Every explanation that is still likely, best first; the cameras found by themselves, one for each picture that allows it;
    ``sigma_px`` is how well the landmarks are placed, ``unknown`` the probability that no known cause explains them."""

    hypotheses: tuple[Hypothesis, ...]
    cameras: tuple[FoundCamera | None, ...]
    sigma_px: Floats
    unknown: float

    @property
    def explained(self) -> bool:
        return bool(self.hypotheses) and self.unknown < 1 - DECIDED

    @property
    def decided(self) -> bool:
        return self.explained and self.hypotheses[0].probability >= DECIDED


@dataclass(frozen=True, eq=False)
class _Points:
    """What every hypothesis is held against."""

    case: PictureCase
    track: Track  # on the frames looked at
    marks_m: list[Floats]
    hidden_m: list[Floats]
    sigma_px: Floats
    size_m: float
    slack_deg: Floats  # how far a rotation may be from the camera found, for every picture

    aside_px: Floats  # how far the principal point meant lies from the middle, at most

    @property
    def has_offsets(self) -> bool:
        return bool(self.aside_px.max() > 1e-3)

    def residuals(self, seen: Seen) -> list[Floats]:
        """(m, 2) pixels for every picture."""
        out = []
        for s, picture in enumerate(self.case.pictures):
            px = _project(self.marks_m[s], seen.position_m[s], seen.rotation[s], seen.intrinsics[s])
            out.append(px - picture.px)
        return out

    def log_likelihood(self, seen: Seen) -> float:
        total = 0.0
        for s, (picture, off) in enumerate(zip(self.case.pictures, self.residuals(seen), strict=True)):
            total += _log_likelihood(off, float(self.sigma_px[s]), picture.image)
            if len(self.hidden_m[s]):
                px = _project(self.hidden_m[s], seen.position_m[s], seen.rotation[s], seen.intrinsics[s])
                size = (picture.image.width_px, picture.image.height_px)
                total -= _HIDDEN_NATS * float(np.count_nonzero(((px > 0) & (px < size)).all(axis=1)))
        return total


def _project(points_m: Floats, position_m: Floats, rotation: Floats, intrinsics: Floats) -> Floats:
    local = (points_m - position_m) @ rotation
    depth = -local[:, 2]
    with np.errstate(divide="ignore", invalid="ignore"):
        x = intrinsics[2] + intrinsics[0] * local[:, 0] / depth
        y = intrinsics[3] - intrinsics[1] * local[:, 1] / depth
    px = np.empty((len(points_m), 2))
    px[:, 0], px[:, 1] = x, y
    px[~(depth > 1e-6)] = _NOWHERE_PX
    return px


def _log_likelihood(off: Floats, sigma: float, image: Image) -> float:
    """Of points (m, 2) off by normal errors, or anywhere in the picture."""
    with np.errstate(over="ignore"):
        normal = np.exp(-0.5 * (off**2).sum(axis=1) / sigma**2) / (2 * np.pi * sigma**2)
    anywhere = _MISPLACED / (image.width_px * image.height_px)
    return float(np.log((1 - _MISPLACED) * normal + anywhere).sum())


def weighed(case: PictureCase) -> Weighed:
    """Every candidate weighed by what the pictures show. Raises BadInput where no picture has enough landmarks."""
    cameras, sigma = _cameras(case)
    looked = frames_looked_at(case.meant, [p.frame for p in case.pictures])
    whole = Case(case.meant, case.meant, case.image, case.fit, case.convention, case.bare)
    track, bare = case.meant.select_frames(looked), tuple(b.select_frames(looked) for b in case.bare)
    frames = [case.meant.frames[0] if p.frame is None else p.frame for p in case.pictures]
    points = _Points(
        case, track, [case.marks_m(p, f) for p, f in zip(case.pictures, frames, strict=True)],
        [case.hidden_m(p, f) for p, f in zip(case.pictures, frames, strict=True)], sigma, _size_m(case, cameras),
        np.array([_slack_deg(case, c) for c in cameras]), np.array([_aside_px(case, p.image).max() for p in case.pictures]),
    )  # fmt: skip
    ways = [list(lenses(track, p.image, case.fit)) for p in case.pictures]
    found: list[Hypothesis] = []
    every_time = list(times(case.meant, looked, [p.frame for p in case.pictures]))
    every_pose = list(poses(whole, track, bare))
    for pose, time in _survivors(points, every_pose, every_time, cameras):
        found += [replace(h, way=pose.way) for h in _extended(points, pose, time, ways, cameras)]
    found.sort(key=lambda h: -h.evidence)
    return _weighed(case, points, found, cameras, sigma)


def likely_cameras(case: PictureCase, frame: float | None, image: Image) -> list[Seen]:
    """Cameras that may have taken a picture at a frame, before anything of it is known: a start for a search by its edges."""
    asked = [frame]
    looked = frames_looked_at(case.meant, asked)
    track, bare = case.meant.select_frames(looked), tuple(b.select_frames(looked) for b in case.bare)
    beside = Case(case.meant, case.meant, case.image, case.fit, case.convention, case.bare)
    near = np.linspace(0, len(looked) - 1, _STARTS).round().astype(int)
    if frame is not None:
        place = int(np.abs(track.frames - frame).argmin())
        near = np.clip(np.arange(place - 3, place + 4), 0, len(looked) - 1)
    here = near[len(near) // 2]
    ways = [w.intrinsics for w in lenses(track, image, case.fit)][: 1 + _LENS_STARTS]
    plain = [Seen(track.position_m[[i]], track.rotation[[i]], way[[i]]) for i in near for way in ways]
    moved = [
        Seen(p.track.position_m[[here]], p.track.rotation[[here]], ways[0][[here]]) for p in poses(beside, track, bare)
    ]
    zoomed = [s._replace(intrinsics=s.intrinsics * [f, f, 1, 1]) for s in plain[: len(near)] for f in _ZOOM_STARTS]
    return [*plain, *moved, *zoomed]


def _cameras(case: PictureCase) -> tuple[list[FoundCamera | None], Floats]:
    """The camera of each picture that allows one, and how well its landmarks are placed."""
    cameras: list[FoundCamera | None] = []
    sigma = []
    for picture in case.pictures:
        usual = CLICK_PX * picture.image.height_px / 1080
        frame = case.meant.frames[0] if picture.frame is None else picture.frame
        camera = None
        if len(picture) >= FEWEST_FREE:
            try:
                camera = found_camera(case.marks_m(picture, frame), picture.px, picture.image)
            except BadInput:
                camera = None
        # A landmark at a wrong place spoils the camera, and says nothing of how well the others are placed.
        good = camera is not None and camera.sigma_px < 4 * usual
        own = camera.sigma_px if good and camera is not None else 1.5 * usual
        sigma.append(max(own, _FOUND_SIGMA * usual) if picture.found else own)
        cameras.append(camera if good else None)
    return cameras, np.array(sigma)


def _slack_deg(case: PictureCase, camera: FoundCamera | None) -> float:
    """How far the rotation of a candidate may be from the camera found: what the points leave open, and what a principal point
    beside the middle, which that camera may not have, looks like."""
    if camera is None:
        return 180.0
    aside_deg = np.degrees(np.arctan(_aside_px(case, camera.image) / camera.lens.focal_px)).max()
    return float(max(_TURN_SLACK_DEG, _TURNS_SLACK / 2 * camera.rotation_within_deg) + 1.3 * aside_deg)


def _aside_px(case: PictureCase, image: Image) -> Floats:
    """How far the principal point meant lies from the middle of a picture, (n,)."""
    middle = np.array([image.width_px, image.height_px]) / 2
    return np.linalg.norm(intrinsics_px(case.meant.lens, image, case.fit)[:, 2:] - middle, axis=1)


def _size_m(case: PictureCase, cameras: Sequence[FoundCamera | None]) -> float:
    """Within which a world may have been shifted: some times the distance to the landmarks."""
    marks = np.concatenate([case.marks_m(p, case.meant.frames[0]) for p in case.pictures])
    places = [case.meant.position_m[0], *(c.position_m for c in cameras if c is not None)]
    return float(max(4.0, 4 * max(np.linalg.norm(marks - p, axis=1).max() for p in places)))


def _survivors(
    points: _Points, every_pose: list[PoseCandidate], every_time: list[TimeCandidate], cameras: list[FoundCamera | None]
) -> list[tuple[PoseCandidate, TimeCandidate]]:
    """Poses at times whose rotation is that of the cameras found; by their evidence where no camera was found."""
    out: list[tuple[float, PoseCandidate, TimeCandidate]] = []
    for pose in every_pose:
        off_deg = [None if c is None else angle_between_deg(pose.track.rotation, c.rotation[None]) for c in cameras]
        for time in every_time:
            if len(pose.causes) and len(time.causes) + (len(pose.causes) > 0) > 2:
                continue
            out += [
                (pose.prior + time.prior - 0.5 * off, pose, replace(time, at=at))
                for off, at in _with_frames(points, pose, time, off_deg, cameras)
            ]
    out.sort(key=lambda o: -o[0])
    return [(pose, time) for _, pose, time in out[:_MOST_SURVIVORS]]


def _with_frames(
    points: _Points,
    pose: PoseCandidate,
    time: TimeCandidate,
    off_deg: list[Floats | None],
    cameras: list[FoundCamera | None],
) -> list[tuple[float, Ints]]:
    """How far rotations are off, squared in standard deviations, with the frames of unknown number found: several ways where one
    picture's frame is unknown; none where a rotation cannot be that of the picture."""
    unknown = np.flatnonzero(time.at < 0)
    if any(off_deg[s] is None for s in unknown):
        return []  # nothing tells the frame of a picture with so few landmarks
    likely = {int(s): _likely_frames(points, pose, int(s), off_deg, cameras) for s in unknown}
    count = _FRAMES_TRIED if len(unknown) == 1 else 1
    out: list[tuple[float, Ints]] = []
    for k in range(count):
        at = time.at.copy()
        for s, frames in likely.items():
            at[s] = frames[min(k, len(frames) - 1)]
        total = _rotation_off(points, pose, time, at, off_deg, cameras)
        if total is not None and all(not np.array_equal(at, known) for _, known in out):
            out.append((total, at))
    return out


def _rotation_off(
    points: _Points,
    pose: PoseCandidate,
    time: TimeCandidate,
    at: Ints,
    off_deg: list[Floats | None],
    cameras: list[FoundCamera | None],
) -> float | None:
    total, far = 0.0, time.prior < _FAR_NATS
    for s, off in enumerate(off_deg):
        if off is None:
            continue
        slack = float(points.slack_deg[s])
        if off[at[s]] > slack:
            # A turn about one axis by any angle is looked at by itself.
            if pose.causes or far or not _turns_about_one(points, pose.track.rotation[at[s]], cameras[s]):
                return None
            continue
        total += float(off[at[s]] / slack) ** 2 * 16
    return total


def _likely_frames(
    points: _Points, pose: PoseCandidate, s: int, off_deg: list[Floats | None], cameras: list[FoundCamera | None]
) -> Ints:
    """Of a picture of unknown frame: those whose camera stands and looks most like the one found, whatever its lens."""
    off, camera = off_deg[s], cameras[s]
    assert off is not None and camera is not None
    away = np.linalg.norm(pose.track.position_m - camera.position_m, axis=1) / max(camera.position_within_m, 1e-6)
    turned = off / max(float(points.slack_deg[s]) / 4, 1e-6)
    # What was scaled or shifted stands elsewhere: the rotation alone says as much then.
    both, alone = np.argsort(away**2 + turned**2), np.argsort(turned)
    half = _FRAMES_TRIED // 2
    return np.concatenate([both[: _FRAMES_TRIED - half], alone[:half]])


def _turns_about_one(points: _Points, rotation: Floats, camera: FoundCamera | None) -> bool:
    """Whether the way from a rotation (3, 3) to the camera found is about one axis of the package."""
    return camera is not None and any(
        _angle_about(axis, rotation, camera, points.case.convention) is not None for axis in "XYZ"
    )


# A part of a hypothesis with free numbers: how they change the cameras, where they begin, and within what they may lie.
class _Free(NamedTuple):
    codes: tuple[str, ...]
    change: Callable[[Seen, Floats], Seen]
    start: Floats
    span: Floats
    causes: Callable[[Floats], tuple[Cause, ...]]
    prior: float


def _extended(
    points: _Points,
    pose: PoseCandidate,
    time: TimeCandidate,
    ways: list[list[LensCandidate]],
    cameras: list[FoundCamera | None],
) -> Iterator[Hypothesis]:
    """A pose at a time alone, and with one or two mistakes more, at most two in all."""
    count = (len(pose.causes) > 0) + (len(time.causes) > 0)
    prior = pose.prior + time.prior
    causes = (*time.causes, *pose.causes)
    at = time.at
    plain = Seen(pose.track.position_m[at], pose.track.rotation[at], np.stack([w[0].intrinsics[i] for w, i in zip(ways, at, strict=True)]))  # fmt: skip
    shown = tuple(points.track.frames[at].tolist())
    yield _of(points, causes, prior, plain, shown)
    if count >= 2:
        return
    lens = _lens_ways(ways, at, plain)
    for more, extra, seen in lens:
        yield _of(points, (*causes, *more), prior + extra, seen, shown)
    scaled = list(_scales(plain))
    for more, extra, seen in scaled:
        yield _of(points, (*causes, *more), prior + extra, seen, shown)
    for free in _hopeful(points, plain, cameras):
        yield _fitted(points, causes, prior, plain, [free], shown)
    if count:
        return
    for lens_causes, lens_prior, with_lens in lens:
        for more, extra, seen in _scales(with_lens):
            yield _of(points, (*causes, *more, *lens_causes), prior + lens_prior + extra, seen, shown)
        for free in _hopeful(points, with_lens, cameras, lens=False):
            yield _fitted(
                points, (*causes, *lens_causes), prior + lens_prior, with_lens, [free], shown, before=len(causes)
            )
    size = [f for f in _frees(points, plain, cameras) if f.codes[0] in ("film_factor", "focal_factor")]
    for free in _frees(points, plain, cameras, lens=False):
        for zoom in size:
            yield _fitted(points, causes, prior, plain, [free, zoom], shown)
    for more, extra, seen in scaled:
        for free in _hopeful(points, seen, cameras):
            if "scale" not in free.codes:
                yield _fitted(points, (*causes, *more), prior + extra, seen, [free], shown)


def _lens_ways(ways: list[list[LensCandidate]], at: Ints, plain: Seen) -> list[tuple[tuple[Cause, ...], float, Seen]]:
    """Mistakes of the lens that all pictures may share."""
    out = []
    for k, first in enumerate(ways[0][1:], 1):
        same = [next((w for w in way if w.causes == first.causes), None) for way in ways]
        if all(w is not None for w in same):
            intrinsics = np.stack([w.intrinsics[i] for w, i in zip(same, at, strict=True) if w is not None])
            out.append((ways[0][k].causes, ways[0][k].prior, plain._replace(intrinsics=intrinsics)))
    return out


def _scales(plain: Seen) -> Iterator[tuple[tuple[Cause, ...], float, Seen]]:
    for factor in dict.fromkeys((*FACTORS[1:], *(1 / f for f in FACTORS[1:]))):
        causes: tuple[Cause, ...] = (("scale", {"factor": factor}),)
        yield causes, prior_of(causes, 2 * len(FACTORS)), plain._replace(position_m=plain.position_m * factor)


def _hopeful(points: _Points, plain: Seen, cameras: list[FoundCamera | None], lens: bool = True) -> list[_Free]:
    """The mistakes with free numbers that come near what the pictures show where they begin."""
    frees = _frees(points, plain, cameras, lens)
    if any(c is None for c in cameras):
        return list(frees)

    def near(free: _Free) -> bool:
        off = points.residuals(free.change(plain, free.start))
        most = _HOPELESS * points.sigma_px + points.aside_px
        return all(np.median(np.abs(o)) < m for o, m in zip(off, most, strict=True))

    return [f for f in frees if near(f)]


def _frees(points: _Points, plain: Seen, cameras: list[FoundCamera | None], lens: bool = True) -> Iterator[_Free]:
    """Mistakes with free numbers, begun from the cameras found where there are some."""
    known = [(s, c) for s, c in enumerate(cameras) if c is not None]
    convention = points.case.convention

    def shifted(seen: Seen, x: Floats) -> Seen:
        return seen._replace(position_m=seen.position_m + x)

    def shift_causes(x: Floats) -> tuple[Cause, ...]:
        a, b, c = convention.position_from_canonical(x).tolist()
        return (("world_shift", {"x": a, "y": b, "z": c}),)

    start = np.mean([c.position_m - plain.position_m[s] for s, c in known], axis=0) if known else np.zeros(3)
    span = np.full(3, points.size_m)
    yield _Free(("world_shift",), shifted, start, span, shift_causes, prior_of((("world_shift", {}),)))

    def scaled(seen: Seen, x: Floats) -> Seen:
        return seen._replace(position_m=seen.position_m * np.exp(x[0]))

    ratio = [
        float(c.position_m @ plain.position_m[s] / max(plain.position_m[s] @ plain.position_m[s], 1e-12))
        for s, c in known
    ]
    begin = float(np.log(np.clip(np.mean(ratio), 1e-4, 1e4))) if known and np.mean(ratio) > 0 else 0.0
    yield _Free(
        ("scale",), scaled, np.array([begin]), np.array([np.log(1e6)]),
        lambda x: (("scale", {"factor": float(np.exp(x[0]))}),), prior_of((("scale", {}),)) - 0.6 * NATS_A_COST,
    )  # fmt: skip
    if lens:
        size = [np.log(plain.intrinsics[s, 0] / c.lens.focal_px) for s, c in known]
        start = np.array([float(np.mean(size)) if size else 0.0])
        span = np.array([np.log(100.0)])

        def on_other_film(seen: Seen, x: Floats) -> Seen:
            scaled = [
                on_film(k[None], p.image, float(np.exp(x[0])))[0]
                for k, p in zip(seen.intrinsics, points.case.pictures, strict=True)
            ]
            return seen._replace(intrinsics=np.stack(scaled))

        yield _Free(
            ("film_factor",), on_other_film, start, span, lambda x: (("film_factor", {"factor": float(np.exp(x[0]))}),),
            prior_of((("film_factor", {}),)) - 0.6 * NATS_A_COST,
        )  # fmt: skip
        if points.has_offsets:  # without offsets a longer lens is the same as a smaller film back

            def zoomed(seen: Seen, x: Floats) -> Seen:
                return seen._replace(intrinsics=seen.intrinsics * [np.exp(-x[0]), np.exp(-x[0]), 1, 1])

            yield _Free(
                ("focal_factor",), zoomed, start, span, lambda x: (("focal_factor", {"factor": float(np.exp(-x[0]))}),),
                prior_of((("focal_factor", {}),)) - 0.6 * NATS_A_COST,
            )  # fmt: skip
    for axis in "XYZ":
        angle = _angle_about(axis, plain.rotation[known[0][0]], known[0][1], convention) if known else None
        if angle is not None:

            def turned(seen: Seen, x: Floats, axis: str = axis) -> Seen:
                turn = about_axis(axis, float(x[0]), convention)
                return seen._replace(position_m=seen.position_m @ turn.T, rotation=turn @ seen.rotation)

            yield _Free(
                ("world_turn",), turned, np.array([angle]), np.array([360.0]),
                lambda x, axis=axis: (("world_turn", {"axis": axis, "angle_deg": float(x[0])}),),  # type: ignore[misc]
                prior_of((("world_turn", {}),), 3) - 1.0,
            )  # fmt: skip


def _angle_about(axis: str, rotation: Floats, camera: FoundCamera, convention: Convention) -> float | None:
    """The turn about an axis of the package from a rotation (3, 3) to the camera found; None where it is about another."""
    turn = convention.world @ camera.rotation @ rotation.T @ convention.world.T
    vector = Rotation.from_matrix(turn).as_rotvec(degrees=True)
    at = "XYZ".index(axis)
    aside = float(np.linalg.norm(np.delete(vector, at)))
    return (
        float(vector[at])
        if abs(vector[at]) > 0.05 and aside < _TURN_ASIDE_DEG + 4 * camera.rotation_within_deg
        else None
    )


def _of(points: _Points, causes: tuple[Cause, ...], prior: float, seen: Seen, shown: tuple[float, ...]) -> Hypothesis:
    return Hypothesis(causes, prior + points.log_likelihood(seen), np.zeros(0), shown, seen, 0)


def _fitted(
    points: _Points, causes: tuple[Cause, ...], prior: float, plain: Seen, frees: list[_Free], shown: tuple[float, ...], before: int | None = None
) -> Hypothesis:  # fmt: skip
    """The free numbers that see the landmarks best, by Gauss-Newton with weights that let misplaced ones go."""
    sizes = [len(f.start) for f in frees]
    cuts = np.cumsum(sizes)[:-1]

    def change(x: Floats) -> Seen:
        seen = plain
        for free, part in zip(frees, np.split(x, cuts), strict=True):
            seen = free.change(seen, part)
        return seen

    x = np.concatenate([f.start for f in frees])
    span = np.concatenate([f.span for f in frees])
    best, normal = x, np.eye(len(x))
    best_value = points.log_likelihood(change(x))
    for widen in (30.0, 6.0, 1.0, 1.0, 1.0, 1.0):
        off, jacobian = _linear(points, change, x, span)
        sigma = np.concatenate(
            [np.full(2 * len(p), s) for p, s in zip(points.case.pictures, points.sigma_px, strict=True)]
        )
        pairs = (off.reshape(-1, 2) ** 2).sum(axis=1).repeat(2)
        weight = 1.0 / (1.0 + np.minimum(pairs / (4 * widen * sigma) ** 2, 1e12) ** 2) / sigma**2
        normal = jacobian.T @ (weight[:, None] * jacobian)
        step = -np.linalg.pinv(normal, rcond=1e-12) @ (jacobian.T @ (weight * off))
        if not np.isfinite(step).all():
            break
        x = x + np.clip(step, -span / 8, span / 8)
        value = points.log_likelihood(change(x))
        if value > best_value:
            best, best_value = x, value
            if widen == 1.0 and np.abs(step / span).max() < 1e-7:
                break
    # How much of what the numbers could have been the points leave, in nats.
    sign, logdet = np.linalg.slogdet(normal * np.outer(span, span))
    occam = 0.5 * logdet - len(x) / 2 * np.log(2 * np.pi) if sign > 0 else 0.0
    named: tuple[Cause, ...] = ()
    for free, part in zip(frees, np.split(best, cuts), strict=True):
        named = (*named, *free.causes(part))
    head = len(causes) if before is None else before
    all_causes = (*causes[:head], *named, *causes[head:])
    evidence = prior + sum(f.prior for f in frees) + best_value - max(0.0, float(occam))
    return Hypothesis(all_causes, evidence, np.zeros(0), shown, change(best), len(x))


def _linear(points: _Points, change: Callable[[Floats], Seen], x: Floats, span: Floats) -> tuple[Floats, Floats]:
    off = np.concatenate([r.ravel() for r in points.residuals(change(x))])
    columns = []
    for i in range(len(x)):
        moved = x.copy()
        step = 1e-6 * span[i]
        moved[i] += step
        columns.append((np.concatenate([r.ravel() for r in points.residuals(change(moved))]) - off) / step)
    jacobian = np.stack(columns, axis=1)
    lost = np.abs(off) > 1e6
    jacobian[lost] = 0.0
    return np.where(lost, 0.0, off), jacobian


def _weighed(
    case: PictureCase, points: _Points, found: list[Hypothesis], cameras: list[FoundCamera | None], sigma: Floats
) -> Weighed:
    """Probabilities of the best, those that make the same pictures as one, with what no known cause explains beside them."""
    groups: list[tuple[Hypothesis, float, Views]] = []
    seen: set[str] = set()
    for one in found:
        if len(seen) >= _KEPT or (groups and one.evidence < groups[0][0].evidence - _HOPELESS_NATS):
            break
        if _codes(one) in seen:
            continue
        seen.add(_codes(one))
        views = views_of(case, one)
        for at, (best, evidence, known) in enumerate(groups):
            if known.same_as(views):
                groups[at] = (
                    replace(best, alike=(*best.alike, one.causes)),
                    float(np.logaddexp(evidence, one.evidence)),
                    known,
                )
                break
        else:
            off = [np.linalg.norm(r, axis=1) for r in points.residuals(one.seen)]
            groups.append((replace(one, residual_px=np.concatenate(off)), one.evidence, views))
    every = np.array([evidence for _, evidence, _ in groups] + [_unknown_evidence(case, points, cameras)])
    share = np.exp(every - every.max())
    share /= share.sum()
    order = np.argsort(-share[:-1], kind="stable")
    told = tuple(replace(groups[i][0], probability=float(share[i])) for i in order)
    return Weighed(told, tuple(cameras), sigma, float(share[-1]))


@dataclass(frozen=True, eq=False)
class Views:
    """Where the landmarks of the pictures would be seen on some frames of the shot: ``px`` (n, m, 2), NaN behind the camera."""

    frames: Floats
    px: Floats

    def same_as(self, other: Views) -> bool:
        """Whether no picture of the shot would tell the two apart."""
        both = np.isfinite(self.px).all(axis=2) & np.isfinite(other.px).all(axis=2)
        if not np.array_equal(np.isfinite(self.px), np.isfinite(other.px)) or not both.any():
            return False
        return bool(np.abs(self.px - other.px)[both].max() < _SAME_PX)


def camera_under(case: PictureCase, causes: tuple[Cause, ...], way: int = 0) -> tuple[Track, str]:
    """The camera as a package would show it that did this to it, and the fit of its picture."""
    track, fit = case.meant, case.fit
    beside = Case(case.meant, case.meant, case.image, case.fit, case.convention, case.bare)
    for code, params in causes:
        if code == OTHER_FIT:
            fit = str(params["fit"])
        elif code in ("parents", "twice"):
            track = next(moved for k, (_, _, moved) in enumerate(bases(beside, track, case.bare)) if k == way)
        else:
            track = HABITS[code].arrive(beside.arriving(track), params, case.convention).track
    return track, fit


def views_of(case: PictureCase, found: Hypothesis, most: int = _VIEWS) -> Views:
    """The views of an explanation on up to ``most`` frames of the shot, at the size of the first picture."""
    track, fit = camera_under(case, found.causes, found.way)
    frames = case.meant.frames[
        np.unique(np.linspace(0, len(case.meant) - 1, min(most, len(case.meant))).round().astype(int))
    ]
    shown = track.select_frames(nearest_places(track.frames, frames))
    place = case.landmarks.position_m
    at = np.zeros(len(frames), dtype=int) if len(place) == 1 else nearest_places(case.meant.frames, frames)
    marks = np.unique(np.concatenate([p.marks for p in case.pictures]))
    image = case.pictures[0].image
    px, depth = projection_of(shown, image, fit).project(place[at][:, marks])
    px = np.where((depth > 1e-6)[:, :, None], np.clip(px, -1e5, 1e5), np.nan)
    return Views(frames, px)


class Deciding(NamedTuple):
    """A frame whose picture tells two explanations apart, and by how many pixels a landmark that both show is elsewhere."""

    frame: float
    landmark: str
    apart_px: float


def deciding_frame(case: PictureCase, one: Hypothesis, other: Hypothesis, sigma_px: float) -> Deciding | None:
    """The frame at which a second picture would tell best between two explanations; None where no frame of the shot does."""
    a, b = views_of(case, one, _MOST_VIEWS), views_of(case, other, _MOST_VIEWS)
    image = case.pictures[0].image
    size = np.array([image.width_px, image.height_px])
    inside = [((v.px > 0) & (v.px < size)).all(axis=2) for v in (a, b)]
    both = inside[0] & inside[1]
    apart = np.where(both, np.linalg.norm(np.nan_to_num(a.px) - np.nan_to_num(b.px), axis=2), 0.0)
    # What is placed on the next picture must be in it whichever of the two is right.
    score = np.where(
        both.sum(axis=1) >= FEWEST,
        np.minimum(apart.sum(axis=1) / np.maximum(both.sum(axis=1), 1), image.width_px / 4),
        0.0,
    )
    at = int(np.argmax(score))
    if score[at] < _TELLS * sigma_px:
        return None
    marks = np.unique(np.concatenate([p.marks for p in case.pictures]))
    best = int(np.argmax(apart[at]))
    return Deciding(float(a.frames[at]), case.landmarks.names[int(marks[best])], float(apart[at, best]))


def _codes(found: Hypothesis) -> str:
    """By which two hypotheses are the same: their causes, but for numbers that were fitted."""
    if found.free:
        return str(sorted(code for code, _ in found.causes))
    return str(sorted((code, sorted(params.items())) for code, params in found.causes))


def _unknown_evidence(case: PictureCase, points: _Points, cameras: list[FoundCamera | None]) -> float:
    """The evidence of cameras that are anywhere, with any lens: what the known causes must beat."""
    total = -_UNKNOWN_NATS
    for s, picture in enumerate(case.pictures):
        camera = cameras[s]
        if camera is None:  # every point anywhere in the picture
            total += len(picture) * float(np.log(1.0 / (picture.image.width_px * picture.image.height_px)))
            continue
        lens = np.array(
            [camera.lens.focal_px, camera.lens.focal_px * picture.image.pixel_aspect, *camera.lens.centre_px]
        )
        off = _project(points.marks_m[s], camera.position_m, camera.rotation, lens) - picture.px
        likelihood = _log_likelihood(off, float(points.sigma_px[s]), picture.image)
        span = np.array([np.pi, np.pi, np.pi, *[points.size_m] * 3, np.log(100.0), *[0.5] * 2, 0.5])[
            : len(camera.covariance)
        ]
        _, logdet = np.linalg.slogdet(camera.covariance / np.outer(span, span))
        occam = -0.5 * logdet - len(span) / 2 * np.log(2 * np.pi)
        total += likelihood - max(0.0, float(occam))
    return total
