"""What of a camera made of a recording was not measured: frames in gaps, jumps that were removed, jumps too small to tell."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import Any

from anaxis.core.findings import Finding
from anaxis.core.motion.recorded import GAP_WORDS, Gaps, Taken
from anaxis.core.time.rates import format_frame

# Long gaps that are named one by one.
_GAPS_SAID = 8


def recorded_words(made: Taken) -> str:
    """What was done to a recording, in a few words."""
    parts = [f"recorded, {len(made.track)} frames"]
    if made.drawn.size:
        parts.append(f"{made.drawn.size} in gaps")
    if made.healed:
        parts.append(f"{len(made.healed)} jump{'s' * (len(made.healed) > 1)} removed")
    if made.smoothing is not None:
        parts.append(f"smoothed by {made.smoothing.max_px:.2f} px at most")
    return ", ".join(parts)


def guesses_left(findings: Iterable[Finding], in_seconds: bool) -> list[Finding]:
    """The warnings about guesses in a recorded file that hold for the camera made of it. With a clock of its own (``in_seconds``)
    the file's rate and numbering play no part."""
    idle = ("guessed_rate", "guessed_frames") if in_seconds else ()
    return [
        replace(f, operation=None)
        for f in findings
        if f.severity == "warning" and f.code.startswith(("guessed_", "default_lens")) and f.code not in idle
    ]


def recorded_findings(made: Taken, gaps: Gaps, path: str) -> list[Finding]:
    """What of the camera was not measured."""
    out = []
    if made.drawn.size:
        listed = ", ".join(format_frame(f) for f in made.drawn[:8].tolist()) + (
            f" and {made.drawn.size - 8} more" if made.drawn.size > 8 else ""
        )
        out.append(
            Finding(
                "recorded_gap", "note", f"The recording has no samples for {made.drawn.size} of {len(made.track)} frames ({listed}): they are {GAP_WORDS[gaps]}.",
                "Look at these frames, or record again.", "Frames without samples are a guess, however smooth they look.",
                {"frames": int(made.drawn.size), "gaps": len(made.gaps)}, None, path,
            )
        )  # fmt: skip
    for jump in made.healed:
        frame = float(made.track.frames[0]) + jump.at_s * float(made.track.rate)
        out.append(
            Finding(
                "recorded_jump", "note", f"Tracking jump at frame {format_frame(round(frame))}: {jump.metres:.3g} m, {jump.degrees:.3g} degrees. Anaxis removed the jump: the motion after it continues the motion before it."
                "",
                "Check with the set which of the two positions is right.", "The camera after the jump has the error that the tracker had before it.",
                {"frame": round(frame), "jump_m": jump.metres, "jump_deg": jump.degrees}, None, path,
            )
        )  # fmt: skip
    for jump in made.jumps:
        if jump in made.healed:
            continue
        numbers = {"at_s": jump.at_s, "jump_m": jump.metres, "jump_deg": jump.degrees}
        out.append(
            Finding(
                "recorded_jump_left", "warning", f"The tracking jump at {jump.at_s:.2f} s ({jump.metres:.2g} m, {jump.degrees:.2g} degrees) stays in the camera.",
                "Remove the jump, or allow this warning if the shot has a cut there.", "The camera leaps at this frame.",
                numbers, None, path,
            )
        )  # fmt: skip
    first, rate = float(made.track.frames[0]), float(made.track.rate)
    for gap in made.smallest_jumps[:_GAPS_SAID]:
        frame = round(first + gap.start_s * rate)
        least = (
            "cannot be found: the recording is too short"
            if gap.metres is None or gap.degrees is None
            else f"is found from {gap.metres:.2g} m or {gap.degrees:.2g} degrees. A smaller jump looks like motion"
        )
        least_of: dict[str, Any] = {
            "frame": frame,
            "gap_s": gap.gap_s,
            "smallest_m": gap.metres,
            "smallest_deg": gap.degrees,
        }
        out.append(
            Finding(
                "recorded_gap_jump", "note", f"In the gap of {gap.gap_s:.2g} s at frame {format_frame(frame)}, a tracking jump {least}.",
                "Compare the set before and after the gap with the plate.", "After a gap, the tracker may have lost its position.",
                least_of, None, path,
            )
        )  # fmt: skip
    return out
