"""What is found in the store. Callers hold the transaction; what writes is in ``store/keep.py``."""

from __future__ import annotations

from collections.abc import Callable, Collection
from typing import Any, NamedTuple

from sqlalchemy import ColumnElement, Text, and_, cast, func, literal_column, or_, select
from sqlalchemy.orm import Session, joinedload

from anaxis.core.camera.film_backs import FilmBack
from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track
from anaxis.core.recipe.documents import recipe_from_document
from anaxis.core.recipe.model import Recipe, no_sets
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.nodes import Scene
from anaxis.core.scene.picture import Picture
from anaxis.core.typing import Floats
from anaxis.library.archive import scene_from_bytes, track_from_bytes
from anaxis.store.models import (
    Camera,
    Delivery,
    SavedFilmBack,
    SavedLayout,
    SavedRecipe,
    Shot,
    Show,
    SourceFile,
    Version,
    VersionInput,
)
from anaxis.store.rows import NotFound as NotFound
from anaxis.store.rows import found as found
from anaxis.store.session import StoreSession


def staged_scene(session: Session, source_file_id: int) -> tuple[SourceFile, Scene]:
    row = session.get(SourceFile, source_file_id)
    if row is None:
        raise NotFound(f"The upload {source_file_id} has expired or does not exist: upload the file again.")
    return row, scene_from_bytes(row.scene)


def find_shot(session: Session, show: str, shot: str) -> Shot | None:
    """A shot by its names; None where there is none yet."""
    query = select(Shot).join(Show).where(Show.name == show, Shot.name == shot)
    return session.execute(query).scalar_one_or_none()


def find_show(session: Session, name: str) -> Show | None:
    return session.execute(select(Show).where(Show.name == name)).scalar_one_or_none()


def newest_show_name(session: StoreSession) -> str:
    """The show worked in last, to be proposed for the next file; "" where there is none."""
    # With an index on head_id, PostgreSQL finds the newest version of all shows at once. For people of some shows it would go through every
    # newer version of other shows first: "+ 0" makes it look at their shows' cameras instead.
    newest = Camera.head_id if session.shows is None else Camera.head_id + 0
    query = (
        select(Show.name)
        .join(Shot, Shot.show_id == Show.id)
        .join(Camera, Camera.shot_id == Shot.id)
        .where(Camera.head_id.is_not(None))
        .order_by(newest.desc())
        .limit(1)
    )
    found = (
        session.execute(query).scalar() or session.execute(select(Show.name).order_by(Show.id.desc()).limit(1)).scalar()
    )
    return found or ""


def picture_of_version(version: Version) -> Picture:
    return Picture(
        Image(version.width_px, version.height_px, version.pixel_aspect),
        version.source_fit,
        version.image_guessed,
        version.fit_guessed,
    )


def track_of(version: Version) -> tuple[Track, Landmarks, Floats]:
    """The baked track, its landmarks (hidden ones too) and the set's lines (s, 2, 3)."""
    return track_from_bytes(version.track)


def recipe_of(version: Version) -> Recipe:
    return recipe_from_document(version.recipe, strict=False)


def package_key(profile: Any) -> ColumnElement[str]:
    """The key of the package that a delivery went to, from its column ``profile``: written as in the index deliveries_of_package."""
    key: ColumnElement[str] = profile.op("->>", return_type=Text())(literal_column("'key'"))
    return key


PACKAGE_KEY = package_key(Delivery.profile)


def on_the_list(show: Show) -> tuple[ColumnElement[bool], ...]:
    """That a shot and camera of a query are a show's, and not off its list."""
    return (Shot.show_id == show.id, Shot.archived_at.is_(None), Camera.removed_at.is_(None))


def set_finder(session: StoreSession) -> Callable[[str], bytes]:
    """Finds the scene of a kept file by its SHA-256, for recipes that add a set from it.

    A file of a show that whoever acts does not see is not found, but by a recipe that is kept with a camera they see.
    """

    def find(sha256: str) -> bytes:
        query = select(SourceFile).where(SourceFile.sha256 == sha256).order_by(SourceFile.id).limit(1)
        if session.shows is not None:
            # Versions are those of shows that are seen, in every query.
            used = (
                select(Version.id)
                .join(VersionInput, VersionInput.version_id == Version.id)
                .where(VersionInput.source_file_id == SourceFile.id)
            )
            told = select(Version.id).where(cast(Version.recipe, Text).contains(sha256, autoescape=True)).limit(1)
            seen = used.exists() | (SourceFile.actor == session.actor_name)
            if session.execute(told).first() is None:
                query = query.where(seen)
        row = session.execute(query).scalar_one_or_none()
        if row is None:
            no_sets(sha256)
        assert row is not None
        return row.scene

    return find


