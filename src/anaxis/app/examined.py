"""What a file's content decides after it was read: cameras through their recipes, checked; worked out here or apart.

The pages let a process of its own do it (:mod:`anaxis.work.sandbox.calculators`): what comes back is plain data, a
:class:`Looked` for each camera. The command line and the worker, which hold one file at a time, do it where they are.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from importlib import import_module
from typing import Any, Protocol

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track
from anaxis.core.checks import Expected
from anaxis.core.checks.examine import CameraReport, Described, between_samples, examine
from anaxis.core.checks.times import held_range, stated_range
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.motion.samples import ROW, Samples, samples_in_scene, samples_of
from anaxis.core.recipe.documents import recipe_document, recipe_from_document
from anaxis.core.recipe.effects import of_the_camera, sets_of
from anaxis.core.recipe.model import Operation, Recipe, Work, no_sets
from anaxis.core.recipe.operations import kind_of
from anaxis.core.recipe.replay import replay
from anaxis.core.recipe.replay import replay_tree as tree_after
from anaxis.core.scene.landmarks import NO_LANDMARKS, Landmarks
from anaxis.core.scene.nodes import Scene
from anaxis.core.scene.picture import Picture
from anaxis.core.scene.tree import levels
from anaxis.core.time.rates import kept_rate, rate_text
from anaxis.core.typing import Floats
from anaxis.formats.track_json.document import convention_document
from anaxis.store.archive import pack, scene_from_bytes, scene_to_bytes, track_from_bytes, track_to_bytes, unpack

Document = dict[str, Any]
Sets = Callable[[str], bytes]


@dataclass(frozen=True, eq=False)
class Looked(Described):
    """One camera of a file, looked at here or apart.

    ``facts`` are what is said without opening the file again, None where it could not be flattened; ``track`` is the
    camera with its landmarks and set as it is kept, where it was asked for.
    """

    usable: bool
    facts: Document | None = None
    track: bytes | None = None


class Examiner(Protocol):
    """Who works it out: ``ask`` gives a function of this module a document and blocks of bytes."""

    def ask(self, function: str, given: Document, blocks: list[bytes], what: str) -> tuple[Document, list[bytes]]: ...


class Here:
    """Works it out in this process."""

    def ask(self, function: str, given: Document, blocks: list[bytes], what: str) -> tuple[Document, list[bytes]]:
        module, _, name = function.partition(":")
        made: tuple[Document, list[bytes]] = getattr(import_module(module), name)(given, blocks)
        return made


# What callers ask


def look(
    examiner: Examiner, scene: bytes, name: str, recipes: Mapping[str, Recipe], expected: Expected = Expected(),  # noqa: B008  (frozen)
    image: Image | None = None, sets: Sets | None = None, only: str | None = None, tracks: Sequence[str] | None = None,
) -> list[Looked]:  # fmt: skip
    """Every camera of a scene (or the one at ``only``) through its recipe and checked.

    Those of ``tracks`` come with their track (all where it is None). Raises BadInput where the file holds no camera.
    """
    given: Document = {
        "recipes": {path: recipe_document(r) for path, r in recipes.items()},
        "expected": [expected.first_frame, expected.last_frame, rate_text(expected.rate) if expected.rate else None],
        "image": [image.width_px, image.height_px, image.pixel_aspect] if image else None,
        "only": only,
        "tracks": None if tracks is None else list(tracks),
    }
    wanted, blocks = sets_for(recipes.values(), sets)
    answer, made = examiner.ask("anaxis.app.examined:looked_at", given | {"sets": wanted}, [scene, *blocks], name)
    return [_looked(c, made) for c in answer["cameras"]]


def camera_after(
    examiner: Examiner, scene: bytes, name: str, path: str, recipe: Recipe, sets: Sets | None = None
) -> tuple[Track, Landmarks, Floats]:
    """A camera's track, landmarks and set lines after a recipe. Raises BadInput where it cannot be done."""
    _, made = _ask(examiner, "replayed", scene, name, path, recipe, sets)
    return track_from_bytes(made[0])


