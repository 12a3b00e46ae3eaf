"""A recipe done: tree operations, the bake, track operations.

Operations on the node tree stand before the bake and those on the baked track behind it. Replaying a recipe on the
same scene gives the same track, bit for bit.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from functools import partial
from typing import Any, TypeVar

import numpy as np

from anaxis.core.errors import BadInput
from anaxis.core.motion.set_objects import PlacedSet
from anaxis.core.recipe.model import STAGES, Operation, Recipe, Stage, Work, no_sets
from anaxis.core.recipe.operations import baking, frames, kind_of
from anaxis.core.scene.bake import bake_camera
from anaxis.core.scene.nodes import Scene
from anaxis.core.scene.surroundings import landmarks_of, set_lines_m, set_triangles_m
from anaxis.core.typing import Floats

T = TypeVar("T")
_ON = {"tree": "the node tree", "bake": "what is left of the tree", "track": "the baked track"}


def checked_order(recipe: Recipe) -> Recipe:
    """The recipe itself; raises BadInput where an operation is on the wrong side of the bake."""
    ranks = [STAGES.index(kind_of(o.code).stage) for o in recipe]
    for i in range(1, len(ranks)):
        if ranks[i] < ranks[i - 1]:
            late, early = kind_of(recipe[i].code), kind_of(recipe[i - 1].code)
            raise BadInput(
                f"'{late.label}' works on {_ON[late.stage]} and cannot come after '{early.label}', which works on "
                f"{_ON[early.stage]}."
            )
    if ranks.count(1) > 1:
        raise BadInput("A recipe can bake once: remove one of the two bakes.")
    return recipe


def inserted(recipe: Recipe, operation: Operation) -> Recipe:
    """The recipe with an operation behind the last of its stage; what is done once takes an earlier one's place."""
    kind = kind_of(operation.code)
    if kind.once:
        recipe = tuple(o for o in recipe if o.code != operation.code)
    rank = STAGES.index(kind.stage)
    ranks = [STAGES.index(kind_of(o.code).stage) for o in recipe]
    at = sum(r <= rank for r in ranks)
    return (*recipe[:at], operation, *recipe[at:])


def completed(recipe: Recipe, operations: Iterable[Operation]) -> Recipe:
    """The recipe with those of the operations that it does not hold yet, each in its place: none is done twice."""
    for operation in operations:
        if operation not in recipe:
            recipe = inserted(recipe, operation)
    return recipe


def replay(scene: Scene, path: str, recipe: Recipe, sets: Callable[[str], Scene] = no_sets) -> Work:
    """Do a recipe: tree operations, the bake, track operations.

    Raises BadInput, naming the operation, where one cannot be done.
    """
    work = replay_tree(scene, path, recipe, sets)
    frames = _frames_of(recipe, work.scene, work.path)
    baked = bake_camera(work.scene, work.path, frames)
    work = replace(
        work,
        frames=frames,
        baked=baked,
        track=baked.track,
        kept=np.arange(len(frames)),
        landmarks=landmarks_of(work.scene, frames),
        lines_m=set_lines_m(work.scene, float(frames[0])),
        triangles_m=set_triangles_m(work.scene, float(frames[0])),
        around=(PlacedSet.of(work.scene, frames),),
    )
    return _all_of("track", recipe, work)


def replay_tree(scene: Scene, path: str, recipe: Recipe, sets: Callable[[str], Scene] = no_sets) -> Work:
    """The first part of :func:`replay`: what a recipe makes of the node tree, nothing baked yet."""
    checked_order(recipe)
    frames = _frames_of(recipe, scene, path)
    return _all_of("tree", recipe, Work(scene, scene.camera(path).path, frames, sets))


def trimmed_to(recipe: Recipe) -> tuple[float, float] | None:
    """The frames that a recipe trims its bake to before anything else; None where it does not, or open on a side."""
    first = next((o for o in recipe if o.on and kind_of(o.code).stage == "track"), None)
    if first is None or first.code != frames.TRIM.code:
        return None
    try:
        span = frames.TRIM.read(first.params)
    except BadInput:
        return None
    return None if span.first is None or span.last is None else (span.first, span.last)


_WHOLE_BAKE = Operation(baking.BAKE.code)


def _frames_of(recipe: Recipe, scene: Scene, path: str) -> Floats:
    """The frames that a recipe bakes; where it does not say, every whole frame of the camera."""
    asked = next((o for o in recipe if o.on and o.code == baking.BAKE.code), _WHOLE_BAKE)
    return _named(asked, lambda p: baking.frames_of(scene, path, p, trimmed_to(recipe)))


def _all_of(stage: Stage, recipe: Recipe, work: Work) -> Work:
    for operation in recipe:
        kind = kind_of(operation.code)
        if operation.on and kind.stage == stage:
            work = _named(operation, partial(kind.apply, work))
    return work


def _named(operation: Operation, do: Callable[[Any], T]) -> T:
    """``do`` with the operation's parameters, checked; whatever goes wrong is said with its label."""
    kind = kind_of(operation.code)
    try:
        return do(kind.read(operation.params))
    except BadInput as error:
        if operation is _WHOLE_BAKE:  # nobody asked for it: the file's own range is at fault
            raise
        raise BadInput(f"The operation '{kind.label}' failed: {error.sentence}") from error
    except (TypeError, ValueError, KeyError, IndexError, OverflowError, np.linalg.LinAlgError) as error:
        raise BadInput(
            f"The operation '{kind.label}' failed with these values: change them, or remove the operation from the recipe."
        ) from error
