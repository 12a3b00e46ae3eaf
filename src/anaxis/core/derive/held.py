"""Held at a frame: a projection camera, which is the shot camera standing still as it stood on one frame."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.overscan import overscan_of, typed_overscan
from anaxis.core.camera.plate.window import window_of
from anaxis.core.camera.track import Track
from anaxis.core.derive.derived import Derived, DerivedKind, Input, Inputs, Shown
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.parameters import Number, Parameters, parameter
from anaxis.core.scene.projection_name import projection_name
from anaxis.core.time.rates import format_frame, nearest_places
from anaxis.core.typing import Floats

SHOT = "shot camera"


class Hold(Parameters):
    """Held ``at`` a frame; ``overscan`` as a delivery's (auto, a percentage, a size), "" for the plate's own size."""

    at: Number = parameter("Frame")
    overscan: str = parameter("Overscan", default="")
    name: str = parameter("Name", default="")


def make(inputs: Inputs, p: Hold) -> Derived:
    """Raises BadInput for a frame the camera has no sample on, and for an overscan that cannot be."""
    source = inputs[SHOT]
    place = sample_at(source.track, p.at)
    index = np.full(len(source.track), place)
    held = source.track.select_frames(index)
    distortion = None if held.distortion is None else source.track.distortion.select_frames(np.array([place]))  # type: ignore[union-attr]
    track = replace(
        held,
        name=p.name or projection_name(source.track.name, p.at),
        frames=source.track.frames,
        marked=None,
        distortion=distortion,
    )
    track, image = _with_overscan(track, source, p.overscan)
    marks = source.landmarks
    return Derived(
        track, image, source.picture.fit, marks, source.lines_m, source.triangles_m, (_said(source, p.at),),
        Shown((source.name,), np.zeros(len(track), dtype=np.int64), np.full(len(track), float(p.at))),
    )  # fmt: skip


def sample_at(track: Track, frame: float) -> int:
    """The place of the sample on a frame. Raises BadInput where there is none."""
    place = int(nearest_places(track.frames, np.array([frame]))[0])
    if abs(track.frames[place] - frame) > 1e-6:
        raise BadInput(
            f"'{track.name}' has no sample on frame {format_frame(frame)}: it runs from {format_frame(track.frames[0])} to "
            f"{format_frame(track.frames[-1])}."
        )
    return place


def _with_overscan(track: Track, source: Input, asked_for: str) -> tuple[Track, Image]:
    image, fit = source.picture.image, source.picture.fit
    if not asked_for:
        return track, image
    if asked_for.strip().lower() == "auto":
        if track.distortion is None:
            raise BadInput(
                f"'{source.track.name}' has no distortion to compute the overscan from: type a percentage, or a size in pixels."
            )
        render = overscan_of(track.distortion, window_of(track.lens, image, fit).simplest(), image).overscan
    else:
        render = typed_overscan(asked_for, image)
    # The plate as shot no longer fills a larger picture, so its distortion stays with the shot camera.
    return replace(track, lens=render.lens(track.lens, fit), distortion=None), render.image


def _said(source: Input, at: float) -> Finding:
    return Finding(
        "held_camera", "note",
        f"This is a projection camera: '{source.track.name}' held at frame {format_frame(at)}. It is not the shot camera.",
        "Use it for projection, and render through the shot camera.",
        "Used as the shot camera, it shows a still shot.", {"frame": at},
    )  # fmt: skip


def held_at(still: Track, moving: Track) -> float | None:
    """The frame of a moving camera at which a still one stands, looks and is as long as it; None where there is none."""
    apart = np.linalg.norm(moving.position_m - still.position_m[0], axis=1)
    turned = np.abs(moving.rotation - still.rotation[0]).reshape(len(moving), 9).max(axis=1)
    ratio = _tangent(moving) / _tangent(still)[0]
    near = (
        (apart <= 1e-4 * np.maximum(1.0, np.abs(still.position_m[0]).max()))
        & (turned <= 1e-5)
        & (np.abs(ratio - 1) <= 1e-4)
    )
    return float(moving.frames[int(np.argmax(near))]) if near.any() else None


def _tangent(track: Track) -> Floats:
    return track.lens.film_width_mm / track.lens.focal_mm


KIND = DerivedKind(
    "held", "held at a frame", Hold, make,
    lambda p: f"at frame {format_frame(p.at)}{f', overscan {p.overscan}' if p.overscan else ''}",
)  # fmt: skip
