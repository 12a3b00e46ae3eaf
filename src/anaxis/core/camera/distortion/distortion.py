"""A distortion: a model with its coefficients, static or over the frames; there and back, and where it folds over."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from pydantic_core import core_schema

from anaxis.core.bounds import MAX_FRAMES, MAX_NUMBER
from anaxis.core.camera.distortion import mapped
from anaxis.core.camera.distortion.kind import Bent, DistortionKind, Slopes
from anaxis.core.camera.distortion.mapped import MapBend
from anaxis.core.camera.distortion.models import MODELS, model_of, usual_of
from anaxis.core.errors import BadInput
from anaxis.core.typing import Bools, Floats, Ints

_NEWTON, _EXACT, _STEPS = 60, 1e-13, 48
_ON_THE_WAY = tuple(i / 16 for i in range(1, 17))


@dataclass(frozen=True, eq=False)
class Distortion:
    """``values`` are (n, 1), by name; n is 1 where nothing changes over the frames."""

    kind: DistortionKind
    values: Mapping[str, Floats]

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: Any) -> core_schema.CoreSchema:
        """In a message it stands as its document."""
        stated = core_schema.plain_serializer_function_ser_schema(Distortion.document)
        return core_schema.no_info_plain_validator_function(distortion_from_document, serialization=stated)

    @property
    def frames(self) -> int:
        """How many frames it is given for; 1 where it does not change."""
        return max(len(v) for v in self.values.values())

    def select_frames(self, frames: Ints | slice) -> Distortion:
        """The same on some of its frames."""
        return Distortion(self.kind, {k: v if len(v) == 1 else v[frames] for k, v in self.values.items()})

    def changed(self, change: Callable[[Floats], Floats]) -> Distortion:
        """Every coefficient that changes over the frames, (n,), made into another, (m,)."""
        return Distortion(
            self.kind, {k: v if len(v) == 1 else change(v[:, 0])[:, None] for k, v in self.values.items()}
        )

    def document(self) -> dict[str, Any]:
        """The inverse of :func:`distortion_from_document`; what is left at its usual value is left out."""
        if isinstance(self.kind.bend, MapBend):
            return self.kind.bend.document()
        usual = usual_of(self.kind)
        named = {k: v[:, 0].tolist() for k, v in self.values.items() if not (v == usual[k]).all()}
        return {"model": self.kind.code, **{k: v[0] if len(v) == 1 else v for k, v in named.items()}}

    def bend(self, u: Floats, v: Floats) -> Bent:
        """Tangents of the pinhole picture (n or 1, m) to those of the picture as shot, with the map's derivatives."""
        c = self.values
        squeeze, across, up = c["squeeze"], c["centre_u"], c["centre_v"]
        b = self.kind.bend(c, (u - across) / squeeze, v - up)

        def slopes() -> Slopes:
            s = b.slopes
            return Slopes(s.uu, s.uv * squeeze, s.vu / squeeze, s.vv)

        return Bent(b.u * squeeze + across, b.v + up, slopes)

    def distort(self, points: Floats) -> Floats:
        """Tangents (n or 1, m, 2) of the pinhole picture to those of the picture as shot."""
        b = self.bend(points[..., 0], points[..., 1])
        return np.stack([b.u, b.v], axis=-1)

    def undistort(self, points: Floats, reach: float = 0.0) -> Floats:
        """The inverse of :meth:`distort`, by Newton's iteration; not a number where nothing is seen there.

        The way from the centre outward is followed, so that of several points that come to lie on one another the one
        that the lens shows is found. ``reach`` is how far from the centre, in tangents of the pinhole picture, it is
        known to fold nowhere.
        """
        return self.traced(points, reach)[0]

    def found_from(self, points: Floats, near: Floats) -> tuple[Floats, Bools]:
        """:meth:`undistort` from places ``near`` by, within a reach where nothing folds; which of them were found."""
        with np.errstate(all="ignore"):
            u, v = near[..., 0], near[..., 1]
            b = self.bend(u, v)
            du, dv = _step(b, points[..., 0] - b.u, points[..., 1] - b.v)
            found = np.stack([u + du, v + dv], axis=-1)
            off = np.abs(points - self.distort(found))
        if (off <= _EXACT / 2).all():  # one step is enough from as near as a spline comes
            return found, np.ones(off.shape[:2], dtype=np.bool_)
        return self._newton(points, near, folds=False)

    def traced(self, points: Floats, reach: float = 0.0) -> tuple[Floats, Floats]:
        """:meth:`undistort`, and how far out, in tangents from the centre of the picture as shot, the map folds over on
        the way to each of the points: (n, m), infinite where it does not."""
        count = max(len(points), self.frames)
        wanted = np.broadcast_to(points, (count, *points.shape[1:]))
        centre = self.centre(count)
        out = wanted - centre
        # One step is enough for most: where it leads to a place with a clear way to it, nothing is followed.
        at, good = self._newton(wanted, wanted)
        known = np.linalg.norm(at - centre, axis=-1) <= reach
        if not known.all():
            good &= known | self._clear(centre, at)
        folds = np.full(wanted.shape[:2], np.inf)
        if good.all():
            return at, folds
        followed = np.broadcast_to(centre, wanted.shape).copy()
        fine = np.ones(wanted.shape[:2], dtype=np.bool_)
        for step in range(1, _STEPS + 1):
            share = step / _STEPS
            followed_next, held = self._newton(centre + out * share, followed)
            newly = fine & ~held
            folds[newly] = np.linalg.norm(out[newly], axis=-1) * share
            fine &= held
            followed = np.where(fine[..., None], followed_next, followed)
        return np.where(fine[..., None], followed, np.nan), folds

    def clear_of_folds(self, points: Floats) -> Bools:
        """Which tangents (n or 1, m, 2) of the pinhole picture the lens shows: it folds nowhere on the way to them."""
        count = max(len(points), self.frames)
        wide = np.broadcast_to(points, (count, *points.shape[1:]))
        return self._clear(self.centre(count), wide)

    def _clear(self, centre: Floats, at: Floats) -> Bools:
        """Whether the map folds nowhere on the straight way from the centre to ``at``: behind a fold lies another sheet,
        on which everything may look right again."""
        clear = np.ones(at.shape[:2], dtype=np.bool_)
        with np.errstate(all="ignore"):
            for share in _ON_THE_WAY:
                between = centre + (at - centre) * share
                clear &= self.bend(between[..., 0], between[..., 1]).determinant > 0
        return clear

    def centre(self, count: int) -> Floats:
        both = [np.broadcast_to(self.values[k], (count, 1)) for k in ("centre_u", "centre_v")]
        return np.concatenate(both, axis=1)[:, None, :]

    def _newton(self, wanted: Floats, start: Floats, folds: bool = True) -> tuple[Floats, Bools]:
        """Points that come to lie on ``wanted``, from ``start``; which were found, on the side that is seen if it ``folds``."""
        u, v = start[..., 0], start[..., 1]
        with np.errstate(all="ignore"):
            b = self.bend(u, v)
            off_u, off_v = wanted[..., 0] - b.u, wanted[..., 1] - b.v
            for _ in range(_NEWTON):
                size = np.hypot(off_u, off_v)
                if not (size > _EXACT).any():
                    break
                du, dv = _step(b, off_u, off_v)
                share: Floats | float = 1.0
                for _ in range(12):  # a step that leads further away is halved
                    tried = self.bend(u + share * du, v + share * dv)
                    tried_u, tried_v = wanted[..., 0] - tried.u, wanted[..., 1] - tried.v
                    worse = ~(np.hypot(tried_u, tried_v) < size) & (size > _EXACT)
                    if not worse.any():
                        break
                    share = np.where(worse, share / 2, share)
                better = np.hypot(tried_u, tried_v) < size
                if not (better & (size > _EXACT)).any():
                    break
                if (better | (size <= _EXACT)).all():
                    u, v, b, off_u, off_v = u + share * du, v + share * dv, tried, tried_u, tried_v
                    continue
                u, v = np.where(better, u + share * du, u), np.where(better, v + share * dv, v)
                b = self.bend(u, v)
                off_u, off_v = wanted[..., 0] - b.u, wanted[..., 1] - b.v
            scale = 1 + np.hypot(wanted[..., 0], wanted[..., 1])
            good = np.hypot(off_u, off_v) <= 1e-11 * scale
            if folds:
                good &= b.determinant > 0
        return np.stack([u, v], axis=-1), good


