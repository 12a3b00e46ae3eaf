"""The drawing of two ways to another rate: the frames as they are, same frames, and same time, on one scale."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass
from fractions import Fraction
from math import ceil

from markupsafe import Markup

from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.motion.resample import count_at_rate
from anaxis.core.time.rates import rate_label
from anaxis.web.drawings.svg import drawing, drawn

_WIDTH, _LEFT, _ROW = 320.0, 4.0, 46.0


@dataclass(frozen=True)
class Span:
    """One ruler: ``frames`` of them from ``first`` to ``last`` at ``rate``, ``seconds`` long."""

    label: str
    first: float
    last: float
    frames: int
    rate: Fraction

    @property
    def seconds(self) -> float:
        return float(self.frames / self.rate)


def spans_of(track: Track, rate: Fraction) -> list[Span]:
    """The track now and, where the rate is another, with the same frames and with the same time at it."""
    first, last = float(track.frames[0]), float(track.frames[-1])
    out = [Span("now", first, last, len(track), track.rate)]
    if rate == track.rate:
        return out
    out.append(Span("same frames", first, last, len(track), rate))
    with suppress(BadInput):  # so many frames that it cannot be had: the other two still say something
        count = count_at_rate(track, rate)
        out.append(Span("same time", first, first + count - 1, count, rate))
    return out


@drawing
def rulers_svg(spans: list[Span], expected_frames: int | None) -> Markup:
    """The rulers one below the other, a tick a second; whether each is the shot's length where that is known."""
    longest = max(s.seconds for s in spans) or 1.0
    scale = (_WIDTH - 2 * _LEFT) / longest
    step = next((s for s in (1, 2, 5, 10, 20, 60, 120, 300, 600, 1800) if longest / s <= 24), ceil(longest / 24))
    rows = []
    for k, span in enumerate(spans):
        y, end = 18 + k * _ROW, _LEFT + span.seconds * scale
        fits = (
            ""
            if expected_frames is None
            else ", the shot's length"
            if span.frames == expected_frames
            else ", not the shot's length"
        )
        ticks = [_LEFT + t * scale for t in range(0, int(span.seconds) + 1, step)]
        rows.append({"span": span, "rate": rate_label(span.rate), "y": y, "end": end, "ticks": ticks, "fits": fits})
    height = 18 + len(spans) * _ROW - 20
    said = "; ".join(f"{s.label}: {s.frames} frames, {s.seconds:.3f} seconds" for s in spans)
    return drawn("rulers", height=height, left=_LEFT, rows=rows, said=said)
