"""Reading an edit: which frames of which shot it shows and where one follows another, from OpenTimelineIO or an EDL."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import asdict, dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from anaxis.core.errors import BadInput
from anaxis.core.recipe import Operation
from anaxis.core.timing import format_frame, nearest_rate, parse_rate, rate_label, rate_text
from anaxis.core.track import Track

SUFFIXES = (".otio", ".edl")
_MAX_CLIPS = 20_000
_MAX_CUTS = 200


@dataclass(frozen=True)
class Clip:
    """A piece of the edit: its name, the frames of its source (both counted in), and where it begins, in frames from
    the beginning of the edit."""

    name: str
    first: float
    last: float
    begins: float


@dataclass(frozen=True)
class Edit:
    """The clips of all picture tracks, in their order; ``rate`` is that of the edit."""

    name: str
    rate: Fraction
    clips: tuple[Clip, ...]

    @property
    def cuts(self) -> list[float]:
        """Where one clip follows another, in frames from the beginning; the beginning itself is none."""
        return sorted({c.begins for c in self.clips if c.begins > 0})

    def as_dict(self) -> dict[str, Any]:
        return {"name": self.name, "rate": rate_text(self.rate), "clips": [asdict(c) for c in self.clips]}


def edit_from_dict(document: dict[str, Any]) -> Edit:
    """The inverse of :meth:`Edit.as_dict`."""
    return Edit(document["name"], parse_rate(document["rate"]), tuple(Clip(**c) for c in document["clips"]))


def read_edit(path: Path, rate: Fraction) -> Edit:
    """Read an edit; ``rate`` is what an EDL's timecodes count in, which it does not state.

    Raises BadInput for a file that is neither, is damaged, or holds no clip.
    """
    import opentimelineio as otio

    suffix = path.suffix.lower()
    if suffix not in SUFFIXES:
        raise BadInput(f"{path.name} is no edit that can be read: hand over one of {', '.join(SUFFIXES)}.")
    try:
        if suffix == ".edl":
            timeline = otio.adapters.read_from_file(str(path), adapter_name="cmx_3600", rate=float(rate))
        else:
            timeline = otio.adapters.read_from_file(str(path), adapter_name="otio_json")
    except Exception as error:  # the library has an exception of its own for everything
        words = " ".join(str(error).split())[:160] or type(error).__name__
        raise BadInput(f"{path.name} cannot be read as an edit ({words}): export it again.") from error
    if not isinstance(timeline, otio.schema.Timeline):
        raise BadInput(f"{path.name} holds no timeline: export the edit itself.")
    clips, rates = [], []
    for track in timeline.video_tracks():
        for clip in track.find_clips():
            try:
                source, place = clip.trimmed_range(), track.range_of_child(clip)
            except (otio.exceptions.OTIOError, ValueError) as error:
                raise BadInput(
                    f"{path.name}, clip '{clip.name}', does not say which frames it shows: export the edit with its source ranges."
                ) from error
            if source.duration.value <= 0:
                continue
            first = float(source.start_time.value)
            begins = place.start_time.rescaled_to(place.duration.rate).value
            clips.append(
                Clip(clip.name or "", first, first + float(source.duration.value) - 1, float(begins))
            )
            rates.append(float(place.duration.rate))
    if not clips:
        raise BadInput(f"{path.name} holds no clip on a picture track: export the edit with its pictures.")
    if len(clips) > _MAX_CLIPS:
        raise BadInput(
            f"{path.name} holds {len(clips)} clips; at most {_MAX_CLIPS} are taken: export one sequence."
        )
    return Edit(timeline.name or path.stem, nearest_rate(rates[0]), tuple(clips))


def cut_operations(edit: Edit, track: Track, begins: float) -> list[Operation]:
    """The edit's cuts as marks in a camera that runs through it; ``begins`` is the camera's frame at which the edit begins.

    Raises BadInput where the rates differ, or no cut lies on a frame of the camera.
    """
    if edit.rate != track.rate:
        raise BadInput(
            f"The edit '{edit.name}' runs at {rate_label(edit.rate)} frames a second and the camera at {rate_label(track.rate)}: "
            "change the camera's rate first, or export the edit anew."
        )
    at = np.array([begins + c for c in edit.cuts])
    inside = at[np.isin(np.round(at, 4), np.round(track.frames[1:], 4))].tolist()
    if not inside:
        raise BadInput(
            f"No cut of the edit '{edit.name}' lies on the camera's frames {format_frame(track.frames[0])} to "
            f"{format_frame(track.frames[-1])}: say at which of them the edit begins."
        )
    return [Operation("cut", {"frame": frame, "way": "a cut"}) for frame in inside[:_MAX_CUTS]]


def shots_in(edit: Edit, shots: Iterable[str]) -> dict[str, list[Clip]]:
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
