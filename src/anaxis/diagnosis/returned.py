"""A camera that came back from a package, made comparable with the one meant."""

from __future__ import annotations

import csv
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from anaxis.core.camera.projection import Projection, projection_of
from anaxis.core.camera.track import Track, on_common_frames, require_usable
from anaxis.core.checks.examine import take_camera
from anaxis.core.errors import BadInput
from anaxis.core.proof.proof import Proof, prove
from anaxis.core.recipe.effects import is_placed, placement_of
from anaxis.core.recipe.model import Recipe
from anaxis.core.scene.bake import bake_camera
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.nodes import Scene, corrected
from anaxis.core.scene.picture import Picture
from anaxis.core.space.axes import Convention
from anaxis.core.typing import Floats
from anaxis.diagnosis.case import lens_beside
from anaxis.diagnosis.diagnose import Diagnosis, diagnose
from anaxis.formats.file_axes import file_axes
from anaxis.formats.tables.write import COLUMNS
from anaxis.packages.model import ColumnRule, Profile, TableRule
from anaxis.standin.package import open_as_package


@dataclass(frozen=True, eq=False)
class Compared:
    """``proof`` on the frames both have; ``missing`` (k,) are frames meant that did not come back."""

    proof: Proof
    missing: Floats
    arrived: Projection  # of the camera that came back, on the proof's frames


def is_own_table(path: Path, profile: Profile | None) -> bool:
    """Whether a text file is a table in a package's own numbers: by its layout, or with the columns written here."""
    if path.suffix.lower() not in (".csv", ".txt", ".tsv"):
        return False
    if profile is not None and profile.table is not None:
        return True
    try:
        with path.open(encoding="utf-8", newline="") as source:
            first = next(csv.reader(source), [])
    except (OSError, UnicodeDecodeError, csv.Error):
        return False
    return set(COLUMNS[:8]) <= {c.strip() for c in first}


def as_own_table(scene: Scene, profile: Profile) -> Profile:
    """The package with the layout that a table was read by: whose axes and unit it is in, no table says.

    Raises BadInput where the columns told from the table hold no camera.
    """
    columns = scene.columns or {}
    try:
        rule = TableRule(
            columns=tuple(
                ColumnRule(quantity=c["quantity"], unit=c["unit"], sign=c["sign"]) for c in columns["layout"]["columns"]
            ),
            headings=columns["headings"] is not None,
            separator=columns["delimiter"].removesuffix("s"),
        )
    except ValueError as error:
        raise BadInput(
            f"{scene.name}: its columns cannot be told apart, a frame or time, three positions and three rotations are needed: give it "
            "a row of headings, or the package a column layout."
        ) from error
    return profile.model_copy(update={"table": rule})


def track_of_table(path: Path, profile: Profile, picture: Picture, meant: Track) -> Track:
    """A table in a package's own numbers, in canonical space; what it does not hold is as ``meant``.

    Raises BadInput for what cannot be read.
    """
    bare = profile.model_copy(update={"habits": ()})
    try:
        track = open_as_package(path, bare, picture.image, rate=meant.rate, typed=meant.lens.values_at(0)).track
    except BadInput:
        raise
    except (ValueError, KeyError, TypeError, IndexError) as error:
        raise BadInput(
            f"{path.name} has a row that cannot be read as numbers: every row needs one for each heading."
        ) from error
    require_usable(track, path.name)
    held = {c.quantity for c in profile.table.columns} if profile.table is not None else {"focal"}
    if not held & {"focal", "hfov", "vfov", "zoom"}:
        track = replace(track, lens=lens_beside(meant, track.frames))
    return track


def track_that_came_back(scene: Scene, camera: str | None, profile: Profile | None) -> Track:
    """A file's camera as it stands, in canonical space.

    Where the file says nothing of its axes and unit, those of the package's own export are taken. Raises
    BadInput where the camera cannot be used.
    """
    if profile is not None and scene.format == "alembic" and {"up_axis", "metres_per_unit"} & set(scene.guesses):
        axes = file_axes("alembic", profile.convention)
        scene = corrected(scene, axes.up, axes.unit_m)
    return take_camera(scene, camera).done


def compared(meant: Track, landmarks: Landmarks, picture: Picture, arrived: Track) -> Compared:
    """How far a camera that came back is off on every frame that both have. Raises BadInput where there is none."""
    mine, theirs = on_common_frames(meant, arrived)
    if not len(mine):
        raise BadInput(
            f"The camera that came back runs from frame {arrived.frames[0]:g} to {arrived.frames[-1]:g} and the one meant from "
            f"{meant.frames[0]:g} to {meant.frames[-1]:g}: they share no frame; diagnose it, or renumber one of them."
        )
    marks = landmarks.shown().at_frames(np.flatnonzero(np.isin(meant.frames, mine.frames)))
    seen = projection_of(theirs, picture.image, picture.fit)
    proof = prove(mine, projection_of(mine, picture.image, picture.fit), seen, marks.position_m)
    return Compared(proof, np.setdiff1d(np.round(meant.frames, 4), np.round(mine.frames, 4)), seen)


def bare_of(scene: Scene, path: str, recipe: Recipe, track: Track) -> tuple[Track, ...]:
    """A camera on its own frames without what may stand above it: its parents in the source, a root that places it."""
    out, node = [], scene.camera(path)
    if node.parent is not None and not recipe:
        alone = scene.replaced(replace(node, parent=None))
        out.append(bake_camera(alone, node.path, track.frames).track)
        chain = scene.chain(node.path)
        if len(chain) > 2:  # without the topmost alone
            below = scene.replaced(replace(chain[-2], parent=None))
            out.append(bake_camera(below, node.path, track.frames).track)
    placement = placement_of(recipe)
    if is_placed(recipe):
        out.append(placement.rigid().inverse().track(track))
    return tuple(out)


def explain(
    meant: Track,
    picture: Picture,
    arrived: Track,
    profile: Profile | None,
    bare: tuple[Track, ...] = (),
    typed: bool = False,
) -> Diagnosis:
    """What happened to a camera that came back, in the words of the package's axes; see :func:`diagnose`."""
    convention = profile.convention if profile is not None else Convention()
    return diagnose(meant, arrived, picture.image, picture.fit, convention, bare, typed)
