"""One picture of a plate: what its file says of it, and its pixels, through OpenImageIO."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np
import OpenImageIO as oiio

from anaxis.core.bounds import MAX_PIXEL_ASPECT, MAX_SIDE_PX
from anaxis.core.errors import BadInput
from anaxis.core.typing import Singles
from anaxis.formats.plates import PICTURE_SUFFIXES

MAX_CHANNELS, MAX_PIXELS = 1024, 120_000_000
_TYPES = {
    "half": "16-bit float", "float": "32-bit float", "double": "64-bit float", "uint8": "8-bit", "uint16": "16-bit",
}  # fmt: skip
_LINEAR, _DISPLAY = "linear", "display"


@dataclass(frozen=True)
class PictureFacts:
    """What a file says of its picture: its size, the part of it that has pixels, and how they are kept.

    ``data_px`` is that part (x, y, width, height) from the picture's upper left corner. ``channels`` are the ones taken:
    red, green, blue and alpha, or grey. ``left_out`` are the other channels of the file.
    """

    width_px: int
    height_px: int
    pixel_aspect: float
    data_px: tuple[int, int, int, int]
    depth: str
    bits: int
    channels: tuple[str, ...]
    left_out: tuple[str, ...]
    space: str
    compression: str
    suffix: str

    @property
    def whole(self) -> bool:
        """Whether all of the picture has pixels."""
        return self.data_px == (0, 0, self.width_px, self.height_px)

    @property
    def linear(self) -> bool:
        return self.space == _LINEAR

    @property
    def words(self) -> str:
        bits = f"{self.bits}-bit" if self.bits and self.depth.startswith("uint") else _TYPES.get(self.depth, self.depth)
        return f"{self.suffix.lstrip('.').upper()}, {bits}, {', '.join(self.channels)}"

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def facts_from_dict(held: dict[str, Any]) -> PictureFacts:
    given: dict[str, Any] = {k: tuple(v) if isinstance(v, list) else v for k, v in held.items()}
    return PictureFacts(**given)


def facts_of(path: Path) -> PictureFacts:
    """What a file's head says. Raises BadInput for one that cannot be read, or is not a picture that can be worked with."""
    opened = _opened(path)
    try:
        return _facts(opened.spec(), path)
    finally:
        opened.close()


def read_picture_pixels(path: Path) -> tuple[Singles, PictureFacts]:
    """The whole picture as floats (h, w, c), black where the file has no pixels. Raises BadInput, also where it breaks off."""
    opened = _opened(path)
    try:
        spec = opened.spec()
        facts = _facts(spec, path)
        places = [list(spec.channelnames).index(n) for n in facts.channels]
        low, high = min(places), max(places) + 1
        pixels = opened.read_image(0, 0, low, high, oiio.FLOAT)
        said = opened.geterror()
        if pixels is None or said:
            raise BadInput(f"{path.name} is incomplete or damaged: render or copy this frame again.", "truncated")
    finally:
        opened.close()
    taken: Singles = np.ascontiguousarray(np.asarray(pixels, dtype=np.float32)[..., [p - low for p in places]])
    if facts.whole:
        return taken, facts
    whole = np.zeros((facts.height_px, facts.width_px, len(places)), dtype=np.float32)
    x, y, width, height = facts.data_px
    x0, y0, x1, y1 = max(0, x), max(0, y), min(facts.width_px, x + width), min(facts.height_px, y + height)
    whole[y0:y1, x0:x1] = taken[y0 - y : y1 - y, x0 - x : x1 - x]
    return whole, facts


def _opened(path: Path) -> Any:
    if path.suffix.lower() not in PICTURE_SUFFIXES:
        raise BadInput(f"{path.name} is not a readable image: use one of {', '.join(PICTURE_SUFFIXES)}.")
    opened = oiio.ImageInput.open(str(path))
    if opened is None:
        oiio.geterror()
        raise BadInput(
            f"{path.name} is not a readable image: it is damaged or another kind of file. Render it again.", "damaged"
        )
    return opened


def _facts(spec: Any, path: Path) -> PictureFacts:
    name = path.name
    width, height = spec.full_width or spec.width, spec.full_height or spec.height
    sides = (width, height, spec.width, spec.height)
    if not all(1 <= s <= MAX_SIDE_PX for s in sides) or max(width * height, spec.width * spec.height) > MAX_PIXELS:
        raise BadInput(f"{name} is {spec.width} x {spec.height} px: too large for a plate.", "out_of_bounds")
    if spec.nchannels > MAX_CHANNELS:
        raise BadInput(
            f"{name} has {spec.nchannels} channels: write the plate's red, green and blue alone.", "out_of_bounds"
        )
    if spec.depth > 1 or spec.full_depth > 1:
        raise BadInput(f"{name} is a volume, not an image: write the plate as a flat image.")
    if spec.deep:
        raise BadInput(f"{name} is a deep image: flatten it first.")
    channels = _channels(list(spec.channelnames))
    types = {str(spec.channelformat(list(spec.channelnames).index(c))) for c in channels}
    if len(types) != 1 or not types <= _TYPES.keys():
        raise BadInput(
            f"{name} stores its colours as {', '.join(sorted(types))}: write them as floats or as 8 or 16 bits.",
            "wrong_type",
        )
    aspect = float(spec.get_float_attribute("PixelAspectRatio", 1.0))
    if not (np.isfinite(aspect) and 1 / MAX_PIXEL_ASPECT <= aspect <= MAX_PIXEL_ASPECT):
        raise BadInput(f"{name} says its pixels are {aspect:g} times as wide as high: correct its header.")
    depth = types.pop()
    return PictureFacts(
        int(width), int(height), round(aspect, 6),
        (spec.x - spec.full_x, spec.y - spec.full_y, int(spec.width), int(spec.height)),
        depth, int(spec.get_int_attribute("oiio:BitsPerSample")), channels,
        tuple(c for c in spec.channelnames if c not in channels)[:50], _LINEAR if depth in ("half", "float", "double") else _DISPLAY,
        spec.get_string_attribute("compression"), path.suffix.lower(),
    )  # fmt: skip


def _channels(names: list[str]) -> tuple[str, ...]:
    """Red, green, blue and alpha by name, else grey, else the first."""
    colour = tuple(n for n in ("R", "G", "B") if n in names)
    if len(colour) == 3:
        return (*colour, "A") if "A" in names else colour
    return ("Y",) if "Y" in names else (names[0],)
