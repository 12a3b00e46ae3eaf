"""Take in: a file read apart and put aside, what is in it with what was set for it, and its cameras kept."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from pydantic import BaseModel

from anaxis.app.cameras.draft import Draft, corrections_typed, targets_of
from anaxis.app.cameras.edit import (
    KEEPING_WORDS,
    Keeping,
    Retake,
    keep_camera,
    keep_retake,
    mark_missing,
    planned_retake,
)
from anaxis.app.cameras.names import shot_for
from anaxis.app.cameras.scene_report import looked_at
from anaxis.app.cameras.uploads import clear_uploads
from anaxis.app.context import Context
from anaxis.core.camera.lens import Image, parse_image, require_fit
from anaxis.core.checks import Expected
from anaxis.core.checks.examine import refuse_unusable
from anaxis.core.checks.projection import held_finding
from anaxis.core.derive.held import held_at
from anaxis.core.errors import BadInput
from anaxis.core.names import spelled
from anaxis.core.recipe.model import Recipe
from anaxis.core.scene.landmarks import legal_name
from anaxis.core.scene.nodes import Scene
from anaxis.core.scene.picture import Picture, picture_of
from anaxis.formats import READABLE_SUFFIXES, check_size
from anaxis.library.archive import scene_to_bytes, track_from_bytes
from anaxis.library.scene_report import CameraSummary
from anaxis.sandbox.guard import ParserPool
from anaxis.store.keep import reread, stage_file
from anaxis.store.models import Camera, Shot, SourceFile, Version
from anaxis.store.noticed import expected_of
from anaxis.store.queries import find_shot, staged_scene, track_of

_MAX_NAME = 120


class TakeIn(BaseModel):
    """What is to be kept of a file that was put aside: as which shot, with which picture, which of its cameras (by
    path) and as takes of which known ones (``path=camera number``); ``stated`` is what the file does not state. ``new_show`` says
    that a show whose name is nearly that of another is meant; ``called`` names new cameras, by path."""

    show: str = ""
    shot: str = ""
    resolution: str = ""
    source_fit: str = ""
    cameras: list[str] = []
    targets: list[str] = []
    keeping: str = "recipe"
    stated: dict[str, str] = {}
    new_show: bool = False
    called: dict[str, str] = {}


def take_in(context: Context, source_id: int, asked: TakeIn) -> list[Version]:
    """Keep cameras of a file: all of those chosen, or none. Raises BadInput."""
    source, read = staged_scene(context, source_id)
    require_one_reading(read)
    draft = Draft.of(source)
    draft = replace(draft, correct=corrections_typed(draft, read, asked.stated))
    names = {"show": asked.show.strip(), "shot": asked.shot.strip()}
    reports = reports_of(context, source, draft, read, names["show"], names["shot"], asked.cameras)
    chosen = [r for r in reports if r.path in asked.cameras]
    if not chosen:
        raise BadInput("No camera chosen: tick at least one.")
    for what, name in names.items():
        if not 1 <= len(name) <= _MAX_NAME:
            raise BadInput(f"The {what} needs a name of 1 to {_MAX_NAME} characters.")
    keeping = next((k for k in KEEPING_WORDS if k == asked.keeping), None)
    if keeping is None:
        raise BadInput(
            f"'{asked.keeping}' is not a way to take in a camera again: choose one of {', '.join(KEEPING_WORDS)}."
        )
    picture = typed_picture(draft.corrected(read), parse_image(asked.resolution), asked.source_fit)
    found = find_shot(context, names["show"], names["shot"])
    known = {c.name for c in found.cameras} if found else set()
    wanted = _wanted(context, draft, reports, names, asked)
    planned = _planned(context, source, read, chosen, wanted, keeping, picture)
    with context.begin_nested():  # all of the chosen cameras, or none
        shot = shot_for(context, names["show"], names["shot"], asked.new_show)
        _require_nobody_else(shot, known, [wanted[r.path] for r in chosen])
        return _keep_all(context, shot, source, read, planned, wanted, picture)


def require_one_reading(read: Scene) -> None:
    """Raise BadInput for a table that can be read in several ways, of which nobody has chosen one."""
    ways = readings_of(read)
    if ways:
        raise BadInput(
            f"{read.name} can be read in {len(ways)} ways: {'; or '.join(w['words'] for w in ways)}. Choose one under 'Columns', or name a column layout."
            "", "choose_reading",
        )  # fmt: skip


def disk_name(name: str) -> str:
    """What an uploaded file is called where it is put aside: its ending, and of its name what any file system takes.

    No name that was sent ever becomes a path: "..", a name in another script, which is spelled in ASCII, one too long for a folder.
    """
    plain = re.sub(r"[^A-Za-z0-9._ -]", "_", spelled(name))[-100:].lstrip(". ")
    return plain or "file"


def on_disk(files: Iterable[tuple[str, bytes]]) -> Iterator[Path]:
    """Files that were handed in, one after the other in a folder of its own each, gone when the next is asked for."""
    for name, data in files:
        with TemporaryDirectory(prefix="anaxis-upload-") as folder:
            path = Path(folder) / disk_name(name)
            path.write_bytes(data)
            yield path


def take_in_bytes(context: Context, parsers: ParserPool, name: str, data: bytes) -> SourceFile:
    """Read an uploaded file in a process of its own and put it aside with its scene.

    Raises BadInput where it cannot be read or has no camera that can be used or repaired.
    """
    context.release_connection()
    scene = scene_to_bytes(read_bytes(parsers, name, data))
    reports = looked_at(context, name, scene, {}, tracks=[])
    if not any(f.operation for r in reports for f in r.findings if f.severity == "error"):
        refuse_unusable(reports)
    clear_uploads(context)
    return stage_file(context, name, data, scene)


def take_in_once_more(context: Context, camera: Camera) -> SourceFile:
    """The file a camera came from, put aside to be taken in another way."""
    held = camera.head.source_file
    copy = stage_file(context, held.name, held.data, held.scene)
    copy.draft = {"camera": camera.id, "show": camera.shot.show.name, "shot": camera.shot.name}
    copy.layout = held.layout
    context.flush()
    return copy


def read_again(context: Context, parsers: ParserPool, source: SourceFile, layout: dict[str, Any] | None) -> Scene:
    """A table put aside, read by another layout of its columns, None to guess it. Raises BadInput, and where it is kept already."""
    if source.kept:
        raise BadInput(f"A camera of {source.name} is saved already: take in the file again to read it another way.")
    context.release_connection()
    scene = read_bytes(parsers, source.name, source.data, layout)
    reread(context, source, scene, layout)
    return scene


def readings_of(read: Scene) -> list[dict[str, Any]]:
    """The ways in which a table may be read, where nobody has chosen one of several: for each its words and columns."""
    return (read.columns or {}).get("readings") or []


def read_as(context: Context, parsers: ParserPool, source: SourceFile, read: Scene, number: int) -> Scene:
    """A table put aside, read in one of the ways in which it may be, from 0. Raises BadInput."""
    ways = readings_of(read)
    if not 0 <= number < len(ways):
        raise BadInput(f"{source.name} has no reading {number}: it has {len(ways)}, numbered from 0.")
    columns = [{k: c[k] for k in ("quantity", "unit", "sign")} for c in ways[number]["columns"]]
    return read_again(context, parsers, source, {"columns": columns})


def read_bytes(
    parsers: ParserPool,
    name: str,
    data: bytes,
    layout: dict[str, Any] | None = None,
    suffixes: tuple[str, ...] = READABLE_SUFFIXES,
) -> Scene:
    """The scene in an uploaded file; raises BadInput where it cannot be read."""
    check_size(name, len(data), parsers.limits.max_bytes)
    (scene,) = (parsers.read(path, layout, suffixes) for path in on_disk([(name, data)]))
    return scene


def reports_of(
    context: Context, source: SourceFile, draft: Draft, read: Scene, show: str, shot: str, tracks: Sequence[str] = ()
) -> list[CameraSummary]:
    """The cameras of a file put aside, through what was set for them, against what their shot is expected to be."""
    found = find_shot(context, show.strip(), shot.strip())
    recipes = {n.path: draft.recipe(n.path) for n in read.cameras}
    expected = expected_of(found) if found else Expected()
    reports = looked_at(context, source.name, source.scene, recipes, expected, tracks=tracks)
    return _beside_known(context, source, recipes, found, reports) if found else reports


def _beside_known(
    context: Context, source: SourceFile, recipes: Mapping[str, Recipe], shot: Shot, reports: list[CameraSummary]
) -> list[CameraSummary]:
    """The reports, with a still camera that stands where one of the shot's known ones moves through named as held there."""
    still = [
        r for r in reports if r.usable and not r.animated and all(f.code != "projection_camera" for f in r.findings)
    ]
    heads = [c.head for c in shot.cameras if c.head_id is not None and c.removed_at is None]
    known = [(f"{shot.name} {v.camera.name}", track_of(v)[0]) for v in heads if v.facts["animated"]] if still else []
    for report in still[:20]:
        asked = {report.path: recipes.get(report.path, ())}
        (one,) = looked_at(context, source.name, source.scene, asked, only=report.path)
        if one.track is None:
            continue
        track = track_from_bytes(one.track)[0]
        for name, moving in known:
            at = held_at(track, moving)
            if at is not None:
                report.findings.insert(0, held_finding(report.path, name, at))
                break
    return reports


