"""Warnings that a person knows of and lets go out: until then, nothing made of the camera is said to match without them."""

from __future__ import annotations

from collections.abc import Collection

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.core.errors import BadInput
from anaxis.store.models import AllowedWarning, Version


@use_case("allow warnings")
def allow_warnings(context: Context, version: Version, codes: Collection[str]) -> list[AllowedWarning]:
    """Let a version's open warnings of these codes go out, as they read now: one that comes to read otherwise is open again.

    Raises BadInput for a code of which no warning is open.
    """
    open_now = version.open_warnings
    gone = [c for c in codes if c not in {f.code for f in open_now}]
    if gone or not codes:
        there = ", ".join(dict.fromkeys(f.code for f in open_now)) or "none"
        raise BadInput(
            f"{version.called} has no open warning '{', '.join(gone)[:80]}': the open ones are {there}. Nothing was allowed."
        )
    name = context.actor.name
    sentences = {f.message: f.code for f in open_now if f.code in codes}
    made = [AllowedWarning(camera=version.camera, code=c, sentence=s, actor=name) for s, c in sentences.items()]
    context.add_all(made)
    context.flush()
    return made


@use_case("warn again about")
def warn_again(context: Context, version: Version, code: str) -> list[AllowedWarning]:
    """Take back what was allowed of a camera's warnings of a code. Raises BadInput where nothing was."""
    found = [a for a in version.camera.allowed if a.code == code]
    if not found:
        raise BadInput(f"No warning '{code[:80]}' of {version.called} was allowed, so there is nothing to undo.")
    for row in found:
        context.delete(row)
    context.flush()
    context.expire(version.camera, ["allowed"])
    return found
