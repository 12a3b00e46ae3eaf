"""Which package a page is about."""

from __future__ import annotations

from anaxis.core.errors import BadInput
from anaxis.profiles import SHIPPED_KEYS, shipped_profiles
from anaxis.profiles.model import Profile


def package_of(key: str) -> Profile:
    """The package with this key; raises BadInput that lists them."""
    shipped = shipped_profiles()
    if key not in shipped:
        raise BadInput(f"'{key}' is no package profile: choose one of {', '.join(SHIPPED_KEYS)}.")
    return shipped[key]
