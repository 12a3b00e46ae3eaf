"""Reading an edit: which frames of which shot it shows and where one follows another, from OpenTimelineIO or an EDL."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable
from dataclasses import asdict, dataclass, field, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from anaxis.core.bounds import MAX_NUMBER
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.names import listed
from anaxis.core.recipe.model import Operation
from anaxis.core.time.rates import format_frame, nearest_rate, parse_rate, rate_label, rate_text
from anaxis.formats.editorial.timecodes import can_drop

SUFFIXES = (".otio", ".edl")
_MAX_CLIPS = 20_000
_MAX_CUTS = 200


@dataclass(frozen=True)
class Clip:
    """A piece of the edit as it is seen: its name, the frames of its source (both counted in, handles left out), and
    where it begins, in frames from the beginning of the edit. ``rate`` is that of its source where it is another than
    the edit's, ``speed`` how many of its frames go by for one at its own rate: 0 where one frame is held. ``start`` is the
    source's frame, whole or not, on its first frame on screen, of ``frames`` frames of the edit; ``mixed_in`` and
    ``mixed_out`` over how many of them a transition mixes it with what stands before and behind it."""

    name: str
    first: float
    last: float
    begins: float
    rate: str = ""
    speed: float = 1.0
    start: float = field(default=0.0, compare=False)  # the rest says the same less closely
    frames: float = field(default=0.0, compare=False)
    mixed_in: float = field(default=0.0, compare=False)
    mixed_out: float = field(default=0.0, compare=False)


@dataclass(frozen=True)
class CutList:
    """The clips that are seen, in their order; ``rate`` is that of the edit, ``notes`` say which clips were left out or
    not understood, and why. ``drops`` says that it counts drop-frame timecode."""

    name: str
    rate: Fraction
    clips: tuple[Clip, ...]
    notes: tuple[str, ...] = ()
    drops: bool = False

    @property
    def cuts(self) -> list[float]:
        """Where one clip follows another, in frames from the beginning; the beginning itself is none."""
        return sorted({c.begins for c in self.clips if c.begins > 0})

    def as_dict(self) -> dict[str, Any]:
        return {
            "name": self.name,
            "rate": rate_text(self.rate),
            "clips": [asdict(c) for c in self.clips],
            "notes": list(self.notes),
            "drops": self.drops,
        }


def cut_list_from_dict(document: dict[str, Any]) -> CutList:
    """The inverse of :meth:`CutList.as_dict`."""
    return CutList(
        document["name"],
        parse_rate(document["rate"]),
        tuple(Clip(**c) for c in document["clips"]),
        tuple(document.get("notes", ())),
        bool(document.get("drops")),
    )


def read_cut_list(path: Path, rate: Fraction) -> CutList:
    """Read an edit; ``rate`` is what an EDL's timecodes count in, which it does not state.

    Raises BadInput for a file that is neither, is damaged, or holds no clip.
    """
    import opentimelineio as otio

    suffix = path.suffix.lower()
    if suffix not in SUFFIXES:
        raise BadInput(f"{path.name} is not an edit Anaxis reads: use one of {', '.join(SUFFIXES)}.")
    try:
        if suffix == ".edl":
            text = _speeds_kept(path.read_text(encoding="utf-8", errors="replace"), float(rate))
            timeline = otio.adapters.read_from_string(text, adapter_name="cmx_3600", rate=float(rate))
        else:
            timeline = otio.adapters.read_from_file(str(path), adapter_name="otio_json")
    except Exception as error:  # the library has an exception of its own for everything
        words = " ".join(str(error).split())[:160] or type(error).__name__
        raise BadInput(f"{path.name} cannot be read as an edit ({words}): export it again.") from error
    if not isinstance(timeline, otio.schema.Timeline):
        raise BadInput(f"{path.name} has no timeline: export the edit itself.")
    clips, notes = _clips_of(timeline, path.name)
    if suffix == ".edl":
        notes += _transitions_unseen(path, sum(c.mixed_in > 0 for c, _ in clips))
    if not clips:
        left_out = f" ({notes[0]})" if notes else ""
        raise BadInput(
            f"{path.name} has no clip on a visible picture track{left_out}: export the edit with its pictures."
        )
    if len(clips) > _MAX_CLIPS:
        raise BadInput(f"{path.name} holds {len(clips)} clips; at most {_MAX_CLIPS} are possible: export one sequence.")
    counted = Counter(rate for _, rate in clips)
    edit_rate = _edit_rate(timeline, counted)
    drops = (
        suffix == ".edl" and can_drop(edit_rate) and _DROPS.search(path.read_text(encoding="utf-8", errors="replace"))
    )
    return CutList(
        timeline.name or path.stem, edit_rate, tuple(_in_rate(c, r, edit_rate) for c, r in clips), tuple(notes), bool(drops)
    )  # fmt: skip


# A list that counts drop-frame timecode says so in its head, or by semicolons.
_DROPS = re.compile(r"^FCM:\s+DROP FRAME|^\d+\s.*\d\d;\d\d\s*$", re.MULTILINE)
# An event's number, reel, track, and a dissolve, wipe or key with its length in frames.
_MIXED = re.compile(r"^(\d+)\s+\S+\s+\S+\s+(D|W\d+|K\S*)(?:\s+[A-Z])?\s+(\d+)\s", re.MULTILINE)


# The four timecodes of an event, and the speed that a line below it states in frames a second.
_EVENT = re.compile(r"^(\d+\s+\S+\s+\S+\s+\S.*?\s)(\S+[:;]\d+)\s+(\S+[:;]\d+)\s+(\S+[:;]\d+)\s+(\S+[:;]\d+)\s*$")
_SPEED = re.compile(r"^M2\s+\S.*?\s(-?\d+(?:\.\d+)?)\s+\d\d[:;]")
_LATEST = "23:59:59:00"


def _speeds_kept(text: str, rate: float) -> str:
    """An EDL whose reader does not pass over a speed: it does where source and record are of one length, as of a clip that
    is played backwards at its own speed. The source of such an event is made longer, which its speed is read beside."""
    rows = text.splitlines()
    event: tuple[int, re.Match[str]] | None = None
    for i, row in enumerate(rows):
        found = _EVENT.match(row)
        if found:
            event = i, found
        speed = _SPEED.match(row)
        if speed and event is not None and abs(float(speed[1]) - rate) > 1e-6:
            at, begun = event
            head, low, _, *record = begun.groups()
            rows[at] = f"{head}{low} {_LATEST} {record[0]} {record[1]}"
            event = None
    return "\n".join(rows) + "\n"


def _transitions_unseen(path: Path, seen: int) -> list[str]:
    """The transitions of an EDL that its reader passes over: those whose event does not name both clips."""
    found = _MIXED.findall(path.read_text(encoding="utf-8", errors="replace"))
    if len(found) <= seen:
        return []
    listed = ", ".join(f"event {n} over {int(frames)} frames" for n, _, frames in found[:8])
    return [
        f"The EDL has transitions that are treated as cuts ({listed}): they show two shots at once; keep their frames as handles."
    ]


def _name_of(clip: Any) -> str:
    """What a clip is called. One of an EDL that names none goes by its reel: its reader calls it by the event's number."""
    reel = str(clip.metadata.get("cmx_3600", {}).get("reel", ""))
    return reel if reel and re.fullmatch(r"\d{1,6}", clip.name or "0") else clip.name or ""


