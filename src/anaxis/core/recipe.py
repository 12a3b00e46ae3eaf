"""The recipe: the ordered, editable list of operations between intake and delivery.

An operation is plain data (code, parameters, on or off); what it does is looked up in the registry
(:mod:`anaxis.core.operations`). Operations on the node tree stand before the bake and those on the
baked track behind it. Replaying a recipe on the same scene gives the same track, bit for bit.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from difflib import get_close_matches
from functools import partial
from typing import Any, Literal, TypeVar

import numpy as np

from anaxis.core.bake import Baked, bake_camera, camera_range
from anaxis.core.errors import BadInput
from anaxis.core.landmarks import NO_LANDMARKS, Landmarks
from anaxis.core.scene import Scene
from anaxis.core.surroundings import landmarks_of, set_lines_m
from anaxis.core.timing import MAX_FRAMES, frame_range
from anaxis.core.track import Track
from anaxis.core.typing import Floats, Ints

Stage = Literal["tree", "bake", "track"]
STAGES: tuple[Stage, ...] = ("tree", "bake", "track")
MAX_OPERATIONS = 200
T = TypeVar("T")


@dataclass(frozen=True)
class Operation:
    """One step of a recipe. ``params`` is plain JSON."""

    code: str
    params: dict[str, Any] = field(default_factory=dict)
    on: bool = True

    def as_dict(self) -> dict[str, Any]:
        return {"code": self.code, "params": self.params, "on": self.on}


Recipe = tuple[Operation, ...]


@dataclass(frozen=True)
class Field:
    """A parameter as a form asks for it: ``kind`` is number, node, text, choice or data.

    Data is never typed; ``holds`` is the type it must be.
    """

    name: str
    label: str
    kind: str = "number"
    unit: str = ""
    choices: tuple[str, ...] = ()
    optional: bool = False
    holds: type = str


@dataclass(frozen=True, eq=False)
class Work:
    """What a recipe works on: the node tree first, then the track baked from it.

    ``sets`` finds the set of another file by its SHA-256. ``lines_m`` (s, 2, 3) and ``landmarks`` are
    canonical; ``kept`` (n,) are the places of the track's frames among those baked.
    """

    scene: Scene
    path: str
    frames: Floats
    sets: Callable[[str], Scene]
    baked: Baked | None = None
    track: Track | None = None
    kept: Ints = field(default_factory=lambda: np.zeros(0, dtype=np.int64))
    landmarks: Landmarks = NO_LANDMARKS
    lines_m: Floats = field(default_factory=lambda: np.zeros((0, 2, 3)))

    @property
    def done(self) -> Track:
        assert self.track is not None
        return self.track

    def with_track(self, track: Track) -> Work:
        return replace(self, track=track)


@dataclass(frozen=True)
class Kind:
    """A registered operation: ``apply`` does it, ``tells`` says it in a few words."""

    code: str
    label: str
    stage: Stage
    fields: tuple[Field, ...]
    apply: Callable[[Work, dict[str, Any]], Work]
    tells: Callable[[dict[str, Any]], str]

    def says(self, params: dict[str, Any]) -> str:
        """The operation in a few words; its label alone where its parameters make no sense."""
        try:
            return self.tells(params)
        except (TypeError, ValueError, KeyError, AttributeError):
            return ""


def no_sets(sha256: str) -> Scene:
    raise BadInput("The set geometry that the recipe adds is not at hand: take the file in again.")


def bake_frames(
    scene: Scene, path: str, params: dict[str, Any], within: tuple[float, float] | None = None
) -> Floats:
    """The frames a bake asks for, (n,): first, last and step where given, else every whole frame.

    A step below one gives sub-frames; the frames are counted from the first. ``within`` is what is left of it
    behind, where the camera's own range is more than can be baked. Raises BadInput for a range the camera has no
    part of, and for too many frames.
    """
    node = scene.camera(path)
    low, high = camera_range(scene, node.path)
    what = f"{scene.name}, camera {node.path},"
    first, last, step = params.get("first"), params.get("last"), float(params.get("step", 1.0))
    if not (np.isfinite(step) and step > 0):
        raise BadInput(f"A step of {step:g} frames cannot be: it must be above zero.")
    if within is not None and high - low >= MAX_FRAMES:
        low, high = max(low, np.floor(within[0])), min(high, np.ceil(within[1]))
    if first is None and last is None and step == 1.0:
        return frame_range(low, high, what)
    # A camera without samples stands the same at any frame.
    start = float(np.ceil(low - 1e-6)) if first is None else float(first)
    end = float(np.floor(high + 1e-6)) if last is None else float(last)
    if not (np.isfinite([start, end]).all() and start <= end):
        raise BadInput(f"The range {start:g} to {end:g} has its end before its beginning: swap them.")
    count = int(np.floor((end - start) / step + 1e-9)) + 1
    if count > MAX_FRAMES:
        raise BadInput(
            f"{what} would have {count} samples; at most {MAX_FRAMES} are taken: take a larger step."
        )
    return np.asarray(start + step * np.arange(count), dtype=np.float64)


def kind_of(code: str) -> Kind:
    """The registered kind of an operation; raises BadInput for one that is not known."""
    from anaxis.core.operations import KINDS

    if code not in KINDS:
        raise BadInput(f"'{code}' is no operation: there are {', '.join(KINDS)}.")
    return KINDS[code]


def recipe_from_document(document: Any, strict: bool = True) -> Recipe:
    """A recipe from plain JSON (a list of operations); raises BadInput that names the entry.

    Unknown keys are refused, with the nearest known one. ``strict`` False is for what is stored already: it was
    checked by whatever version kept it.
    """
    listed = document.get("operations") if isinstance(document, dict) else document
    if not isinstance(listed, list) or len(listed) > MAX_OPERATIONS:
        raise BadInput(f"A recipe is a list of at most {MAX_OPERATIONS} operations: this is something else.")
    out = []
    for number, entry in enumerate(listed, 1):
        if not isinstance(entry, dict) or not isinstance(entry.get("params", {}), dict):
            raise BadInput(
                f"Operation {number} of the recipe cannot be read: it needs a code and its params."
            )
        kind = kind_of(str(entry.get("code")))
        if strict:
            _require_known(entry, ("code", "params", "on"), f"Operation {number} of the recipe")
            _require_known(
                entry.get("params", {}),
                tuple(f.name for f in kind.fields),
                f"Operation {number} of the recipe ('{kind.code}')",
            )
            if not isinstance(entry.get("on", True), bool):
                raise BadInput(
                    f"Operation {number} of the recipe ('{kind.code}') has \"on\": {entry['on']!r}: write true or false, without quotes."
                )
        out.append(Operation(kind.code, dict(entry.get("params", {})), bool(entry.get("on", True))))
    return tuple(out)


def _require_known(given: dict[str, Any], known: tuple[str, ...], where: str) -> None:
    """Raise BadInput for a key that means nothing here, with the nearest that does."""
    for key in given:
        if key in known:
            continue
        near = get_close_matches(str(key), known, 1, 0.5)
        listed = ", ".join(known) or "none"
        raise BadInput(
            f"{where} has a key '{key}' that is not known: {f'did you mean {near[0]!r}?' if near else f'there are {listed}.'}"
        )


def recipe_document(recipe: Recipe) -> list[dict[str, Any]]:
    return [o.as_dict() for o in recipe]


def checked_order(recipe: Recipe) -> Recipe:
    """The recipe itself; raises BadInput where an operation stands on the wrong side of the bake."""
    ranks = [STAGES.index(kind_of(o.code).stage) for o in recipe]
    for i in range(1, len(ranks)):
        if ranks[i] < ranks[i - 1]:
            late, early = kind_of(recipe[i].code), kind_of(recipe[i - 1].code)
            raise BadInput(
                f"'{late.label}' works on {_ON[late.stage]} and cannot stand behind '{early.label}', which works on "
                f"{_ON[early.stage]}."
            )
    if ranks.count(1) > 1:
        raise BadInput("A recipe bakes once: take one of the two bakes out.")
    return recipe


_ON = {"tree": "the node tree", "bake": "what is left of the tree", "track": "the baked track"}


def inserted(recipe: Recipe, operation: Operation) -> Recipe:
    """The recipe with an operation behind the last of its stage; a second bake takes the first one's place."""
    rank = STAGES.index(kind_of(operation.code).stage)
    ranks = [STAGES.index(kind_of(o.code).stage) for o in recipe]
    if rank == 1 and 1 in ranks:
        at = ranks.index(1)
        return (*recipe[:at], operation, *recipe[at + 1 :])
    at = sum(r <= rank for r in ranks)
    return (*recipe[:at], operation, *recipe[at:])


