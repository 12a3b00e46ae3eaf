"""Take in: drop a file, see what is in it before anything is kept, keep one or several cameras."""

from __future__ import annotations

import json
from typing import Annotated, Any

from fastapi import APIRouter, File, Form, Request, UploadFile
from fastapi.responses import RedirectResponse, Response
from pydantic import Field

from anaxis.app.cameras.draft import Draft, corrections_typed, targets_of
from anaxis.app.cameras.edit import KEEPING_WORDS
from anaxis.app.cameras.file_names import guessed
from anaxis.app.cameras.proposed import changed_inside, left_out
from anaxis.app.cameras.scene_report import file_camera
from anaxis.app.cameras.take_in import TakeIn, reports_of, take_in, take_in_bytes, take_in_once_more
from anaxis.app.context import Context
from anaxis.app.exchange.recorded_file import RecordedFile, record_from_file
from anaxis.app.roles import Role
from anaxis.app.shows.zip_contents import pieces_of, take_along
from anaxis.core.camera.lens import FITS
from anaxis.core.checks.plates import PLATE_KINDS
from anaxis.core.errors import BadInput
from anaxis.core.recipe.documents import recipe_from_document
from anaxis.core.recipe.operations import kind_of
from anaxis.core.scene.landmarks import LEGAL_NAME_RULE
from anaxis.core.scene.nodes import UP_AXES, Scene
from anaxis.core.scene.picture import picture_of
from anaxis.formats import READABLE_SUFFIXES, check_size, require_readable
from anaxis.library.scene_report import camera_after
from anaxis.packages import SHIPPED_KEYS
from anaxis.store.models import Camera, SourceFile
from anaxis.store.packages import all_packages
from anaxis.store.queries import NotFound, get_camera, newest_show_name, saved_layouts, staged_scene
from anaxis.web.access import needs
from anaxis.web.drawings.camera import look_drawing
from anaxis.web.forms import PageForm
from anaxis.web.own_worker import ensure_worker
from anaxis.web.pages import Store, drawing_answer, name_of_upload, page
from anaxis.web.screens.help.tour import tour_step

router = APIRouter(prefix="/take-in", dependencies=[needs(Role.ARTIST)])


class DraftForm(PageForm):
    """What is typed of a file before it is kept: where its camera goes, and what the file does not state."""

    action: str = "correct"
    show: str = ""
    shot: str = ""
    up_axis: str = ""
    metres_per_unit: str = ""
    rate: str = ""

    @property
    def stated(self) -> dict[str, str]:
        return {"up_axis": self.up_axis, "metres_per_unit": self.metres_per_unit, "rate": self.rate}


class RecordingForm(DraftForm):
    camera: str = ""
    resolution: str = ""
    source_fit: str = ""
    new_show: bool = False


class KeepForm(RecordingForm):
    cameras: list[str] = Field(default_factory=list)
    targets: list[str] = Field(default_factory=list)
    keeping: str = "recipe"
    with_it: list[str] = Field(default_factory=list)
    plate_kinds: list[str] = Field(default_factory=list)


_MAX_NAME = 120


@router.get("")
def choose(request: Request, store: Store, camera: int | None = None) -> Any:
    return _choose_page(request, camera=get_camera(store, camera) if camera else None)


@router.post("")
def upload(
    request: Request,
    store: Store,
    files: Annotated[list[UploadFile], File(alias="file")],
    camera: Annotated[int | None, Form()] = None,
) -> Any:
    limits = request.app.state.limits
    file = files[0]
    name = name_of_upload(file, _MAX_NAME)
    known = get_camera(store, camera) if camera else None
    try:
        if not name:
            raise BadInput("No file chosen: drop a camera file, or choose one.")
        if len(files) > 1:
            raise BadInput(
                f"{len(files)} files were sent at once ({', '.join(name_of_upload(f) for f in files[:3])}…): use the page Take in many files. None of them was read."
                ""
            )
        require_readable(name)
        check_size(name, file.size or 0, limits.max_bytes)
        data = file.file.read(limits.max_bytes + 1)
        source = take_in_bytes(store, request.app.state.parsers, name, data)
    except BadInput as error:
        return _choose_page(request, error.sentence, 422, known)
    if known is not None:
        source.draft = {"camera": known.id, "show": known.shot.show.name, "shot": known.shot.name}
    return RedirectResponse(f"/take-in/{source.id}", status_code=303)