def _clips_of(timeline: Any, name: str) -> tuple[list[tuple[Clip, float]], list[str]]:
    """The clips of an edit. Raises BadInput where a time of one is not a number, or one that nothing counts to."""
    no_number = BadInput(f"{name} holds a time or a rate that is not a number: export it again.", "not_a_number")
    try:
        clips, notes = _Reading(timeline, name).clips()
    except BadInput:
        raise
    except (ValueError, OverflowError, ZeroDivisionError) as error:
        raise no_number from error
    for clip, rate in clips:
        times = (clip.begins, clip.frames, clip.first, clip.speed, clip.mixed_in, clip.mixed_out, rate)
        if not all(abs(t) <= MAX_NUMBER for t in times):
            raise no_number
    return clips, notes


def _edit_rate(timeline: Any, counted: Counter[float]) -> Fraction:
    """What the edit itself counts in: its own start where it states one, else what most clips stand in."""
    start = timeline.global_start_time
    own = float(start.rate) if start is not None and start.rate > 1 else 0.0
    return nearest_rate(own if own in counted or (own and len(counted) > 1) else counted.most_common(1)[0][0])


def _in_rate(clip: Clip, place_rate: float, rate: Fraction) -> Clip:
    """A clip whose places are counted at ``place_rate``, counted in the edit's own; its source's rate if another."""

    def counted(place: float) -> float:
        here = place * float(rate) / place_rate
        return float(round(here)) if abs(here - round(here)) < 1e-6 else here

    begins, frames, mixed_in, mixed_out = (
        counted(v) for v in (clip.begins, clip.frames, clip.mixed_in, clip.mixed_out)
    )
    own = "" if parse_rate(clip.rate) == rate else clip.rate
    return replace(clip, begins=begins, frames=frames, mixed_in=mixed_in, mixed_out=mixed_out, rate=own)


