"""A file's cameras examined: each through its recipe and every check."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track, is_moving, require_usable
from anaxis.core.checks import Expected, Subject, moving_lens_channels, run_checks
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.recipe.effects import moves_time
from anaxis.core.recipe.model import Operation, Recipe, Work, no_sets
from anaxis.core.recipe.replay import inserted, replay
from anaxis.core.scene.bake import Baked, camera_range
from anaxis.core.scene.nodes import Node, Scene
from anaxis.core.scene.picture import Picture

MAX_CAMERAS = 500


@dataclass(frozen=True, eq=False)
class Described:
    """What is said of one camera of a file after its ``recipe``."""

    path: str
    name: str
    first_frame: float
    last_frame: float
    samples: int
    animated: bool
    lens_animated: bool
    findings: list[Finding]
    recipe: Recipe


@dataclass(frozen=True, eq=False)
class CameraReport(Described):
    """A camera looked at here; ``work`` is None where its recipe could not be done."""

    work: Work | None

    @property
    def usable(self) -> bool:
        return self.work is not None and all(f.severity != "error" for f in self.findings)

    @property
    def baked(self) -> Baked | None:
        return self.work.baked if self.work else None

    @property
    def track(self) -> Track | None:
        return self.work.track if self.work else None


def examine(
    scene: Scene,
    recipes: Mapping[str, Recipe] | None = None,
    expected: Expected = Expected(),  # noqa: B008  (frozen)
    image: Image | None = None,
    sets: Callable[[str], Scene] = no_sets,
    only: str | None = None,
) -> list[CameraReport]:
    """Every camera of a scene (or the one at ``only``), through its recipe and checked.

    ``recipes`` are by camera path; a camera without one is baked as it is. ``image`` stands in for a
    resolution the file does not state. Raises BadInput where the file holds no camera.
    """
    if not scene.cameras:
        outside = next((f for f in scene.findings if f.code == "outside_reference"), None)
        if outside:
            raise BadInput(f"{scene.name} holds no camera of its own. {outside.message} {outside.remedy}")
        scene.camera()  # raises the sentence for it
    if len(scene.cameras) > MAX_CAMERAS:
        raise BadInput(
            f"{scene.name} holds {len(scene.cameras)} cameras; at most {MAX_CAMERAS} are checked: export only the cameras of the shot."
        )
    done: dict[str, Work | BadInput] = {}
    for node in scene.cameras:
        recipe = (recipes or {}).get(node.path, ())
        try:
            done[node.path] = replay(scene, node.path, recipe, sets)
        except BadInput as error:
            done[node.path] = error
    return [
        _report(scene, path, (recipes or {}).get(path, ()), done, expected, image)
        for path in done
        if only in (None, path)
    ]


def _report(
    scene: Scene,
    path: str,
    recipe: Recipe,
    done: Mapping[str, Work | BadInput],
    expected: Expected,
    image: Image | None,
) -> CameraReport:
    name, work = path.rsplit("/", 1)[-1], done[path]
    if isinstance(work, BadInput):
        finding = Finding(
            "cannot_flatten",
            "error",
            work.sentence,
            "Switch that operation off, or change it." if recipe else "Repair the source and export it again.",
            node=path,
        )
        first, last = camera_range(scene, path)
        return CameraReport(path, name, first, last, 0, False, False, [finding], recipe, None)
    assert work.baked is not None
    others = [w.baked for p, w in done.items() if p != path and isinstance(w, Work) and w.baked is not None]
    subject = Subject(
        work.scene, work.baked, work.done, work.landmarks.shown(), others, image or work.scene.image, expected
    )
    track = work.done
    return CameraReport(
        path=path,
        name=name,
        first_frame=float(track.frames[0]),
        last_frame=float(track.frames[-1]),
        samples=max(1, len(work.baked.keys)),
        animated=is_moving(track),
        lens_animated=bool(moving_lens_channels(track)),
        findings=run_checks(subject),
        recipe=recipe,
        work=work,
    )


class _Checked(Protocol):
    @property
    def usable(self) -> bool: ...

    @property
    def findings(self) -> list[Finding]: ...


def refuse_unusable(reports: Sequence[_Checked]) -> None:
    """Raise BadInput where not one camera of a file can be used, with the first reason."""
    if not any(r.usable for r in reports):
        first = next(f for f in reports[0].findings if f.severity == "error")
        raise BadInput(first.message.rstrip(".") + ": " + first.remedy[:1].lower() + first.remedy[1:])


def _usable_node(scene: Scene, path: str | None) -> Node:
    """A camera of a scene; raises BadInput where its reader found that it cannot be used."""
    node = scene.camera(path)
    refused = [f for f in scene.findings if f.severity == "error" and f.node in ("", node.path)]
    if refused:
        raise BadInput(f"{scene.name}: {refused[0].message.rstrip('.')}. {refused[0].remedy}")
    return node


def take_camera(
    scene: Scene,
    path: str | None,
    frames: tuple[float, float] | None = None,
    recipe: Recipe = (),
    sets: Callable[[str], Scene] = no_sets,
) -> Work:
    """One camera through its recipe, over its range or over ``frames`` (first, last).

    Raises BadInput where a number on those frames cannot be used.
    """
    node = _usable_node(scene, path)
    work = replay(scene, node.path, recipe, sets)
    if frames is not None:
        whole = work.done.frames
        if not ((whole >= frames[0]) & (whole <= frames[1])).any():
            raise BadInput(
                f"{scene.name}, camera {node.path}, has no frames from {frames[0]:g} to {frames[1]:g}: it "
                f"runs from {whole[0]:g} to {whole[-1]:g}."
            )
        trim = Operation("trim", {"first": frames[0], "last": frames[1]})
        work = replay(scene, node.path, inserted(recipe, trim), sets)
    require_usable(work.done, f"{scene.name}, {node.path},")
    return work


def checked_camera(
    scene: Scene,
    path: str | None,
    recipe: Recipe,
    expected: Expected,
    picture: Picture,
    sets: Callable[[str], Scene] = no_sets,
) -> tuple[Work, list[Finding]]:
    """One camera through its recipe with everything noticed about it, its file's own findings included.

    Raises BadInput where a number of it cannot be used.
    """
    node = _usable_node(scene, path)
    image = None if picture.image_guessed else picture.image
    report = examine(scene, {node.path: recipe}, expected, image, sets, only=node.path)[0]
    if report.work is None:
        raise BadInput(report.findings[0].message)
    require_usable(report.work.done, f"{scene.name}, {node.path},")
    return report.work, report.findings


def between_samples(scene: Scene, work: Work, recipe: Recipe, wanted: bool) -> tuple[bool, Track | None]:
    """Whether the source has samples between frames, and where they are wanted the camera on them.

    None where the recipe moved the camera in time, so that they no longer lie where they lay, or has bakes of its own.
    """
    assert work.baked is not None
    keys = work.baked.keys
    off = np.abs(keys - np.round(keys)) > 1e-4
    if not off.any():
        return False, None
    moved = moves_time(recipe)
    step = 1.0 / max(1, round(1.0 / max(float(np.diff(keys).min()), 1 / 64)))
    if moved or not wanted:
        return True, None
    finer = inserted(recipe, Operation("bake", {"step": float(step)}))
    return True, replay(scene, work.path, finer).done
