"""A lens's distortion from pictures of a checkerboard or a grid of dots, by OpenCV's calibration.

The camera's own focal length and film back are held to: what is looked for is the distortion alone, on its tangents. Z. Zhang,
A flexible new technique for camera calibration, 2000; the model is Brown's (docs/conventions.md, Distortion).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np

from anaxis.core.camera.distortion.distortion import distortion_from_document
from anaxis.core.camera.distortion.suggested import Suggested
from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.window import Window
from anaxis.core.errors import BadInput
from anaxis.core.typing import Bytes, Floats

KINDS = ("checkerboard", "dots")
_FEWEST, _MOST = 3, 200
# More than this is left over by no lens that the model describes.
_POOR_PX = 1.0


@dataclass(frozen=True)
class Board:
    """``columns`` and ``rows`` are its inner corners, or its dots."""

    kind: str
    columns: int
    rows: int

    def __post_init__(self) -> None:
        if self.kind not in KINDS:
            raise BadInput(f"'{self.kind[:40]}' is not a board: choose one of {', '.join(KINDS)}.")
        if not (_FEWEST <= self.columns <= _MOST and _FEWEST <= self.rows <= _MOST):
            raise BadInput(
                f"A board of {self.columns} x {self.rows} is not possible: count {_FEWEST} to {_MOST} inner corners or dots on each side."
            )


def find_board(grey: Bytes, board: Board, name: str) -> Floats:
    """The board's corners or dots in a picture (h, w), (m, 2) in pixels from the upper left corner. Raises BadInput."""
    size = (board.columns, board.rows)
    if board.kind == "checkerboard":
        done, found = cv2.findChessboardCornersSB(grey, size, flags=cv2.CALIB_CB_EXHAUSTIVE | cv2.CALIB_CB_ACCURACY)
    else:
        done, found = cv2.findCirclesGrid(grey, size, flags=cv2.CALIB_CB_SYMMETRIC_GRID | cv2.CALIB_CB_CLUSTERING)
    if not done or found is None:
        what = "inner corners" if board.kind == "checkerboard" else "dots"
        raise BadInput(
            f"No {board.kind} of {board.columns} x {board.rows} {what} is visible in {Path(name).name}: check the count, and that the whole board is in the picture, sharp and evenly lit."
            ""
        )
    return np.asarray(found, dtype=np.float64).reshape(-1, 2) + 0.5


def calibrated(seen: Sequence[tuple[Floats, tuple[int, int]]], board: Board, plate: Window, image: Image) -> Suggested:
    """The distortion that takes straight boards to the corners ``seen`` (with each picture's size) in pictures of the plate.

    Raises BadInput for pictures of another size.
    """
    for _, size in seen:
        if size != (image.width_px, image.height_px):
            raise BadInput(
                f"The picture of the board is {size[0]} x {size[1]} px and the plate {image.width_px} x {image.height_px}: shoot and crop it like the plate."
                ""
            )
    # In OpenCV's pixels, counted from their middles: x = fx u + cx, y = cy - fy v.
    wide, high = float((plate.right - plate.left)[0]), float((plate.top - plate.bottom)[0])
    fx, fy = image.width_px / wide, image.height_px / high
    cx, cy = -float(plate.left[0]) * fx - 0.5, float(plate.top[0]) * fy - 0.5
    matrix = np.array([[fx, 0, cx], [0, fy, cy], [0, 0, 1]])
    flat = np.stack(
        [*np.meshgrid(np.arange(board.columns), np.arange(board.rows)), np.zeros((board.rows, board.columns))], axis=-1
    )
    space = flat.reshape(-1, 3).astype(np.float32)
    found = [np.asarray(points - 0.5, dtype=np.float32)[:, None] for points, _ in seen]
    flags = (
        cv2.CALIB_USE_INTRINSIC_GUESS | cv2.CALIB_FIX_FOCAL_LENGTH | cv2.CALIB_FIX_PRINCIPAL_POINT
        | (cv2.CALIB_FIX_K3 if len(seen) < 3 else 0)
    )  # fmt: skip
    rms, _, values, turns, shifts = cv2.calibrateCamera(
        [space] * len(seen), found, (image.width_px, image.height_px), matrix.copy(), np.zeros(5), flags=flags
    )
    k1, k2, p1, p2, k3 = (float(v) for v in np.ravel(values)[:5])
    # Its y runs down, ours up.
    document = {"model": "radial-tangential", "k1": k1, "k2": k2, "p1": -p1, "p2": p2, **({"k3": k3} if k3 else {})}
    distortion_from_document(document)
    at, off = [], []
    for points, turn, shift in zip(found, turns, shifts, strict=True):
        back = cv2.projectPoints(space, turn, shift, matrix, values)[0]
        at.append(points.reshape(-1, 2).astype(np.float64) + 0.5)
        off.append(np.linalg.norm(back.reshape(-1, 2) - points.reshape(-1, 2), axis=-1))
    off_px = np.concatenate(off)
    said = [
        f"From {len(seen)} picture{'s' if len(seen) != 1 else ''} of the board: {rms:.3f} px RMS, up to {off_px.max():.3f} px."
    ]
    if rms > _POOR_PX:
        said.append("This is a poor fit: the focal length or film back may differ, or the board is not flat.")
    covered = _covered(np.concatenate(at), image)
    if covered < 0.5:
        said.append(
            f"The boards cover {covered:.0%} of the picture; outside that area the coefficients are a guess. Add images with the board in the corners."
            ""
        )
    return Suggested(document, said, np.concatenate(at), off_px)


def _covered(points: Floats, image: Image) -> float:
    """How much of the picture the points lie in, by the hull about them."""
    hull = cv2.convexHull(points.astype(np.float32))
    return float(cv2.contourArea(hull)) / (image.width_px * image.height_px)
