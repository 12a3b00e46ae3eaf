"""A show's cameras on a cut: which there are, which an edit's clips show, and what is to be said before they are joined."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import joinedload

from anaxis.app.context import Context
from anaxis.app.derived.derive import input_of, settings_of
from anaxis.core.derive import joined
from anaxis.core.derive.held import Hold
from anaxis.core.derive.joined import Join
from anaxis.core.findings import Finding, by_severity
from anaxis.formats.editorial.cut_list import CutList, shots_in
from anaxis.formats.editorial.pieces import Laid, pieces_of
from anaxis.packages.habits import HABITS
from anaxis.packages.model import Profile
from anaxis.store.models import Camera, Shot, Show, Version
from anaxis.store.packages import all_packages
from anaxis.store.queries import on_the_list

# Habits by which a package shows one film back throughout.
_KEEP_ONE = {"still_film", "no_lens_animation", "film_default"}


def cameras_of(context: Context, show: Show) -> list[Version]:
    """The versions worked on of a show's cameras, by shot and name; those that stand for one frame come last."""
    query = (
        select(Version)
        .join(Camera, Camera.head_id == Version.id)
        .join(Shot, Shot.id == Camera.shot_id)
        .where(*on_the_list(show))
        .order_by(Shot.name, Camera.name)
        .options(joinedload(Version.camera).joinedload(Camera.shot))
    )
    found = list(context.execute(query).scalars())
    return sorted(found, key=lambda v: v.derivation is not None)


def role_of(version: Version) -> str:
    """What a camera is called in a cut: its shot and its name."""
    return f"{version.camera.shot.name} {version.camera.name}"


def laid_of(context: Context, show: Show, edit: CutList) -> Laid:
    """An edit's clips as pieces: each shows the camera of the shot it is named like, the first that was taken in. Raises BadInput."""
    by_shot: dict[str, Version] = {}
    for version in cameras_of(context, show):
        if not isinstance(settings_of(version), Hold):
            by_shot.setdefault(version.camera.shot.name, version)
    clips = shots_in(edit, by_shot)
    role = {id(c): role_of(by_shot[name]) for name, found in clips.items() for c in found}
    return pieces_of(edit, lambda c: role.get(id(c), ""))


def checked(context: Context, show: Show, settings: Join) -> list[Finding]:
    """What is to be said of a cut before it is joined. Raises BadInput where nothing can be laid."""
    wanted = {p.role for p in settings.pieces}
    kind, given = joined.KIND.code, settings.model_dump()
    inputs = {role_of(v): input_of(context, v, kind, given) for v in cameras_of(context, show) if role_of(v) in wanted}
    found = joined.checked(inputs, settings)
    if any(f.code == "join_film_back" for f in found) and settings.film_back == "stepped":
        found += [_keeps_one(p) for p in all_packages(context).values() if {c for c, _ in p.active_habits} & _KEEP_ONE]
    return by_severity(found)


def _keeps_one(profile: Profile) -> Finding:
    return Finding(
        "join_receiver", "warning",
        f"The package {profile.label} does not follow a stepped film back: it {HABITS[next(c for c, _ in profile.active_habits if c in _KEEP_ONE)].says({})}.",
        "Choose a common film back, which shows the same picture.", "Otherwise every shot after the first has a wrong field of view.",
    )  # fmt: skip
