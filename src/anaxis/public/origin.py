"""Where a camera came from."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:  # loaded when a camera is written
    from anaxis.delivery.transfer_sheet import MadeFrom


@dataclass(frozen=True)
class Origin:
    """A file and its checksum; for a camera that was ``made`` of others, of which and by which settings."""

    name: str
    sha256: str
    made: MadeFrom | None = None
