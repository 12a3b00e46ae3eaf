"""The stand-in: opens a delivered file as a receiving package would, with its habits, and says what it sees.

It is the other side of the proof, so it shares no conversion code with the writers: each file is evaluated
by its format library (:mod:`anaxis.standin.read`), and the way to pixels is its own arithmetic, on
the tangents of the view rather than on millimetres.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path

import numpy as np
import scipy

from anaxis.core.camera.channels import CHANNELS
from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import Projection
from anaxis.core.camera.track import Track
from anaxis.core.typing import Floats
from anaxis.packages.habit import Arriving
from anaxis.packages.habits import arrived
from anaxis.packages.model import Profile
from anaxis.standin.read import read_views
from anaxis.standin.views import FileViews, ReadRequest, inscribed


@dataclass(frozen=True, eq=False)
class Seen:
    """What arrived: ``projection`` is how it sees, from canonical metres.

    ``track`` is the camera that is there, in canonical space, on ``frames`` (n,) in the package's numbering;
    ``own_frames`` (k,) are those that arrived with a sample. ``stated`` names what of image and rate the file says.
    """

    frames: Floats
    projection: Projection
    image: Image
    track: Track
    own_frames: Floats
    stated: frozenset[str]


def open_as_package(
    path: Path, profile: Profile, image: Image, frames: Floats | None = None, rate: Fraction | None = None,
    camera: str | None = None, typed: Mapping[str, float] | None = None, zero_frame: float | None = None, between_keys: bool = False,
) -> Seen:  # fmt: skip
    """Open a delivered file by a profile, at the file's own samples or on the package's ``frames`` (n,).

    ``image``, ``rate`` and ``zero_frame`` are what a person sets there where the file states no resolution, no
    rate, and not which frame lies at 0 s;
    ``typed`` are channels of the lens that a table without them leaves to be typed; ``camera`` is the node to
    take of several, the first where None. Between samples the file's own rule holds where the
    package takes the file's time as it is: straight for USD and tables, the curves of track JSON. Before the
    first sample and after the last that arrived, these are held. ``between_keys`` as in :class:`ReadRequest`. Raises BadInput for a file this package
    has no reader for.
    """
    habits = profile.active_habits
    asked = ReadRequest(profile, image, None if habits else frames, rate, camera, typed, zero_frame, between_keys)
    views = read_views(path, asked)
    if habits and len(views.frames) > 1 and np.diff(views.frames).max() > 1 + 1e-6:
        # Few keys: what the file draws between them, before the package does anything to it.
        views = read_views(path, replace(asked, at=np.arange(views.frames[0], views.frames[-1] + 0.5)))
    here = arrived(_arriving(views, profile), habits, profile.convention)
    track = here.track if frames is None else _at(here.track, frames)
    sees = _seeing(track, here.image, profile.lens.fit)
    # With habits the file's own samples were read, and the habits moved them; without, they lie where the file has them.
    own = here.track.frames if habits or views.own_frames is None else views.own_frames
    return Seen(track.frames, sees, here.image, track, own, views.stated)


def _arriving(views: FileViews, profile: Profile) -> Arriving:
    """The file's camera in canonical space: where its right, up and ahead point, and from where."""
    world = views.world
    local = np.einsum("ji,njk->nik", world, views.local)
    top = np.zeros_like(views.top)
    top[:, :3, :3] = np.einsum("ji,njk,kl->nil", world, views.top[:, :3, :3], world)
    top[:, :3, 3] = views.top[:, :3, 3] @ world * views.unit
    top[:, 3, 3] = 1.0
    local[:, :3, 3] *= views.unit
    seen = np.swapaxes(views.view[:, :, :3], 1, 2) @ np.diag([1.0, 1.0, -1.0])
    place = -np.einsum("nij,nj->ni", np.swapaxes(views.view[:, :, :3], 1, 2), views.view[:, :, 3])
    track = Track(
        views.name,
        views.frames,
        views.rate,
        place @ world * views.unit,
        np.einsum("ji,njk->nik", world, seen),
        views.lens(),
    )
    whole = np.tile(np.eye(4), (len(local), 1, 1))
    whole[:, :3] = local
    return Arriving(track, views.image, profile.lens.fit, whole, top, views.file_up, views.file_unit_m)


def _at(track: Track, frames: Floats) -> Track:
    """The camera on whatever frame the package shows: straight between its samples, held outside them."""
    if len(frames) == len(track) and np.allclose(frames, track.frames, rtol=0, atol=1e-9):
        return replace(track, frames=frames)
    own = track.frames
    at = np.clip(frames, own[0], own[-1])

    def straight(values: Floats) -> Floats:
        return np.interp(at, own, values)

    place = np.stack([straight(v) for v in track.position_m.T], axis=1)
    if len(own) == 1:
        turn = np.repeat(track.rotation, len(at), axis=0)
    else:
        turn = scipy.spatial.transform.Slerp(own, scipy.spatial.transform.Rotation.from_matrix(track.rotation))(
            at
        ).as_matrix()
        # A sample that is there is taken as it is.
        near = np.clip(np.searchsorted(own, at), 0, len(own) - 1)
        exact = np.abs(own[near] - at) < 1e-9
        turn[exact] = track.rotation[near[exact]]
    lens = replace(track.lens, **{k: straight(getattr(track.lens, k)) for k in CHANNELS})
    return replace(track, frames=frames, position_m=place, rotation=turn, lens=lens, marked=None)


def _seeing(track: Track, image: Image, fit: str) -> Projection:
    """Inscribe the image in the film back's window and scale it to pixels."""
    lens = track.lens
    half = lens.squeeze * lens.film_width_mm / 2
    left, right = (lens.offset_x_mm - half) / lens.focal_mm, (lens.offset_x_mm + half) / lens.focal_mm
    bottom = (lens.offset_y_mm - lens.film_height_mm / 2) / lens.focal_mm
    top = (lens.offset_y_mm + lens.film_height_mm / 2) / lens.focal_mm
    width, height = right - left, top - bottom
    shown_width, shown_height = inscribed(width, height, image, fit)
    n = len(width)
    pixels = np.zeros((n, 3, 3))
    pixels[:, 0, 0] = image.width_px / shown_width
    pixels[:, 0, 2] = image.width_px * (0.5 - (left + right) / 2 / shown_width)
    pixels[:, 1, 1] = -image.height_px / shown_height
    pixels[:, 1, 2] = image.height_px * (0.5 + (bottom + top) / 2 / shown_height)
    pixels[:, 2, 2] = 1.0
    rows = np.swapaxes(track.rotation, 1, 2) * np.array([[1.0], [1.0], [-1.0]])
    away = -np.sum(rows * track.position_m[:, None, :], axis=2)
    return Projection(np.asarray(pixels @ np.concatenate([rows, away[:, :, None]], axis=2)), image)
