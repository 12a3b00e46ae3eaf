"""What is set on the intake page and not kept yet: corrections, remedies, and what each camera becomes."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from fractions import Fraction
from typing import Any

from anaxis.app.context import Context
from anaxis.core.errors import BadInput
from anaxis.core.recipe.documents import recipe_document, recipe_from_document
from anaxis.core.recipe.model import Operation, Recipe
from anaxis.core.recipe.operations import kind_of, tree
from anaxis.core.recipe.replay import inserted
from anaxis.core.scene.landmarks import legal_name
from anaxis.core.scene.nodes import Scene, corrected
from anaxis.core.time.rates import parse_rate, rate_label
from anaxis.library.scene_report import CameraSummary
from anaxis.store.models import Camera, SourceFile
from anaxis.store.queries import find_shot


@dataclass(frozen=True)
class Draft:
    """A staged file's draft: ``correct`` holds what the file did not state and a person set, as typed;
    ``recipes`` are by camera path; ``camera`` is the one the file was handed over for, if any; ``sent`` is with which path, show and
    rule for names a program sent it."""

    correct: dict[str, str]
    recipes: dict[str, Recipe]
    camera: int | None
    show: str
    shot: str
    sent: dict[str, str] = field(default_factory=dict)

    @staticmethod
    def of(source: SourceFile) -> Draft:
        held = source.draft or {}
        recipes = {
            path: recipe_from_document(entries, strict=False) for path, entries in held.get("recipes", {}).items()
        }
        return Draft(
            held.get("correct", {}),
            recipes,
            held.get("camera"),
            held.get("show", ""),
            held.get("shot", ""),
            held.get("sent", {}),
        )

    def kept_in(self, source: SourceFile) -> None:
        recipes = {path: recipe_document(recipe) for path, recipe in self.recipes.items() if recipe}
        source.draft = {
            "correct": self.correct,
            "recipes": recipes,
            "camera": self.camera,
            "show": self.show,
            "shot": self.shot,
            **({"sent": self.sent} if self.sent else {}),
        }

    def recipe(self, path: str) -> Recipe:
        """The camera's drafted recipe, with what was corrected for the whole file in front."""
        own = self.recipes.get(path, ())
        if not self.correct:
            return own
        return (tree.CORRECT.operation(self._stated()), *own)

    def with_remedy(self, path: str, operation: Operation) -> Draft:
        """The draft with a remedy of a camera taken; a guess confirmed holds for all of the file."""
        if kind_of(operation.code).for_file:
            stated = {k: f"{v:g}" if isinstance(v, float) else str(v) for k, v in operation.params.items()}
            return replace(self, correct=self.correct | stated)
        return replace(self, recipes={**self.recipes, path: inserted(self.recipes.get(path, ()), operation)})

    def corrected(self, scene: Scene) -> Scene:
        """The scene as its cameras' recipes begin; raises BadInput for a correction that cannot be read."""
        return corrected(scene, **{**self._stated(), **self._rate()})

    def _stated(self) -> dict[str, Any]:
        """The corrections as an operation takes them; raises BadInput for one that cannot be read."""
        self._rate()
        unit = self.correct.get("metres_per_unit")
        return {**self.correct, **({"metres_per_unit": _unit(unit)} if unit else {})}

    def _rate(self) -> dict[str, Fraction]:
        rate = self.correct.get("rate")
        return {"rate": parse_rate(rate)} if rate else {}


def _unit(text: str) -> float:
    try:
        return float(text)
    except ValueError as error:
        raise BadInput(f"'{text}' is not a unit: write the metres of one unit, such as 0.01.") from error


def corrections_typed(draft: Draft, read: Scene, typed: dict[str, str]) -> dict[str, str]:
    """What a person set of what the file does not state; raises BadInput where it cannot be read.

    What was left as shown stays as much of a guess as it was.
    """
    scene = draft.corrected(read)
    shown = {
        "up_axis": scene.convention.up_axis,
        "metres_per_unit": f"{scene.convention.metres_per_unit:g}",
        "rate": rate_label(scene.rate),
    }
    said = {k: v.strip() for k, v in typed.items() if v.strip()}
    correct = draft.correct | {k: v for k, v in said.items() if v != shown[k]}
    replace(draft, correct=correct).corrected(read)
    return correct


@dataclass(frozen=True)
class TakeInTarget:
    """Where one camera of the file may go: ``known`` are the shot's cameras, ``chosen`` one of them or
    None for a new camera called ``name``; ``differs`` says that names are not the same."""

    path: str
    name: str
    known: list[Camera]
    chosen: Camera | None
    differs: bool


def _renamed(known: list[Camera], in_file: set[str], path: str) -> Camera | None:
    """The known camera that was taken in from this path and has another name here by now."""
    return next((c for c in known if c.head_id and c.name not in in_file and c.head.camera_path == path), None)


def targets_of(store: Context, draft: Draft, reports: list[CameraSummary], show: str, shot: str) -> list[TakeInTarget]:
    """A proposal for every camera: by the camera the file was handed over for, by name, or the only one there is."""
    found = find_shot(store, show.strip(), shot.strip())
    known = list(found.cameras) if found else []
    usable = [r for r in reports if r.usable]
    taken: set[str] = set()
    out = []
    for report in reports:
        name = legal_name(report.name, taken)
        same = next((c for c in known if c.name == name), None) or _renamed(
            known, {r.name for r in reports}, report.path
        )
        chosen = same
        moving = [r for r in usable if r.animated] or usable
        if len(moving) == 1 and report is moving[0] and chosen is None:
            handed = [c for c in known if c.id == draft.camera]
            chosen = handed[0] if handed else known[0] if len(known) == 1 else None
        out.append(TakeInTarget(report.path, name, known, chosen, chosen is not None and chosen.name != name))
    return out