def levels_of(
    examiner: Examiner, scene: bytes, name: str, path: str, recipe: Recipe, sets: Sets | None = None
) -> tuple[list[str], dict[str, Floats]]:
    """What each level above a camera adds to its motion, on the frames of its track: paths, and the two arrays."""
    _, made = _ask(examiner, "levelled", scene, name, path, recipe, sets)
    header, arrays = unpack(made[0])
    return header["levels"], arrays


def chain_after(
    examiner: Examiner, scene: bytes, name: str, path: str, recipe: Recipe, sets: Sets | None = None
) -> Scene:
    """The nodes that move a camera once the recipe's tree operations are done, as a scene of them alone."""
    _, made = _ask(examiner, "chained", scene, name, path, recipe, sets)
    return scene_from_bytes(made[0])


def fitting_recipe(
    examiner: Examiner, scene: bytes, name: str, path: str, recipe: Recipe, sets: Sets | None = None
) -> tuple[Recipe, list[Finding]]:
    """The recipe with every operation that cannot be done on this scene switched off, and why."""
    answer, _ = _ask(examiner, "fitted", scene, name, path, recipe, sets)
    return recipe_from_document(answer["recipe"], strict=False), [Finding(**f) for f in answer["findings"]]


def own_samples(
    examiner: Examiner, scene: bytes, name: str, path: str, recipe: Recipe, picture: Picture, sets: Sets | None = None
) -> Samples:
    """A camera on the file's own samples, at their own times, as a recording. Raises BadInput."""
    wanted, blocks = sets_for([recipe], sets)
    image = picture.image
    given = {"path": path, "recipe": recipe_document(recipe), "sets": wanted, "fit": picture.fit,
             "image": [image.width_px, image.height_px, image.pixel_aspect]}  # fmt: skip
    _, made = examiner.ask("anaxis.app.examined:sampled", given, [scene, *blocks], name)
    return samples_of(np.frombuffer(made[0], "<f8").reshape(-1, ROW).astype(np.float64), image)


def finer_track(examiner: Examiner, scene: bytes, name: str, path: str, recipe: Recipe) -> Track | None:
    """The camera on the source's own samples between frames; None where it has none that still lie where they lay."""
    # Landmarks and sets move no camera, and the files of sets are not at hand here.
    moving = of_the_camera(recipe)
    _, made = _ask(examiner, "finer", scene, name, path, moving, None)
    return track_from_bytes(made[0])[0] if made else None


def _ask(
    examiner: Examiner, function: str, scene: bytes, name: str, path: str, recipe: Recipe, sets: Sets | None
) -> tuple[Document, list[bytes]]:
    """A function of this module on one camera of a scene and its recipe, with the sets that the recipe adds."""
    wanted, blocks = sets_for([recipe], sets)
    given = {"path": path, "recipe": recipe_document(recipe), "sets": wanted}
    return examiner.ask(f"anaxis.app.examined:{function}", given, [scene, *blocks], name)


def sets_for(recipes: Any, sets: Sets | None) -> tuple[list[str], list[bytes]]:
    """The files whose sets recipes add, by SHA-256, and their scenes."""
    wanted = sets_of(recipes)
    if not wanted:
        return [], []
    if sets is None:
        no_sets(wanted[0])
    assert sets is not None
    return wanted, [sets(sha) for sha in wanted]


def _looked(c: Document, made: list[bytes]) -> Looked:
    track = c.pop("track")
    return Looked(
        **{
            **c,
            "findings": [Finding(**f) for f in c["findings"]],
            "recipe": recipe_from_document(c["recipe"], strict=False),
            "track": None if track is None else made[track],
        }
    )


# What is worked out


def looked_at(given: Document, blocks: list[bytes]) -> tuple[Document, list[bytes]]:
    scene = scene_from_bytes(blocks[0])
    recipes = {path: recipe_from_document(r, strict=False) for path, r in given["recipes"].items()}
    first, last, rate = given["expected"]
    image = Image(*given["image"]) if given["image"] else None
    reports = examine(
        scene,
        recipes,
        Expected(first, last, kept_rate(rate) if rate else None),
        image,
        _found(given["sets"], blocks),
        given["only"],
    )
    cameras: list[Document] = []
    made: list[bytes] = []
    for report in reports:
        wanted = given["tracks"] is None or report.path in given["tracks"]
        track = _track_of(report) if wanted else None
        if track is not None:
            made.append(track)
        cameras.append({
            "path": report.path, "name": report.name, "first_frame": report.first_frame, "last_frame": report.last_frame,
            "samples": report.samples, "animated": report.animated, "lens_animated": report.lens_animated, "usable": report.usable,
            "findings": [f.as_dict() for f in report.findings], "recipe": recipe_document(report.recipe), "facts": facts_of(report),
            "track": None if track is None else len(made) - 1,
        })  # fmt: skip
    return {"cameras": cameras}, made


