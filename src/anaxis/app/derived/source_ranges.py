"""What each frame of a derived camera shows, after its recipe, and what is written of a joined camera's cut."""

from __future__ import annotations

import numpy as np

from anaxis.app.context import Context
from anaxis.app.derived.derive import around_version, settings_of, used_version
from anaxis.core.derive.cut import Piece
from anaxis.core.derive.derived import Shown
from anaxis.core.derive.held import Hold
from anaxis.core.derive.joined import Join, placed
from anaxis.core.derive.owed import RangeCheck, check_range
from anaxis.core.errors import BadInput
from anaxis.store.models import Version


def shown_of(context: Context, version: Version) -> Shown | None:
    """Names, which of them each frame shows, and its frame there; None for a camera that shows its own frames."""
    settings = settings_of(version)
    if isinstance(settings, Hold):
        count = int(version.facts["frames"])
        names = tuple(f"{used_version(i).called}, held" for i in version.made_of)
        return Shown(names, np.zeros(count, dtype=np.int64), np.full(count, float(settings.at)))
    if not isinstance(settings, Join):
        return None
    pieces = placed(settings)
    names = tuple(p.name for p in pieces.pieces)
    which = np.where(pieces.gap, pieces.which + len(names), pieces.which)
    shown = Shown((*names, *(f"{n}, held in a gap" for n in names)), which, pieces.frames)
    if not version.recipe:
        return shown
    kept = np.clip(around_version(context, version).kept, 0, pieces.count - 1)
    return shown._replace(which=which[kept], frames=pieces.frames[kept])


def range_held_against(version: Version, first: int, last: int) -> RangeCheck:
    """A range typed elsewhere held against that of a derived camera."""
    return check_range(int(version.facts["first_frame"]), int(version.facts["last_frame"]), first, last)


def cut_of(context: Context, version: Version) -> Join:
    """A joined camera's cut as it is after its recipe: trimmed, renumbered, retimed. Raises BadInput for another camera."""
    settings = settings_of(version)
    if not isinstance(settings, Join):
        raise BadInput(f"{version.camera.name} is not a joined camera, so it has no edit to write.")
    if not version.recipe:
        return settings
    shown = shown_of(context, version)
    assert shown is not None
    count = len(placed(settings).pieces)
    starts = np.flatnonzero(np.diff(shown.which, prepend=-1))
    pieces = []
    for low, end in zip(starts.tolist(), np.append(starts[1:], len(shown.which)).tolist(), strict=True):
        at = int(shown.which[low])
        if at >= count:  # a gap stays one
            continue
        frames, piece = shown.frames[low:end], settings.pieces[at]
        speed = float((frames[-1] - frames[0]) / (len(frames) - 1)) if len(frames) > 1 else piece.speed
        pieces.append(
            Piece(name=piece.name, role=piece.role, first=float(frames[0]), begins=low, frames=end - low, speed=speed)
        )
    facts = version.facts
    told = {
        "pieces": tuple(pieces),
        "first": float(facts["first_frame"]),
        "rate": facts["rate"],
        "name": version.camera.name,
    }
    return settings.model_copy(update=told | {"gaps": "hold"})
