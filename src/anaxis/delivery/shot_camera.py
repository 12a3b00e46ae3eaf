"""A camera as it goes out: with its picture, the placement a root would carry, and what lies about it."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.overscan import Overscan
from anaxis.core.camera.track import Track
from anaxis.core.image_plane import Pictures
from anaxis.core.motion.placement import Similarity, no_placement
from anaxis.core.motion.set_objects import SetAlong, SetObject
from anaxis.core.outgoing import Numbers, make_outgoing
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.picture import Picture
from anaxis.core.space.axes import Convention
from anaxis.core.typing import Floats, Ints


@dataclass(frozen=True, eq=False)
class ShotCamera:
    """A camera that goes out: its picture, the placement that a root above it would carry, the set's lines (s, 2, 3).

    ``finer`` is the same camera on the source's own samples between frames, where it has such and they were asked for;
    ``has_finer`` says whether the source has any. With ``render`` the camera is that of a render larger than its plate;
    ``pictures`` are those for an image plane, ``along`` is the set with its faces, where it is known.
    """

    track: Track
    landmarks: Landmarks
    picture: Picture
    placement: Similarity = field(default_factory=no_placement)
    lines_m: Floats = field(default_factory=lambda: np.zeros((0, 2, 3)))
    finer: Track | None = None
    has_finer: bool = False
    render: Overscan | None = None
    pictures: Pictures | None = None
    along: SetAlong | None = None

    @property
    def objects(self) -> tuple[SetObject, ...]:
        """The objects of the set that go along."""
        return () if self.along is None else self.along.objects

    @property
    def bare_lines_m(self) -> Floats:
        """The lines of the set (s, 2, 3) that no object's faces stand for."""
        return self.lines_m if self.along is None else self.along.curves_m

    @property
    def plate(self) -> Image:
        """The plate's image, of which ``picture`` is the render where it goes out with overscan."""
        return self.picture.image if self.render is None else self.render.plate

    def at_frames(self, index: Ints) -> ShotCamera:
        """The same where only the frames at ``index`` (k,) are kept."""
        along = None if self.along is None else self.along.at_frames(index)
        return replace(
            self, track=self.track.select_frames(index), landmarks=self.landmarks.at_frames(index), along=along
        )  # fmt: skip

    def own_numbers(self) -> Numbers:
        """The camera's numbers in canonical space: metres, Y up, right-handed."""
        image, fit = self.picture.image, self.picture.fit
        return make_outgoing(self.track, Convention(), image, fit, fit, self.landmarks).numbers()
