"""What a shot should be, typed or taken from a cut list: its cameras are held against it from then on."""

from __future__ import annotations

from fractions import Fraction
from typing import NamedTuple

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.core.bounds import require_frame, require_rate
from anaxis.core.checks.times import OF_THE_SHOT
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import parse_rate, rate_text
from anaxis.formats.editorial.cut_list import Clip, CutList, shots_in
from anaxis.store.models import Camera, Shot, Show


@use_case("set the expected range")
def expect(context: Context, shot: Shot, first: float | None, last: float | None, rate: Fraction | None) -> Shot:
    """Frame range and rate of a shot, None where nothing is said of one. Raises BadInput."""
    for frame in (first, last):
        if frame is not None:
            require_frame(frame)
    if rate is not None:
        require_rate(rate)
    if first is not None and last is not None and last < first:
        raise BadInput(f"The shot's last frame {last:g} is before its first {first:g}: swap them.")
    shot.first_frame, shot.last_frame = first, last
    shot.rate = None if rate is None else rate_text(rate)
    context.flush()
    return shot


class FromCutList(NamedTuple):
    """A shot that is in a cut list: its range as it was, the clips that show it, and how each of its cameras is at
    odds with the new one ("" where it agrees)."""

    shot: Shot
    before: tuple[float | None, float | None, str | None]
    clips: list[Clip]
    cameras: list[tuple[Camera, str]]


def expect_from_cut_list(context: Context, show: Show, cuts: CutList) -> list[FromCutList]:
    """The range and rate of every shot of a show that a cut list shows."""
    found = shots_in(cuts, [s.name for s in show.shots])
    out = []
    for shot in show.shots:
        clips = found.get(shot.name)
        if not clips:
            continue
        before = (shot.first_frame, shot.last_frame, shot.rate)
        # The frames of a source count at its own rate, whatever the cut list runs at.
        rate = parse_rate(clips[0].rate) if clips[0].rate else cuts.rate
        expect(context, shot, min(c.first for c in clips), max(c.last for c in clips), rate)
        out.append(FromCutList(shot, before, clips, [(c, _at_odds(c)) for c in shot.cameras if c.head_id is not None]))
    return out


def _at_odds(camera: Camera) -> str:
    return next((f.message for f in camera.head.noticed if f.code in OF_THE_SHOT), "")
