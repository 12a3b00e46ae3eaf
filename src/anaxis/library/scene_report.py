"""What a file's content decides after it was read: cameras through their recipes, and checked.

The pages let a process of its own do it (:mod:`anaxis.sandbox.calculators`), since nobody knows how much a file holds.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track
from anaxis.core.checks import Expected
from anaxis.core.checks.examine import CameraReport, Described, between_samples, examine
from anaxis.core.checks.times import held_range, stated_range
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.motion.samples import Samples, samples_in_scene
from anaxis.core.recipe.effects import of_the_camera
from anaxis.core.recipe.model import Operation, Recipe, Work, no_sets
from anaxis.core.recipe.operations import kind_of
from anaxis.core.recipe.replay import replay
from anaxis.core.recipe.replay import replay_tree as tree_after
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.nodes import Scene
from anaxis.core.scene.picture import Picture
from anaxis.core.scene.tree import levels
from anaxis.core.time.rates import rate_text
from anaxis.core.typing import Archive, Floats
from anaxis.formats.track_json.document import convention_document
from anaxis.library.archive import scene_from_bytes, track_to_bytes

Document = dict[str, Any]
# The scenes of the files whose sets a recipe adds, by SHA-256.
Sets = Mapping[str, Archive]


@dataclass(frozen=True, eq=False)
class FileCamera:
    """A camera of a file that was read, the recipe that is done on it, and the sets that the recipe adds."""

    scene: Archive
    path: str
    recipe: Recipe = ()
    sets: Sets = field(default_factory=dict)

    def replayed(self) -> Work:
        """The recipe done. Raises BadInput where it cannot be."""
        return replay(scene_from_bytes(self.scene), self.path, self.recipe, self.set_of)

    def tree(self) -> Work:
        """The recipe's tree operations done. Raises BadInput where they cannot be."""
        return tree_after(scene_from_bytes(self.scene), self.path, self.recipe, self.set_of)

    def set_of(self, sha256: str) -> Scene:
        """The scene of a file whose set the recipe adds. Raises BadInput where it is not at hand."""
        return _set_in(self.sets, sha256)


def _set_in(sets: Sets, sha256: str) -> Scene:
    return scene_from_bytes(sets[sha256]) if sets.get(sha256) else no_sets(sha256)


@dataclass(frozen=True, eq=False)
class CameraSummary(Described):
    """One camera of a file, looked at.

    ``facts`` are what is said without opening the file again, None where it could not be flattened; ``track`` is the
    camera with its landmarks and set as it is kept, where it was asked for.
    """

    usable: bool
    facts: Document | None = None
    track: Archive | None = None


def look(
    scene: Archive,
    recipes: Mapping[str, Recipe],
    expected: Expected = Expected(),  # noqa: B008  (frozen)
    image: Image | None = None,
    sets: Sets | None = None,
    only: str | None = None,
    tracks: Sequence[str] | None = None,
) -> list[CameraSummary]:
    """Every camera of a scene (or the one at ``only``) through its recipe and checked.

    Those of ``tracks`` come with their track (all where it is None). Raises BadInput where the file holds no camera.
    """
    reports = examine(
        scene_from_bytes(scene), recipes, expected, image, lambda sha256: _set_in(sets or {}, sha256), only
    )
    return [_looked(r, tracks is None or r.path in tracks) for r in reports]


def _looked(report: CameraReport, with_track: bool) -> CameraSummary:
    work = report.work if with_track else None
    return CameraSummary(
        report.path, report.name, report.first_frame, report.last_frame, report.samples, report.animated, report.lens_animated,
        report.findings, report.recipe, report.usable, facts_of(report),
        None if work is None else track_to_bytes(work.done, work.landmarks, work.lines_m),
    )  # fmt: skip


def camera_after(camera: FileCamera) -> tuple[Track, Landmarks, Floats]:
    """A camera's track, landmarks and set lines after its recipe. Raises BadInput where it cannot be done."""
    work = camera.replayed()
    return work.done, work.landmarks, work.lines_m


def levels_of(camera: FileCamera) -> tuple[list[str], dict[str, Floats]]:
    """What each level above a camera adds to its motion, on the frames of its track: paths, and the two arrays."""
    work = camera.replayed()
    assert work.baked is not None
    found = levels(work.scene, work.path, work.baked.track.frames)
    arrays = {"moved_m": found.moved_m[:, work.kept], "turned_deg": found.turned_deg[:, work.kept]}
    return [n.path for n in found.nodes], arrays


def chain_after(camera: FileCamera) -> Scene:
    """The nodes that move a camera once the recipe's tree operations are done, as a scene of them alone."""
    work = camera.tree()
    return replace(work.scene, nodes=tuple(work.scene.chain(work.path)), findings=(), columns=None)


def own_samples(camera: FileCamera, picture: Picture) -> Samples:
    """A camera on the file's own samples, at their own times, as a recording. Raises BadInput."""
    work = camera.tree()
    return samples_in_scene(work.scene, work.path, picture.image, picture.fit)


def fitting_recipe(camera: FileCamera) -> tuple[Recipe, list[Finding]]:
    """The recipe with every operation that cannot be done on this scene switched off, and why."""
    scene = scene_from_bytes(camera.scene)
    fits: list[Operation] = []
    trouble: list[Finding] = []
    for operation in camera.recipe:
        try:
            if operation.on:
                replay(scene, camera.path, (*fits, operation), camera.set_of)
            fits.append(operation)
        except BadInput as error:
            fits.append(replace(operation, on=False))
            label = kind_of(operation.code).label
            trouble.append(
                Finding(
                    "operation_off",
                    "warning",
                    f"'{label}' of the recipe was switched off: {error.sentence}",
                    "Change it, or remove it from the recipe.",
                    "The new file lacks what the operation works on.",
                    node=camera.path,
                )
            )
    return tuple(fits), trouble


def finer_track(camera: FileCamera) -> Track | None:
    """The camera on the source's own samples between frames; None where it has none that still lie where they lay."""
    scene, moving = scene_from_bytes(camera.scene), of_the_camera(camera.recipe)  # landmarks and sets move no camera
    return between_samples(scene, replay(scene, camera.path, moving), moving, wanted=True)[1]


def facts_of(report: CameraReport) -> Document | None:
    """What the pages say of the source without opening it again; None where the camera could not be flattened."""
    if report.work is None or report.baked is None or report.track is None:
        return None
    scene, lens, baked = report.work.scene, report.track.lens, report.baked

    def plain(*values: float) -> list[float | None]:
        return [float(v) if np.isfinite(v) else None for v in values]

    with np.errstate(invalid="ignore"):
        return {
            "format": scene.format,
            "up_axis": scene.convention.up_axis,
            "metres_per_unit": scene.convention.metres_per_unit,
            "convention": convention_document(scene.convention),
            "rate": rate_text(report.track.rate),
            "first_frame": report.first_frame,
            "last_frame": report.last_frame,
            "frames": len(report.track),
            "stated": stated_range(report.work),
            "held_frames": list(held_range(report.work.done, baked)),
            "samples": report.samples,
            "animated": report.animated,
            "lens_animated": report.lens_animated,
            "focal_mm": plain(lens.focal_mm.min(), lens.focal_mm.max()),
            "film_mm": plain(lens.film_width_mm[0], lens.film_height_mm[0]),
            "squeeze": plain(lens.squeeze[0])[0],
            "guesses": scene.guesses,
            "scale": plain(np.nanmin(baked.scale), np.nanmax(baked.scale)),
        }