def cameras_on_the_list(session: Session, show: Show) -> list[Camera]:
    """A show's cameras by shot and name, each with the version worked on and what was delivered of it, in as many queries
    whatever their number."""
    query = (
        select(Camera)
        .join(Shot, Shot.id == Camera.shot_id)
        .where(*on_the_list(show), Camera.head_id.is_not(None))
        .order_by(Shot.name, Camera.name)
        .options(joinedload(Camera.shot), joinedload(Camera.head_version).selectinload(Version.deliveries))
    )
    return list(session.execute(query).scalars())


def get_version(session: Session, camera_id: int, number: int | None = None) -> Version:
    """A camera's version by number, or the one worked on; raises NotFound."""
    query = (
        select(Version)
        .join(Camera, Camera.id == Version.camera_id)
        .where(Version.camera_id == camera_id)
        .order_by((Version.id == Camera.head_id).desc().nulls_last(), Version.number.desc())
        .limit(1)
        .options(joinedload(Version.camera).joinedload(Camera.shot).joinedload(Shot.show))
    )
    if number is not None:
        query = query.where(Version.number == number)
    version = session.execute(query).scalar_one_or_none()
    if version is None:
        what = f"camera {camera_id}" if number is None else f"version {number} of camera {camera_id}"
        raise NotFound(f"There is no {what}: choose one on Shots.")
    return version


def get_show(session: Session, show_id: int) -> Show:
    return found(session, Show, show_id, "show")


def get_shot(session: Session, shot_id: int) -> Shot:
    return found(session, Shot, shot_id, "shot")


def get_camera(session: Session, camera_id: int) -> Camera:
    return found(session, Camera, camera_id, "camera")


class OtherCamera(NamedTuple):
    """A camera by number, with the names to tell it by."""

    id: int
    name: str
    shot_id: int
    shot: str
    ticked: bool


class OtherCameras(NamedTuple):
    """Cameras ``listed``, of ``found`` that have the words."""

    listed: list[OtherCamera]
    found: int


def has_words(words: str) -> list[ColumnElement[bool]]:
    """That each of some words stands in the name of a shot or of its camera, in upper or lower case."""
    names = func.lower(Shot.name + " " + Camera.name)
    return [func.strpos(names, word) > 0 for word in words.lower().split()]


def other_cameras(
    session: Session, camera: Camera, words: str = "", ticked: Collection[int] = (), most: int = 24
) -> OtherCameras:
    """Other cameras of its show: those that are ticked, then those whose names have the words, its own shot's first."""
    here = [*on_the_list(camera.shot.show), Camera.id != camera.id]
    chosen, found = Camera.id.in_(sorted(ticked)), [*here, *has_words(words)]
    query = select(Camera.id, Camera.name, Camera.shot_id, Shot.name, chosen).join(Shot, Shot.id == Camera.shot_id)
    order = (chosen.desc(), (Camera.shot_id == camera.shot_id).desc(), Shot.name, Camera.name)
    rows = session.execute(query.where(*here, or_(chosen, and_(*found))).order_by(*order).limit(most + len(ticked)))
    count = select(func.count()).select_from(Camera).join(Shot, Shot.id == Camera.shot_id).where(*found)
    return OtherCameras([OtherCamera(*row) for row in rows], session.execute(count).scalar_one())


def saved_layouts(session: Session) -> list[str]:
    return list(session.execute(select(SavedLayout.name).order_by(SavedLayout.name)).scalars())


def get_layout(session: Session, name: str) -> dict[str, Any]:
    row = session.execute(select(SavedLayout).where(SavedLayout.name == name)).scalar_one_or_none()
    if row is None:
        raise NotFound(f"There is no column layout '{name}': choose one from the list.")
    return row.layout


def saved_film_backs(session: Session) -> list[FilmBack]:
    """The film backs kept under a name, beside the nominal ones."""
    rows = session.execute(select(SavedFilmBack).order_by(SavedFilmBack.name)).scalars()
    return [FilmBack(r.name, r.width_mm, r.height_mm) for r in rows]


def saved_recipes(session: Session) -> list[str]:
    return list(session.execute(select(SavedRecipe.name).distinct().order_by(SavedRecipe.name)).scalars())


def newest_recipe(session: Session, name: str) -> SavedRecipe:
    """The newest version of a saved recipe; raises NotFound."""
    query = select(SavedRecipe).where(SavedRecipe.name == name).order_by(SavedRecipe.number.desc()).limit(1)
    row = session.execute(query).scalar_one_or_none()
    if row is None:
        raise NotFound(f"There is no saved recipe '{name}': choose one from the list.")
    return row


def get_recipe(session: Session, name: str) -> Recipe:
    return recipe_from_document(newest_recipe(session, name).operations, strict=False)
