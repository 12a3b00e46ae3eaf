"""What of a camera is another beside its picture: image and rate, as far as they are said, focus, stop and clips.

Both ways hold a camera against these: the proof of a file that goes out, and a camera that came back.
"""

from __future__ import annotations

from fractions import Fraction
from typing import NamedTuple

import numpy as np

from anaxis.core.camera.channels import BESIDE, CHANNELS
from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Lens
from anaxis.core.proof.proof import Difference
from anaxis.core.time.rates import nearest_places, rate_label
from anaxis.core.typing import Bools, Floats

# A file in single precision keeps a number to some parts in ten million.
_SAME = 1e-5
_ON_FRAME = 2e-3


class Beside(NamedTuple):
    """A camera's ``lens`` on some frames, its image and rate; None for what is not said."""

    lens: Lens
    image: Image | None
    rate: Fraction | None


def arrived_frames(own: Floats, owed: Floats, drawn: bool, still: bool) -> Bools:
    """Which of the frames ``owed`` (n,) arrived, where the camera has samples on ``own`` (k,).

    A single sample stands for all frames of a camera that is ``still``; between few keys the motion is ``drawn``.
    """
    if len(own) <= 1:
        return np.full(len(owed), still) | (np.abs(owed - (own[0] if len(own) else np.inf)) < _ON_FRAME)
    inside = (owed >= own[0] - _ON_FRAME) & (owed <= own[-1] + _ON_FRAME)
    if drawn or still:
        return np.asarray(inside)
    return np.asarray(inside & (np.abs(own[nearest_places(own, owed)] - owed) < _ON_FRAME))


def differences(meant: Beside, arrived: Beside, absent: str) -> tuple[Difference, ...]:
    """What is there otherwise than meant; both lenses lie on the same frames. ``absent`` says of a channel that it is not there."""
    out = []
    ours, theirs = meant.image, arrived.image
    if ours is not None and theirs is not None:
        if (ours.width_px, ours.height_px) != (theirs.width_px, theirs.height_px):
            here, there = (f"{i.width_px} x {i.height_px} px" for i in (ours, theirs))
            out.append(Difference("image size", here, f"{there} there", True))
        if abs(ours.pixel_aspect - theirs.pixel_aspect) > _SAME * ours.pixel_aspect:
            out.append(Difference("pixel aspect", f"{ours.pixel_aspect:g}", f"{theirs.pixel_aspect:g} there", True))
    if meant.rate is not None and arrived.rate is not None and meant.rate != arrived.rate:
        here, there = (rate_label(r) for r in (meant.rate, arrived.rate))
        out.append(Difference("frame rate", f"{here} a second", f"{there} there", True))
    for name in BESIDE:
        channel = CHANNELS[name]
        found = _channel(channel.label, channel.unit, getattr(meant.lens, name), getattr(arrived.lens, name), absent)
        if found is not None:
            out.append(found)
    return tuple(out)


def _channel(label: str, unit: str, meant: Floats, arrived: Floats, absent: str) -> Difference | None:
    said = np.isfinite(meant) & (meant > 0)
    if not said.any() or len(meant) != len(arrived):
        return None

    def words(values: Floats) -> str:
        low, high = float(values.min()), float(values.max())
        return f"{low:.6g} {unit}" if high - low <= _SAME * high else f"{low:.6g} to {high:.6g} {unit}"

    there = said & np.isfinite(arrived)
    if not there.any():
        return Difference(label, words(meant[said]), absent, False)
    off = np.abs(arrived - meant) > _SAME * np.abs(meant)
    if not (off & there).any():
        return None
    return Difference(label, words(meant[said]), f"{words(arrived[there])} there", True)
