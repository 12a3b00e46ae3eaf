"""Take in: drop a file, see what is in it before anything is kept, keep one or several cameras."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Annotated, Any

from fastapi import APIRouter, File, Form, Request, UploadFile
from fastapi.responses import RedirectResponse, Response
from sqlalchemy.orm import Session

from anaxis.app.edit import KEEPING_WORDS, Keeping, Retake, keep_camera, keep_retake, mark_missing, planned_retake
from anaxis.app.examined import Looked, camera_after, look
from anaxis.app.waiting import examiner_of, let_go
from anaxis.core.camera.lens import FITS, Image, parse_image, require_fit
from anaxis.core.checks import Expected
from anaxis.core.checks.examine import refuse_unusable
from anaxis.core.errors import BadInput
from anaxis.core.recipe.documents import recipe_from_document
from anaxis.core.recipe.operations import kind_of
from anaxis.core.recipe.replay import inserted
from anaxis.core.scene.landmarks import LEGAL_NAME_RULE, legal_name
from anaxis.core.scene.nodes import UP_AXES, Scene
from anaxis.core.scene.picture import Picture, picture_of
from anaxis.formats import READABLE_SUFFIXES, check_size, require_readable
from anaxis.packages import SHIPPED_KEYS
from anaxis.store.archive import scene_to_bytes
from anaxis.store.models import Camera, Shot, SourceFile, Version
from anaxis.store.packages import all_packages
from anaxis.store.queries import (
    NotFound,
    expected_of,
    find_or_make_shot,
    find_or_make_show,
    find_shot,
    get_camera,
    newest_show_name,
    saved_layouts,
    set_finder,
    stage_file,
    staged_scene,
)
from anaxis.web.drawings.camera import look_bundle
from anaxis.web.pages import Store, disk_name, drawing_answer, name_of_upload, page
from anaxis.web.screens.intake.draft import Draft, corrections_typed, targets_of
from anaxis.work.sandbox.guard import ParserPool

router = APIRouter(prefix="/take-in")
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
            raise BadInput("No file was chosen: drop a camera file, or choose one.")
        if len(files) > 1:
            raise BadInput(
                f"{len(files)} files were sent at once ({', '.join(name_of_upload(f) for f in files[:3])}…): take them in one after the other. "
                "None of them was read."
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
    held = camera.head.source_file
    copy = stage_file(store, held.name, held.data, held.scene)
    copy.draft = {"camera": camera.id, "show": camera.shot.show.name, "shot": camera.shot.name}
    copy.layout = held.layout
    store.flush()
    return RedirectResponse(f"/take-in/{copy.id}", status_code=303)


def take_in_bytes(store: Session, parsers: ParserPool, name: str, data: bytes) -> SourceFile:
    """Read an uploaded file in a process of its own and put it aside with its scene.

    Raises BadInput where it cannot be read or holds no camera that can be used or repaired.
    """
    let_go(store)
    scene = scene_to_bytes(read_bytes(parsers, name, data))
    reports = look(examiner_of(store), scene, name, {}, tracks=[])
    if not any(f.operation for r in reports for f in r.findings if f.severity == "error"):
        refuse_unusable(reports)
    return stage_file(store, name, data, scene)


def read_bytes(
    parsers: ParserPool,
    name: str,
    data: bytes,
    layout: dict[str, Any] | None = None,
    suffixes: tuple[str, ...] = READABLE_SUFFIXES,
) -> Scene:
    """The scene in an uploaded file; raises BadInput where it cannot be read."""
    check_size(name, len(data), parsers.limits.max_bytes)
    with TemporaryDirectory(prefix="anaxis-upload-") as folder:
        path = Path(folder) / disk_name(name)
        path.write_bytes(data)
        return parsers.read(path, layout, suffixes)


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
def change_draft(
    request: Request, store: Store, source_id: int, action: Annotated[str, Form()] = "correct",
    show: Annotated[str, Form()] = "", shot: Annotated[str, Form()] = "", up_axis: Annotated[str, Form()] = "",
    metres_per_unit: Annotated[str, Form()] = "", rate: Annotated[str, Form()] = "",
) -> Any:  # fmt: skip
    """Correct what the file did not state, take a remedy or take one back (``remedy:`` or
    ``back:`` and JSON that names the camera)."""
    source, read = staged_scene(store, source_id)
    draft = Draft.of(source)
    recipes, correct = dict(draft.recipes), dict(draft.correct)
    verb, _, rest = action.partition(":")
    try:
        if verb == "remedy":
            asked = json.loads(rest)
            path, operation = str(asked["path"]), recipe_from_document([asked["operation"]])[0]
            if kind_of(operation.code).for_file:  # a guess confirmed holds for all of the file
                correct |= {k: f"{v:g}" if isinstance(v, float) else str(v) for k, v in operation.params.items()}
            else:
                recipes[path] = inserted(recipes.get(path, ()), operation)
        elif verb == "back":
            asked = json.loads(rest)
            path, at = str(asked["path"]), int(asked["at"])
            recipes[path] = tuple(o for i, o in enumerate(recipes.get(path, ())) if i != at)
        else:
            correct = corrections_typed(
                draft, read, {"up_axis": up_axis, "metres_per_unit": metres_per_unit, "rate": rate}
            )
    except (ValueError, KeyError, TypeError) as error:
        if not isinstance(error, BadInput):
            raise BadInput("That change cannot be read: reload the page and try again.") from error
        typed_form = {"show": show, "shot": shot, "up_axis": up_axis, "metres_per_unit": metres_per_unit, "rate": rate}
        return _review_page(request, store, source, read, error.sentence, typed_form)
    Draft(correct, recipes, draft.camera, show or draft.show, shot or draft.shot).kept_in(source)
    return RedirectResponse(f"/take-in/{source_id}", status_code=303)


@router.get("/{source_id}/targets")
def targets(request: Request, store: Store, source_id: int, show: str = "", shot: str = "") -> Any:
    """The part of the page that depends on the shot's name."""
    source, read = staged_scene(store, source_id)
    draft = Draft.of(source)
    reports = _reports(store, source, draft, read, show, shot)
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
    recipe = Draft.of(source).recipe(path)
    after = camera_after(examiner_of(store), source.scene, source.name, path, recipe, set_finder(store))
    return drawing_answer(look_bundle(*after, picture_of(read, None, None)), kept=False)


