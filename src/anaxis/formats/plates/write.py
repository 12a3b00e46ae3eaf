"""Writing a picture as its plate is kept: format, depth, channels and colour as they came."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import OpenImageIO as oiio

from anaxis.core.errors import BadInput
from anaxis.core.typing import Singles
from anaxis.formats.plates.picture import PictureFacts, read_picture_pixels

_DEPTHS = {"half": oiio.HALF, "float": oiio.FLOAT, "double": oiio.FLOAT, "uint8": oiio.UINT8, "uint16": oiio.UINT16}
_FLOATS = (".exr", ".tif", ".tiff")
_JPEG_QUALITY = 98
# Ways of packing that change pixels: what was worked out is kept as it is.
_LOSSY = ("dwa", "b44", "pxr24", "jpeg")


def write_picture(pixels: Singles, like: PictureFacts, path: Path) -> None:
    """Write (h, w, c) as a picture of the same kind as ``like``, in the format of the path's suffix.

    Raises BadInput where that format cannot keep what the plate has.
    """
    suffix = path.suffix.lower()
    if like.depth in ("half", "float", "double") and suffix not in _FLOATS:
        raise BadInput(f"{suffix} stores no floats, but the plate is {like.words}: write .exr or .tif.")
    depth, bits = like.depth, like.bits
    if suffix == ".exr" and depth.startswith("uint"):
        raise BadInput(
            f".exr stores floats, but the plate is {like.words}: to keep its code values, write {like.suffix}."
        )
    if suffix in (".jpg", ".jpeg"):
        if depth != "uint8" or len(like.channels) == 4:
            raise BadInput(
                f"JPEG stores 8 bits without alpha, but the plate is {like.words}: write .png, .tif or .exr."
            )
        bits = 0
    spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], pixels.shape[2], _DEPTHS[depth])
    spec.channelnames = like.channels
    spec.attribute("PixelAspectRatio", like.pixel_aspect)
    if bits and suffix == ".dpx":
        spec.attribute("oiio:BitsPerSample", bits)
    if suffix in (".jpg", ".jpeg"):
        spec.attribute("CompressionQuality", _JPEG_QUALITY)
        spec.attribute("jpeg:subsampling", "4:4:4")
    elif suffix in _FLOATS:
        spec.attribute("compression", "zip" if like.compression.startswith(_LOSSY) else like.compression or "zip")
    out = oiio.ImageOutput.create(str(path))
    if out is None or not out.open(str(path), spec):
        raise BadInput(
            f"{path} cannot be written ({oiio.geterror() or (out and out.geterror())}): choose another folder."
        )
    try:
        if not out.write_image(np.ascontiguousarray(pixels, dtype=np.float32)):
            raise BadInput(f"{path} cannot be written ({out.geterror()}): is the disk full?")
    finally:
        out.close()


def read_back(pixels: Singles, like: PictureFacts, path: Path) -> float:
    """By how much at most a written picture differs from what was to be written, in its own smallest steps.

    For integers in code values; for floats relative to the next representable number, zero being exact.
    """
    back, _ = read_picture_pixels(path)
    if back.shape != pixels.shape:
        raise BadInput(f"{path.name} reads back as {back.shape[1]} x {back.shape[0]} px: the file is incomplete.")
    if like.depth.startswith("uint"):
        steps = (1 << (like.bits or (8 if like.depth == "uint8" else 16))) - 1
        return float(np.abs(np.clip(pixels, 0, 1) * steps - back * steps).max())
    kind = np.float16 if like.depth == "half" else np.float32
    meant = pixels.astype(kind)
    return float(np.abs(meant.astype(np.float32) - back).max() / max(float(np.finfo(kind).eps), 1e-12))