class _Reading:
    """The clips of a timeline that are seen, from the top track down, and what was left out on the way."""

    def __init__(self, timeline: Any, name: str) -> None:
        self.timeline, self.name = timeline, name
        self.notes: list[str] = []
        self.covered: list[tuple[float, float]] = []  # seconds of the edit that a track above shows
        self.handles: list[str] = []

    def clips(self) -> tuple[list[tuple[Clip, float]], list[str]]:
        out: list[tuple[Clip, float]] = []
        for track in reversed(self.timeline.video_tracks()):
            if not track.enabled:
                self.notes.append(f"Track '{track.name}' is switched off; its clips are skipped.")
                continue
            out += self._of_track(track)
        out.sort(key=lambda c: c[0].begins / c[1])
        if self.handles:
            self.notes.append(
                f"Handles in the edit are not on screen and are skipped: {listed(self.handles, 3, '; ')}."
            )
        return out, self.notes

    def _of_track(self, track: Any) -> list[tuple[Clip, float]]:
        out, here = [], []
        for clip in track.find_clips():
            if not clip.enabled:
                self.notes.append(f"Clip '{clip.name}' is switched off and skipped.")
                continue
            placed = self._placed(track, clip)
            if placed is None:
                continue
            begins, length, first, rate, speed, place_rate = placed
            mixed = _mixed(clip, place_rate)
            handles = _handles(clip)
            if handles is not None:
                self.handles.append(f"'{clip.name}' {handles[0]:g} frames before and {handles[1]:g} behind")
            span = (begins / place_rate, (begins + length) / place_rate)
            here.append(span)
            seen = _without(span, self.covered)
            if not seen:
                self.notes.append(f"Clip '{clip.name}' is hidden by another track and is skipped.")
            elif seen != [span]:
                self.notes.append(
                    f"Clip '{clip.name}' is partly hidden by another track: only its visible part counts."
                )
            for start, end in seen:
                # Places of the edit to frames of the source, at the clip's own speed.
                skipped, count = (start - span[0]) * rate * speed, (end - start) * rate
                low, high = first + skipped, first + skipped + last_of(count, speed)
                out.append((
                    Clip(
                        _name_of(clip), *_whole(min(low, high), max(low, high)), round(start * place_rate, 6), rate_text(nearest_rate(rate)),
                        speed, round(low, 6), round((end - start) * place_rate, 6),
                        mixed[0] if start <= span[0] + 1e-9 else 0.0, mixed[1] if end >= span[1] - 1e-9 else 0.0,
                    ),
                    place_rate,
                ))  # fmt: skip
        self.covered = sorted([*self.covered, *here])
        return out

    def _placed(self, track: Any, clip: Any) -> tuple[float, float, float, float, float, float] | None:
        """Where a clip begins in the edit and its length, both in frames of the edit; its source's first frame, rate
        and speed; the rate of the place. None where the track's own range shows nothing of it."""
        import opentimelineio as otio

        try:
            source, whole = clip.trimmed_range(), track.range_of_child(clip)
        except (otio.exceptions.OTIOError, ValueError) as error:
            raise BadInput(
                f"{self.name}, clip '{clip.name}', does not state its frames: export the edit with source ranges."
            ) from error
        if source.duration.value <= 0:
            return None
        place_rate = float(whole.duration.rate)
        start, length = (t.rescaled_to(place_rate).value for t in (whole.start_time, whole.duration))
        low, high = _shown_of(track, place_rate)
        shown_from, shown_to = max(start, low), min(start + length, high)
        if shown_to <= shown_from:
            self.notes.append(f"Clip '{clip.name}' is outside the visible range of its track and is skipped.")
            return None
        rate, speed = float(source.start_time.rate), self._speed(clip)
        first = float(source.start_time.value)
        if speed < 0:  # the source's range is what is shown, from its end to its begin
            first += self._to_the_end(clip, first, last_of(length / place_rate * rate, -speed))
            self.notes.append(f"Clip '{clip.name}' plays backwards from its frame {first:g} on.")
        first += (shown_from - start) / place_rate * rate * speed
        return float(shown_from - low), float(shown_to - shown_from), first, rate, speed, place_rate

    def _to_the_end(self, clip: Any, first: float, far: float) -> float:
        """How far behind the begin of its source's range a clip begins that is played backwards: ``far`` frames, or none where
        the media holds that many before it alone, as some write it."""
        held = getattr(clip.media_reference, "available_range", None)
        if held is None:
            return far
        low, high = float(held.start_time.value), float(held.end_time_exclusive().value)
        return 0.0 if first + far >= high and first - far >= low else far

    def _speed(self, clip: Any) -> float:
        """How fast its source goes by; what else is done to it in time is named."""
        import opentimelineio as otio

        speed = 1.0
        for effect in clip.effects:
            if isinstance(effect, otio.schema.FreezeFrame):
                speed = 0.0
            elif isinstance(effect, otio.schema.LinearTimeWarp):
                speed *= float(effect.time_scalar)
            elif isinstance(effect, otio.schema.TimeEffect):
                self.notes.append(
                    f"Clip '{clip.name}' has a speed change '{effect.name or effect.effect_name or 'without a name'}' that Anaxis does not know: its frames are counted at normal speed."
                    ""
                )
            else:
                self.notes.append(
                    f"Clip '{clip.name}' has an effect '{effect.name or effect.effect_name or 'without a name'}' that is not about time: it cannot change a camera."
                    ""
                )
        try:
            beside = [n for n in clip.parent().neighbors_of(clip) if isinstance(n, otio.schema.Transition)]
        except (AttributeError, otio.exceptions.OTIOError):
            beside = []
        if beside:
            self.notes.append(
                f"Clip '{clip.name}' has a transition beside it: its frames are not counted; keep them as handles."
            )
        return speed


