"""The camera that took a picture, from landmarks whose places are known.

The pose comes from SQPnP (G. Terzakis and M. Lourakis, 2020) by OpenCV, for a row of focal lengths where the lens is not
trusted; then pose, focal length, principal point and distortion are refined together by the Levenberg-Marquardt method, as
many of them as the points allow.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import NamedTuple

import cv2
import numpy as np
from scipy.spatial.transform import Rotation

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import pinhole_matrices
from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats

# With the lens trusted a pose takes four points, with a lens of its own six.
FEWEST_TRUSTED, FEWEST_FREE = 4, 6
_FEWEST_OFFSETS, _FEWEST_DISTORTION = 8, 12
# Half the picture's width over the focal length, for the focal lengths that are tried.
_HALF_VIEWS = np.tan(np.radians([2.5, 4.0, 6.0, 9.0, 13.0, 18.0, 24.0, 31.0, 39.0, 48.0, 58.0, 68.0]))
# A part of the camera that is known less well than this is not free: the points cannot tell it.
_OFFSET_SHARE, _DISTORTION = 0.03, 0.05
_FLAT, _DEEP, _CLUSTERED = 0.02, 0.06, 0.02
# A person places a point about as well as this, in a picture of 1080 lines.
CLICK_PX, _CLICK_LINES, _CLICK_WEIGHT, _LEAST_CLICK = 1.0, 1080, 4.0, 0.7


class Pinhole(NamedTuple):
    """Focal length ``focal_px`` across, principal point from the upper left, and radial distortion ``k1``."""

    focal_px: float
    centre_px: Floats
    k1: float = 0.0

    def intrinsics(self, image: Image) -> Floats:
        """Focal lengths across and down and the principal point in pixels of an image, (4,), without the distortion."""
        return np.array([self.focal_px, self.focal_px * image.pixel_aspect, *self.centre_px])


@dataclass(frozen=True, eq=False)
class FoundCamera:
    """The camera that took a picture: ``position_m`` (3,), ``rotation`` (3, 3) with its right, up and back axes as columns.

    ``free`` names what of the lens was fitted. ``residual_px`` (m,) is how far each landmark lies from where this camera sees it;
    ``covariance`` (k, k) is that of rotation (radians), position (metres) and the free parts, for points that are off
    by ``sigma_px``. ``doubts`` say where the points cannot tell.
    """

    image: Image
    position_m: Floats
    rotation: Floats
    lens: Pinhole
    free: tuple[str, ...]
    residual_px: Floats
    covariance: Floats
    sigma_px: float
    doubts: tuple[str, ...]

    @property
    def hfov_deg(self) -> float:
        return float(2 * np.degrees(np.arctan(self.image.width_px / 2 / self.lens.focal_px)))

    @property
    def rms_px(self) -> float:
        return float(np.sqrt(np.mean(self.residual_px**2)))

    @property
    def position_within_m(self) -> float:
        """Two standard deviations of the position along its worst direction."""
        return float(2 * np.sqrt(np.linalg.eigvalsh(self.covariance[3:6, 3:6]).max()))

    @property
    def rotation_within_deg(self) -> float:
        return float(2 * np.degrees(np.sqrt(np.linalg.eigvalsh(self.covariance[:3, :3]).max())))

    @property
    def hfov_within_deg(self) -> float:
        """Two standard deviations of the horizontal field of view; 0 where the lens is trusted."""
        if "focal" not in self.free:
            return 0.0
        relative = np.sqrt(self.covariance[6, 6])
        half = self.image.width_px / 2 / self.lens.focal_px
        return float(np.degrees(2 * 2 * half / (1 + half * half) * relative))

    @property
    def words(self) -> str:
        """How well it is known, in a sentence."""
        place = self.position_within_m
        said = f"{place * 1000:.1f} mm" if place < 0.01 else f"{place * 100:.1f} cm" if place < 1 else f"{place:.1f} m"
        view = f", field of view within {self.hfov_within_deg:.2g}°" if "focal" in self.free else ""
        return f"Position within {said}, rotation within {self.rotation_within_deg:.2g}°{view}."

    def matrix(self) -> Floats:
        """From world to pixels without the distortion, (3, 4); see :mod:`anaxis.core.camera.projection`."""
        return matrix_of(self.position_m, self.rotation, self.lens, self.image)


def matrix_of(position_m: Floats, rotation: Floats, lens: Pinhole, image: Image) -> Floats:
    """From world to the pixels of an image, without the distortion, (3, 4)."""
    return pinhole_matrices(position_m[None], rotation[None], lens.intrinsics(image)[None])[0]


def found_camera(points_m: Floats, px: Floats, image: Image, trusted: Pinhole | None = None) -> FoundCamera:
    """The camera that sees the points (m, 3) at ``px`` (m, 2) of a picture; ``trusted`` is its lens where that is known.

    Raises BadInput for too few points, and for points that no camera sees so.
    """
    fewest = FEWEST_FREE if trusted is None else FEWEST_TRUSTED
    if len(points_m) < fewest:
        raise BadInput(
            f"The camera of this picture needs {fewest} placed landmarks"
            f"{' while its lens is unknown' if trusted is None else ''}; there are {len(points_m)}."
        )
    middle = points_m.mean(axis=0)
    size = float(np.linalg.norm(points_m - middle, axis=1).max())
    if size < 1e-9:
        raise BadInput("All placed landmarks stand at one point: place others.")
    here = (points_m - middle) / size
    best = _started(here, px, image, trusted)
    if best is None:
        raise BadInput("No camera sees the placed landmarks like this: check that each is at its own place.")
    solved = _levels(best, here, px, image, trusted)
    return _in_world(solved, middle, size, here, px, image)


class _Solved(NamedTuple):
    """A camera of points about the origin: parameters are rotation vector on top of ``rotation``, position, log focal length,
    principal point in widths, k1."""

    rotation: Floats
    values: Floats
    free: tuple[str, ...]
    residual: Floats
    jacobian: Floats


_PARTS = {"focal": [6], "offsets": [7, 8], "distortion": [9]}


def _started(here: Floats, px: Floats, image: Image, trusted: Pinhole | None) -> _Solved | None:
    """The best pose over the focal lengths that are tried."""
    found: list[_Solved] = []
    centre = np.array([image.width_px, image.height_px]) / 2
    lenses = [trusted] if trusted else [Pinhole(image.width_px / 2 / t, centre) for t in _HALF_VIEWS]
    poses = [(lens, *pose) for lens in lenses for pose in _poses(here, px, image, lens)]
    scored = []
    for lens, rotation, position in poses:
        start = _values(position, lens, image)
        residual = _residual(rotation, start, here, px, image)
        scored.append((float(np.median(np.abs(residual))), rotation, start))
    free: tuple[str, ...] = () if trusted else ("focal",)
    for _, rotation, start in sorted(scored, key=lambda s: s[0])[:6]:
        found.append(_refined(rotation, start, free, here, px, image))
    found = [f for f in found if np.isfinite(f.residual).all()]
    return min(found, key=lambda f: float((f.residual**2).sum()), default=None)


def _poses(here: Floats, px: Floats, image: Image, lens: Pinhole) -> list[tuple[Floats, Floats]]:
    """Rotations (3, 3) and positions (3,) by SQPnP; the library's camera looks along +Z with Y down."""
    k = np.array([[lens.focal_px, 0, lens.centre_px[0]], [0, lens.focal_px * image.pixel_aspect, lens.centre_px[1]], [0, 0, 1.0]])  # fmt: skip
    try:
        _, turns, shifts, _ = cv2.solvePnPGeneric(here, px, k, None, flags=cv2.SOLVEPNP_SQPNP)
    except cv2.error:
        return []
    out: list[tuple[Floats, Floats]] = []
    for turn, shift in zip(turns, shifts, strict=True):
        if not (np.isfinite(turn).all() and np.isfinite(shift).all()):
            continue
        r: Floats = np.asarray(cv2.Rodrigues(turn)[0], dtype=np.float64)
        out.append((r.T @ np.diag([1.0, -1.0, -1.0]), np.asarray(-r.T @ shift, dtype=np.float64).ravel()))
    return out


