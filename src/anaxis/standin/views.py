"""What a file shows of its cameras, in the file's own world; what every reader of the stand-in builds on."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

import numpy as np
import scipy

from anaxis.core.camera.channels import BESIDE
from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Lens, make_lens
from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats
from anaxis.packages.model import Profile

Y_UP = np.eye(3)
Z_UP = np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]])  # canonical to a right-handed world with Z up


@dataclass(frozen=True, eq=False)
class FileViews:
    """Cameras as the file gives them, in the file's world.

    ``view`` (n, 3, 4) takes a world point to (right, up, ahead); ``window`` (n, 4) holds left, right, bottom,
    top of the whole film back as tangents, ``focal_mm`` (n,) gives them a size; ``world`` (3, 3) and ``unit``
    place a canonical point in the file's world. ``local`` (n, 3, 4) is the camera to its parent, ``top``
    (n, 4, 4) the topmost transform above it, its own where it has no parent.
    """

    name: str
    frames: Floats
    rate: Fraction
    view: Floats
    window: Floats
    focal_mm: Floats
    others: dict[str, Floats]
    world: Floats
    unit: float
    image: Image
    local: Floats
    top: Floats
    file_up: str | None = None
    file_unit_m: float | None = None
    own_frames: Floats | None = None  # (k,) those the file has samples on, where they are not ``frames``
    stated: frozenset[str] = frozenset()  # of image and rate, what the file itself says

    def lens(self) -> Lens:
        left, right, bottom, top = self.window.T * self.focal_mm
        squeeze = self.others.get("squeeze", np.ones(len(self.frames)))
        return make_lens(
            len(self.frames),
            focal_mm=self.focal_mm,
            film_width_mm=(right - left) / squeeze,
            film_height_mm=top - bottom,
            offset_x_mm=(left + right) / 2,
            offset_y_mm=(bottom + top) / 2,
            **(self.others | {"squeeze": squeeze}),
        )


@dataclass(frozen=True, eq=False)
class ReadRequest:
    """What is to be read: ``camera`` by its node's name, the first one where None; at frames ``at`` (n,), at the
    file's own samples where None; ``image``, ``rate``, ``zero_frame`` (the frame at 0 s) and the lens ``typed``
    (channels of Lens by name) where the file states none. ``between_keys`` asks a file whose times are in single precision at the
    frames' exact times, as some readers do, instead of at the keys beside them."""

    profile: Profile
    image: Image
    at: Floats | None = None
    rate: Fraction | None = None
    camera: str | None = None
    typed: Mapping[str, float] | None = None
    zero_frame: float | None = None
    between_keys: bool = False


def chosen(file: str, cameras: list[tuple[str, Any]], wanted: str | None) -> Any:
    """The camera of that name, or the first one; raises BadInput where there is none."""
    if not cameras:
        raise BadInput(f"{file} holds no camera.")
    found = next((c for name, c in cameras if wanted in (None, name)), None)
    if found is None:
        raise BadInput(f"{file} holds no camera '{wanted}': choose one of {', '.join(n for n, _ in cameras[:12])}.")
    return found


def posed(
    name: str, frames: Floats, rate: Fraction, locals_: list[Floats], lens: dict[str, Floats], world: Floats, unit: float,
    image: Image, file_up: str | None, file_unit_m: float | None,
) -> FileViews:  # fmt: skip
    """Views of a camera that looks along its local -Z, from the transforms above it, outermost first, (n, 4, 4) each."""
    n = len(frames)
    whole = np.tile(np.eye(4), (n, 1, 1))
    for local in locals_:
        whole = whole @ local
    return FileViews(
        name, frames, rate, view_of(whole), window_of(lens), lens["focal_mm"],
        {k: v for k, v in lens.items() if k in ("squeeze", *BESIDE)}, world, unit, image,
        np.broadcast_to(locals_[-1], (n, 4, 4))[:, :3].copy(), np.broadcast_to(locals_[0], (n, 4, 4)).copy(), file_up, file_unit_m,
    )  # fmt: skip


def view_of(pose: Floats) -> Floats:
    """World points to (right, up, ahead) from camera-to-world matrices (n, 4, 4) that look along -Z."""
    rows = np.swapaxes(pose[:, :3, :3], 1, 2) * np.array([[1.0], [1.0], [-1.0]])
    return np.concatenate([rows, -np.einsum("nij,nj->ni", rows, pose[:, :3, 3])[:, :, None]], axis=2)


def window_of(lens: dict[str, Floats]) -> Floats:
    """Left, right, bottom and top of the whole film back as tangents (n, 4), from film_width_mm, film_height_mm and focal_mm (n,);
    squeeze is 1, offset_x_mm and offset_y_mm are 0 where they are left out."""
    half_w, half_h = lens.get("squeeze", 1.0) * lens["film_width_mm"] / 2, lens["film_height_mm"] / 2
    x, y = (lens.get(k, np.zeros_like(half_w)) for k in ("offset_x_mm", "offset_y_mm"))
    return np.stack([x - half_w, x + half_w, y - half_h, y + half_h], axis=1) / lens["focal_mm"][:, None]


def sampled_views(views: FileViews, at: Floats | None) -> FileViews:
    """The same views where they are asked for at their own samples, else between them."""
    own = views.frames
    views = replace(views, own_frames=own)
    if at is None or (len(at) == len(own) and np.allclose(at, own, rtol=0, atol=1e-4)):
        return views
    return _between(views, at)


def _between(views: FileViews, at: Floats) -> FileViews:
    """Straight between samples, turns by the shortest arc."""
    own = views.frames
    rows = views.view[:, :, :3]
    pose = np.swapaxes(rows * np.array([[1.0], [1.0], [-1.0]]), 1, 2)
    place = -np.einsum("nij,nj->ni", np.swapaxes(rows, 1, 2), views.view[:, :, 3])
    where = np.clip(at, own[0], own[-1])
    turned = (
        scipy.spatial.transform.Slerp(own, scipy.spatial.transform.Rotation.from_matrix(pose))(where).as_matrix()
        if len(own) > 1
        else np.repeat(pose, len(at), axis=0)
    )
    moved = np.tile(np.eye(4), (len(at), 1, 1))
    moved[:, :3, :3] = turned
    moved[:, :3, 3] = np.stack([np.interp(where, own, v) for v in place.T], axis=1)
    # The lens runs in millimetres, not in tangents.
    focal = np.interp(where, own, views.focal_mm)
    edges_mm = np.stack([np.interp(where, own, v * views.focal_mm) for v in views.window.T], axis=1)
    return FileViews(
        views.name, at, views.rate, view_of(moved), edges_mm / focal[:, None],
        focal, {k: np.interp(where, own, v) for k, v in views.others.items()}, views.world, views.unit,
        views.image, moved[:, :3], moved, views.file_up, views.file_unit_m, own,
    )  # fmt: skip


def inscribed(width: Floats, height: Floats, image: Image, fit: str) -> tuple[Floats, Floats]:
    """The part of a film back (n,) that an image shows, in the film back's unit."""
    aspect = image.width_px * image.pixel_aspect / image.height_px
    film = width / height
    by_width = {
        "width": np.ones_like(film),
        "height": np.zeros_like(film),
        "stretch": np.full_like(film, np.nan),
        "inside": (aspect > film).astype(np.float64),
        "outside": (aspect <= film).astype(np.float64),
    }[fit]
    return np.where(by_width == 0, height * aspect, width), np.where(by_width == 1, width / aspect, height)
