"""Package profiles: the model, the shipped ones, and the stand-in that reads as a package would."""

from __future__ import annotations

import json
from functools import cache
from importlib.resources import files
from pathlib import Path

from anaxis.core.errors import BadInput
from anaxis.packages.model import Profile, profile_from_dict, profile_from_file

# Most deliveries go to the first one; the rest stand in the order people meet them.
SHIPPED_KEYS = (
    "zup-lh-cm", "yup-rh-cm", "yup-rh-m", "zup-rh-m", "zup-rh-cm", "yup-lh-m", "yup-lh-cm",
    "yup-rh-unit", "ydown-px",
)  # fmt: skip


@cache
def shipped_profiles() -> dict[str, Profile]:
    """The shipped profiles by key (docs/profiles.md)."""
    folder = files("anaxis.packages").joinpath("shipped")
    return {
        key: profile_from_dict(json.loads(folder.joinpath(f"{key}.json").read_text(encoding="utf-8")), key)
        for key in SHIPPED_KEYS
    }


def find_profile(key_or_path: str | Profile) -> Profile:
    """A shipped profile by key, or one from a JSON file, or the profile itself; raises BadInput that lists the keys."""
    if isinstance(key_or_path, Profile):
        return key_or_path
    shipped = shipped_profiles()
    if key_or_path in shipped:
        return shipped[key_or_path]
    path = Path(key_or_path)
    if path.suffix.lower() == ".json" or path.is_file():
        return profile_from_file(path)
    raise BadInput(f"'{key_or_path}' is not a package profile: name a JSON file or one of {', '.join(SHIPPED_KEYS)}.")