@router.post("/again/{camera_id}")
def again(store: Store, camera_id: int) -> Any:
    """The file a camera came from, to be taken in another way: other columns, axes, unit or rate."""
    camera = get_camera(store, camera_id)
    copy = take_in_once_more(store, camera)
    return RedirectResponse(f"/take-in/{copy.id}", status_code=303)


def _choose_page(request: Request, sentence: str = "", status: int = 200, camera: Camera | None = None) -> Any:
    limit = request.app.state.limits.max_bytes / 1e6
    return page(
        request,
        "intake/choose.html",
        status,
        sentence=sentence,
        suffixes=READABLE_SUFFIXES,
        limit_mb=f"{limit:g}",
        camera=camera,
    )


# What is in it


@router.get("/{source_id}")
def review(request: Request, store: Store, source_id: int, show: str = "", shot: str = "") -> Any:
    source, read = staged_scene(store, source_id)
    return _review_page(
        request, store, source, read, typed={k: v for k, v in {"show": show, "shot": shot}.items() if v}
    )


@router.post("/{source_id}/draft")
def change_draft(request: Request, store: Store, source_id: int, form: Annotated[DraftForm, Form()]) -> Any:
    """Correct what the file did not state, take a remedy or take one back (``remedy:`` or
    ``back:`` and JSON that names the camera)."""
    source, read = staged_scene(store, source_id)
    draft = Draft.of(source)
    recipes, correct = dict(draft.recipes), dict(draft.correct)
    verb, _, rest = form.action.partition(":")
    try:
        if verb == "remedy":
            asked = json.loads(rest)
            path, operation = str(asked["path"]), recipe_from_document([asked["operation"]])[0]
            remedied = draft.with_remedy(path, operation)
            recipes, correct = dict(remedied.recipes), dict(remedied.correct)
        elif verb == "back":
            asked = json.loads(rest)
            path, at = str(asked["path"]), int(asked["at"])
            recipes[path] = tuple(o for i, o in enumerate(recipes.get(path, ())) if i != at)
        else:
            correct = corrections_typed(draft, read, form.stated)
    except (ValueError, KeyError, TypeError) as error:
        if not isinstance(error, BadInput):
            raise BadInput("The form cannot be read: reload the page and try again.") from error
        typed_form = {"show": form.show, "shot": form.shot, **form.stated}
        return _review_page(request, store, source, read, error.sentence, typed_form)
    Draft(correct, recipes, draft.camera, form.show or draft.show, form.shot or draft.shot, draft.sent).kept_in(source)
    return RedirectResponse(f"/take-in/{source_id}", status_code=303)


@router.get("/{source_id}/targets")
def targets(request: Request, store: Store, source_id: int, show: str = "", shot: str = "") -> Any:
    """The part of the page that depends on the shot's name."""
    source, read = staged_scene(store, source_id)
    draft = Draft.of(source)
    reports = reports_of(store, source, draft, read, show, shot)
    return page(
        request,
        "intake/targets.html",
        targets=targets_of(store, draft, reports, show, shot),
        rule=LEGAL_NAME_RULE,
        keepings=KEEPING_WORDS,
        usable={r.path for r in reports if r.usable},
    )


@router.get("/{source_id}/drawing")
def drawing(store: Store, source_id: int, camera: int) -> Response:
    source, read = staged_scene(store, source_id)
    cameras = read.cameras
    if not 0 <= camera < len(cameras):
        raise NotFound(f"{source.name} has no camera number {camera + 1}: reload the page.")
    path = cameras[camera].path
    on_file = file_camera(store, source, path, Draft.of(source).recipe(path))
    after = store.calculators.run(source.name, camera_after, on_file)
    return drawing_answer(look_drawing(*after, picture_of(read, None, None)), kept=False)


