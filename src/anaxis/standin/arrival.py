"""What of a camera arrived beside its picture: frames, rate, image, and the channels of the lens no picture shows."""

from __future__ import annotations

import numpy as np

from anaxis.core.camera.channels import BESIDE, CHANNELS
from anaxis.core.outgoing import Outgoing
from anaxis.core.proof.proof import Difference
from anaxis.core.time.rates import nearest_places, rate_label
from anaxis.core.typing import Bools, Floats
from anaxis.standin.package import Seen

# A file in single precision keeps a number to some parts in ten million.
_SAME = 1e-5
_ON_FRAME = 2e-3


def arrived_frames(own: Floats, owed: Floats, drawn: bool, still: bool) -> Bools:
    """Which of the frames ``owed`` (n,) arrived, where the file has samples on ``own`` (k,).

    A single sample stands for all frames of a camera that is ``still``; between few keys the motion is ``drawn``.
    """
    if len(own) <= 1:
        return np.full(len(owed), still) | (np.abs(owed - (own[0] if len(own) else np.inf)) < _ON_FRAME)
    inside = (owed >= own[0] - _ON_FRAME) & (owed <= own[-1] + _ON_FRAME)
    if drawn or still:
        return np.asarray(inside)
    return np.asarray(inside & (np.abs(own[nearest_places(own, owed)] - owed) < _ON_FRAME))


def differences(meant: Outgoing, sent: Outgoing, seen: Seen) -> tuple[Difference, ...]:
    """What is there otherwise than meant: image and rate as far as the file says them, focus, stop and clips."""
    out = []
    ours, theirs = meant.image, seen.image
    if "image" in seen.stated:
        if (ours.width_px, ours.height_px) != (theirs.width_px, theirs.height_px):
            out.append(
                Difference(
                    "image size",
                    f"{ours.width_px} x {ours.height_px} px",
                    f"{theirs.width_px} x {theirs.height_px} px there",
                    True,
                )
            )
        if abs(ours.pixel_aspect - theirs.pixel_aspect) > _SAME * ours.pixel_aspect:
            out.append(Difference("pixel aspect", f"{ours.pixel_aspect:g}", f"{theirs.pixel_aspect:g} there", True))
    if "rate" in seen.stated and seen.track.rate != sent.track.rate:
        out.append(
            Difference(
                "frame rate", f"{rate_label(sent.track.rate)} a second", f"{rate_label(seen.track.rate)} there", True
            )
        )
    for name in BESIDE:
        found = _channel(
            CHANNELS[name].label, CHANNELS[name].unit, getattr(meant.track.lens, name), getattr(seen.track.lens, name)
        )
        if found is not None:
            out.append(found)
    return tuple(out)


def _channel(label: str, unit: str, meant: Floats, arrived: Floats) -> Difference | None:
    said = np.isfinite(meant) & (meant > 0)
    if not said.any() or len(meant) != len(arrived):
        return None

    def words(values: Floats) -> str:
        low, high = float(values.min()), float(values.max())
        return f"{low:.6g} {unit}" if high - low <= _SAME * high else f"{low:.6g} to {high:.6g} {unit}"

    there = said & np.isfinite(arrived)
    if not there.any():
        return Difference(label, words(meant[said]), "not in the file: set it there", False)
    off = np.abs(arrived - meant) > _SAME * np.abs(meant)
    if not (off & there).any():
        return None
    return Difference(label, words(meant[said]), f"{words(arrived[there])} there", True)
