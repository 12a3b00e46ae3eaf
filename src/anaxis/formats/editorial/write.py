"""Writing a joined camera's cut back: OpenTimelineIO and an EDL in the new numbering, a table of its shots, the range."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Sequence
from typing import Any, NamedTuple

from anaxis.core.derive.cut import Piece, Pieces, ranges_of
from anaxis.core.derive.joined import Join, placed
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import parse_rate, plain_frame, rate_text
from anaxis.formats.editorial.timecodes import can_drop, counted, timecode_of


class ShotRange(NamedTuple):
    """A shot's first and last frame in its own numbering and in the joined camera's; timecodes where there are some."""

    name: str
    source_first: float
    source_last: float
    first: float
    last: float
    timecodes: tuple[str | None, str | None]


def shot_ranges(p: Join) -> list[ShotRange]:
    """Every run of a shot on screen, in order; gaps are none."""
    rate = parse_rate(p.rate)
    return [
        ShotRange(name, low, high, p.first + a, p.first + b, (timecode_of(p.first + a, rate), timecode_of(p.first + b, rate)))
        for name, low, high, a, b in ranges_of(placed(p))
    ]  # fmt: skip


def render_range(p: Join) -> dict[str, Any]:
    """The frames to be rendered, both counted in, in both numberings of time."""
    count, rate = placed(p).count, parse_rate(p.rate)
    first, last = p.first, p.first + count - 1
    return {
        "first_frame": plain_frame(first), "last_frame": plain_frame(last), "frames": count, "rate": rate_text(rate),
        "timecode": [timecode_of(f, rate) for f in (first, last)],
        **({"timecode_drop": [timecode_of(f, rate, drop=True) for f in (first, last)]} if can_drop(rate) else {}),
    }  # fmt: skip


def edit_files(p: Join) -> dict[str, bytes]:
    """All that is written of a cut, by name."""
    files = {
        f"{p.name}.otio": cut_otio(p),
        f"{p.name}.shots.csv": shots_table(p),
        f"{p.name}.render_range.json": json.dumps(render_range(p), indent=1).encode(),
    }
    # What an EDL cannot say is not written by halves: the others hold it.
    if edl_refused(p) is None:
        files[f"{p.name}.edl"] = cut_edl(p)
    return files


def edl_refused(p: Join) -> str | None:
    """Why there is no EDL of a cut; None where there is one."""
    rate = parse_rate(p.rate)
    if counted(rate) is None:
        return f"There is no timecode at {p.rate} frames a second, so there is no EDL."
    last = p.first + placed(p).count
    if (
        p.first < 0
        or not float(p.first).is_integer()
        or any(s.source_first < 0 or s.source_last < 0 for s in shot_ranges(p))
    ):
        return "Frames below 0 have no timecode, so there is no EDL: choose a first frame from 0 up."
    if last >= 86_400 * (counted(rate) or 1):
        return "The cut ends behind 24 hours, which a timecode does not count, so there is no EDL."
    return None


def shots_table(p: Join) -> bytes:
    """A CSV: shot, its first and last frame, the joined camera's, and timecodes."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(["shot", "source_first", "source_last", "first", "last", "frames", "timecode_in", "timecode_last"])
    for s in shot_ranges(p):
        numbers = [plain_frame(v) for v in (s.source_first, s.source_last, s.first, s.last)]
        writer.writerow([s.name, *numbers, plain_frame(s.last - s.first + 1), *(t or "" for t in s.timecodes)])
    return text.getvalue().encode()


def cut_otio(p: Join) -> bytes:
    """The cut as an OpenTimelineIO document: it begins at the joined camera's first frame; gaps stay gaps."""
    import opentimelineio as otio

    return str(otio.adapters.write_to_string(_timeline(p, names=False), adapter_name="otio_json")).encode()


def cut_edl(p: Join) -> bytes:
    """The cut as an EDL of one picture track, recorded at the joined camera's own frames. It counts whole frames: a clip
    that begins between two begins on the earlier.

    Raises BadInput where it has no timecodes (:func:`edl_refused`)."""
    import opentimelineio as otio

    refused = edl_refused(p)
    if refused:
        raise BadInput(refused)
    return str(
        otio.adapters.write_to_string(_timeline(p, names=True), adapter_name="cmx_3600", rate=float(parse_rate(p.rate)))
    ).encode()


def _timeline(p: Join, names: bool) -> Any:
    import opentimelineio as otio

    rate = float(parse_rate(p.rate))
    pieces = placed(p)

    def at(value: float) -> Any:
        return otio.opentime.RationalTime(value, rate)

    timeline = otio.schema.Timeline(p.name, global_start_time=at(p.first))
    timeline.metadata["anaxis"] = {"render_range": render_range(p)}
    track = otio.schema.Track(p.name, kind=otio.schema.TrackKind.Video)
    timeline.tracks.append(track)
    here = 0
    if names:  # an EDL has no place for its start: what it records begins behind as many frames of nothing
        track.append(otio.schema.Gap(source_range=otio.opentime.TimeRange(at(0), at(p.first))))
    for low, end, piece in _runs(pieces):
        if low > here:
            track.append(otio.schema.Gap(source_range=otio.opentime.TimeRange(at(0), at(low - here))))
        first = float(pieces.frames[low])
        reference = otio.schema.MissingReference(name=piece.name)
        clip = otio.schema.Clip(piece.name, reference, otio.opentime.TimeRange(at(first), at(end - low)))
        clip.metadata["anaxis"] = {
            "first_frame": plain_frame(p.first + low),
            "last_frame": plain_frame(p.first + end - 1),
        }
        if names:
            clip.metadata["cmx_3600"] = {"reel": _reel(piece.name)}
        if piece.speed == 0:
            clip.effects.append(otio.schema.FreezeFrame())
        elif piece.speed != 1:
            clip.effects.append(otio.schema.LinearTimeWarp(time_scalar=piece.speed))
        track.append(clip)
        here = end
    return timeline


def _runs(pieces: Pieces) -> Sequence[tuple[int, int, Piece]]:
    """Every run of a piece on screen: where it begins, where it ends, and the piece; gaps left out."""
    out = []
    places = [(a, b) for *_, a, b in ranges_of(pieces)]
    for low, last in places:
        out.append((low, last + 1, pieces.pieces[int(pieces.which[low])]))
    return out


def _reel(name: str) -> str:
    plain = "".join(c if c.isalnum() or c == "_" else "_" for c in name)
    return plain[:8] or "AX"
