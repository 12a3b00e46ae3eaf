"""A distortion that was worked out from something: its document, how it was come to, and what it leaves."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from anaxis.core.typing import Floats


@dataclass(frozen=True, eq=False)
class Suggested:
    """``said`` are sentences on how it was come to; what remains is ``off_px`` (m,) at ``at_px`` (m, 2) of the plate."""

    document: dict[str, Any]
    said: list[str]
    at_px: Floats
    off_px: Floats