def _handles(clip: Any) -> tuple[float, float] | None:
    """How many frames a clip's media has before and behind what the edit shows; None where it says nothing, or has none."""
    held = getattr(clip.media_reference, "available_range", None)
    if held is None:
        return None
    shown = clip.trimmed_range()
    rate = shown.start_time.rate
    before = shown.start_time.value - held.start_time.rescaled_to(rate).value
    behind = held.end_time_exclusive().rescaled_to(rate).value - shown.end_time_exclusive().value
    found = max(0.0, round(before, 3)), max(0.0, round(behind, 3))
    return found if max(found) > 0 else None


def _mixed(clip: Any, rate: float) -> tuple[float, float]:
    """Over how many frames a transition before and behind a clip lasts."""
    import opentimelineio as otio

    try:
        before, behind = clip.parent().neighbors_of(clip)
    except (AttributeError, ValueError, otio.exceptions.OTIOError):
        return 0.0, 0.0

    def length(beside: Any) -> float:
        if not isinstance(beside, otio.schema.Transition):
            return 0.0
        return float(sum(t.rescaled_to(rate).value for t in (beside.in_offset, beside.out_offset)))

    return length(before), length(behind)


def _shown_of(track: Any, rate: float) -> tuple[float, float]:
    """The part of a track that its own range shows, in frames; all of it where there is none, or none that fits.

    Some writers put the clip's own timecode there, which lies behind all that the track holds.
    """
    whole = float(track.available_range().duration.rescaled_to(rate).value)
    if track.source_range is None:
        return 0.0, whole
    low = float(track.source_range.start_time.rescaled_to(rate).value)
    high = low + float(track.source_range.duration.rescaled_to(rate).value)
    return (low, min(high, whole)) if 0 <= low < whole else (0.0, whole)


