"""What a package does for the exchange: one class, which its author writes."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any, Optional

# The groups of a camera's numbers on a frame, and how many each has.
GROUPS = {"position": 3, "rotation": 3, "lens": 6, "focus": 1, "stop": 1, "clips": 2}
# By group a row of numbers for each frame; None for what the camera does not say.
Rows = dict[str, list[list[Optional[float]]]]


@dataclass(frozen=True)
class Camera:
    """A camera as it is listed. ``id`` stays for the life of the scene; ``rate`` is "24/1"; frames are the package's own."""

    id: str
    name: str
    first: float
    last: float
    rate: str = "24/1"
    width_px: int = 1920
    height_px: int = 1080
    pixel_aspect: float = 1.0

    def entry(self) -> dict[str, Any]:
        """As the protocol has it."""
        return asdict(self)


@dataclass(frozen=True)
class Numbers:
    """A camera's numbers on some frames, as the package shows them: ``values`` by group, a row for each of ``frames``."""

    frames: list[float]
    values: Rows


class Host:
    """The package. Each method is called by the thread that calls :meth:`Exchange.step`, and by no other.

    ``profile`` says what the numbers mean: the key of a package profile of Anaxis, or its document.
    """

    profile: str | dict = ""

    def cameras(self) -> list[Camera]:
        """Every camera of the scene."""
        raise NotImplementedError

    def read(self, camera: str, frames: list[float] | None = None) -> Numbers:
        """All groups of a camera on these frames, on all of its frames where None."""
        raise NotImplementedError

    def write(self, camera: str, numbers: Numbers, replaces: bool) -> None:
        """Key these groups on these frames and leave all else as it is; with ``replaces`` the camera has these frames and no others."""
        raise NotImplementedError

    def add(self, camera: Camera) -> None:
        """Make a camera that is new here; its numbers follow."""
        raise NotImplementedError

    def selected(self) -> str | None:
        """The camera that is chosen, by its id; None for none."""
        return None

    def current_frame(self) -> float | None:
        """The frame that is shown; None where the package does not say."""
        return None

    def set_current_frame(self, frame: float) -> None:
        """Show a frame, where the other side's is followed."""

    def problem(self, sentence: str) -> None:
        """Something went wrong that a person should know."""