def _track_of(report: CameraReport) -> bytes | None:
    work = report.work
    return None if work is None else track_to_bytes(work.done, work.landmarks, work.lines_m)


def replayed(given: Document, blocks: list[bytes]) -> tuple[Document, list[bytes]]:
    work, _ = replay_of(given, blocks)
    return {}, [track_to_bytes(work.done, work.landmarks, work.lines_m)]


def levelled(given: Document, blocks: list[bytes]) -> tuple[Document, list[bytes]]:
    work, _ = replay_of(given, blocks)
    assert work.baked is not None
    found = levels(work.scene, work.path, work.baked.track.frames)
    arrays = {"moved_m": found.moved_m[:, work.kept], "turned_deg": found.turned_deg[:, work.kept]}
    return {}, [pack({"levels": [n.path for n in found.nodes]}, arrays)]


def chained(given: Document, blocks: list[bytes]) -> tuple[Document, list[bytes]]:
    recipe = recipe_from_document(given["recipe"], strict=False)
    work = tree_after(scene_from_bytes(blocks[0]), given["path"], recipe, _found(given["sets"], blocks))
    chain = tuple(work.scene.chain(work.path))
    return {}, [scene_to_bytes(replace(work.scene, nodes=chain, findings=(), columns=None))]


def sampled(given: Document, blocks: list[bytes]) -> tuple[Document, list[bytes]]:
    recipe = recipe_from_document(given["recipe"], strict=False)
    work = tree_after(scene_from_bytes(blocks[0]), given["path"], recipe, _found(given["sets"], blocks))
    samples = samples_in_scene(work.scene, work.path, Image(*given["image"]), given["fit"])
    return {}, [samples.rows.astype("<f8").tobytes()]


def fitted(given: Document, blocks: list[bytes]) -> tuple[Document, list[bytes]]:
    scene, sets, path = scene_from_bytes(blocks[0]), _found(given["sets"], blocks), given["path"]
    kept: list[Operation] = []
    trouble: list[Finding] = []
    for operation in recipe_from_document(given["recipe"], strict=False):
        try:
            if operation.on:
                replay(scene, path, (*kept, operation), sets)
            kept.append(operation)
        except BadInput as error:
            kept.append(Operation(operation.code, operation.params, on=False))
            label = kind_of(operation.code).label
            trouble.append(
                Finding(
                    "operation_off",
                    "warning",
                    f"'{label}' of the recipe is switched off: {error.sentence}",
                    "Change it or take it out of the recipe.",
                    "The new file does not hold what it works on.",
                    node=path,
                )
            )
    return {"recipe": recipe_document(tuple(kept)), "findings": [f.as_dict() for f in trouble]}, []


def finer(given: Document, blocks: list[bytes]) -> tuple[Document, list[bytes]]:
    scene, recipe = scene_from_bytes(blocks[0]), recipe_from_document(given["recipe"], strict=False)
    found = between_samples(scene, replay(scene, given["path"], recipe), recipe, wanted=True)[1]
    return {}, [] if found is None else [track_to_bytes(found, NO_LANDMARKS, np.zeros((0, 2, 3)))]


def replay_of(given: Document, blocks: list[bytes]) -> tuple[Work, Recipe]:
    """The recipe that was asked about, done on its scene."""
    recipe = recipe_from_document(given["recipe"], strict=False)
    return replay(scene_from_bytes(blocks[0]), given["path"], recipe, _found(given["sets"], blocks)), recipe


def _found(wanted: list[str], blocks: list[bytes]) -> Callable[[str], Scene]:
    held = dict(zip(wanted, blocks[1:], strict=True))
    return lambda sha: scene_from_bytes(held[sha]) if held.get(sha) else no_sets(sha)


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
