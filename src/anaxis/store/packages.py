"""The packages there are: one's own beside the shipped ones."""

from __future__ import annotations

import logging
from datetime import datetime
from typing import NamedTuple

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from anaxis.core.errors import BadInput
from anaxis.packages import shipped_profiles
from anaxis.packages.model import Profile, profile_from_dict
from anaxis.store.models import Camera, Delivery, Package, Shot, Version
from anaxis.store.queries import NotFound, package_key

_log = logging.getLogger("anaxis.packages")
_MOST_DELIVERIES = 500


def all_packages(session: Session) -> dict[str, Profile]:
    """Every package by key: the shipped ones, then those of one's own in their newest version."""
    newest = select(Package.key, func.max(Package.number).label("number")).group_by(Package.key).subquery()
    query = (
        select(Package)
        .join(newest, (Package.key == newest.c.key) & (Package.number == newest.c.number))
        .order_by(Package.key)
    )
    found = dict(shipped_profiles())
    for row in session.execute(query).scalars():
        try:
            found[row.key] = _profile(row)
        except BadInput as error:  # kept under other rules; its own page says so, and no other page fails for it
            _log.warning("the package '%s' is left out: %s", row.key, error.sentence)
    return found


# A version of a package never changes; reading hundreds of them anew for every page takes longer than the page.
_read: dict[tuple[str, int, datetime], Profile] = {}
_MOST_READ = 4000


def _profile(row: Package) -> Profile:
    known = (row.key, row.number, row.created_at)
    found = _read.get(known)
    if found is None:
        if len(_read) >= _MOST_READ:
            _read.clear()
        found = _read[known] = profile_from_dict(row.document, row.key)
    return found


def get_package(session: Session, key: str, number: int | None = None) -> Profile:
    """A package by key, in a version or its newest; raises NotFound that lists the keys."""
    if number is None and key in shipped_profiles():
        return shipped_profiles()[key]
    query = select(Package).where(Package.key == key).order_by(Package.number.desc()).limit(1)
    row = session.execute(query if number is None else query.where(Package.number == number)).scalar_one_or_none()
    if row is not None:
        return _profile(row)
    if number is None:
        raise NotFound(f"There is no package '{key}': choose one of {', '.join(all_packages(session))}.")
    raise NotFound(f"There is no version {number} of the package '{key}'.")


def versions_of(session: Session, key: str) -> list[Package]:
    """The versions of a package of one's own, newest first."""
    return list(session.execute(select(Package).where(Package.key == key).order_by(Package.number.desc())).scalars())


def free_key(session: Session, wanted: str) -> str:
    """A key that no package has yet, made from ``wanted``."""
    taken, key, n = set(all_packages(session)), wanted[:50], 2
    while key in taken:
        key, n = f"{wanted[:50]}-{n}", n + 1
    return key


class ShotsUsing(NamedTuple):
    """The names of shots that were delivered to a package. ``of_newest``: only that many deliveries, the newest, were looked at."""

    names: list[str]
    of_newest: int | None


def shots_using(session: Session, key: str) -> ShotsUsing:
    """The shots that were delivered to a package, of the shows that the session sees."""
    # From the table, without the filter on shows: with it PostgreSQL could go through the deliveries of all other shows to find 500.
    deliveries = Delivery.__table__.c
    of_package = package_key(deliveries.profile) == key
    newest = select(deliveries.version_id).where(of_package).order_by(deliveries.id.desc()).limit(_MOST_DELIVERIES)
    versions = list(session.execute(newest).scalars())
    query = (
        select(Shot.name)
        .join(Camera, Camera.shot_id == Shot.id)
        .join(Version, Version.camera_id == Camera.id)
        .where(Version.id.in_(set(versions)))
        .distinct()
        .order_by(Shot.name)
    )
    names = list(session.execute(query).scalars())
    return ShotsUsing(names, _MOST_DELIVERIES if len(versions) == _MOST_DELIVERIES else None)
