"""Work on a baked track: trim, renumber, bridge a jump, fill gaps, level the horizon, shift, keep a lens."""

from __future__ import annotations

from dataclasses import fields, replace
from typing import Any

import numpy as np
import scipy

from anaxis.core.camera.channels import CHANNELS, FRAMING
from anaxis.core.camera.track import Lens, Track
from anaxis.core.errors import BadInput
from anaxis.core.scene.tree import level_axes
from anaxis.core.time.rates import format_frame
from anaxis.core.typing import Bools, Floats


def bridged(track: Track, first: float, last: float) -> Track:
    """The frames from ``first`` to ``last`` drawn anew from their neighbours: straight, shortest arc."""
    bad = (track.frames >= first) & (track.frames <= last)
    if not bad.any():
        raise BadInput(
            f"'{track.name}' has no frame from {format_frame(first)} to {format_frame(last)}: it runs from "
            f"{format_frame(track.frames[0])} to {format_frame(track.frames[-1])}."
        )
    return _filled(track, ~bad)


def without_gaps(track: Track) -> Track:
    """Samples that are no numbers drawn anew from their neighbours, pose and lens each for itself."""
    good: Bools = np.asarray(np.isfinite(track.position_m).all(axis=1) & np.isfinite(track.rotation).all(axis=(1, 2)))
    out = track if good.all() else _filled(track, good)
    lens: dict[str, Floats] = {}
    for name in FRAMING:
        values = getattr(track.lens, name)
        known = np.isfinite(values)
        if known.any() and not known.all():
            lens[name] = np.interp(track.frames, track.frames[known], values[known])
    return replace(out, lens=replace(out.lens, **lens)) if lens else out


def _filled(track: Track, good: Bools) -> Track:
    """Pose on the frames that are not ``good`` (n,) from those that are; held before the first, after the last."""
    if not good.any():
        raise BadInput(f"'{track.name}' has no valid frame to interpolate from: repair it in the source.")
    known = track.frames[good]
    at = np.clip(track.frames[~good], known[0], known[-1])
    position, rotation = track.position_m.copy(), track.rotation.copy()
    for axis in range(3):
        position[~good, axis] = np.interp(at, known, track.position_m[good, axis])
    if len(known) == 1:
        rotation[~good] = track.rotation[good][0]
    else:
        rotation[~good] = scipy.spatial.transform.Slerp(
            known, scipy.spatial.transform.Rotation.from_matrix(track.rotation[good])
        )(at).as_matrix()
    return replace(track, position_m=position, rotation=rotation)


def levelled(track: Track) -> Track:
    """The same look on every frame, with a level horizon."""
    return replace(track, rotation=level_axes(track.rotation[:, :, 2], track.rotation[:, :, 0]))


def renumbered(track: Track, first: float) -> Track:
    """The same samples with other frame numbers; no pose changes."""
    return replace(track, frames=track.frames - track.frames[0] + first)


def with_near(track: Track, near_m: float) -> Track:
    if not (np.isfinite(near_m) and near_m > 0):
        raise BadInput(f"A near clip of {near_m:g} m is not possible: it must be above zero.")
    return replace(track, lens=replace(track.lens, near_m=np.full(len(track), near_m)))


def lens_document(track: Track) -> dict[str, Any]:
    """A track's lens as plain JSON: one number where a channel does not vary, else one a frame."""
    out: dict[str, Any] = {"frames": track.frames.tolist()}
    for name in CHANNELS:
        values = getattr(track.lens, name)
        listed = [None if np.isnan(v) else v for v in values.tolist()]
        out[name] = listed[0] if all(v == listed[0] for v in listed) else listed
    return out


def with_lens(track: Track, document: dict[str, Any]) -> Track:
    """The motion of ``track`` under the lens of :func:`lens_document`, held outside its frames.

    Raises BadInput for a document that does not fit.
    """
    try:
        known = np.array(document["frames"], dtype=np.float64)
        channels = {}
        for field in fields(Lens):
            value = document[field.name]
            if isinstance(value, list):
                values = np.array([np.nan if v is None else v for v in value], dtype=np.float64)
                channels[field.name] = np.interp(track.frames, known, values)
            else:
                channels[field.name] = np.full(len(track), np.nan if value is None else float(value))
    except (KeyError, TypeError, ValueError) as error:
        raise BadInput("The earlier lens cannot be read: remove the operation from the recipe.") from error
    return replace(track, lens=Lens(**channels))
