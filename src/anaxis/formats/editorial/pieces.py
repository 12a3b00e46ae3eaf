"""An edit as the pieces that a joined camera is made of: which camera each clip shows, from which frame, how fast."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from typing import NamedTuple

import numpy as np

from anaxis.core.derive.cut import Piece
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import parse_rate, rate_label
from anaxis.formats.editorial.cut_list import Clip, CutList


class Laid(NamedTuple):
    """The pieces of an edit, and what had to be said or changed on the way; ``without`` are clips with no camera."""

    pieces: tuple[Piece, ...]
    notes: tuple[str, ...]
    without: tuple[str, ...]


def pieces_of(edit: CutList, role_of: Callable[[Clip], str]) -> Laid:
    """The pieces of an edit. ``role_of`` says which camera a clip shows, "" for none: such clips are named, and leave a gap.

    Raises BadInput where no clip has a camera.
    """
    pieces: list[Piece] = []
    notes, without = list(edit.notes), []
    ahead = min(c.begins for c in edit.clips)
    if ahead > 0:
        notes.append(f"The edit begins with {ahead:g} frames without a picture: the joined camera begins after them.")
    for clip in edit.clips:
        role = role_of(clip)
        if not role:
            without.append(clip.name)
            continue
        begins, end = round(clip.begins), round(clip.begins + clip.frames)
        if abs(clip.begins - begins) > 1e-3 or abs(clip.begins + clip.frames - end) > 1e-3:
            notes.append(
                f"Clip '{clip.name}' begins or ends between frames ({clip.begins:g} to {clip.begins + clip.frames:g}): Anaxis uses the nearest frames."
            )
        speed = clip.speed * _ratio(clip, edit.rate)
        if clip.rate:
            notes.append(
                f"Clip '{clip.name}' counts {rate_label(parse_rate(clip.rate))} frames a second and the edit {rate_label(edit.rate)}: "
                f"{speed:g} of its frames go by in one of the edit's, so that its time is kept."
            )
        pieces.append(
            Piece(
                name=clip.name or role, role=role, first=clip.start, begins=begins, frames=max(1, end - begins),
                speed=float(np.round(speed, 12)), mixed_in=clip.mixed_in, mixed_out=clip.mixed_out,
            )
        )  # fmt: skip
    if not pieces:
        names = ", ".join(dict.fromkeys(without[:6]))
        raise BadInput(
            f"No clip of {edit.name} has a camera ({names}): choose the camera of each clip, or name the shots like the clips.",
            "no_camera",
        )
    if without:
        notes.append(f"Without a camera; left as gaps: {', '.join(dict.fromkeys(without))}.")
    return Laid(tuple(pieces), tuple(notes), tuple(without))


def _ratio(clip: Clip, rate: Fraction) -> float:
    return float(parse_rate(clip.rate) / rate) if clip.rate else 1.0
