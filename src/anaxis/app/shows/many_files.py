"""Many files at once: what is in each, whether it is new, a newer take or the same again, and all of it kept."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, func, select

from anaxis.app.cameras.draft import Draft, TakeInTarget, targets_of
from anaxis.app.cameras.file_names import Named, guessed, named, named_if, possible_shots
from anaxis.app.cameras.proposed import changed_inside, left_out
from anaxis.app.cameras.take_in import TakeIn, reports_of, take_in
from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from anaxis.core.errors import BadInput
from anaxis.core.recipe.documents import recipe_from_document
from anaxis.core.recipe.replay import completed
from anaxis.core.scene.landmarks import legal_name
from anaxis.core.scene.nodes import Scene
from anaxis.core.scene.picture import picture_of
from anaxis.formats import is_table
from anaxis.library.scene_report import CameraSummary
from anaxis.store.keep import stage_file
from anaxis.store.models import Camera, Shot, Show, SourceFile, Version, VersionInput
from anaxis.store.queries import find_shot, find_show, newest_recipe, newest_show_name, staged_scene

# What a file is to what is kept already. An older one is never kept by a button that keeps all.
STATES = ("new", "newer take", "older", "same again", "cannot be taken in")
KEPT = ("new", "newer take")


@dataclass
class Item:
    """One file among many: what it is, of which cameras, and what is to be looked at in it."""

    name: str
    state: str
    said: str = ""
    source: int | None = None
    names: Named = field(default_factory=Named)
    paths: list[str] = field(default_factory=list)  # of the cameras to be kept, in the file
    cameras: list[str] = field(default_factory=list)  # and what they are called here
    # For each path the number of the camera that it is a take of, None for a new one, and what a new one is called.
    targets: dict[str, tuple[int | None, str]] = field(default_factory=dict)
    frames: str = ""
    findings: dict[str, str] = field(default_factory=dict)  # code: severity
    remedies: dict[str, str] = field(default_factory=dict)  # code: what its remedy says
    kept: list[int] = field(default_factory=list)  # the cameras it was kept as


@dataclass(frozen=True)
class Manner:
    """How files are taken in: by which rule of names, into which show ("" for the one worked in last), with which saved recipe and
    which remedies (by the codes of their findings). ``keep`` are the states of files that are kept."""

    rule: str = ""
    show: str = ""
    recipe: str = ""
    accept: Sequence[str] = ()
    new_show: bool = False
    keep: Sequence[str] = ("new", "newer take")


def names_rule(engine: Engine, manner: Manner) -> str:
    """The rule that names are read by: the one given, or that of the show."""
    with Context(engine, LOCAL) as context:
        return _show_and_rule(context, manner)[1]


def _show_and_rule(context: Context, manner: Manner) -> tuple[str, str]:
    show = manner.show or newest_show_name(context)
    known = find_show(context, show)
    return show, manner.rule.strip() or (known.rule if known else "")


def take_in_one(
    engine: Engine, name: str, path: Path, scene: bytes | str, layout: dict[str, Any] | None, manner: Manner
) -> Item:
    """One file that was read (``scene``, or the sentence why it was not) looked at and kept, in a transaction of its own: what fails
    of it keeps nothing, and stops nothing."""
    if isinstance(scene, str):
        return Item(name, "cannot be taken in", scene)
    rule = manner.rule
    try:
        with Context(engine, LOCAL) as context:
            context.begin()
            show, rule = _show_and_rule(context, manner)
            names, data = named_in(context, name, rule, show), path.read_bytes()
            again = same_again(context, name, names, data)
            if again is not None:
                return again
            source = put_aside(context, path.name, data, scene, layout if is_table(path.name) else None)
            item = item_of(context, source, name, rule, show)
            if item.state in manner.keep:
                keep_item(context, item, rule, manner.recipe, manner.accept, manner.new_show)
                context.commit()
    except BadInput as error:
        return Item(name, "cannot be taken in", error.sentence, names=named_if(name, rule))
    return item


def same_again(context: Context, name: str, names: Named, data: bytes) -> Item | None:
    """The row of a file whose very bytes a version of a camera of its shot was taken in from; None for any other."""
    found = find_shot(context, names.show, names.shot)
    if found is None:
        return None
    query = (
        select(Version)
        .join(VersionInput, VersionInput.version_id == Version.id)
        .join(SourceFile, SourceFile.id == VersionInput.source_file_id)
        .join(Camera, Camera.id == Version.camera_id)
        .where(Camera.shot_id == found.id, SourceFile.sha256 == hashlib.sha256(data).hexdigest())
        .order_by(Version.id.desc())
        .limit(1)
    )
    again = context.execute(query).scalar_one_or_none()
    if again is None:
        return None
    said = f"{again.camera.name} {again.label} has the same bytes"
    return Item(name, "same again", said, names=names, cameras=[again.camera.name])


def put_aside(
    context: Context, name: str, data: bytes, scene: bytes, layout: dict[str, Any] | None = None
) -> SourceFile:
    """A file that was read elsewhere, with its scene, and by which layout where it is a table, to be looked at and kept."""
    source = stage_file(context, name, data, scene)
    source.layout = layout
    return source


def named_in(context: Context, name: str, rule: str, show: str) -> Named:
    """What a file is called by the rule, in the show given where the rule says none, and held against that show's shots.
    Raises BadInput."""
    known = select(Shot.name).join(Show).where(Show.name == show.strip())
    if name.isascii():  # PostgreSQL may not know the lower case of other letters
        known = known.where(func.lower(Shot.name).in_(possible_shots(name, rule)))
    said = named(name, rule, frozenset(context.execute(known).scalars()))
    whole = said._replace(show=said.show or show.strip())
    if not whole.show:
        raise BadInput(f"{name[-120:]}: no show is named: say which, or write {{show}} into the rule.")
    return whole


def item_of(context: Context, source: SourceFile, name: str, rule: str, show: str) -> Item:
    """A file that was put aside, as a row of the table: what it is to what is kept already.

    Raises BadInput for a name that the rule does not fit, and for a camera that is named and not in the file.
    """
    names = named_in(context, name, rule, show)
    source, read = staged_scene(context, source.id)
    draft = Draft.of(source)
    reports = reports_of(context, source, draft, read, names.show, names.shot)
    chosen = _chosen(reports, names, name, by_rule=bool(rule.strip()))
    targets = [
        t for t in targets_of(context, draft, reports, names.show, names.shot) if t.path in {r.path for r in chosen}
    ]
    if len(targets) == 1 and names.camera:
        targets = [_of_named_camera(targets[0], names, rule)]
    state, said = _state(targets, names, rule)
    without = [
        f"{p.rsplit('/', 1)[-1]} skipped: {why}"
        for p, why in left_out(reports).items()
        if p not in {r.path for r in chosen}
    ]
    said = "; ".join(filter(None, [said, changed_inside(context, source, read, names.show, names.shot), *without[:4]]))
    facts: dict[str, Any] = chosen[0].facts or {}
    findings = [f for r in chosen for f in r.findings if f.severity != "note"]
    return Item(
        name, state, said, source.id, names, [r.path for r in chosen], [t.chosen.name if t.chosen else t.name for t in targets],
        {t.path: (t.chosen.id if t.chosen else None, t.name) for t in targets},
        f"{facts['first_frame']:g}–{facts['last_frame']:g}" if "first_frame" in facts else "",
        {f.code: f.severity for f in findings}, {f.code: f.remedy for f in findings if f.operation},
    )  # fmt: skip


def _of_named_camera(target: TakeInTarget, names: Named, rule: str) -> TakeInTarget:
    """A file's only camera by the camera that its name says: a take of the one called so, or of the one whose file said the same;
    else a camera of its own."""
    called = next((c for c in target.known if c.name.lower() == names.camera.lower()), None)
    if called is not None:
        return replace(target, chosen=called)
    if target.chosen is None or target.chosen.head_id is None:
        return target
    before = _named_before(target.chosen.head.source_file.name, rule).camera
    if not before or before.lower() == names.camera.lower():
        return target
    taken = {c.name for c in target.known}
    name = target.name if target.name not in taken else legal_name(names.camera, taken)
    return replace(target, chosen=None, name=name, differs=False)


def _named_before(name: str, rule: str) -> Named:
    """What the name of a file that was kept says: of its folders nothing is known."""
    said = named_if(name, "" if "/" in rule else rule)
    return said if said.shot else guessed(name)


def _chosen(reports: list[CameraSummary], names: Named, name: str, by_rule: bool) -> list[CameraSummary]:
    """The cameras of the file to be kept: the one its name says, else all that can be used or repaired."""
    if names.camera and len(reports) > 1:
        said = [r for r in reports if r.name == names.camera]
        if not said and by_rule:
            raise BadInput(
                f"{name[-120:]} has no camera '{names.camera[:60]}': choose one of {', '.join(r.name for r in reports[:8])}."
            )
        if said:
            return said
    not_the_shots = left_out(reports)
    chosen = [r for r in reports if (r.usable or any(f.operation for f in r.findings)) and r.path not in not_the_shots]
    if not chosen:
        raise BadInput(f"{name[-120:]} has no camera that can be used or repaired.")
    return chosen


def _state(targets: Sequence[TakeInTarget], names: Named, rule: str) -> tuple[str, str]:
    known = [t.chosen for t in targets if t.chosen is not None and t.chosen.head_id is not None]
    if not known:
        return "new", ""
    head = known[0].head
    before = _named_before(head.source_file.name, rule).version
    if names.version is not None and before is not None and names.version <= before:
        return "older", f"version {names.version} of the file; {head.source_file.name} is kept"
    return "newer take", f"of {known[0].name} {head.label}"


def keep_item(
    context: Context, item: Item, rule: str = "", recipe: str = "", accept: Sequence[str] = (), new_show: bool = False,
    resolution: str = "", source_fit: str = "",
) -> None:  # fmt: skip
    """Keep a file's cameras, with a saved recipe and the remedies of findings of the codes accepted; the item says as which.
    The rule is that of its show from then on; ``new_show``, ``resolution`` and ``source_fit`` as in :class:`TakeIn`. Raises BadInput.
    """
    if item.source is None:
        raise BadInput(f"{item.name[-120:]} was not read: {item.said}")
    source, read = staged_scene(context, item.source)
    draft = Draft.of(source)
    if accept:
        for report in reports_of(context, source, draft, read, item.names.show, item.names.shot):
            for finding in report.findings if report.path in item.paths else ():
                if finding.code in accept and finding.operation is not None:
                    draft = draft.with_remedy(report.path, recipe_from_document([finding.operation])[0])
    wanted = recipe_from_document(newest_recipe(context, recipe).operations, strict=False) if recipe else ()
    own = {path: completed(draft.recipes.get(path, ()), wanted) for path in item.paths}
    draft = replace(draft, recipes={**draft.recipes, **own})
    draft.kept_in(source)
    context.flush()
    stated = {"new_show": new_show} | {k: v for k, v in (("resolution", resolution), ("source_fit", source_fit)) if v}
    versions = take_in(context, source.id, _asked(draft, read, item).model_copy(update=stated))
    item.kept, item.cameras = [v.camera_id for v in versions], [v.camera.name for v in versions]
    if rule.strip():
        versions[0].camera.shot.show.rule = rule.strip()


def _asked(draft: Draft, read: Scene, item: Item) -> TakeIn:
    picture = picture_of(draft.corrected(read), None, None)
    size = f"{picture.image.width_px}x{picture.image.height_px}"
    return TakeIn(
        show=item.names.show, shot=item.names.shot, resolution=size, source_fit=picture.fit, cameras=item.paths,
        targets=[f"{path}={'' if number is None else number}" for path, (number, _) in item.targets.items()],
        called={path: name for path, (number, name) in item.targets.items() if number is None},
    )  # fmt: skip
