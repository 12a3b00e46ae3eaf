"""A plate looked at: its files' heads read apart, and what they have in common."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import BinaryIO

from anaxis.core.camera.lens import Image
from anaxis.core.checks.plates import CheckedPlate, PlateKind
from anaxis.core.errors import BadInput
from anaxis.formats.plates.found import Found
from anaxis.formats.plates.picture import PictureFacts, facts_from_dict
from anaxis.sandbox.plates import plate_work


@dataclass(frozen=True)
class PlateSummary:
    """What was seen of a plate: itself, and the facts of its first picture."""

    plate: CheckedPlate
    facts: PictureFacts
    movie_frames: int = 0


def look_at(
    found: Found,
    kind: PlateKind = "as shot",
    offset: int = 0,
    whole: bool = False,
    opened: Callable[[Path], BinaryIO] | None = None,
    most: int = 0,
) -> PlateSummary:
    """Read the heads of a sequence's files, or with ``whole`` their pixels too. Raises BadInput where none can be read.

    With ``most`` only so many of them are looked at, the first, the last and some between; ``opened`` opens them.
    """
    broken: dict[int, str] = {}
    read: dict[int, PictureFacts] = {}
    movie_frames, rate = 0, None
    files = {f: Path(p) for f, p in found.files.items()}
    if most and len(files) > most:
        numbers = sorted(files)
        files = {n: files[n] for n in (numbers[i * (len(numbers) - 1) // (most - 1)] for i in range(most))}
    for done in plate_work({"do": "facts", "whole": whole}, files, opened=opened):
        if "error" in done:
            broken[done["frame"]] = done["error"]
            continue
        read[done["frame"]] = facts_from_dict(done["facts"])
        if "movie" in done:
            movie_frames = int(done["movie"]["frames"])
            rate = Fraction(*done["movie"]["rate"]) if done["movie"]["rate"] else None
    if not read:
        raise BadInput(next(iter(broken.values())))
    first = read[min(read)]
    pictures = tuple(range(movie_frames)) if movie_frames else tuple(found.files)
    plate = CheckedPlate(
        found.name, kind, Image(first.width_px, first.height_px, first.pixel_aspect), first.data_px, pictures, offset,
        tuple(found.missing), found.doubled, broken,
        {f: (p.width_px, p.height_px) for f, p in read.items() if (p.width_px, p.height_px) != (first.width_px, first.height_px)},
        rate,
    )  # fmt: skip
    return PlateSummary(plate, first, movie_frames)
