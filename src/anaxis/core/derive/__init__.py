"""Cameras made from cameras: joined shots, 360-degree framing, held at a frame. KINDS is their registry."""

from __future__ import annotations

from typing import Any

from anaxis.core.derive import framed, held, joined
from anaxis.core.derive.derived import DerivedKind
from anaxis.core.errors import BadInput

KINDS: dict[str, DerivedKind[Any]] = {m.KIND.code: m.KIND for m in (joined, framed, held)}


def derived_kind(code: str) -> DerivedKind[Any]:
    """Raises BadInput that lists the kinds where ``code`` is none of them."""
    if code not in KINDS:
        raise BadInput(f"'{code[:40]}' is not a way to derive a camera: choose one of {', '.join(KINDS)}.")
    return KINDS[code]
