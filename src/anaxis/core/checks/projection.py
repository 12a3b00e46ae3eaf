"""A check for projection cameras: held at a frame of the shot camera, and easily taken for it."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from anaxis.core.camera.track import is_moving
from anaxis.core.checks.subject import Check, Subject
from anaxis.core.derive.held import held_at
from anaxis.core.findings import Finding
from anaxis.core.scene.projection_name import called_projection
from anaxis.core.time.rates import format_frame

WHY = "Used as the shot camera, a projection camera shows a still shot."


def _projection(subject: Subject) -> Iterator[Finding]:
    track = subject.track
    if subject.scene.format == "derived" or is_moving(track) or not np.isfinite(track.position_m).all():
        return
    for other in subject.others:
        if other.moves and (at := held_at(track, other.track)) is not None:
            yield held_finding(subject.path, other.node.path, at)
            return
    if called_projection(subject.baked.node.name):
        yield Finding(
            "projection_camera", "warning",
            f"{subject.path} is still and named as a projection camera: it is held at one frame of a shot.",
            "Take the shot camera for the shot, and this camera only for projection.", WHY, {}, None, subject.path,
        )  # fmt: skip


def held_finding(path: str, moving: str, at: float) -> Finding:
    """What is said of a still camera that stands where a moving one is on a frame."""
    return Finding(
        "projection_camera", "warning",
        f"{path} has the position of {moving}, held at frame {format_frame(at)}, with the same lens: it is a projection camera.",
        f"Take {moving} for the shot, and this camera only for projection.", WHY, {"frame": at}, None, path,
    )  # fmt: skip


CHECKS: tuple[Check, ...] = (_projection,)