def _reports(
    store: Session, source: SourceFile, draft: Draft, read: Scene, show: str, shot: str, tracks: Sequence[str] = ()
) -> list[Looked]:
    found = find_shot(store, show.strip(), shot.strip())
    recipes = {n.path: draft.recipe(n.path) for n in read.cameras}
    expected = expected_of(found) if found else Expected()
    sets = set_finder(store)
    return look(examiner_of(store), source.scene, source.name, recipes, expected, sets=sets, tracks=tracks)


def _review_page(
    request: Request,
    store: Session,
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
    shot = (typed or {}).get("shot") or draft.shot or _shot_name(source.name)
    reports = _reports(store, source, draft, read, show, shot)
    picture = picture_of(scene, None, None)
    proposed = {
        "show": show,
        "shot": shot,
        "resolution": f"{picture.image.width_px}x{picture.image.height_px}",
        "source_fit": picture.fit,
        "cameras": [r.path for r in reports if r.usable],
    }
    drafted = {p: [(i, o, kind_of(o.code)) for i, o in enumerate(r)] for p, r in draft.recipes.items() if r}
    packages = all_packages(store) if read.columns else {}
    return page(
        request, "intake/review.html", 422 if sentence else 200, paths=[n.path for n in read.cameras],
        source=source, read=read, draft=draft, drafted=drafted, scene=scene, reports=reports, picture=picture, fits=FITS,
        form={**proposed, **(typed or {})}, sentence=sentence, targets=targets_of(store, draft, reports, show, shot),
        rule=LEGAL_NAME_RULE, keepings=KEEPING_WORDS, up_axes=list(UP_AXES), usable={r.path for r in reports if r.usable},
        layouts=saved_layouts(store) if read.columns else [], packages=packages, own_packages=[p for k, p in packages.items() if k not in SHIPPED_KEYS],
    )  # fmt: skip


# Keeping


@router.post("/{source_id}")
def keep(
    request: Request, store: Store, source_id: int,
    show: Annotated[str, Form()] = "", shot: Annotated[str, Form()] = "",
    resolution: Annotated[str, Form()] = "", source_fit: Annotated[str, Form()] = "",
    cameras: Annotated[list[str] | None, Form()] = None, targets: Annotated[list[str] | None, Form()] = None,
    keeping: Annotated[str, Form()] = "recipe", up_axis: Annotated[str, Form()] = "",
    metres_per_unit: Annotated[str, Form()] = "", rate: Annotated[str, Form()] = "",
) -> Any:  # fmt: skip
    source, read = staged_scene(store, source_id)
    draft = Draft.of(source)
    stated = {"up_axis": up_axis, "metres_per_unit": metres_per_unit, "rate": rate}
    try:
        draft = replace(draft, correct=corrections_typed(draft, read, stated))
        names = {"show": show.strip(), "shot": shot.strip()}
        reports = _reports(store, source, draft, read, names["show"], names["shot"], cameras or [])
        chosen = [r for r in reports if r.path in (cameras or [])]
        if not chosen:
            raise BadInput("No camera is chosen: tick at least one.")
        for what, name in names.items():
            if not 1 <= len(name) <= _MAX_NAME:
                raise BadInput(f"The {what} needs a name of 1 to {_MAX_NAME} characters.")
        if keeping not in KEEPING_WORDS:
            raise BadInput(f"'{keeping}' is no way to take a camera again: choose one of {', '.join(KEEPING_WORDS)}.")
        picture = _picture(draft.corrected(read), parse_image(resolution), source_fit)
        found = find_shot(store, names["show"], names["shot"])
        known = {c.name for c in found.cameras} if found else set()
        wanted = _wanted(store, draft, reports, names, targets or [])
        planned = _planned(store, source, read, chosen, wanted, keeping, picture)
        with store.begin_nested():  # all of the chosen cameras, or none
            kept_shot = find_or_make_shot(store, find_or_make_show(store, names["show"]), names["shot"])
            _require_nobody_else(kept_shot, known, [wanted[r.path] for r in chosen])
            kept = _keep_all(store, kept_shot, source, read, planned, wanted, picture)
    except BadInput as error:
        typed = {
            "show": show,
            "shot": shot,
            "resolution": resolution,
            "source_fit": source_fit,
            "cameras": cameras or [],
            **stated,
        }
        return _review_page(request, store, source, read, error.sentence, typed)
    target = f"/cameras/{kept[0].camera_id}" if len(kept) == 1 else "/"
    return RedirectResponse(target, status_code=303)


def _picture(scene: Scene, image: Image, source_fit: str) -> Picture:
    """The picture as typed; what was left as proposed stays as much of a guess as it was."""
    require_fit(source_fit)
    guess = picture_of(scene, None, None)
    same_image = (image.width_px, image.height_px) == (guess.image.width_px, guess.image.height_px)
    return picture_of(scene, None if same_image else image, None if source_fit == guess.fit else source_fit)


def _wanted(
    store: Session, draft: Draft, reports: list[Looked], names: dict[str, str], targets: list[str]
) -> dict[str, tuple[str, Camera | None]]:
    """For each camera of the file its name and the known camera it is a take of: as chosen, else as proposed."""
    said = dict(t.rsplit("=", 1) for t in targets if "=" in t)
    wanted: dict[str, tuple[str, Camera | None]] = {}
    for target in targets_of(store, draft, reports, names["show"], names["shot"]):
        choice = said.get(target.path)
        chosen = target.chosen
        if choice is not None:
            chosen = next((c for c in target.known if str(c.id) == choice), None)
        wanted[target.path] = (target.name, chosen)
    return wanted


def _planned(
    store: Session,
    source: SourceFile,
    read: Scene,
    chosen: list[Looked],
    wanted: dict[str, tuple[str, Camera | None]],
    keeping: Keeping,
    picture: Picture,
) -> list[Looked | Retake]:
    """The chosen cameras, and those of them that are takes of known ones worked out. Raises BadInput."""
    again = [wanted[r.path][1] for r in chosen if wanted[r.path][1] is not None]
    if len({c.id for c in again if c}) < len(again):
        raise BadInput("Two cameras of the file are to be takes of one camera: choose one of them, or a new camera.")
    out: list[Looked | Retake] = []
    for report in chosen:
        camera = wanted[report.path][1]
        out.append(
            report
            if camera is None
            else planned_retake(store, camera, source, read, report.path, keeping, picture, report.recipe)
        )
    return out


def _require_nobody_else(shot: Shot, known: set[str], wanted: list[tuple[str, Camera | None]]) -> None:
    """Raises BadInput where another page has kept a camera of the name since this one was planned."""
    since = {c.name for c in shot.cameras} - known
    for name, camera in wanted:
        if camera is None and name in since:
            raise BadInput(
                f"Meanwhile a camera {name} was kept in {shot.name} from another page: look at it, and keep this one as its take or under another name."
            )


def _keep_all(
    store: Session,
    shot: Shot,
    source: SourceFile,
    read: Scene,
    planned: list[Looked | Retake],
    wanted: dict[str, tuple[str, Camera | None]],
    picture: Picture,
) -> list[Version]:
    kept: list[Version] = []
    before: list[SourceFile] = []
    taken = {c.name for c in shot.cameras}
    for one in planned:
        if isinstance(one, Retake):
            before.append(one.camera.head.source_file)
            kept.append(keep_retake(store, source, one))
        else:
            kept.append(keep_camera(store, shot, source, one, legal_name(wanted[one.path][0], taken), picture))
    mark_missing(store, before, source, read, [store.get_one(Camera, v.camera_id) for v in kept])
    return kept


def _shot_name(file_name: str) -> str:
    """A shot name read off a file name: AB_010 of AB_010_camera_v003.usd, else the stem."""
    found = re.match(r"([A-Za-z]+[_-]?\d{2,5})", file_name)
    return found[1] if found else Path(file_name).stem[:40]
