"""Packages of one's own: kept, copied."""

from __future__ import annotations

import re

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.app.roles import Role
from anaxis.packages.model import Profile, profile_from_dict
from anaxis.store import keep
from anaxis.store.models import Package
from anaxis.store.packages import free_key, get_package


@use_case("save a package", Role.LEAD, studio=True)
def keep_package(
    context: Context, profile: Profile, change: str, fresh: bool = False, made_from: int | None = None
) -> Package:
    """A package as the next version of its key, or as a ``fresh`` one; see :func:`anaxis.store.keep.keep_package`."""
    return keep.keep_package(context, profile, change[:300], fresh, made_from)


def copy_package(context: Context, key: str, label: str, wanted: str) -> Package:
    """A package under another key, one like ``wanted`` that is free. Raises BadInput."""
    source = get_package(context, key)
    changed = {
        "key": free_key(context, legal_key(wanted or f"{key}-own", "own")),
        "label": label.strip() or f"{source.label}, copy",
    }
    made = profile_from_dict(source.model_dump(mode="json") | changed, "the copy")
    return keep_package(context, made, f"copied from {key}", fresh=True)


def legal_key(wanted: str, otherwise: str) -> str:
    """``wanted`` as a package's key may be written."""
    return re.sub(r"[^a-z0-9._-]+", "-", wanted.lower()).strip("-._") or otherwise
