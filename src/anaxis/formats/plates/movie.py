"""A movie file as a plate: its frames in order, numbered from 0, through PyAV."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import av
import numpy as np

from anaxis.core.bounds import MAX_FRAMES, MAX_SIDE_PX
from anaxis.core.errors import BadInput
from anaxis.core.typing import Singles
from anaxis.formats.plates.picture import PictureFacts


@dataclass(frozen=True)
class MovieFacts:
    """A movie's picture, how many frames it has, and its rate where it states one."""

    picture: PictureFacts
    frames: int
    rate: Fraction | None


def movie_facts(path: Path) -> MovieFacts:
    """What a movie holds; its frames are counted, for a file's own count may be wrong. Raises BadInput."""
    with _opened(path) as held:
        stream = held.streams.video[0]
        context = stream.codec_context
        if not (1 <= context.width <= MAX_SIDE_PX and 1 <= context.height <= MAX_SIDE_PX):
            raise BadInput(f"{path.name} has no pictures of a size that can be used.")
        aspect = context.sample_aspect_ratio
        rate = stream.average_rate
        count = sum(packet.size > 0 for packet in held.demux(stream))
        if not 1 <= count <= MAX_FRAMES:
            raise BadInput(f"{path.name} has {count} frames: too many for a plate.")
        bits = 8 if context.format is None else max(c.bits for c in context.format.components)
    picture = PictureFacts(
        context.width, context.height, float(aspect) if aspect else 1.0, (0, 0, context.width, context.height),
        "uint8" if bits == 8 else "uint16", bits, ("R", "G", "B"), (), "display", context.name, path.suffix.lower(),
    )  # fmt: skip
    return MovieFacts(picture, count, Fraction(rate) if rate else None)


def movie_pixels(path: Path, first: int = 0) -> Iterator[tuple[int, Singles]]:
    """A movie's frames from one on, with their numbers, as floats (h, w, 3) of 0 to 1. Raises BadInput where it breaks off."""
    with _opened(path) as held:
        number = -1
        try:
            for frame in held.decode(video=0):
                number += 1
                if number >= first:
                    pixels: Singles = frame.to_ndarray(format="rgb48le").astype(np.float32)
                    yield number, pixels / np.float32(65535)
        except av.FFmpegError as error:
            raise BadInput(f"{path.name} ends after frame {number}: export the movie again.", "truncated") from error


def _opened(path: Path) -> av.container.InputContainer:
    try:
        held = av.open(str(path), options={"protocol_whitelist": "file"})
    except (av.FFmpegError, OSError, ValueError) as error:
        raise BadInput(
            f"{path.name} cannot be read as a movie: it is damaged or another kind of file.", "damaged"
        ) from error
    if not held.streams.video:
        held.close()
        raise BadInput(f"{path.name} holds no pictures.")
    return held