def _step(b: Bent, off_u: Floats, off_v: Floats) -> tuple[Floats, Floats]:
    """Newton's step to where a map that stretches as at ``b`` moves points by so much."""
    s, det = b.slopes, b.determinant
    return (s.vv * off_u - s.uv * off_v) / det, (s.uu * off_v - s.vu * off_u) / det


def distortion_from_document(document: Any, name: str = "the distortion") -> Distortion:
    """A distortion from its document ``{"model": "radial-tangential", "k1": 0.05, ...}``; lists change over the frames.

    Raises BadInput that names the model or coefficient at fault.
    """
    if not isinstance(document, dict) or not isinstance(document.get("model"), str):
        raise BadInput(f'{name} names no model: write "model", one of {", ".join(MODELS)}.')
    if document["model"] == mapped.CODE:
        kind = mapped.map_kind(mapped.map_from_document(document, name))
        return Distortion(kind, {k: np.full((1, 1), v) for k, v in usual_of(kind).items()})
    kind = model_of(document["model"])
    usual = usual_of(kind)
    values = {}
    for key, given in document.items():
        if key == "model":
            continue
        if key not in usual:
            raise BadInput(f"{kind.label} has no coefficient '{key[:40]}': choose one of {', '.join(usual)}.")
        values[key] = _numbers(given, key, name)
    lengths = {len(v) for v in values.values() if len(v) > 1}
    if len(lengths) > 1:
        raise BadInput(
            f"{name}: its lists have {', '.join(map(str, sorted(lengths)))} numbers; all must have the same number of frames."
        )
    if (values.get("squeeze", np.ones((1, 1))) <= 0).any():
        raise BadInput(f"{name}: the squeeze must be above zero.")
    return Distortion(kind, {**{k: np.full((1, 1), v) for k, v in usual.items()}, **values})


def _numbers(given: Any, key: str, name: str) -> Floats:
    many = given if isinstance(given, list) else [given]
    fits = all(isinstance(v, int | float) and not isinstance(v, bool) and abs(v) <= MAX_NUMBER for v in many)
    if not (fits and 0 < len(many) <= MAX_FRAMES):
        raise BadInput(f"{name}: '{key}' must be a number, or a list with one number for each frame.")
    return np.asarray(many, dtype=np.float64)[:, None]
