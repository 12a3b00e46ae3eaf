"""What a check looks at: one camera after its recipe, with the file and the cameras beside it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from anaxis.core.camera.channels import CHANNELS
from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track, is_moving, lens_moves
from anaxis.core.findings import Finding
from anaxis.core.scene.bake import Baked
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.nodes import Scene


@dataclass(frozen=True)
class Expected:
    """What the shot should be: first and last frame, and rate; None where nobody has said."""

    first_frame: float | None = None
    last_frame: float | None = None
    rate: Fraction | None = None


@dataclass(frozen=True, eq=False)
class Subject:
    """``baked`` is as the tree gave it, ``track`` what the recipe made of it; ``others`` are the bakes of
    the file's other cameras, ``image`` what the picture is made at, where it is known."""

    scene: Scene
    baked: Baked
    track: Track
    landmarks: Landmarks
    others: Sequence[Baked] = ()
    image: Image | None = None
    expected: Expected = Expected()

    @property
    def path(self) -> str:
        return self.baked.node.path


Check = Callable[[Subject], Iterable[Finding]]


def is_still(track: Track) -> bool:
    """Whether the camera shows one picture of what stands still: neither its pose nor its framing changes."""
    return not is_moving(track) and not lens_moves(track)


def moving_lens_channels(track: Track) -> list[str]:
    """The lens channels that change over the frames, the clips left out."""
    return [k for k, c in CHANNELS.items() if not c.clip and np.ptp(np.nan_to_num(getattr(track.lens, k))) > 0]
