"""A camera that came back from a package, made comparable with the one meant."""

from __future__ import annotations

import csv
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import Projection, projection_of
from anaxis.core.camera.track import Track, on_common_frames, require_usable
from anaxis.core.checks import is_still
from anaxis.core.checks.examine import take_camera
from anaxis.core.errors import BadInput
from anaxis.core.motion.cuts import places_between
from anaxis.core.motion.resample import landmarks_at, sampled
from anaxis.core.outgoing import Outgoing, make_outgoing
from anaxis.core.proof.beside import Beside, differences
from anaxis.core.proof.proof import Proof, prove
from anaxis.core.recipe.effects import is_placed, placement_of
from anaxis.core.recipe.model import Recipe, Work
from anaxis.core.scene.bake import bake_camera, camera_range
from anaxis.core.scene.landmarks import NO_LANDMARKS, Landmarks
from anaxis.core.scene.nodes import Scene, corrected
from anaxis.core.scene.picture import Picture
from anaxis.core.space.axes import Convention
from anaxis.diagnosis.case import lens_beside
from anaxis.diagnosis.diagnose import Diagnosis, diagnose
from anaxis.formats.file_axes import file_axes
from anaxis.formats.tables.write import COLUMNS
from anaxis.packages.model import ColumnRule, Profile, TableRule
from anaxis.standin.package import open_as_package


@dataclass(frozen=True, eq=False)
class CameBack:
    """A camera that came back, in canonical space. ``image`` and ``rate`` are as far as its file says them, None where it does not;
    ``lens_said`` is False where the file says nothing of the lens, and the track was given the one meant."""

    track: Track
    image: Image | None = None
    rate: Fraction | None = None
    lens_said: bool = True


@dataclass(frozen=True, eq=False)
class Compared:
    """``proof`` on the frames both have, with those that did not come back and what is another beside the picture."""

    proof: Proof
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

    Raises BadInput where the columns from the table hold no camera.
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
            f"{scene.name}: its columns are unclear. A frame or time, three positions and three rotations are needed: add a row of headings, or a column layout to the package."
            ""
        ) from error
    return profile.model_copy(update={"table": rule})


def of_table(path: Path, profile: Profile, picture: Picture, meant: Track) -> CameBack:
    """A table in a package's own numbers, in canonical space; what it does not hold is as ``meant``.

    Raises BadInput for what cannot be read.
    """
    bare = profile.model_copy(update={"habits": ()})
    try:
        seen = open_as_package(path, bare, picture.image, rate=meant.rate, typed=meant.lens.values_at(0))
    except BadInput:
        raise
    except (ValueError, KeyError, TypeError, IndexError) as error:
        raise BadInput(
            f"{path.name} has a row that is not numbers: every row needs one number for each heading."
        ) from error
    track = seen.track
    require_usable(track, path.name)
    held = {c.quantity for c in profile.table.columns} if profile.table is not None else {"focal"}
    said = bool(held & {"focal", "hfov", "vfov", "zoom"})
    if not said:
        track = replace(track, lens=lens_beside(meant, track.frames))
    return CameBack(track, None, track.rate if "rate" in seen.stated else None, said)


def of_scene(scene: Scene, camera: str | None, profile: Profile | None, meant: Track) -> CameBack:
    """A file's camera as it stands, in canonical space.

    Where the file says nothing of its axes and unit, those of the package's own export are taken. Where it says nothing of
    its rate, that of the camera ``meant`` is taken if the camera is nearer to its length then: samples between frames look like
    a rate that is a multiple. Raises BadInput where the camera cannot be used.
    """
    stated = "rate" not in scene.guesses
    if profile is not None and scene.format == "alembic" and {"up_axis", "metres_per_unit"} & set(scene.guesses):
        axes = file_axes("alembic", profile.convention)
        scene = corrected(scene, axes.up, axes.unit_m)
    if not stated:
        path = scene.camera(camera).path

        def off_in_length(one: Scene) -> float:
            first, last = camera_range(one, path)
            return abs((last - first) - float(meant.frames[-1] - meant.frames[0]))

        scene = min(scene, corrected(scene, rate=meant.rate), key=off_in_length)
    track = take_camera(scene, camera).done
    return CameBack(track, scene.image, track.rate if stated else None)


def compared(
    meant: Track, landmarks: Landmarks, picture: Picture, back: CameBack, profile: Profile | None, between: int = 1
) -> Compared:
    """How far a camera that came back is off on every frame that both have, as its package shows it, and what of it is another.

    A single sample stands for every frame of a camera that is still. ``between`` looks at so many places a frame, both cameras drawn
    smoothly between their samples. Raises BadInput where there is no frame in common.
    """
    arrived = back.track
    if len(arrived) == 1 and is_still(meant):
        arrived = replace(arrived.select_frames(np.zeros(len(meant), dtype=np.int64)), frames=meant.frames)
    mine, theirs = on_common_frames(meant, arrived)
    if not len(mine):
        raise BadInput(
            f"The returned camera has frames {arrived.frames[0]:g} to {arrived.frames[-1]:g} and the expected camera "
            f"{meant.frames[0]:g} to {meant.frames[-1]:g}: they share no frame. Diagnose it, or renumber one of them."
        )
    marks = landmarks.shown().at_frames(np.flatnonzero(np.isin(meant.frames, mine.frames)))
    sent = _handed_over(mine, picture, profile)
    seen = projection_of(theirs, sent.image, sent.fit)
    proof = prove(mine, projection_of(mine, picture.image, picture.fit), seen, marks.position_m)
    other = differences(
        Beside(mine.lens, sent.image, meant.rate),
        Beside(theirs.lens, back.image, back.rate),
        "missing in the returned camera",
    )
    missing = np.setdiff1d(np.round(meant.frames, 4), np.round(mine.frames, 4))
    proof = replace(proof, missing=missing, differences=other)
    if between > 1:
        at = places_between(mine, between)
        if len(at):
            drawn, there = sampled(mine, at), projection_of(sampled(arrived, at), sent.image, sent.fit)
            points = landmarks_at(meant, landmarks.shown(), at).position_m
            found = prove(drawn, projection_of(drawn, picture.image, picture.fit), there, points)
            proof = replace(proof, between_px=found.max_px, between_frame=found.worst_frame)
    return Compared(proof, seen)


def _handed_over(track: Track, picture: Picture, profile: Profile | None) -> Outgoing:
    """A camera with the film back and image that it was handed over with: those that show the same picture there."""
    convention, fit = (Convention(), picture.fit) if profile is None else (profile.convention, profile.lens.fit)
    return make_outgoing(track, convention, picture.image, picture.fit, fit, NO_LANDMARKS)


def bare_of_work(work: Work) -> tuple[Track, ...]:
    """:func:`bare_of` a camera whose recipe is done."""
    return bare_of(work.scene, work.path, (), work.done)


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
    back: CameBack,
    profile: Profile | None,
    bare: tuple[Track, ...] = (),
    typed: bool = False,
) -> Diagnosis:
    """What happened to a camera that came back, in the words of the package's axes; see :func:`diagnose`.

    The camera meant is taken with the film back that it was handed over with: the one that shows the same picture there.
    """
    sent = _handed_over(meant, picture, profile)
    above = tuple(_handed_over(b, picture, profile).track for b in bare)
    return diagnose(sent.track, back.track, sent.image, sent.fit, sent.convention, above, typed, back.lens_said)