def last_of(count: float, speed: float) -> float:
    """How far behind its first frame a clip's last one lies, that shows ``count`` frames at a speed."""
    if speed == 0:
        return 0.0
    far = count * abs(speed)
    return float(np.copysign(max(0.0, np.ceil(far - 1e-6) - 1), speed))


def _whole(first: float, last: float) -> tuple[float, float]:
    return float(np.floor(first + 1e-6)), float(np.ceil(last - 1e-6))


def _without(span: tuple[float, float], covered: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """What is left of a span (seconds) without the parts that are covered."""
    left, at = [], span[0]
    for start, end in covered:
        if end <= at or start >= span[1]:
            continue
        if start > at + 1e-9:
            left.append((at, start))
        at = max(at, end)
    if at < span[1] - 1e-9:
        left.append((at, span[1]))
    return left


def cut_operations(edit: CutList, track: Track, begins: float) -> list[Operation]:
    """The edit's cuts as marks in a camera that runs through it; ``begins`` is the camera's frame at which the edit begins.

    Raises BadInput where the rates differ, or no cut lies on a frame of the camera.
    """
    if edit.rate != track.rate:
        raise BadInput(
            f"The edit '{edit.name}' runs at {rate_label(edit.rate)} frames a second and the camera at {rate_label(track.rate)}: "
            "change the camera's rate first, or export the edit again."
        )
    at = np.array([begins + c for c in edit.cuts])
    inside = at[np.isin(np.round(at, 4), np.round(track.frames[1:], 4))].tolist()
    if not inside:
        raise BadInput(
            f"No cut of the edit '{edit.name}' is within the camera frames {format_frame(track.frames[0])} to "
            f"{format_frame(track.frames[-1])}: set the first frame of the edit."
        )
    return [Operation("cut", {"frame": frame, "way": "a cut"}) for frame in inside[:_MAX_CUTS]]


def shots_in(edit: CutList, shots: Iterable[str]) -> dict[str, list[Clip]]:
    """The clips of each shot that is in the edit: named like it, or like it with more behind a sign ("TW_010_comp_v003")."""
    longest_first = sorted(shots, key=len, reverse=True)
    out: dict[str, list[Clip]] = {}
    for clip in edit.clips:
        name = next((s for s in longest_first if _is_of(clip.name, s)), None)
        if name is not None:
            out.setdefault(name, []).append(clip)
    return out


def _is_of(clip: str, shot: str) -> bool:
    return re.match(re.escape(shot) + r"(?![A-Za-z0-9])", clip.strip(), re.IGNORECASE) is not None
