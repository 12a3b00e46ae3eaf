"""A card at a landmark that faces the camera: where it stands and how it is turned, for whoever puts one there."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.scene.tree import level_axes
from anaxis.core.space.axes import Convention
from anaxis.core.space.rotation import angles_from_matrices
from anaxis.core.typing import Floats


class Card(NamedTuple):
    """``position`` (3,) and ``rotation_deg`` (3,) in a package's numbers; ``away_m`` its distance from the camera."""

    position: Floats
    rotation_deg: Floats
    away_m: float


def card_at(track: Track, at: int, point_m: Floats, convention: Convention) -> Card:
    """A card at ``point_m`` whose face (its own back axis) looks at the camera on the sample ``at``, upright.

    As an object, not a camera, it turns by W R W^T. Raises BadInput where it stands in the camera.
    """
    away = track.position_m[at] - point_m
    length = float(np.linalg.norm(away))
    if length < 1e-9:
        raise BadInput(
            "The landmark is at the camera position on this frame, so a card cannot face the camera: choose another frame."
        )
    turn = level_axes((away / length)[None], track.rotation[at : at + 1, :, 0])
    own = convention.world @ turn @ convention.world.T
    angles = angles_from_matrices(own, convention.order, convention.signs).deg[0]
    return Card(convention.position_from_canonical(point_m), angles, length)
