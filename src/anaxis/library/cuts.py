"""The cuts of a camera: found in its motion, marked by a person, or denied by one."""

from __future__ import annotations

from anaxis.core.camera.track import Track
from anaxis.core.motion.cuts import cuts_of, found_cuts


def cuts_noted(track: Track) -> tuple[list[tuple[float, str]], list[float]]:
    """The frames at which something new begins, each "found" or "marked"; and those found that a person has denied."""
    found = set(found_cuts(track).tolist())
    denied = [] if track.marked is None else [i for i, m in enumerate(track.marked.tolist()) if m < 0 and i in found]
    cuts = [(float(track.frames[i]), "found" if i in found else "marked") for i in cuts_of(track).tolist()]
    return cuts, [float(track.frames[i]) for i in denied]
