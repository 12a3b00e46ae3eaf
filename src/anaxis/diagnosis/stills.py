"""Two pictures of the same frame, one from each side: read, and the shift, scale and turn between them measured.

Turn and scale come from the spectra in log-polar coordinates and the shift by phase correlation (B. S. Reddy and
B. N. Chatterji, 1996); all four are then refined on the pictures themselves by the enhanced correlation
coefficient (G. D. Evangelidis and E. Z. Psarakis, 2008), both by OpenCV.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats

SUFFIXES = (".png", ".jpg", ".jpeg", ".exr")
MAX_SIDE_PX = 8192
# The side at which turn and scale are looked for; the rest is done at full size up to this many pixels.
_LOOK_PX, _REFINE_PX = 512, 1600
_COARSE_PX, _NOTHING_ALIKE = 480, 0.25
# Of the correlation; two pictures that have nothing to do with each other are found to have a third.
_TOO_LITTLE = 0.45


@dataclass(frozen=True)
class Between:
    """What takes a point of the first picture to the second, about the picture's middle.

    ``shift_px`` right and down, ``scale``, ``turn_deg`` clockwise as seen; ``alike`` is the correlation left, 0 to 1.
    """

    shift_x_px: float
    shift_y_px: float
    scale: float
    turn_deg: float
    alike: float

    def apart_px(self, width_px: float, height_px: float) -> float:
        """How far a corner of the picture is moved at most."""
        corner = np.hypot(width_px, height_px) / 2
        return float(
            np.hypot(self.shift_x_px, self.shift_y_px) + corner * (abs(self.scale - 1) + np.radians(abs(self.turn_deg)))
        )

    @property
    def sentence(self) -> str:
        if self.alike < _TOO_LITTLE:
            return "The two stills are too different to measure: check that they show the same frame."
        parts = []
        if np.hypot(self.shift_x_px, self.shift_y_px) > 0.05:
            sides = ("right" if self.shift_x_px > 0 else "left", "down" if self.shift_y_px > 0 else "up")
            parts.append(
                f"shifted {abs(self.shift_x_px):.2f} px {sides[0]} and {abs(self.shift_y_px):.2f} px {sides[1]}"
            )
        if abs(self.scale - 1) > 2e-4:
            parts.append(f"{'larger' if self.scale > 1 else 'smaller'} by {abs(self.scale - 1):.2%}")
        if abs(self.turn_deg) > 0.02:
            parts.append(
                f"rotated {abs(self.turn_deg):.2f}° {'clockwise' if self.turn_deg > 0 else 'counter-clockwise'}"
            )
        return f"The returned still is {', '.join(parts)}." if parts else "Both stills match."


def read_picture(path: Path) -> NDArray[np.uint8]:
    """A PNG, JPEG or EXR as 8-bit blue, green, red (h, w, 3), as a display shows it. Raises BadInput."""
    suffix = path.suffix.lower()
    if suffix not in SUFFIXES:
        raise BadInput(f"{path.name} is not a readable image: use one of {', '.join(SUFFIXES)}.")
    if suffix == ".exr":
        return _exr(path)
    found = cv2.imdecode(np.frombuffer(path.read_bytes(), np.uint8), cv2.IMREAD_COLOR)
    if found is None:
        raise BadInput(f"{path.name} is not a readable image: it is damaged or another kind of file. Render it again.")
    return _within(np.asarray(found, dtype=np.uint8), path.name)


def _within(picture: NDArray[np.uint8], name: str) -> NDArray[np.uint8]:
    if max(picture.shape[:2]) > MAX_SIDE_PX:
        raise BadInput(
            f"{name} is {picture.shape[1]} x {picture.shape[0]} px; at most {MAX_SIDE_PX} px on each side are possible."
        )
    return picture


def _exr(path: Path) -> NDArray[np.uint8]:
    """Linear light to what a display shows: the sRGB curve, clipped."""
    import OpenEXR

    try:
        with OpenEXR.File(str(path)) as held:
            channels = held.channels()
            name = next((n for n in ("RGB", "RGBA", "Y", "R") if n in channels), None) or next(iter(channels))
            pixels = np.asarray(channels[name].pixels, dtype=np.float32)
    except (RuntimeError, ValueError, OSError, StopIteration) as error:
        raise BadInput(f"{path.name} cannot be read as an EXR: it is damaged; render it again.") from error
    if pixels.ndim == 2:
        pixels = np.repeat(pixels[:, :, None], 3, axis=2)
    light = np.clip(np.nan_to_num(pixels[:, :, :3]), 0, 1)
    shown = np.where(light <= 0.0031308, 12.92 * light, 1.055 * np.power(light, 1 / 2.4) - 0.055)
    return _within(np.ascontiguousarray((shown[:, :, ::-1] * 255 + 0.5).astype(np.uint8)), path.name)


def read_png(data: bytes) -> NDArray[np.uint8]:
    """A PNG of ours as blue, green, red (h, w, 3)."""
    return np.asarray(cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_COLOR), dtype=np.uint8)


def to_png(picture: NDArray[np.uint8]) -> bytes:
    done, data = cv2.imencode(".png", picture)
    assert done
    return bytes(data.tobytes())


def measure(ours: NDArray[np.uint8], theirs: NDArray[np.uint8]) -> Between:
    """Shift, scale and turn from one picture to another; the second is first brought to the first one's size."""
    height, width = ours.shape[:2]
    if theirs.shape[:2] != (height, width):
        theirs = np.asarray(cv2.resize(theirs, (width, height), interpolation=cv2.INTER_AREA), dtype=np.uint8)
    small = min(1.0, _REFINE_PX / max(height, width))
    a, b = (_edges(p, small) for p in (ours, theirs))
    turn_deg, scale = _turn_and_scale(a, b)
    # The spectrum does not tell a turn from one by 180 degrees more, and an unturned guess costs little.
    guesses = [_coarse(a, b, *guess) for guess in ((turn_deg, scale), (0.0, 1.0))]
    best = _refined(a, b, *max(guesses, key=lambda guess: guess[0]))
    return Between(best.shift_x_px / small, best.shift_y_px / small, best.scale, best.turn_deg, best.alike)


