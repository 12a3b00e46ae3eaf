"""Causes with numbers of their own, fitted to the placed landmarks: a shift, a scale, a rotation, a factor of the lens."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

import numpy as np
from scipy.spatial.transform import Rotation

from anaxis.core.space.axes import Convention
from anaxis.core.space.rotation import matrices_from_angles
from anaxis.core.typing import Floats
from anaxis.diagnosis.picture.candidates import KNOWN_FACTORS, NATS_A_COST, on_film, prior_of
from anaxis.diagnosis.picture.evidence import Hypothesis, Points, Seen
from anaxis.diagnosis.picture.solve import FoundCamera
from anaxis.diagnosis.pose import FACTORS
from anaxis.diagnosis.time import Cause

# How far a rotation may be beside an axis and still be about that axis.
_TURN_ASIDE_DEG = 3.0
# Free numbers that begin at the camera found and leave more, in standard deviations, are not worth a fit.
_HOPELESS = 60.0


class Free(NamedTuple):
    """A cause with free numbers: how they change the cameras, where they begin, and the range that they may have."""

    codes: tuple[str, ...]
    change: Callable[[Seen, Floats], Seen]
    start: Floats
    span: Floats
    causes: Callable[[Floats], tuple[Cause, ...]]
    prior: float


def scales(plain: Seen) -> Iterator[tuple[tuple[Cause, ...], float, Seen]]:
    for factor in KNOWN_FACTORS:
        causes: tuple[Cause, ...] = (("scale", {"factor": factor}),)
        yield causes, prior_of(causes, 2 * len(FACTORS)), plain._replace(position_m=plain.position_m * factor)


def hopeful(points: Points, plain: Seen, cameras: list[FoundCamera | None], lens: bool = True) -> list[Free]:
    """The mistakes with free numbers that come near what the pictures show where they begin."""
    frees = free_causes(points, plain, cameras, lens)
    if any(c is None for c in cameras):
        return list(frees)

    def near(free: Free) -> bool:
        off = points.residuals(free.change(plain, free.start))
        most = _HOPELESS * points.sigma_px + points.aside_px
        return all(np.median(np.abs(o)) < m for o, m in zip(off, most, strict=True))

    return [f for f in frees if near(f)]


def free_causes(points: Points, plain: Seen, cameras: list[FoundCamera | None], lens: bool = True) -> Iterator[Free]:
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
    yield Free(("world_shift",), shifted, start, span, shift_causes, prior_of((("world_shift", {}),)))

    def scaled(seen: Seen, x: Floats) -> Seen:
        return seen._replace(position_m=seen.position_m * np.exp(x[0]))

    ratio = [
        float(c.position_m @ plain.position_m[s] / max(plain.position_m[s] @ plain.position_m[s], 1e-12))
        for s, c in known
    ]
    begin = float(np.log(np.clip(np.mean(ratio), 1e-4, 1e4))) if known and np.mean(ratio) > 0 else 0.0
    yield Free(
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

        yield Free(
            ("film_factor",), on_other_film, start, span, lambda x: (("film_factor", {"factor": float(np.exp(x[0]))}),),
            prior_of((("film_factor", {}),)) - 0.6 * NATS_A_COST,
        )  # fmt: skip
        if points.has_offsets:  # without offsets a longer lens is the same as a smaller film back

            def zoomed(seen: Seen, x: Floats) -> Seen:
                return seen._replace(intrinsics=seen.intrinsics * [np.exp(-x[0]), np.exp(-x[0]), 1, 1])

            yield Free(
                ("focal_factor",), zoomed, start, span, lambda x: (("focal_factor", {"factor": float(np.exp(-x[0]))}),),
                prior_of((("focal_factor", {}),)) - 0.6 * NATS_A_COST,
            )  # fmt: skip
    for axis in "XYZ":
        angle = _angle_about(axis, plain.rotation[known[0][0]], known[0][1], convention) if known else None
        if angle is not None:

            def turned(seen: Seen, x: Floats, axis: str = axis) -> Seen:
                own = matrices_from_angles(np.full(3, x[0]), axis)[0]
                turn = convention.world.T @ own @ convention.world
                return seen._replace(position_m=seen.position_m @ turn.T, rotation=turn @ seen.rotation)

            yield Free(
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


def turns_about_one(points: Points, rotation: Floats, camera: FoundCamera | None) -> bool:
    """Whether the way from a rotation (3, 3) to the camera found is about one axis of the package."""
    return camera is not None and any(
        _angle_about(axis, rotation, camera, points.case.convention) is not None for axis in "XYZ"
    )


def fitted(
    points: Points, causes: tuple[Cause, ...], prior: float, plain: Seen, frees: list[Free], shown: tuple[float, ...], before: int | None = None
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
    sigma = np.concatenate([np.full(2 * len(p), s) for p, s in zip(points.case.pictures, points.sigma_px, strict=True)])
    for widen in (30.0, 6.0, 1.0, 1.0, 1.0, 1.0):
        off, jacobian = _linear(points, change, x, span)
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


def _linear(points: Points, change: Callable[[Floats], Seen], x: Floats, span: Floats) -> tuple[Floats, Floats]:
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
