"""What explains a camera that came out wrong, made part of its package's profile, and the camera delivered again for it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import deliver_version
from anaxis.app.packages import free_key, keep_package
from anaxis.core.errors import BadInput
from anaxis.delivery.options import USUAL
from anaxis.library.pictures import with_causes
from anaxis.packages import shipped_profiles
from anaxis.packages.model import profile_from_dict
from anaxis.store.models import Delivery, Version
from anaxis.store.packages import get_package


def learn_and_deliver(
    context: Context, version: Version, profile: dict[str, Any], causes: Sequence[dict[str, Any]], learned_from: str, format_key: str = ""
) -> Delivery:  # fmt: skip
    """The package with these causes, a copy of it where it is a shipped one, and a version delivered to it. Raises BadInput."""
    package = get_package(context, profile["key"]) if profile["key"] else profile_from_dict(profile, "the package")
    if not causes:
        raise BadInput("There is nothing in this explanation to make a habit of.")
    document = with_causes(package, causes)
    fresh = package.key in shipped_profiles()
    if fresh:
        document |= {"key": free_key(context, f"{package.key}-here"), "label": f"{package.label}, as it is here"}
    learned = profile_from_dict(document, "the package")
    keep_package(context, learned, f"learned from {learned_from}", fresh)
    last = next((d.format for d in version.deliveries if d.profile["key"] == package.key), "")
    return deliver_version(context, version, learned, format_key or last or "usd", USUAL)