def _edges(picture: NDArray[np.uint8], small: float) -> NDArray[np.float32]:
    """Grey, smaller, blurred a little, in 0 to 1."""
    grey = cv2.cvtColor(picture, cv2.COLOR_BGR2GRAY)
    if small < 1:
        grey = cv2.resize(grey, None, fx=small, fy=small, interpolation=cv2.INTER_AREA)
    return np.asarray(cv2.GaussianBlur(grey.astype(np.float32) / 255, (0, 0), 1.2), dtype=np.float32)


def _turn_and_scale(a: NDArray[np.float32], b: NDArray[np.float32]) -> tuple[float, float]:
    size = min(_LOOK_PX, *a.shape)
    square = [cv2.resize(_middle(p), (size, size), interpolation=cv2.INTER_AREA) for p in (a, b)]
    window = cv2.createHanningWindow((size, size), cv2.CV_32F)
    polar = []
    for p in square:
        spectrum = np.log1p(np.abs(np.fft.fftshift(np.fft.fft2((p - p.mean()) * window)))).astype(np.float32)
        polar.append(cv2.warpPolar(spectrum, (size, size), (size / 2, size / 2), size / 2, cv2.WARP_POLAR_LOG))
    along, around = _correlated(*(np.asarray(p, dtype=np.float32) for p in polar))
    turn = around * 360 / size
    turn = (turn + 90) % 180 - 90
    return float(turn), float(np.clip(np.exp(-along * np.log(size / 2) / size), 0.25, 4.0))


def _correlated(a: NDArray[np.float32], b: NDArray[np.float32]) -> tuple[float, float]:
    """The shift from a to b by phase correlation. Copies go in: the library windows its inputs in place."""
    h, w = a.shape
    (x, y), _ = cv2.phaseCorrelate(a.copy(), b.copy(), cv2.createHanningWindow((w, h), cv2.CV_32F))
    return float(x), float(y)


