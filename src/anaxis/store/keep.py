"""What the use cases ask the store to keep. Callers hold the transaction."""

from __future__ import annotations

from typing import Any

from sqlalchemy import delete, func, select, text, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from anaxis.core.camera.film_backs import FilmBack
from anaxis.core.errors import BadInput
from anaxis.core.recipe.documents import recipe_document
from anaxis.core.recipe.model import Recipe
from anaxis.core.scene.nodes import Scene
from anaxis.library.archive import scene_to_bytes
from anaxis.packages import shipped_profiles
from anaxis.packages.model import Profile
from anaxis.store.contents import keep_bytes
from anaxis.store.models import Derivation, Package, SavedFilmBack, SavedLayout, SavedRecipe, Shot, Show, SourceFile
from anaxis.store.rows import NotFound
from anaxis.store.session import StoreSession


def stage_file(session: StoreSession, name: str, data: bytes, scene: bytes) -> SourceFile:
    """Put an uploaded file and its scene aside until a camera of it is kept, or it is cleared out (app/retention)."""
    whole, read = keep_bytes(session, data), keep_bytes(session, scene)
    row = SourceFile(
        name=name, sha256=whole, scene_sha256=read, size=len(data), kept=False, draft={}, actor=session.actor_name
    )
    session.add(row)
    session.flush()
    return row


def keep_derivation(session: Session, source: SourceFile, kind: str, settings: dict[str, Any]) -> None:
    """How the camera in a file of our own was made."""
    session.add(Derivation(source_file_id=source.id, kind=kind, settings=settings))
    session.flush()
    session.refresh(source, ["derivation"])


def keep_file(session: Session, source: SourceFile) -> None:
    """A file that something kept refers to stays."""
    session.execute(update(SourceFile).where(SourceFile.id == source.id).values(kept=True))


def find_or_make(session: Session, model: Any, **key: object) -> Any:
    """Two people making the same thing at once both get the one row. Raises BadInput where it is there, and not for whom the
    session was opened for to see."""
    session.execute(insert(model).values(**key).on_conflict_do_nothing())
    row = session.execute(select(model).filter_by(**key)).scalar_one_or_none()
    if row is None:
        raise BadInput(
            f"'{key.get('name', '')}' already exists, and not yours to work in: choose another name.", "not_allowed"
        )
    return row


def find_or_make_show(session: Session, name: str) -> Show:
    return find_or_make(session, Show, name=name)


def find_or_make_shot(session: Session, show: Show, name: str) -> Shot:
    return find_or_make(session, Shot, show_id=show.id, name=name)


def reread(session: Session, source: SourceFile, scene: Scene, layout: dict[str, Any] | None) -> None:
    """A staged file read another way."""
    source.scene_sha256, source.layout = keep_bytes(session, scene_to_bytes(scene)), layout
    session.flush()
    session.expire(source, ["scene_content"])


def save_recipe(session: Session, name: str, recipe: Recipe) -> SavedRecipe:
    """A recipe as the next version of its name; the earlier ones stay."""
    session.execute(text("SELECT pg_advisory_xact_lock(hashtext(:key))"), {"key": f"recipe {name}"})
    highest = session.execute(select(func.max(SavedRecipe.number)).where(SavedRecipe.name == name)).scalar()
    row = SavedRecipe(name=name, number=(highest or 0) + 1, operations=recipe_document(recipe))
    session.add(row)
    session.flush()
    return row


def save_layout(session: Session, name: str, layout: dict[str, Any]) -> SavedLayout:
    return _saved(session, SavedLayout, name, layout=layout)


def save_film_back(session: Session, film: FilmBack) -> SavedFilmBack:
    return _saved(session, SavedFilmBack, film.label, width_mm=film.width_mm, height_mm=film.height_mm)


def drop_film_back(session: Session, name: str) -> SavedFilmBack:
    """The row that is gone; raises NotFound."""
    row = session.execute(select(SavedFilmBack).where(SavedFilmBack.name == name)).scalar_one_or_none()
    if row is None:
        raise NotFound(f"The film back '{name}' is no longer in the list.")
    session.execute(delete(SavedFilmBack).where(SavedFilmBack.id == row.id))
    return row


def keep_package(
    session: Session, profile: Profile, change: str, fresh: bool = False, made_from: int | None = None
) -> Package:
    """A package as the next version of its key, or as a ``fresh`` one of a key that nobody has.

    Raises BadInput for the key of a shipped one, for one that is taken by now, and for a change ``made_from`` another
    version than the newest.
    """
    if profile.key in shipped_profiles():
        raise BadInput(f"'{profile.key}' is a shipped package: copy it under another key.")
    # Two people who save one package wait for each other.
    session.execute(text("SELECT pg_advisory_xact_lock(hashtext(:key))"), {"key": f"package {profile.key}"})
    highest = session.execute(select(func.max(Package.number)).where(Package.key == profile.key)).scalar_one()
    if fresh and highest:
        raise BadInput(
            f"Somebody else has just created a package '{profile.key}'. Your package was not saved: choose another key, or try again."
            "",
            "conflict",
        )
    if made_from is not None and highest != made_from:
        newest = session.execute(
            select(Package.change).where(Package.key == profile.key).order_by(Package.number.desc()).limit(1)
        ).scalar_one_or_none()
        raise BadInput(
            f"Version {highest} of '{profile.key}' was saved from another page meanwhile ({newest}). Your change was not saved: check the current version, then repeat your change."
            "",
            "conflict",
        )
    row = Package(key=profile.key, number=(highest or 0) + 1, document=profile.model_dump(mode="json"), change=change)
    session.add(row)
    session.flush()
    return row


def _saved(session: Session, model: Any, name: str, **values: Any) -> Any:
    """Save a row under its name; one of that name is replaced."""
    query = insert(model).values(name=name, **values).on_conflict_do_update(index_elements=["name"], set_=values)
    return session.execute(query.returning(model), execution_options={"populate_existing": True}).scalar_one()
