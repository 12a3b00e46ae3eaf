"""The cut of the demo's first reel, as OpenTimelineIO: ``python demo/cut.py FILE``."""

from __future__ import annotations

import sys
from pathlib import Path

import opentimelineio as otio

RATE = 24
# Clip, its first source frame, how many frames are on screen.
CLIPS = (("TW_010_plate_v003", 1009, 96), ("TW_030_plate_v002", 1101, 72), ("TW_050_plate_v001", 1009, 60))


def make_cut(path: Path) -> Path:
    """Three shots one behind the other; the reel's timecode begins at an hour."""

    def at(value: float) -> otio.opentime.RationalTime:
        return otio.opentime.RationalTime(value, RATE)

    timeline = otio.schema.Timeline("reel_1", global_start_time=at(RATE * 3600))
    track = otio.schema.Track("V1", kind=otio.schema.TrackKind.Video)
    timeline.tracks.append(track)
    for name, first, count in CLIPS:
        held = otio.opentime.TimeRange(at(first), at(count))
        track.append(otio.schema.Clip(name, otio.schema.MissingReference(), held))
    path.parent.mkdir(parents=True, exist_ok=True)
    otio.adapters.write_to_file(timeline, str(path))
    return path


if __name__ == "__main__":
    print(make_cut(Path(sys.argv[1] if len(sys.argv) > 1 else "demo/files/reel_1.otio")))
