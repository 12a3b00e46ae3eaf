"""Habits about the world: axes, unit, rotation, place, scale, which way a camera looks."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np
from pydantic import model_validator

from anaxis.core.parameters import Number, Parameters, Positive, parameter
from anaxis.core.scene.nodes import UP_AXES
from anaxis.core.space.axes import Convention, axis_vector
from anaxis.core.space.rotation import about_axis, camera_turn
from anaxis.packages.habit import Arriving, HabitKind, Outbound, number


class UpAxis(Parameters):
    """The file's up axis is not listened to."""

    up: Literal["X", "Y", "Z"] = parameter("Reads every file as", "up", default="Y")


def _up_axis_arrives(a: Arriving, p: UpAxis, convention: Convention) -> Arriving:
    return a if a.file_up is None else a.rotated(UP_AXES[p.up].T @ UP_AXES[a.file_up])


def _up_axis_undone(s: Outbound, p: UpAxis) -> Outbound:
    if s.file_up is None or s.file_up == p.up:
        return s
    return s.rotated((UP_AXES[p.up].T @ UP_AXES[s.file_up]).T)


UP_AXIS = HabitKind(
    "up_axis",
    "Ignores the file's up axis",
    UpAxis,
    _up_axis_arrives,
    _up_axis_undone,
    lambda p: f"reads every file as {p.up} up, whatever the file states",
    on_objects=True,
)


class Unit(Parameters):
    """The file's unit is not listened to."""

    metres_per_unit: Positive = parameter("Reads a unit as", "m", default=0.01)


def _unit_arrives(a: Arriving, p: Unit, convention: Convention) -> Arriving:
    return a if a.file_unit_m is None else a.scaled(p.metres_per_unit / a.file_unit_m)


def _unit_undone(s: Outbound, p: Unit) -> Outbound:
    return s if s.file_unit_m is None else s.scaled(s.file_unit_m / p.metres_per_unit)


UNIT = HabitKind(
    "unit",
    "Ignores the file's unit",
    Unit,
    _unit_arrives,
    _unit_undone,
    lambda p: f"reads the unit of every file as {number(p.metres_per_unit)} m, whatever the file states",
    on_objects=True,
)


class WorldTurn(Parameters):
    """The whole world rotated about one of the package's axes."""

    axis: Literal["X", "Y", "Z"] = parameter("About its axis", default="X")
    angle_deg: Number = parameter("By", "°", default=-90.0)


def _world_turn_arrives(a: Arriving, p: WorldTurn, convention: Convention) -> Arriving:
    return a.rotated(about_axis(p.axis, p.angle_deg, convention))


def _world_turn_undone(s: Outbound, p: WorldTurn) -> Outbound:
    return s.rotated(about_axis(p.axis, p.angle_deg, s.convention).T)


WORLD_TURN = HabitKind(
    "world_turn",
    "Rotates the world",
    WorldTurn,
    _world_turn_arrives,
    _world_turn_undone,
    lambda p: f"rotates the world by {number(p.angle_deg)} degrees about its {p.axis}",
    on_objects=True,
)


class WorldShift(Parameters):
    """The whole world shifted."""

    x: Number = parameter("X", "its units", default=0.0)
    y: Number = parameter("Y", "its units", default=0.0)
    z: Number = parameter("Z", "its units", default=0.0)


def _world_shift_arrives(a: Arriving, p: WorldShift, convention: Convention) -> Arriving:
    return a.moved(a.track.position_m + convention.position_to_canonical(np.array([p.x, p.y, p.z])), a.track.rotation)


def _world_shift_undone(s: Outbound, p: WorldShift) -> Outbound:
    back = s.convention.position_to_canonical(np.array([p.x, p.y, p.z]))
    return replace(s.moved(s.track.position_m - back, s.track.rotation), marks_m=s.marks_m - back)


WORLD_SHIFT = HabitKind(
    "world_shift",
    "Shifts the world",
    WorldShift,
    _world_shift_arrives,
    _world_shift_undone,
    lambda p: f"shifts the world by {number(p.x)}, {number(p.y)}, {number(p.z)} of its units",
    2.0,
    on_objects=True,
)


Axis = Literal["+X", "-X", "+Y", "-Y", "+Z", "-Z"]


class LookAxis(Parameters):
    """The camera taken to look along another of its axes."""

    look: Axis = parameter("Looks along", default="+X")
    up: Axis = parameter("With up", default="+Y")

    @model_validator(mode="after")
    def _two_axes(self) -> LookAxis:
        camera_turn(self.look, self.up)
        return self


def _look_axis_arrives(a: Arriving, p: LookAxis, convention: Convention) -> Arriving:
    return a.moved(a.track.position_m, a.track.rotation @ camera_turn(p.look, p.up))


def _look_axis_undone(s: Outbound, p: LookAxis) -> Outbound:
    return s.moved(s.track.position_m, s.track.rotation @ camera_turn(p.look, p.up).T)


LOOK_AXIS = HabitKind(
    "look_axis",
    "Uses another camera look axis",
    LookAxis,
    _look_axis_arrives,
    _look_axis_undone,
    lambda p: f"reads the camera as looking along {p.look} with {p.up} up",
    1.1,
)


class Mirror(Parameters):
    """The world mirrored along one of the package's axes; the camera stays proper, its picture is mirrored with it."""

    axis: Literal["X", "Y", "Z"] = parameter("Along its axis", default="X")


def _mirror_arrives(a: Arriving, p: Mirror, convention: Convention) -> Arriving:
    flip = np.eye(3) - 2 * np.outer(*(axis_vector(p.axis),) * 2)
    flip = convention.world.T @ flip @ convention.world
    return a.moved(a.track.position_m @ flip.T, flip @ a.track.rotation @ np.diag([-1.0, 1.0, 1.0]))


def _mirror_undone(s: Outbound, p: Mirror) -> Outbound:
    """A mirror is its own inverse."""
    flip = np.eye(3)
    flip["XYZ".index(p.axis), "XYZ".index(p.axis)] = -1.0
    flip = s.convention.world.T @ flip @ s.convention.world
    made = s.moved(s.track.position_m @ flip, flip @ s.track.rotation @ np.diag([-1.0, 1.0, 1.0]))
    return replace(made, marks_m=s.marks_m @ flip)


MIRROR = HabitKind(
    "mirror",
    "Mirrors the world",
    Mirror,
    _mirror_arrives,
    _mirror_undone,
    lambda p: f"mirrors the world along its {p.axis}",
    1.5,
    on_objects=True,
)


class Scale(Parameters):
    """Everything scaled."""

    factor: Positive = parameter("Factor", default=1.0)


def _scale_arrives(a: Arriving, p: Scale, convention: Convention) -> Arriving:
    return a.scaled(p.factor)


def _scale_undone(s: Outbound, p: Scale) -> Outbound:
    return s.scaled(1.0 / p.factor)


SCALE = HabitKind(
    "scale",
    "Scales the root",
    Scale,
    _scale_arrives,
    _scale_undone,
    lambda p: f"scales everything by {number(p.factor)}",
    on_objects=True,
)
