"""Reading an ST map, and what it does not say: where its origin lies, and in which direction it goes."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from anaxis.core.bounds import MAX_SIDE_PX
from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats, Singles

_MOST_PX = 120_000_000


@dataclass(frozen=True, eq=False)
class StMap:
    """``st`` is (h, w, 2) from the lower left, rows from the top; ``guesses`` say how what the file does not say was told.

    ``direction`` is "undistort" where each pixel of the undistorted picture fetches in the plate and "distort" where each
    of the plate fetches in the undistorted one; "" where nothing moves.
    """

    st: Floats
    origin: str
    direction: str
    largest_px: float
    guesses: dict[str, str]


def read_st_map(path: Path) -> StMap:
    """Read an .exr; raises BadInput where it is none, or no ST map."""
    red_green, half = _channels(path)
    if not np.isfinite(red_green).all():
        raise BadInput(f"{path.name} has pixels that are not numbers: write the map again.")
    height, width = red_green.shape[:2]
    down = float(red_green[-1, :, 1].mean() - red_green[0, :, 1].mean())
    along = float(red_green[:, -1, 0].mean() - red_green[:, 0, 0].mean())
    if abs(along) < 0.2 or abs(down) < 0.2:
        raise BadInput(
            f"{path.name} is not an ST map: red must increase from left to right and green from edge to edge, by about 1, but they change by"
            f" {along:.3f} and {down:.3f}."
        )
    origin = "upper left" if down > 0 else "lower left"
    st = red_green.astype(np.float64)
    if origin == "upper left":
        st[:, :, 1] = 1.0 - st[:, :, 1]
    guesses = {"origin": f"green {'grows' if down > 0 else 'falls'} from the top to the bottom"}
    if along < 0:
        guesses["mirrored"] = "red falls from left to right"
    if half:
        guesses["precision"] = "the file is in 16-bit floats: it is up to a quarter of a pixel wrong at 2048 pixels"
    x, y = (np.arange(width) + 0.5) / width, 1 - (np.arange(height) + 0.5) / height
    off = np.stack([(st[:, :, 0] - x) * width, (st[:, :, 1] - y[:, None]) * height], axis=-1)
    direction = _direction(st, off, guesses)
    return StMap(st, origin, direction, float(np.linalg.norm(off, axis=-1).max()), guesses)


def read_map_back(path: Path) -> Singles:
    """A map of our own (h, w, 2), in the single precision it was written in, without guesses. Raises BadInput for one that cannot be
    read."""
    return np.asarray(_channels(path)[0])


def _direction(st: Floats, off: Floats, guesses: dict[str, str]) -> str:
    """A render is larger than its plate: its map fetches outside the plate at its edges, the plate's never outside it."""
    if np.abs(off).max() < 1e-3:
        guesses["direction"] = "nothing moves"
        return ""
    outside = float(max((-st).max(), (st - 1).max()))
    if outside > 1e-4:
        guesses["direction"] = f"it reads up to {outside:.1%} outside the picture, like a larger render from its plate"
        return "undistort"
    guesses["direction"] = "it reads no pixels outside the picture, like a plate from its larger render"
    return "distort"


def _channels(path: Path) -> tuple[np.ndarray, bool]:
    import OpenEXR

    try:
        with OpenEXR.File(str(path), header_only=True) as held:
            window = held.header()["dataWindow"]
        width, height = (int(v) for v in np.asarray(window[1]) - np.asarray(window[0]) + 1)
        if not (2 <= width <= MAX_SIDE_PX and 2 <= height <= MAX_SIDE_PX and width * height <= _MOST_PX):
            raise BadInput(f"{path.name} is {width} x {height} px, which is not possible for an ST map.")
        with OpenEXR.File(str(path), separate_channels=True) as held:
            channels = held.channels()
            if not {"R", "G"} <= set(channels):
                raise BadInput(f"{path.name} has no red and green channel: an ST map has both.")
            both = [np.asarray(channels[name].pixels) for name in ("R", "G")]
    except BadInput:
        raise
    except (RuntimeError, ValueError, OSError, KeyError, TypeError) as error:
        raise BadInput(
            f"{path.name} cannot be read as an EXR: it is damaged or another kind of file; write it again."
        ) from error
    if any(b.dtype not in (np.float32, np.float16) or b.ndim != 2 for b in both):
        raise BadInput(f"{path.name}: red and green must be floats; write the map in 32-bit float.")
    return np.stack(both, axis=-1), bool(both[0].dtype == np.float16)