def _middle(picture: NDArray[np.float32]) -> NDArray[np.float32]:
    """The largest square about the middle: a spectrum squeezed by the picture's proportions would turn unevenly."""
    h, w = picture.shape
    side = min(h, w)
    y, x = (h - side) // 2, (w - side) // 2
    return picture[y : y + side, x : x + side]


def _coarse(
    a: NDArray[np.float32], b: NDArray[np.float32], turn_deg: float, scale: float
) -> tuple[float, NDArray[np.float32] | None]:
    """From a guess of turn and scale: the shift by phase correlation, then all of it by the pictures made smaller, which
    tell two that have nothing in common in a moment. How alike they become, and the warp."""
    h, w = a.shape
    middle = np.array([(w - 1) / 2, (h - 1) / 2])
    linear = _linear(turn_deg, scale)
    warp = np.hstack([linear, (middle - linear @ middle)[:, None]]).astype(np.float32)
    undone = cv2.warpAffine(b, warp, (w, h), flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP)
    dx, dy = _correlated(a, np.asarray(undone, dtype=np.float32))
    warp[:, 2] += (linear @ np.array([dx, dy])).astype(np.float32)
    small = min(1.0, _COARSE_PX / max(h, w))
    less = [
        np.asarray(cv2.resize(p, None, fx=small, fy=small, interpolation=cv2.INTER_AREA), dtype=np.float32)
        for p in (a, b)
    ]
    alike, found = _aligned(less[0], less[1], _scaled(warp, small), 200)
    return alike, None if found is None else _scaled(found, 1 / small)


def _refined(
    a: NDArray[np.float32], b: NDArray[np.float32], alike: float, coarse: NDArray[np.float32] | None
) -> Between:
    """All of it by the pictures themselves, from a warp that is about right."""
    if coarse is None or alike < _NOTHING_ALIKE:
        return Between(0.0, 0.0, 1.0, 0.0, max(0.0, alike))
    alike, fine = _aligned(a, b, coarse, 60)
    if fine is None:
        return Between(0.0, 0.0, 1.0, 0.0, 0.0)
    middle = np.array([(a.shape[1] - 1) / 2, (a.shape[0] - 1) / 2])
    found: Floats = np.asarray(fine, dtype=np.float64)
    shift = found[:, :2] @ middle + found[:, 2] - middle
    u, d, vt = np.linalg.svd(found[:, :2])
    turn = u @ vt
    return Between(
        float(shift[0]),
        float(shift[1]),
        float(np.sqrt(d[0] * d[1])),
        float(np.degrees(np.arctan2(turn[1, 0], turn[0, 0]))),
        float(max(0.0, alike)),
    )


def _aligned(
    a: NDArray[np.float32], b: NDArray[np.float32], warp: NDArray[np.float32], rounds: int
) -> tuple[float, NDArray[np.float32] | None]:
    """How alike two pictures become at best, and by which warp; None where that leads nowhere."""
    stop = (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, rounds, 1e-7)
    try:
        alike, found = cv2.findTransformECC(a.copy(), b.copy(), warp.copy(), cv2.MOTION_AFFINE, stop, None, 5)  # type: ignore[call-overload]
    except cv2.error:
        return 0.0, None
    return float(alike), np.asarray(found, dtype=np.float32)


def _scaled(warp: NDArray[np.float32], factor: float) -> NDArray[np.float32]:
    """A warp for pictures ``factor`` times as large: pixels are counted from their centres."""
    out = warp.copy()
    middle = (factor - 1) / 2
    out[:, 2] = warp[:, 2] * factor + middle - warp[:, :2] @ np.array([middle, middle], dtype=np.float32)
    return out


def _linear(turn_deg: float, scale: float) -> Floats:
    c, s = np.cos(np.radians(turn_deg)), np.sin(np.radians(turn_deg))
    return scale * np.array([[c, -s], [s, c]])