def _values(position: Floats, lens: Pinhole, image: Image) -> Floats:
    shift = (lens.centre_px - np.array([image.width_px, image.height_px]) / 2) / image.width_px
    return np.array([0, 0, 0, *position, np.log(lens.focal_px), *shift, lens.k1])


def _residual(rotation: Floats, values: Floats, here: Floats, px: Floats, image: Image) -> Floats:
    """(m, 2) pixels between where the camera sees the points and where they are."""
    turned = Rotation.from_rotvec(values[:3]).as_matrix() @ rotation
    local = (here - values[3:6]) @ turned
    depth = -local[:, 2:]
    with np.errstate(divide="ignore", invalid="ignore"):
        plane = local[:, :2] / depth
    plane = plane * (1 + values[9] * (plane**2).sum(axis=1, keepdims=True))
    focal = np.exp(min(values[6], 30.0))
    x = image.width_px / 2 + image.width_px * values[7] + focal * plane[:, 0]
    y = image.height_px / 2 + image.width_px * values[8] - focal * image.pixel_aspect * plane[:, 1]
    # Behind the camera nothing is seen; the further behind, the further off, so that a step leads out of it.
    wrong = (depth[:, 0] < 1e-6) * (10.0 * image.width_px * (1 - np.minimum(depth[:, 0], 0)))
    return np.nan_to_num(np.column_stack([x, y]) - px, nan=1e6, posinf=1e6, neginf=-1e6) + wrong[:, None]