def typed_picture(scene: Scene, image: Image, source_fit: str) -> Picture:
    """The picture as typed; what was left as proposed stays as much of a guess as it was."""
    require_fit(source_fit)
    guess = picture_of(scene, None, None)
    same_image = (image.width_px, image.height_px) == (guess.image.width_px, guess.image.height_px)
    return picture_of(scene, None if same_image else image, None if source_fit == guess.fit else source_fit)


def _wanted(
    context: Context, draft: Draft, reports: list[CameraSummary], names: dict[str, str], asked: TakeIn
) -> dict[str, tuple[str, Camera | None]]:
    """For each camera of the file its name and the known camera it is a take of: as chosen, else as proposed."""
    said = dict(t.rsplit("=", 1) for t in asked.targets if "=" in t)
    wanted: dict[str, tuple[str, Camera | None]] = {}
    for target in targets_of(context, draft, reports, names["show"], names["shot"]):
        choice = said.get(target.path)
        chosen = target.chosen
        if choice is not None:
            chosen = next((c for c in target.known if str(c.id) == choice), None)
        wanted[target.path] = (asked.called.get(target.path, target.name), chosen)
    return wanted


def _planned(
    context: Context,
    source: SourceFile,
    read: Scene,
    chosen: list[CameraSummary],
    wanted: dict[str, tuple[str, Camera | None]],
    keeping: Keeping,
    picture: Picture,
) -> list[CameraSummary | Retake]:
    """The chosen cameras, and those of them that are takes of known ones worked out. Raises BadInput."""
    again = [wanted[r.path][1] for r in chosen if wanted[r.path][1] is not None]
    if len({c.id for c in again if c}) < len(again):
        raise BadInput(
            "Two cameras of the file would be takes of the same camera: choose one of them, or a new camera."
        )
    out: list[CameraSummary | Retake] = []
    for report in chosen:
        camera = wanted[report.path][1]
        out.append(
            report
            if camera is None
            else planned_retake(context, camera, source, read, report.path, keeping, picture, report.recipe)
        )
    return out


def _require_nobody_else(shot: Shot, known: set[str], wanted: list[tuple[str, Camera | None]]) -> None:
    """Raises BadInput where another page has kept a camera of the name since this one was planned."""
    since = {c.name for c in shot.cameras} - known
    for name, camera in wanted:
        if camera is None and name in since:
            raise BadInput(
                f"A camera {name} was kept in {shot.name} from another page meanwhile: check it, then save this camera as its take or under another name."
            )


def _keep_all(
    context: Context,
    shot: Shot,
    source: SourceFile,
    read: Scene,
    planned: list[CameraSummary | Retake],
    wanted: dict[str, tuple[str, Camera | None]],
    picture: Picture,
) -> list[Version]:
    kept: list[Version] = []
    before: list[SourceFile] = []
    taken = {c.name for c in shot.cameras}
    for one in planned:
        if isinstance(one, Retake):
            before.append(one.camera.head.source_file)
            kept.append(keep_retake(context, source, one))
        else:
            kept.append(keep_camera(context, shot, source, one, legal_name(wanted[one.path][0], taken), picture))
    mark_missing(context, before, source, read, [context.get_one(Camera, v.camera_id) for v in kept])
    return kept
