"""Writing a joined camera's cut back: OpenTimelineIO and an EDL in the new numbering, a table of its shots, the range."""

from __future__ import annotations

import csv
import io
import json
import math
from collections.abc import Sequence
from typing import Any, NamedTuple

from anaxis.core.derive.cut import Piece, Pieces, ranges_of
from anaxis.core.derive.joined import Join, placed
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import parse_rate, plain_frame, rate_text
from anaxis.formats.editorial.cut_list import last_of
from anaxis.formats.editorial.timecodes import can_drop, counted, timecode_of
from anaxis.formats.text_cells import text_cell


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
        return "The cut ends after 24 hours, which timecode cannot count, so there is no EDL."
    return None


def shots_table(p: Join) -> bytes:
    """A CSV: shot, its first and last frame, the joined camera's, and timecodes."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(["shot", "source_first", "source_last", "first", "last", "frames", "timecode_in", "timecode_last"])
    for s in shot_ranges(p):
        numbers = [plain_frame(v) for v in (s.source_first, s.source_last, s.first, s.last)]
        writer.writerow(
            [text_cell(s.name), *numbers, plain_frame(s.last - s.first + 1), *(t or "" for t in s.timecodes)]
        )
    return text.getvalue().encode()


def cut_otio(p: Join) -> bytes:
    """The cut as an OpenTimelineIO document: it begins at the joined camera's first frame; gaps stay gaps."""
    import opentimelineio as otio

    return str(otio.adapters.write_to_string(_timeline(p), adapter_name="otio_json")).encode()


def cut_edl(p: Join) -> bytes:
    """The cut as an EDL of one picture track, recorded at the joined camera's own frames, in drop-frame timecode where the cut says so. It
    counts whole frames: a clip that begins between two begins on the earlier.

    Written here: the library's writer drops numbers at 29.97 whether or not that is wanted. Raises BadInput where there
    are no timecodes (:func:`edl_refused`).
    """
    refused = edl_refused(p)
    if refused:
        raise BadInput(refused)
    rate, pieces = parse_rate(p.rate), placed(p)
    drop = p.timecode == "drop" and can_drop(rate)

    def at(frame: float) -> str:
        return str(timecode_of(math.floor(frame + 1e-6), rate, drop))

    rows = [f"TITLE: {p.name}", f"FCM: {'' if drop else 'NON-'}DROP FRAME", ""]
    for number, (low, end, piece) in enumerate(_runs(pieces), 1):
        first, length, reel = float(pieces.frames[low]), end - low, _reel(piece.name)
        speed = piece.speed if length > 1 else 1.0  # of one frame there is no speed
        first = _lowest(first, length, speed)
        through = first + (length * abs(speed) if speed else 1)
        record = f"{at(p.first + low)} {at(p.first + end)}"
        rows.append(f"{number:03}  {reel:8} V     C        {at(first)} {at(max(0.0, through))} {record}")
        if speed != 1:
            rows.append(f"M2   {reel:8}       {_a_second(speed * float(rate))}                {at(first)}")
        rows.append(f"* FROM CLIP NAME:  {piece.name}{' FF' if speed == 0 else ''}")
        if speed == 0:
            rows.append("* * FREEZE FRAME")
    return ("\n".join(rows) + "\n").encode()


def _lowest(first: float, length: int, speed: float) -> float:
    """Where the range of its source begins that a clip shows: of one played backwards at its last frame."""
    return first - last_of(length, -speed) if speed < 0 else first


def _a_second(frames: float) -> str:
    """A speed as an EDL says it, in frames a second: one decimal where that says it, else as many as it takes."""
    return f"{frames:05.1f}" if abs(frames - round(frames, 1)) < 1e-9 else f"{frames:.6f}"


def _timeline(p: Join) -> Any:
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
    for low, end, piece in _runs(pieces):
        if low > here:
            track.append(otio.schema.Gap(source_range=otio.opentime.TimeRange(at(0), at(low - here))))
        first = _lowest(float(pieces.frames[low]), end - low, piece.speed)
        reference = otio.schema.MissingReference(name=piece.name)
        clip = otio.schema.Clip(piece.name, reference, otio.opentime.TimeRange(at(first), at(end - low)))
        clip.metadata["anaxis"] = {
            "first_frame": plain_frame(p.first + low),
            "last_frame": plain_frame(p.first + end - 1),
        }
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