def _refined(
    rotation: Floats, values: Floats, free: tuple[str, ...], here: Floats, px: Floats, image: Image
) -> _Solved:
    """Levenberg-Marquardt over the pose and the free parts of the lens."""
    at = [0, 1, 2, 3, 4, 5, *(i for part in free for i in _PARTS[part])]
    damping = 1e-3
    residual = _residual(rotation, values, here, px, image).ravel()
    jacobian = _jacobian(rotation, values, at, here, px, image, residual)
    for _ in range(60):
        normal = jacobian.T @ jacobian
        step = np.linalg.lstsq(normal + damping * np.diag(np.diag(normal) + 1e-12), -jacobian.T @ residual, rcond=None)[
            0
        ]
        tried = values.copy()
        tried[at] += step
        left = _residual(rotation, tried, here, px, image).ravel()
        gain = float((residual**2).sum() - (left**2).sum())
        if gain > 0:
            rotation = Rotation.from_rotvec(tried[:3]).as_matrix() @ rotation
            tried[:3] = 0.0
            values, residual, damping = tried, left, max(damping / 8, 1e-12)
            jacobian = _jacobian(rotation, values, at, here, px, image, residual)
            if gain < 1e-9 * max(1.0, float((left**2).sum())):
                break
        else:
            damping *= 10
            if damping > 1e8:
                break
    return _Solved(rotation, values, free, residual.reshape(-1, 2), jacobian)


def _jacobian(
    rotation: Floats, values: Floats, at: list[int], here: Floats, px: Floats, image: Image, residual: Floats
) -> Floats:
    step = 1e-6
    columns = []
    for i in at:
        moved = values.copy()
        moved[i] += step
        columns.append((_residual(rotation, moved, here, px, image).ravel() - residual) / step)
    return np.stack(columns, axis=1)


def usual_sigma_px(image: Image) -> float:
    """How well a person places a point in a picture of this size."""
    return CLICK_PX * image.height_px / _CLICK_LINES


def sigma_of(residual: Floats, free: int, image: Image) -> float:
    """How well the points are placed, px: from what a camera with ``free`` numbers leaves, and from what people do."""
    usual = usual_sigma_px(image)
    more = max(0, residual.size - free)
    found = float(np.sqrt((_CLICK_WEIGHT * usual**2 + (residual**2).sum()) / (_CLICK_WEIGHT + more)))
    return max(found, _LEAST_CLICK * usual)  # points that were found together are off together


def _levels(best: _Solved, here: Floats, px: Floats, image: Image, trusted: Pinhole | None) -> _Solved:
    """As much of the lens free as the points allow: each part must be told well, and must leave clearly less."""
    if trusted is not None:
        return best
    for part, fewest in (("offsets", _FEWEST_OFFSETS), ("distortion", _FEWEST_DISTORTION)):
        if len(here) < fewest:
            break
        more = _refined(best.rotation, best.values, (*best.free, part), here, px, image)
        sigma = sigma_of(more.residual, more.jacobian.shape[1], image)
        covariance = _covariance(more.jacobian, sigma)
        told = np.sqrt(np.diag(covariance))[-len(_PARTS[part]) :].max()
        limit = _OFFSET_SHARE if part == "offsets" else _DISTORTION
        gain = float((best.residual**2).sum() - (more.residual**2).sum()) / sigma**2
        if told > limit or gain < 12.0 * len(_PARTS[part]):
            continue
        best = more
    return best


def _covariance(jacobian: Floats, sigma: float) -> Floats:
    return np.asarray(sigma**2 * np.linalg.pinv(jacobian.T @ jacobian, rcond=1e-14, hermitian=True))


def _in_world(solved: _Solved, middle: Floats, size: float, here: Floats, px: Floats, image: Image) -> FoundCamera:
    values = solved.values
    sigma = sigma_of(solved.residual, solved.jacobian.shape[1], image)
    covariance = _covariance(solved.jacobian, sigma)
    scale = np.ones(len(covariance))
    scale[3:6] = size
    centre = np.array([image.width_px / 2, image.height_px / 2]) + image.width_px * values[7:9]
    found = FoundCamera(
        image,
        values[3:6] * size + middle,
        solved.rotation,
        Pinhole(float(np.exp(values[6])), centre, float(values[9])),
        solved.free,
        np.linalg.norm(solved.residual, axis=1),
        covariance * scale[:, None] * scale,
        sigma,
        (),
    )
    return replace(found, doubts=tuple(_doubts(found, here * size + middle, px)))


def _doubts(found: FoundCamera, points_m: Floats, px: Floats) -> list[str]:
    """Where the points cannot tell, each with what would help."""
    centred = points_m - points_m.mean(axis=0)
    spreads = np.linalg.svd(centred, compute_uv=False)
    depths = -((points_m - found.position_m) @ found.rotation)[:, 2]
    hull = float(cv2.contourArea(cv2.convexHull(px.astype(np.float32)))) if len(px) > 2 else 0.0
    out = []
    flat = spreads[2] < _FLAT * spreads[0]
    if flat:
        out.append("The placed landmarks lie in one plane: place one in front of or behind it.")
    elif np.ptp(depths) < _DEEP * depths.mean():
        out.append(
            "All placed landmarks are about equally far away, so position and field of view cannot be told apart: place a nearer or farther one."
        )
    if hull < _CLUSTERED * found.image.width_px * found.image.height_px:
        out.append("The placed landmarks cover a small part of the picture: place some near its edges.")
    if "focal" in found.free and found.hfov_within_deg > 5.0:
        out.append("The field of view cannot be told well from these landmarks.")
    return out
