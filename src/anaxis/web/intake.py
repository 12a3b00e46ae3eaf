"""Take in: drop a file, see what is in it before anything is kept, keep one or several cameras."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Annotated, Any

from fastapi import APIRouter, File, Form, Request, UploadFile
from fastapi.responses import RedirectResponse
from sqlalchemy.orm import Session

from anaxis.core.errors import BadInput
from anaxis.core.lens import FITS, parse_image, require_fit
from anaxis.core.scene import Scene, corrected
from anaxis.core.timing import parse_rate
from anaxis.flow import CameraReport, examine, picture_of, refuse_unusable
from anaxis.formats import READABLE_SUFFIXES, check_size, reader_of
from anaxis.jobs.guard import ParserPool
from anaxis.store.models import SourceFile, Version
from anaxis.store.queries import (
    find_or_make_shot,
    find_or_make_show,
    keep_camera,
    newest_show_name,
    stage_file,
    staged_scene,
)
from anaxis.web.pages import Store, page

router = APIRouter(prefix="/take-in")
_MAX_NAME = 120


@router.get("")
def choose(request: Request) -> Any:
    return _choose_page(request)


@router.post("")
def upload(request: Request, store: Store, file: Annotated[UploadFile, File()]) -> Any:
    limits = request.app.state.limits
    name = Path((file.filename or "").replace("\\", "/")).name[-_MAX_NAME:]
    try:
        if not name:
            raise BadInput("No file was chosen: drop a camera file, or choose one.")
        reader_of(name)
        check_size(name, file.size or 0, limits.max_bytes)
        data = file.file.read(limits.max_bytes + 1)
        source = take_in_bytes(store, request.app.state.parsers, name, data)
    except BadInput as error:
        return _choose_page(request, error.sentence, 422)
    return RedirectResponse(f"/take-in/{source.id}", status_code=303)


def take_in_bytes(store: Session, parsers: ParserPool, name: str, data: bytes) -> SourceFile:
    """Read an uploaded file in a process of its own and put it aside with its scene.

    Raises BadInput where it cannot be read or holds no camera that can be used.
    """
    check_size(name, len(data), parsers.limits.max_bytes)
    with TemporaryDirectory(prefix="anaxis-upload-") as folder:
        path = Path(folder) / (re.sub(r"[^A-Za-z0-9._ -]", "_", name) or "camera")
        path.write_bytes(data)
        scene = parsers.read(path)
    refuse_unusable(scene, examine(scene))
    return stage_file(store, name, data, scene)


def _choose_page(request: Request, sentence: str = "", status: int = 200) -> Any:
    limit = request.app.state.limits.max_bytes / 1e6
    return page(
        request,
        "intake/choose.html",
        status,
        sentence=sentence,
        suffixes=READABLE_SUFFIXES,
        limit_mb=f"{limit:g}",
    )


@dataclass(frozen=True)
class Corrections:
    """What the file did not state and a person set, as typed; empty where it stays a guess."""

    up_axis: str = ""
    metres_per_unit: str = ""
    rate: str = ""

    def of(self, scene: Scene) -> Scene:
        """The scene with the corrections; raises BadInput for one that cannot be read."""
        unit = None
        if self.metres_per_unit:
            try:
                unit = float(self.metres_per_unit)
            except ValueError as error:
                raise BadInput(
                    f"'{self.metres_per_unit}' is no unit: write how many metres one unit is, such as 0.01."
                ) from error
        return corrected(scene, self.up_axis or None, unit, parse_rate(self.rate) if self.rate else None)


@router.get("/{source_id}")
def review(
    request: Request, store: Store, source_id: int, up_axis: str = "", metres_per_unit: str = "", rate: str = "",
    show: str = "", shot: str = "",
) -> Any:  # fmt: skip
    source, read = staged_scene(store, source_id)
    corrections = Corrections(up_axis, metres_per_unit, rate)
    typed = {k: v for k, v in {"show": show, "shot": shot}.items() if v}
    sentence = ""
    scene = read
    try:
        scene = corrections.of(read)
    except BadInput as error:
        sentence = error.sentence
    return _review_page(
        request, source, read, scene, examine(scene), newest_show_name(store), corrections, sentence, typed
    )


def _review_page(
    request: Request,
    source: SourceFile,
    read: Scene,
    scene: Scene,
    reports: list[CameraReport],
    show: str,
    corrections: Corrections,
    sentence: str = "",
    typed: dict[str, Any] | None = None,
) -> Any:
    picture = picture_of(scene, None, None)
    proposed = {
        "show": show,
        "shot": _shot_name(source.name),
        "resolution": f"{picture.image.width_px}x{picture.image.height_px}",
        "source_fit": picture.fit,
        "cameras": [r.path for r in reports if r.usable],
    }
    return page(
        request, "intake/review.html", 422 if sentence else 200,
        source=source, read=read, corrections=corrections, scene=scene, reports=reports, picture=picture, fits=FITS,
        form={**proposed, **(typed or {})}, sentence=sentence,
    )  # fmt: skip


@router.post("/{source_id}")
def keep(
    request: Request, store: Store, source_id: int,
    show: Annotated[str, Form()] = "", shot: Annotated[str, Form()] = "",
    resolution: Annotated[str, Form()] = "", source_fit: Annotated[str, Form()] = "",
    cameras: Annotated[list[str] | None, Form()] = None, up_axis: Annotated[str, Form()] = "",
    metres_per_unit: Annotated[str, Form()] = "", rate: Annotated[str, Form()] = "",
) -> Any:  # fmt: skip
    source, read = staged_scene(store, source_id)
    corrections = Corrections(up_axis, metres_per_unit, rate)
    scene = corrections.of(read)
    reports = examine(scene)
    chosen = [r for r in reports if r.path in (cameras or [])]
    typed = {
        "show": show, "shot": shot, "resolution": resolution, "source_fit": source_fit,
        "cameras": [r.path for r in chosen],
    }  # fmt: skip
    try:
        if not chosen:
            raise BadInput("No camera is chosen: tick at least one.")
        names = {"show": show.strip(), "shot": shot.strip()}
        for what, name in names.items():
            if not 1 <= len(name) <= _MAX_NAME:
                raise BadInput(f"The {what} needs a name of 1 to {_MAX_NAME} characters.")
        require_fit(source_fit)
        guess = picture_of(scene, None, None)
        image = parse_image(resolution)
        # What was left as proposed stays as much of a guess as it was.
        same_image = (image.width_px, image.height_px) == (guess.image.width_px, guess.image.height_px)
        picture = picture_of(
            scene, None if same_image else image, None if source_fit == guess.fit else source_fit
        )
        kept: list[Version] = []
        taken: set[str] = set()
        with store.begin_nested():  # all of the chosen cameras, or none
            kept_shot = find_or_make_shot(store, find_or_make_show(store, names["show"]), names["shot"])
            for report in chosen:
                name = _camera_name(report, taken)
                kept.append(keep_camera(store, kept_shot, source, scene, report, name, picture))
    except BadInput as error:
        return _review_page(request, source, read, scene, reports, show, corrections, error.sentence, typed)
    target = f"/cameras/{kept[0].camera_id}" if len(kept) == 1 else "/"
    return RedirectResponse(target, status_code=303)


def _camera_name(report: CameraReport, taken: set[str]) -> str:
    """The camera's own name; its path where another chosen camera has the same."""
    name = report.name if report.name not in taken else report.path.strip("/")
    taken.add(name)
    return name[:_MAX_NAME]


def _shot_name(file_name: str) -> str:
    """A shot name read off a file name: AB_010 of AB_010_camera_v003.usd, else the stem."""
    found = re.match(r"([A-Za-z]+[_-]?\d{2,5})", file_name)
    return found[1] if found else Path(file_name).stem[:40]