def replay(scene: Scene, path: str, recipe: Recipe, sets: Callable[[str], Scene] = no_sets) -> Work:
    """Do a recipe: tree operations, the bake, track operations.

    Raises BadInput, naming the operation, where one cannot be done.
    """
    work = replay_tree(scene, path, recipe, sets)
    frames = _named(_bake_of(recipe), lambda p: bake_frames(work.scene, work.path, p, trimmed_to(recipe)))
    baked = bake_camera(work.scene, work.path, frames)
    work = replace(
        work, frames=frames, baked=baked, track=baked.track, kept=np.arange(len(frames)),
        landmarks=landmarks_of(work.scene, frames), lines_m=set_lines_m(work.scene, float(frames[0])),
    )  # fmt: skip
    return _all_of("track", recipe, work)


def replay_tree(scene: Scene, path: str, recipe: Recipe, sets: Callable[[str], Scene] = no_sets) -> Work:
    """The first part of :func:`replay`: what a recipe makes of the node tree, nothing baked yet."""
    checked_order(recipe)
    frames = _named(_bake_of(recipe), lambda p: bake_frames(scene, path, p, trimmed_to(recipe)))
    return _all_of("tree", recipe, Work(scene, scene.camera(path).path, frames, sets))


def trimmed_to(recipe: Recipe) -> tuple[float, float] | None:
    """The frames that a recipe trims its bake to before anything else; None where it does not, or open on a side."""
    first = next((o for o in recipe if o.on and kind_of(o.code).stage == "track"), None)
    if first is None or first.code != "trim" or not {"first", "last"} <= set(first.params):
        return None
    try:
        return float(first.params["first"]), float(first.params["last"])
    except (TypeError, ValueError):
        return None