def _review_page(
    request: Request,
    store: Context,
    source: SourceFile,
    read: Scene,
    sentence: str = "",
    typed: dict[str, Any] | None = None,
) -> Any:
    draft = Draft.of(source)
    try:
        scene = draft.corrected(read)
    except BadInput as error:
        # A layout chosen later can make an earlier correction impossible.
        draft, scene, sentence = (Draft({}, {}, draft.camera, draft.show, draft.shot), read, sentence or error.sentence)
    show = (typed or {}).get("show") or draft.show or newest_show_name(store)
    shot = (typed or {}).get("shot") or draft.shot or guessed(source.name).shot
    reports = reports_of(store, source, draft, read, show, shot)
    picture = picture_of(scene, None, None)
    not_the_shots = left_out(reports)
    proposed = {
        "show": show,
        "shot": shot,
        "resolution": f"{picture.image.width_px}x{picture.image.height_px}",
        "source_fit": picture.fit,
        "cameras": [r.path for r in reports if r.usable and r.path not in not_the_shots],
    }
    drafted = {p: [(i, o, kind_of(o.code)) for i, o in enumerate(r)] for p, r in draft.recipes.items() if r}
    packages = all_packages(store) if read.columns else {}
    return page(
        request, "intake/review.html", 422 if sentence else 200, device_clock=any({"off_grid", "uneven"} <= {f.code for f in r.findings} for r in reports), paths=[n.path for n in read.cameras],
        source=source, read=read, draft=draft, drafted=drafted, scene=scene, reports=reports, picture=picture, fits=FITS,
        form={**proposed, **(typed or {})}, sentence=sentence, targets=targets_of(store, draft, reports, show, shot),
        rule=LEGAL_NAME_RULE, keepings=KEEPING_WORDS, up_axes=list(UP_AXES), usable={r.path for r in reports if r.usable},
        left_out=not_the_shots, changed_inside=changed_inside(store, source, read, show, shot),
        tour=tour_step(store, "file"), layouts=saved_layouts(store) if read.columns else [], packages=packages, own_packages=[p for k, p in packages.items() if k not in SHIPPED_KEYS],
    )  # fmt: skip


@router.post("/{source_id}")
def keep(request: Request, store: Store, source_id: int, form: Annotated[KeepForm, Form()]) -> Any:
    asked = TakeIn(
        show=form.show, shot=form.shot, resolution=form.resolution, source_fit=form.source_fit, cameras=form.cameras, targets=form.targets,
        keeping=form.keeping, stated=form.stated, new_show=form.new_show,
    )  # fmt: skip
    try:
        kept = take_in(store, source_id, asked)
        source, read = staged_scene(store, source_id)
        along = take_along(store, source, _camera_file(read), kept, form.with_it, form.plate_kinds)
    except BadInput as error:
        typed = asked.model_dump(exclude={"targets", "keeping", "stated", "new_show"}) | form.stated
        typed["near_show"] = error.code == "near_show"
        return _review_page(request, store, *staged_scene(store, source_id), error.sentence, typed)
    target = f"/cameras/{kept[0].camera_id}" if len(kept) == 1 else "/"
    ensure_worker(request, along)
    return RedirectResponse(target, status_code=303)


@router.post("/{source_id}/recording")
def open_recording(request: Request, store: Store, source_id: int, form: Annotated[RecordingForm, Form()]) -> Any:
    """The page of recordings for a camera of the file: gaps, jumps, noise, floor, frames of the show's rate."""
    asked = RecordedFile(
        camera=form.camera, show=form.show, shot=form.shot, resolution=form.resolution, source_fit=form.source_fit, stated=form.stated,
        new_show=form.new_show,
    )  # fmt: skip
    source, read = staged_scene(store, source_id)
    try:
        row = record_from_file(store, source, asked)
    except BadInput as error:
        typed = asked.model_dump(include={"show", "shot", "resolution", "source_fit"}) | form.stated
        typed["near_show"] = error.code == "near_show"
        return _review_page(request, store, source, read, error.sentence, typed)
    return RedirectResponse(f"/recordings/{row.id}", status_code=303)


@router.get("/{source_id}/with-it")
def with_it(request: Request, store: Store, source_id: int) -> Any:
    """What came along in a zip beside the camera's file."""
    source, read = staged_scene(store, source_id)
    store.release_connection()
    return page(
        request,
        "intake/with_it.html",
        pieces=pieces_of(source, _camera_file(read)),
        camera_file=_camera_file(read),
        plate_kinds=PLATE_KINDS,
    )


def _camera_file(scene: Scene) -> str:
    """The file of a zip that the cameras are in."""
    return scene.name.partition(": ")[2]
