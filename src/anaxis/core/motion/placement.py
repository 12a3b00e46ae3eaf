"""Placement: a whole camera, its landmarks and set moved, turned and scaled to where another scene has them.

A similarity in canonical space: p' = s Q p + t, R' = Q R; focus, near and far times s (docs/conventions.md, Placement).
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
import scipy

from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.typing import Floats


@dataclass(frozen=True, eq=False)
class Similarity:
    """``scale``, ``turn`` (3, 3) and ``shift_m`` (3,): p' = scale turn p + shift."""

    scale: float
    turn: Floats
    shift_m: Floats

    def __post_init__(self) -> None:
        if not (np.isfinite(self.scale) and 1e-9 < self.scale < 1e9):
            raise BadInput(f"A scale of {self.scale:g} is not possible: it must be above zero.")
        if not (np.isfinite(self.shift_m).all() and np.abs(self.shift_m).max() < 1e12):
            raise BadInput("A move needs three usable numbers.")

    def points(self, points_m: Floats) -> Floats:
        """Points (..., 3) moved."""
        return np.asarray(self.scale * (points_m @ self.turn.T) + self.shift_m)

    def track(self, track: Track) -> Track:
        lens = track.lens
        scaled = {k: getattr(lens, k) * self.scale for k in ("focus_m", "near_m", "far_m")}
        return replace(
            track,
            position_m=self.points(track.position_m),
            rotation=self.turn @ track.rotation,
            lens=replace(lens, **scaled),
        )

    def then(self, after: Similarity) -> Similarity:
        """This one done first, then ``after``."""
        return Similarity(after.scale * self.scale, after.turn @ self.turn, after.points(self.shift_m))

    def inverse(self) -> Similarity:
        return Similarity(1 / self.scale, self.turn.T, -(self.shift_m @ self.turn) / self.scale)

    def rigid(self) -> Similarity:
        """Its turn and shift alone."""
        return replace(self, scale=1.0)

    def landmarks(self, marks: Landmarks) -> Landmarks:
        return replace(marks, position_m=self.points(marks.position_m), size_m=marks.size_m * self.scale)

    def as_params(self) -> dict[str, float]:
        """Plain numbers for a recipe: scale, a quaternion, a shift in metres."""
        x, y, z, w = scipy.spatial.transform.Rotation.from_matrix(self.turn).as_quat().tolist()
        a, b, c = self.shift_m.tolist()
        return {"scale": self.scale, "qx": x, "qy": y, "qz": z, "qw": w, "x_m": a, "y_m": b, "z_m": c}


def no_placement() -> Similarity:
    return Similarity(1.0, np.eye(3), np.zeros(3))


def similarity_of(params: dict[str, float]) -> Similarity:
    """The inverse of :meth:`Similarity.as_params`; raises BadInput for a turn that is none."""
    quaternion = np.array([params[k] for k in ("qx", "qy", "qz", "qw")])
    if not (np.isfinite(quaternion).all() and abs(float(quaternion @ quaternion) - 1) < 1e-3):
        raise BadInput("The rotation is not a unit quaternion: place the camera again.")
    return Similarity(
        params["scale"],
        scipy.spatial.transform.Rotation.from_quat(quaternion).as_matrix(),
        np.array([params[k] for k in ("x_m", "y_m", "z_m")]),
    )


def at_frame(track: Track, at: int, point_m: Floats, heading_deg: float | None) -> Similarity:
    """What stands the sample ``at`` on a point, looking along a heading; the heading stays where it is None.

    A heading is the turn about up, counter-clockwise from above, of the level part of the look from canonical -Z.
    Raises BadInput where the camera looks straight up or down there and has none.
    """
    turn = np.eye(3)
    if heading_deg is not None:
        ahead = -track.rotation[at, :, 2]
        if np.hypot(ahead[0], ahead[2]) < 1e-6:
            raise BadInput(
                "The camera looks straight up or down on that frame and has no heading on this frame: choose another frame."
            )
        turn = scipy.spatial.transform.Rotation.from_euler(
            "y", heading_deg - heading_of_deg(ahead), degrees=True
        ).as_matrix()
    return Similarity(1.0, turn, point_m - turn @ track.position_m[at])


def heading_of_deg(ahead: Floats) -> float:
    return float(np.degrees(np.arctan2(-ahead[0], -ahead[2])))


class Solved(NamedTuple):
    """A similarity from landmark pairs, with what each pair is off by in metres, (k,)."""

    similarity: Similarity
    residual_m: Floats


def from_pairs(ours_m: Floats, theirs_m: Floats, with_scale: bool) -> Solved:
    """The similarity that takes points (k, 3) nearest to others in the least squares (S. Umeyama, 1991).

    Raises BadInput for under three pairs, and for points on one line, which leave a turn open.
    """
    if len(ours_m) < 3:
        raise BadInput(
            f"{len(ours_m)} pair{'s are' if len(ours_m) != 1 else ' is'} not enough to place the camera: three or more are needed."
        )
    if not (np.isfinite(ours_m).all() and np.isfinite(theirs_m).all()):
        raise BadInput("A landmark of the pairs has a position that is not a number: correct it, or remove this pair.")
    a, b = ours_m - ours_m.mean(axis=0), theirs_m - theirs_m.mean(axis=0)
    for points, whose in ((a, "The points here"), (b, "The points there")):
        spread = np.linalg.svd(points, compute_uv=False)
        if spread[1] < 1e-6 * max(spread[0], 1e-12):
            raise BadInput(
                f"{whose} are on one line, so the camera could still rotate about it: add a pair beside the line."
            )
    u, d, vt = np.linalg.svd(b.T @ a)
    sign = np.array([1.0, 1.0, np.sign(np.linalg.det(u) * np.linalg.det(vt)) or 1.0])
    turn = (u * sign) @ vt
    scale = float((d * sign).sum() / (a * a).sum()) if with_scale else 1.0
    if with_scale and not scale > 0:
        raise BadInput("The pairs give a scale of 0 or less: two are swapped, or one side is mirrored.")
    # Four points off one plane and more tell a mirror from a rotation: then the mirrored fit is the one without a rest.
    if d[2] > 1e-6 * d[0] and sign[2] < 0:
        mirrored = (u @ vt) * (float(d.sum() / (a * a).sum()) if with_scale else 1.0)
        left, rest = (np.linalg.norm(a @ m.T - b, axis=1).max() for m in (mirrored, scale * turn))
        if left < 0.2 * rest:
            raise BadInput(
                "The typed points are a mirror image of the landmarks: check the axes and the handedness of the typed numbers."
                ""
            )
    found = Similarity(scale, turn, theirs_m.mean(axis=0) - scale * turn @ ours_m.mean(axis=0))
    return Solved(found, np.linalg.norm(found.points(ours_m) - theirs_m, axis=1))


def near_origin(track: Track) -> Similarity:
    """The whole moved so that the middle of the path stands over the origin; heights stay."""
    low, high = track.position_m.min(axis=0), track.position_m.max(axis=0)
    middle = (low + high) / 2
    return Similarity(1.0, np.eye(3), np.array([-middle[0], 0.0, -middle[2]]))