def _bake_of(recipe: Recipe) -> Operation:
    return next((o for o in recipe if o.on and o.code == "bake"), Operation("bake"))


def _all_of(stage: Stage, recipe: Recipe, work: Work) -> Work:
    for operation in recipe:
        kind = kind_of(operation.code)
        if operation.on and kind.stage == stage:
            work = _named(operation, partial(kind.apply, work))
    return work


def _named(operation: Operation, do: Callable[[dict[str, Any]], T]) -> T:
    """``do`` with the operation's parameters, checked; whatever goes wrong is said with its label."""
    kind = kind_of(operation.code)
    try:
        params = checked_params(kind, operation.params)
        return do(params)
    except BadInput as error:
        if operation == Operation("bake"):  # nobody asked for it: the file's own range is at fault
            raise
        raise BadInput(f"The operation '{kind.label}' cannot be done: {error.sentence}") from error
    except (TypeError, ValueError, KeyError, IndexError, OverflowError, np.linalg.LinAlgError) as error:
        raise BadInput(
            f"The operation '{kind.label}' cannot be done with these values: change them, or take it out of the recipe."
        ) from error


def checked_params(kind: Kind, params: dict[str, Any]) -> dict[str, Any]:
    """The parameters as an operation takes them: numbers as floats. Raises BadInput naming the one."""
    out: dict[str, Any] = {}
    for item in kind.fields:
        value = params.get(item.name)
        if value is None or value == "":
            if not item.optional:
                raise BadInput(f"'{item.label}' is missing: fill it in.")
            continue
        if item.kind == "number":
            try:
                value = float(value)
            except (TypeError, ValueError) as error:
                raise BadInput(f"'{value}' is no number for '{item.label}'.") from error
            if not np.isfinite(value):
                raise BadInput(f"'{value}' is no number for '{item.label}'.")
        elif item.kind == "choice":
            if value not in item.choices:
                raise BadInput(
                    f"'{value}' is no choice for '{item.label}': choose one of {', '.join(item.choices)}."
                )
        elif not isinstance(value, item.holds):
            raise BadInput(
                f"'{item.label}' of this operation holds something else than it must: take it out."
            )
        out[item.name] = value
    return out
