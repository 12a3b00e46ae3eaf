"""Changes of a file's camera that a person asks for by name, as operations of its recipe."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from anaxis.core.camera.channels import CHANNELS
from anaxis.core.camera.distortion import mapped
from anaxis.core.camera.lens import focal_of_view_mm, parse_size_mm
from anaxis.core.camera.lens_trial import KEEPS
from anaxis.core.camera.track import Track
from anaxis.core.checks.examine import take_camera
from anaxis.core.errors import BadInput
from anaxis.core.names import listed
from anaxis.core.recipe.model import Operation, Recipe
from anaxis.core.recipe.replay import inserted
from anaxis.core.scene.nodes import Scene
from anaxis.core.scene.picture import Picture
from anaxis.core.time.rates import format_frame
from anaxis.core.typing import Floats
from anaxis.formats.distortion.read import read_distortion_file
from anaxis.formats.editorial.cut_list import CutList, cut_operations
from anaxis.formats.tables.lens_data import LensTableOptions, read_lens_data
from anaxis.formats.tables.read import text_of


@dataclass(frozen=True)
class Changes:
    """What is changed, in the order in which it is done; None and "" for what stays.

    ``film_back`` is a size in mm such as 25.6x14.4, ``keep_view`` keeps the field of view under it. ``focal`` is in mm, ``fov_h`` in
    degrees; ``span`` are a first and a last frame; ``cuts`` names an edit's file; ``rate`` is a rate to change to, and ``keep`` what
    stays then (time or frames); ``handles`` are frames at either end, ``first`` the number of the first frame.
    ``lens_table`` is a table of lens data, in ``lens_units`` such as focus=ft where it does not say them, joined to the camera by
    ``lens_from``: by "number", from its "first" frame on, or from a timecode of that frame.
    """

    film_back: str | None = None
    keep_view: bool = False
    distortion: Path | None = None
    distortion_model: str | None = None
    focal: float | None = None
    fov_h: float | None = None
    span: tuple[float, float] | None = None
    cuts: Path | None = None
    rate: str | None = None
    keep: str | None = None
    handles: int | None = None
    first: float | None = None
    lens_table: Path | None = None
    lens_units: str = ""
    lens_from: str = "number"


def lens_table_operation(name: str, data: bytes, track: Track, options: LensTableOptions) -> tuple[dict[str, Any], str]:
    """The parameters of an operation that lays a table's lens data over a camera's, and what it replaces in a few words. Raises
    BadInput."""
    found = read_lens_data(name, text_of(data), track.rate, float(track.frames[0]), options)
    labels = listed([CHANNELS[c].label for c in found.values])
    first, last = (format_frame(float(f)) for f in (found.frames[0], found.frames[-1]))
    said = f"{labels} from {name} instead of that of the file, frames {first} to {last}"
    params = {"of": name, "frames": found.frames.tolist(), **{k: v.tolist() for k, v in found.values.items()}}
    return params, ". ".join([said, *found.notes])


class _Steps:
    """A recipe that grows, for one camera of a file."""

    def __init__(self, recipe: Recipe, scene: Scene, camera: str | None, picture: Picture) -> None:
        self.recipe, self._scene, self._camera, self._picture = recipe, scene, camera, picture

    def add(self, code: str, **params: Any) -> None:
        self.recipe = inserted(self.recipe, Operation(code, params))

    def film_back(self, size: str | None, keep_view: bool) -> None:
        if size:
            width, height = parse_size_mm(size)
            self.add("film_back", width_mm=width, height_mm=height, **({"keep": KEEPS[1]} if keep_view else {}))
        elif keep_view:
            raise BadInput(
                "--keep-view says what stays under another film back: add --film-back, such as --film-back 25.6x14.4."
            )

    def distortion(self, file: Path, model: str, span: tuple[float, float] | None) -> bool:
        """Whether the distortion is that of the frames of ``span``, to which the camera is trimmed first then."""
        document = read_distortion_file(file, model)
        frames: list[float] | None = document.pop("frames", None)
        counts = {len(v) for v in document.values() if isinstance(v, list)}
        if document["model"] == mapped.CODE:
            span = None
        of_span = span is not None and (frames is not None or counts == {round(span[1] - span[0]) + 1})
        if span is not None and of_span:
            frames = frames or [float(f) for f in range(round(span[0]), round(span[1]) + 1)]
            self.add("trim", first=span[0], last=span[1])
        self.add("distortion", document=document, of=file.name, **({} if frames is None else {"frames": frames}))
        return of_span

    def horizontal_view(self, fov_deg: float) -> None:
        lens = take_camera(self._scene, self._camera, recipe=self.recipe).done.lens
        used: Floats = lens.used(self._picture.image, self._picture.fit).width_mm
        self.add("focal", focal_mm=float(focal_of_view_mm(used, fov_deg)[0]))

    def lens_table(self, file: Path, units: str, start: str) -> str:
        track = take_camera(self._scene, self._camera, recipe=self.recipe).done
        if not file.is_file():
            raise BadInput(f"There is no file {file}: check the name.")
        given = dict(part.partition("=")[::2] for part in units.replace(" ", "").split(",") if part)
        known = {"focal": "focal_mm", "focus": "focus_m"}
        wrong = next((k for k in given if k not in known), None)
        if wrong is not None:
            raise BadInput(f"'{wrong}' has no unit: write --lens-units focal=mm,focus=m.")
        typed = start if start not in ("number", "first") else ""
        options = LensTableOptions(
            {known[k]: v for k, v in given.items()}, "first row on first frame" if start == "first" else "by number", typed
        )  # fmt: skip
        params, said = lens_table_operation(file.name, file.read_bytes(), track, options)
        self.add("lens_table", **params)
        return said

    def cuts(self, read: Callable[[Any], CutList]) -> CutList:
        track = take_camera(self._scene, self._camera, recipe=self.recipe).done
        edit = read(track.rate)
        for mark in cut_operations(edit, track, float(track.frames[0])):
            self.recipe = inserted(self.recipe, mark)
        return edit


def changed_recipe(
    recipe: Recipe, changes: Changes, scene: Scene, camera: str | None, picture: Picture, read_cuts: Callable[[Path, Any], CutList]
) -> tuple[Recipe, list[str]]:  # fmt: skip
    """The recipe with an operation for each change, and what is to be said of the edit whose cuts were marked. ``read_cuts`` reads
    an edit at a rate. Raises BadInput."""
    steps, span, notes = _Steps(recipe, scene, camera, picture), changes.span, []
    steps.film_back(changes.film_back, changes.keep_view)
    if changes.distortion and steps.distortion(changes.distortion, changes.distortion_model or "", span):
        span = None
    if changes.focal is not None and changes.fov_h is not None:
        raise BadInput("--focal and --fov-h say the same thing twice: leave one of them out.")
    if changes.focal is not None:
        steps.add("focal", focal_mm=changes.focal)
    if span:
        steps.add("trim", first=span[0], last=span[1])
    if changes.lens_table is not None:
        notes.append(steps.lens_table(changes.lens_table, changes.lens_units, changes.lens_from))
    if changes.fov_h is not None:
        steps.horizontal_view(changes.fov_h)
    if changes.cuts is not None:
        path = changes.cuts
        edit = steps.cuts(lambda rate: read_cuts(path, rate))
        notes += [f"{edit.name}: {note}" for note in edit.notes]
    if changes.rate:
        steps.add("rate", rate=changes.rate, keep=changes.keep)
    if changes.handles is not None:
        steps.add("handles", head=changes.handles, tail=changes.handles, way="hold")
    if changes.first is not None:
        steps.add("renumber", first=changes.first)
    return steps.recipe, notes


def with_pixel_aspect(picture: Picture, pixel_aspect: float | None) -> Picture:
    if pixel_aspect is None:
        return picture
    return replace(picture, image=replace(picture.image, pixel_aspect=pixel_aspect))
