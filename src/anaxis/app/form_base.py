"""What a form was drawn from: an edit of what somebody else has changed meanwhile is refused, and nothing is written over."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from anaxis.app.context import Context
from anaxis.core.errors import BadInput
from anaxis.store.base import Base
from anaxis.store.people import Person


def base_of(row: Base, *fields: str) -> str:
    """A word for what the fields of a row hold; a form that edits them carries it."""
    held = [_plain(getattr(row, field)) for field in fields]
    return hashlib.sha256(json.dumps(held).encode()).hexdigest()[:16]


def require_base(context: Context, row: Base, base: str, *fields: str) -> None:
    """Lock a row, and raise BadInput where its fields no longer hold what the form was drawn from."""
    if isinstance(row, Person):  # roles in shows are rows of their own: who gives one waits at the person's
        context.refresh(row, ["everywhere"], with_for_update={"of": Person})
        context.refresh(row, list(fields))
    else:
        context.refresh(row, list(fields), with_for_update={"of": type(row)})
    if base_of(row, *fields) != base:
        now = ", ".join(f"{field.replace('_', ' ')} {_said(getattr(row, field))}" for field in fields)
        raise BadInput(
            f"Somebody else has changed this meanwhile: it now has {now}. Your change was not saved: check the current state, then repeat your change.",
            "conflict",
        )


def _plain(value: Any) -> Any:
    if isinstance(value, list):
        return sorted([role.show_id, role.role] for role in value)
    return value


def _said(value: Any) -> str:
    if isinstance(value, list):
        return "others" if value else "none"
    if value is None:
        return "none"
    if isinstance(value, str):
        return f"'{value}'"
    return f"{value:g}" if isinstance(value, float) else str(value)
