"""The cause of what a picture shows: every candidate is compared with the placed landmarks, by its evidence.

The evidence of a candidate is the likelihood of the placed points under it, times its prior, times the share of the range of its
free numbers that the points leave (D. J. C. MacKay, Information Theory, Inference, and Learning Algorithms, 2003, chapter 28). Of
two causes that fit equally well, the one without free numbers has the larger evidence.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import intrinsics_px
from anaxis.core.errors import BadInput
from anaxis.core.scene.tree import angle_between_deg
from anaxis.core.typing import Bools, Floats, Ints
from anaxis.diagnosis.picture.candidates import (
    LensCandidate,
    PoseCandidate,
    TimeCandidate,
    frames_looked_at,
    lenses,
    poses,
    times,
)
from anaxis.diagnosis.picture.evidence import Hypothesis, PictureCase, Points, Seen, log_likelihood_of, project
from anaxis.diagnosis.picture.free_numbers import fitted, free_causes, hopeful, scales, turns_about_one
from anaxis.diagnosis.picture.solve import FEWEST_FREE, FoundCamera, found_camera, usual_sigma_px
from anaxis.diagnosis.picture.views import Views, views_of
from anaxis.diagnosis.time import Cause

# Evidence in nats that a camera of no known cause has against it.
_UNKNOWN_NATS = 6.0
# Explanations of which the best has this share of the probability are named; else the picture does not decide.
DECIDED = 0.95
_TURN_SLACK_DEG, _TURNS_SLACK = 1.0, 4.0
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


@dataclass(frozen=True, eq=False)
class Weighed:
    """Every explanation that is still likely, best first.

    ``cameras`` has the camera of each picture from its landmarks alone, None where they do not determine one. ``sigma_px`` is how
    well the landmarks of each are placed, and ``unknown`` the probability that no known cause explains them.
    """

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


def weighed(case: PictureCase) -> Weighed:
    """Every candidate weighed by what the pictures show. Raises BadInput where no picture has enough landmarks."""
    cameras, sigma = cameras_of(case)
    looked = frames_looked_at(case.meant, [p.frame for p in case.pictures])
    track, bare = case.meant.select_frames(looked), tuple(b.select_frames(looked) for b in case.bare)
    frames = [case.frame_of(p) for p in case.pictures]
    points = Points(
        case, track, [case.marks_m(p, f) for p, f in zip(case.pictures, frames, strict=True)],
        [case.hidden_m(p, f) for p, f in zip(case.pictures, frames, strict=True)], sigma, _size_m(case, cameras),
        np.array([_slack_deg(case, c) for c in cameras]), np.array([_aside_px(case, p.image).max() for p in case.pictures]),
    )  # fmt: skip
    ways = [list(lenses(track, p.image, case.fit)) for p in case.pictures]
    found: list[Hypothesis] = []
    every_time = list(times(case.meant, looked, [p.frame for p in case.pictures]))
    every_pose = list(poses(case.unchanged, track, bare))
    for pose, time in _survivors(points, every_pose, every_time, cameras):
        found += [replace(h, way=pose.way) for h in _extended(points, pose, time, ways, cameras)]
    found.sort(key=lambda h: -h.evidence)
    return _weighed(case, points, found, cameras, sigma)


def likely_cameras(case: PictureCase, frame: float | None, image: Image) -> list[Seen]:
    """Cameras that may have taken a picture at a frame, before anything of it is known: a start for a search by its edges."""
    looked = frames_looked_at(case.meant, [frame])
    track, bare = case.meant.select_frames(looked), tuple(b.select_frames(looked) for b in case.bare)
    near = np.linspace(0, len(looked) - 1, _STARTS).round().astype(int)
    if frame is not None:
        place = int(np.abs(track.frames - frame).argmin())
        near = np.clip(np.arange(place - 3, place + 4), 0, len(looked) - 1)
    here = near[len(near) // 2]
    ways = [w.intrinsics for w in lenses(track, image, case.fit)][: 1 + _LENS_STARTS]
    plain = [Seen(track.position_m[[i]], track.rotation[[i]], way[[i]]) for i in near for way in ways]
    moved = [
        Seen(p.track.position_m[[here]], p.track.rotation[[here]], ways[0][[here]])
        for p in poses(case.unchanged, track, bare)
    ]
    zoomed = [s._replace(intrinsics=s.intrinsics * [f, f, 1, 1]) for s in plain[: len(near)] for f in _ZOOM_STARTS]
    return [*plain, *moved, *zoomed]


def cameras_of(case: PictureCase) -> tuple[list[FoundCamera | None], Floats]:
    """The camera of each picture that allows one, and how well its landmarks are placed."""
    cameras: list[FoundCamera | None] = []
    sigma = []
    for picture in case.pictures:
        usual = usual_sigma_px(picture.image)
        camera = None
        if len(picture) >= FEWEST_FREE:
            try:
                camera = found_camera(case.marks_m(picture, case.frame_of(picture)), picture.px, picture.image)
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
    points: Points, every_pose: list[PoseCandidate], every_time: list[TimeCandidate], cameras: list[FoundCamera | None]
) -> list[tuple[PoseCandidate, TimeCandidate]]:
    """Poses at times whose rotation is that of the cameras found; by their evidence where no camera was found."""
    out: list[tuple[float, PoseCandidate, TimeCandidate]] = []
    known = np.array([(time.at >= 0).all() for time in every_time])
    places = np.array([time.at for time in every_time])
    for pose in every_pose:
        off_deg = [None if c is None else angle_between_deg(pose.track.rotation, c.rotation[None]) for c in cameras]
        hopeless = known & _too_far(points, places, off_deg) if pose.causes else np.zeros(len(known), np.bool_)
        for time in (t for t, none in zip(every_time, hopeless, strict=True) if not none):
            if len(pose.causes) and len(time.causes) + (len(pose.causes) > 0) > 2:
                continue
            out += [
                (pose.prior + time.prior - 0.5 * off, pose, replace(time, at=at))
                for off, at in _with_frames(points, pose, time, off_deg, cameras)
            ]
    out.sort(key=lambda o: -o[0])
    return [(pose, time) for _, pose, time in out[:_MOST_SURVIVORS]]


def _too_far(points: Points, places: Ints, off_deg: list[Floats | None]) -> Bools:
    """Which rows of ``places`` (k, pictures) have a rotation that no camera found can have."""
    far = np.zeros(len(places), np.bool_)
    for s, off in enumerate(off_deg):
        if off is not None:
            far |= off[places[:, s]] > points.slack_deg[s]
    return far


def _with_frames(
    points: Points,
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
    points: Points,
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
            # A turn about one axis by any angle is a cause of its own.
            if pose.causes or far or not turns_about_one(points, pose.track.rotation[at[s]], cameras[s]):
                return None
            continue
        total += float(off[at[s]] / slack) ** 2 * 16
    return total


def _likely_frames(
    points: Points, pose: PoseCandidate, s: int, off_deg: list[Floats | None], cameras: list[FoundCamera | None]
) -> Ints:
    """Of a picture of unknown frame: those whose camera stands and looks most like the one found, whatever its lens."""
    off, camera = off_deg[s], cameras[s]
    assert off is not None and camera is not None
    away = np.linalg.norm(pose.track.position_m - camera.position_m, axis=1) / max(camera.position_within_m, 1e-6)
    turned = off / max(float(points.slack_deg[s]) / 4, 1e-6)
    # A scale or shift changes the position: then only the rotation can be compared.
    both, alone = np.argsort(away**2 + turned**2), np.argsort(turned)
    half = _FRAMES_TRIED // 2
    return np.concatenate([both[: _FRAMES_TRIED - half], alone[:half]])


def _extended(
    points: Points,
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
    scaled = list(scales(plain))
    for more, extra, seen in scaled:
        yield _of(points, (*causes, *more), prior + extra, seen, shown)
    for free in hopeful(points, plain, cameras):
        yield fitted(points, causes, prior, plain, [free], shown)
    if count:
        return
    for lens_causes, lens_prior, with_lens in lens:
        for more, extra, seen in scales(with_lens):
            yield _of(points, (*causes, *more, *lens_causes), prior + lens_prior + extra, seen, shown)
        for free in hopeful(points, with_lens, cameras, lens=False):
            yield fitted(
                points, (*causes, *lens_causes), prior + lens_prior, with_lens, [free], shown, before=len(causes)
            )
    size = [f for f in free_causes(points, plain, cameras) if f.codes[0] in ("film_factor", "focal_factor")]
    for free in free_causes(points, plain, cameras, lens=False):
        for zoom in size:
            yield fitted(points, causes, prior, plain, [free, zoom], shown)
    for more, extra, seen in scaled:
        for free in hopeful(points, seen, cameras):
            if "scale" not in free.codes:
                yield fitted(points, (*causes, *more), prior + extra, seen, [free], shown)


def _lens_ways(ways: list[list[LensCandidate]], at: Ints, plain: Seen) -> list[tuple[tuple[Cause, ...], float, Seen]]:
    """Mistakes of the lens that all pictures may share."""
    out = []
    for k, first in enumerate(ways[0][1:], 1):
        same = [next((w for w in way if w.causes == first.causes), None) for way in ways]
        if all(w is not None for w in same):
            intrinsics = np.stack([w.intrinsics[i] for w, i in zip(same, at, strict=True) if w is not None])
            out.append((ways[0][k].causes, ways[0][k].prior, plain._replace(intrinsics=intrinsics)))
    return out


def _of(points: Points, causes: tuple[Cause, ...], prior: float, seen: Seen, shown: tuple[float, ...]) -> Hypothesis:
    return Hypothesis(causes, prior + points.log_likelihood(seen), np.zeros(0), shown, seen, 0)


def _weighed(
    case: PictureCase, points: Points, found: list[Hypothesis], cameras: list[FoundCamera | None], sigma: Floats
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
                # The same causes and a fitted number that changes nothing are no other explanation.
                no_other = one.free > best.free and {c for c, _ in best.causes} <= {c for c, _ in one.causes}
                groups[at] = (
                    best if no_other else replace(best, alike=(*best.alike, one.causes)),
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


def _codes(found: Hypothesis) -> str:
    """By which two hypotheses are the same: their causes, but for numbers that were fitted."""
    if found.free:
        return str(sorted(code for code, _ in found.causes))
    return str(sorted((code, sorted(params.items())) for code, params in found.causes))


def _unknown_evidence(case: PictureCase, points: Points, cameras: list[FoundCamera | None]) -> float:
    """The evidence of cameras that are anywhere, with any lens: what the known causes must beat."""
    total = -_UNKNOWN_NATS
    for s, picture in enumerate(case.pictures):
        camera = cameras[s]
        if camera is None:  # every point anywhere in the picture
            total += len(picture) * float(np.log(1.0 / (picture.image.width_px * picture.image.height_px)))
            continue
        lens = camera.lens.intrinsics(picture.image)
        off = project(points.marks_m[s], camera.position_m, camera.rotation, lens) - picture.px
        likelihood = log_likelihood_of(off, float(points.sigma_px[s]), picture.image)
        span = np.array([np.pi, np.pi, np.pi, *[points.size_m] * 3, np.log(100.0), *[0.5] * 2, 0.5])[
            : len(camera.covariance)
        ]
        _, logdet = np.linalg.slogdet(camera.covariance / np.outer(span, span))
        occam = -0.5 * logdet - len(span) / 2 * np.log(2 * np.pi)
        total += likelihood - max(0.0, float(occam))
    return total
