"""Habits about parents."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import scipy

from anaxis.core.parameters import Parameters
from anaxis.core.space.axes import Convention
from anaxis.core.typing import Floats
from anaxis.packages.habit import Arriving, HabitKind, Outbound


class Parents(Parameters):
    """The camera's parents left out."""


def _parents_arrives(a: Arriving, p: Parents, convention: Convention) -> Arriving:
    return a.moved(a.local[:, :3, 3], a.local[:, :3, :3])


def _parents_undone(s: Outbound, p: Parents) -> Outbound:
    return s  # deliveries have no parents


PARENTS = HabitKind(
    "parents",
    "Ignores parents",
    Parents,
    _parents_arrives,
    _parents_undone,
    lambda p: "ignores the parents of the camera",
    1.2,
    on_tree=True,
)


class Twice(Parameters):
    """The topmost transform applied twice."""


def _twice_arrives(a: Arriving, p: Twice, convention: Convention) -> Arriving:
    turn, place = a.top[:, :3, :3], a.top[:, :3, 3]
    track = a.track
    return a.moved(np.einsum("nij,nj->ni", turn, track.position_m) + place, turn @ track.rotation)


def _twice_undone(s: Outbound, p: Twice) -> Outbound:
    """What gives the pose when it is applied twice: half the rotation, and the place from which that leads on.

    A file's camera has no parent, so its own transform is the topmost, in the file's numbers W R C^T; as a
    move of canonical space that is R A with A = C^T W. Twice that on X asks for X A X = R: X A is the root
    of R A, and (X A + 1) p' = p.
    """
    between = s.axes.camera.T @ s.axes.world
    half = scipy.spatial.transform.Rotation.from_rotvec(
        scipy.spatial.transform.Rotation.from_matrix(s.track.rotation @ between).as_rotvec() / 2
    ).as_matrix()
    place: Floats = np.asarray(
        np.linalg.solve(half + np.eye(3), s.track.position_m[:, :, None])[:, :, 0], dtype=np.float64
    )
    # A landmark's transform is a move alone, and half of it twice is the whole.
    return replace(s.moved(place, half @ between.T), marks_m=s.marks_m / 2)


TWICE = HabitKind(
    "twice",
    "Applies the top transform twice",
    Twice,
    _twice_arrives,
    _twice_undone,
    lambda p: "applies the topmost transform twice",
    1.6,
    on_tree=True,
)
