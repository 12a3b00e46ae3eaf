"""The objects of a camera's set as a person chooses among them: what each is, where it is from, and whether the camera sees it."""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np

from anaxis.core.camera.seen import may_be_seen
from anaxis.core.motion.set_objects import ObjectChoice, SetObject, objects_of
from anaxis.core.names import listed
from anaxis.core.recipe.model import Work
from anaxis.core.scene.picture import Picture
from anaxis.core.typing import Floats
from anaxis.library.scene_report import FileCamera

# A view so many times as wide and as high still counts as near the picture.
_NEAR = 3.0
State = Literal["still", "moves", "deforms"]
View = Literal["in view", "near the picture", "far outside"]


class SetRow(NamedTuple):
    """One object: its ``path``, the ``file`` that adds it ("" for the camera's own), what was chosen for it, its faces and points,
    its extent (3,) in canonical metres on the first frame, and its ``share`` of the set's points."""

    path: str
    file: str
    name: str
    group: str
    along: bool
    hidden: bool
    guide: bool
    faces: int
    points: int
    extent_m: tuple[float, float, float]
    state: State
    view: View
    share: float


class SetListing(NamedTuple):
    """The objects of a set, and sentences about them."""

    rows: tuple[SetRow, ...]
    notes: tuple[str, ...]


def set_listing(camera: FileCamera, picture: Picture) -> SetListing:
    """The set round a camera after its recipe. Raises BadInput where the recipe cannot be done."""
    return listing_of(camera.replayed(), picture)


def listing_of(work: Work, picture: Picture) -> SetListing:
    """The set round a camera whose recipe is done."""
    objects = objects_of(work.around)
    choices = {c.path: c for c in work.choices}
    total = sum(o.points.shape[1] for o in objects)
    rows = tuple(_row(work, picture, one, choices.get(one.path), total) for one in objects)
    far = [r for r in rows if r.view == "far outside" and r.along]
    notes = list(work.set_along.notes)
    if far:
        share = sum(r.share for r in far)
        notes.append(
            f"Never near the picture: {listed([r.name for r in far])}: {100 * share:.0f} % of the points of the set. Remove "
            f"{'it' if len(far) == 1 else 'them'} on Place if you do not need {'it' if len(far) == 1 else 'them'}."
        )
    return SetListing(rows, tuple(notes))


def _row(work: Work, picture: Picture, one: SetObject, choice: ObjectChoice | None, total: int) -> SetRow:
    chosen = choice or ObjectChoice(path=one.path, hidden=one.hidden, guide=one.guide)
    corners_m = _corners_m(one)
    track = work.done
    seen, near = (may_be_seen(track, picture.image, picture.fit, corners_m, w).any() for w in (1.0, _NEAR))
    first = one.points_m(0)
    x, y, z = (first.max(axis=0) - first.min(axis=0)).tolist()
    file, _, _ = one.path.rpartition(":") if not one.path.startswith("/") else ("", "", "")
    return SetRow(
        one.path, file, chosen.name or one.name, chosen.group or "", chosen.along, chosen.hidden, chosen.guide, len(one.counts),
        one.points.shape[1], (x, y, z), "deforms" if one.deforms else "moves" if one.moves else "still",
        "in view" if seen else "near the picture" if near else "far outside", one.points.shape[1] / total,
    )  # fmt: skip


def _corners_m(one: SetObject) -> Floats:
    """The corners of an object's own bounds in canonical metres, (n or 1, 8, 3)."""
    low, high = one.points.min(axis=1), one.points.max(axis=1)
    pick = np.array([[i >> 2 & 1, i >> 1 & 1, i & 1] for i in range(8)], dtype=np.float64)
    corners = low[:, None, :] + pick * (high - low)[:, None, :]
    return np.asarray(corners @ np.swapaxes(one.matrix_m[:, :3, :3], 1, 2) + one.matrix_m[:, None, :3, 3])
