"""How a plate is shown: a stated view transform, and stops up or down before it."""

from __future__ import annotations

import cv2
import numpy as np
import OpenImageIO as oiio

from anaxis.core.errors import BadInput
from anaxis.core.typing import Bytes, Singles

# OpenColorIO's built-in configuration. What is linear goes through a view; what is display-referred already is shown as it is.
CONFIG, DISPLAY, LINEAR, ENCODED = (
    "ocio://default",
    "sRGB - Display",
    "Linear Rec.709 (sRGB)",
    "sRGB Encoded Rec.709 (sRGB)",
)
VIEWS = {"plain": "Un-tone-mapped", "film": "ACES 2.0 - SDR 100 nits (Rec.709)"}
USUAL_VIEW = "plain"
PROXY_WIDTH_PX = 960
MAX_STOPS = 10.0
_QUALITY = 88


def view_in_words(linear: bool, view: str, stops: float) -> str:
    """What is done to the plate's numbers before they are shown."""
    up = f", {stops:+g} stops" if stops else ""
    if not linear:
        return f"shown unchanged{up}"
    return f"{LINEAR} to {DISPLAY}, view {VIEWS[view]}{up}"


def displayed(pixels: Singles, linear: bool, view: str = USUAL_VIEW, stops: float = 0.0) -> Bytes:
    """A picture (h, w, c) as 8-bit red, green, blue (h, w, 3). Raises BadInput for a view that is not there."""
    if view not in VIEWS:
        raise BadInput(f"'{view[:40]}' is not a view: choose one of {', '.join(VIEWS)}.")
    if not abs(stops) <= MAX_STOPS:
        raise BadInput(f"{stops:g} stops are not possible: choose -{MAX_STOPS:g} to {MAX_STOPS:g}.")
    colour = np.repeat(pixels[..., :1], 3, axis=-1) if pixels.shape[-1] < 3 else pixels[..., :3]
    colour = np.nan_to_num(np.ascontiguousarray(colour), nan=0.0, posinf=65504.0, neginf=0.0)
    if linear or stops:
        buffer = oiio.ImageBuf(colour)
        if not linear:
            buffer = oiio.ImageBufAlgo.colorconvert(buffer, ENCODED, LINEAR, colorconfig=CONFIG)
        if stops:
            buffer = oiio.ImageBufAlgo.mul(buffer, 2.0**stops)
        shown = VIEWS[view] if linear else VIEWS[USUAL_VIEW]
        buffer = oiio.ImageBufAlgo.ociodisplay(buffer, DISPLAY, shown, LINEAR, "", True, colorconfig=CONFIG)
        if buffer.has_error:
            raise BadInput(f"The plate cannot be shown with the view {shown}: {buffer.geterror()}.")
        colour = np.asarray(buffer.get_pixels(oiio.FLOAT))
    return np.asarray(np.clip(colour * 255 + 0.5, 0, 255), dtype=np.uint8)


def smaller(pixels: Singles, pixel_aspect: float, width_px: int = PROXY_WIDTH_PX) -> Singles:
    """The picture no wider than that as it is seen, its pixels square."""
    height, width = pixels.shape[:2]
    seen = width * pixel_aspect
    share = min(1.0, width_px / seen)
    size = (max(1, round(seen * share)), max(1, round(height * share)))
    if size == (width, height):
        return pixels
    small = cv2.resize(pixels, size, interpolation=cv2.INTER_AREA)
    return np.asarray(small if small.ndim == 3 else small[..., None], dtype=np.float32)


def proxy_jpeg(
    pixels: Singles, linear: bool, pixel_aspect: float, view: str = USUAL_VIEW, stops: float = 0.0, width_px: int = PROXY_WIDTH_PX
) -> bytes:  # fmt: skip
    """A small picture to be shown in a browser, or below a film."""
    shown = displayed(smaller(pixels, pixel_aspect, width_px), linear, view, stops)
    done, data = cv2.imencode(".jpg", shown[..., ::-1], [cv2.IMWRITE_JPEG_QUALITY, _QUALITY])
    if not done:
        raise BadInput("The proxy could not be written as a picture.")
    return bytes(data.tobytes())
