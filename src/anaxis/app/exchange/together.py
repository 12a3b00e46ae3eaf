"""Two cameras of connected packages seen together: the same frame through both lenses, and what lies between them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import undefer

from anaxis.app.context import Context
from anaxis.app.exchange.cells import CameraState, unpacked
from anaxis.app.exchange.sides import Side, held_with_sequence, side_of
from anaxis.app.exchange.takes import marks_of
from anaxis.core.camera.channels import BESIDE, CHANNELS
from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import Projection, projection_of
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.motion.resample import at_rate, resampling_error
from anaxis.core.proof.proof import Proof, deviations_px, grid_depths_m, grid_pixels, make_test_points, motion_size_m
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import kept_rate
from anaxis.core.typing import Floats
from anaxis.packages.package_values import own_rows
from anaxis.store.exchange import Client, ExchangeChange, Link, RemoteCamera

# Relative: what goes through another unit and back is the same number still.
_SAME = 1e-9
_CHUNK = 2000


@dataclass(frozen=True, eq=False)
class Together:
    """Both sides on the frames that both have: ``frames`` (n,) of the first, ``there`` (n,) of the second; their numbers (n, 16);
    how each sees, in the first one's pixels; and the deviation (n,). ``sequences`` says as of when, ``beside`` what else is another.
    ``resampling`` is what a link by time costs, None without one."""

    frames: Floats
    there: Floats
    rows: tuple[Floats, Floats]
    track: Track
    image: Image
    meant: Projection
    arrived: Projection
    deviation_px: Floats
    depths_m: Floats
    marks: Landmarks
    lines_m: Floats
    only_here: int
    only_there: int
    beside: list[str]
    sequences: tuple[int, int]
    motion_m: float
    resampling: Proof | None = None

    @property
    def grid_px(self) -> Floats:
        """The grid of points over the picture that are compared, (p, 2)."""
        return grid_pixels(self.image)


def together(
    context: Context, first: RemoteCamera, second: RemoteCamera | None, offset: float, only: Floats | None = None, motion_m: float | None = None,
    link: Link | None = None,
) -> Together:  # fmt: skip
    """Two sides seen together; a second that is None is the first itself. ``only`` are the frames of the first that are asked for.

    Through a ``link`` by time, its first camera is shown resampled, as the second receives it.

    Raises BadInput where nobody knows what one of them holds, and where they have no frame in common.
    """
    sides, helds, sequences = [], [], []
    by_time, resampling = link is not None and link.scale is not None, None
    for remote in (first, second or first):
        if not remote.known:
            raise BadInput(f"What {remote.called} is not loaded yet; Anaxis requests it from its package.", "not_known")
        sequence, held = held_with_sequence(context, remote)
        side = side_of(remote)
        if by_time and link is not None and remote.id == link.first_id:
            held, resampling = _in_time(side, held, link)
        sides.append(side)
        helds.append(held)
        sequences.append(sequence)
    here, there = helds
    offset = offset if second is not None else 0.0
    place, common = there.places(here.frames + offset)
    count = int(common.sum())
    if not count:
        raise BadInput(
            f"{first.called} and {(second or first).called} share no frame: choose another numbering, or other cameras.",
            "no_common",
        )
    wanted = common if only is None else common & np.isin(np.round(here.frames, 3), np.round(only, 3))
    a, b = (
        CameraState(here.frames[wanted], here.rows[wanted]),
        CameraState(there.frames[place[wanted]], there.rows[place[wanted]]),
    )
    track, other = sides[0].track(a), sides[1].track(b)
    meant = projection_of(track, sides[0].image, sides[0].profile.lens.fit)
    arrived = projection_of(other, sides[1].image, sides[1].profile.lens.fit).at_size(sides[0].image)
    size = motion_m if motion_m is not None else motion_size_m(sides[0].track(here))
    marks = marks_of(first.client)
    deviation = [
        deviations_px(
            make_test_points(track.select_frames(part), meant.select_frames(part), marks.position_m, size),
            arrived.select_frames(part),
        )
        for part in np.array_split(np.arange(len(track)), max(1, -(-len(track) // _CHUNK)))
    ]
    return Together(
        a.frames, b.frames, (a.rows, b.rows), track, sides[0].image, meant, arrived, np.concatenate(deviation),
        grid_depths_m(track, meant, marks.position_m, size), marks, lines_of(first.client, sides[0].profile.convention), len(here) - count,
        len(there) - count, _beside(track, other), (sequences[0], sequences[1]), size, resampling,
    )  # fmt: skip


def _in_time(side: Side, held: CameraState, link: Link) -> tuple[CameraState, Proof]:
    """What the first camera of a link by time holds, resampled to the second's rate, and what that costs at its own frames."""
    track, rate = side.track(held), kept_rate(link.second.rate)
    moved = at_rate(track, rate, "time", link.anchor)
    cost = resampling_error(track, moved, side.image, side.profile.lens.fit, link.anchor)
    near = held.near(link.frame_there(moved.frames + link.offset, from_first=False))
    return CameraState(moved.frames, own_rows(moved, side.profile, side.image, near)), cost


def resampling_cost(context: Context, link: Link) -> Proof | None:
    """What a link by time costs at the first camera's own frames; None for a link frame for frame."""
    if link.scale is None or not link.first.known:
        return None
    return _in_time(side_of(link.first), held_with_sequence(context, link.first)[1], link)[1]


def lines_of(client: Client, convention: Convention) -> Floats:
    """The lines of a package's scene, canonical, (s, 2, 3)."""
    lines = np.array(client.scene.get("lines", []), dtype=np.float64).reshape(-1, 2, 3)
    return convention.position_to_canonical(lines)


def _beside(a: Track, b: Track) -> list[str]:
    """The channels that are others and that no picture shows, in words."""
    out = []
    for name in BESIDE:
        x, y = getattr(a.lens, name), getattr(b.lens, name)
        with np.errstate(invalid="ignore"):
            off = ~((np.abs(x - y) <= _SAME * np.maximum(np.abs(x), 1e-9)) | (np.isnan(x) & np.isnan(y)))
        if off.any():
            out.append(f"{CHANNELS[name].label} on {int(off.sum())} frames")
    return out


def changed_since(context: Context, remote: RemoteCamera, sequence: int) -> Floats | None:
    """The frames on which a camera has come to hold something else since a sequence; None where it has other frames by now."""
    query = (
        select(ExchangeChange)
        .where(ExchangeChange.remote_id == remote.id, ExchangeChange.sequence > sequence)
        .options(undefer(ExchangeChange.data), undefer(ExchangeChange.back))
    )
    frames = [np.zeros(0)]
    for row in context.execute(query).scalars():
        if row.replaces:
            return None
        frames.append(unpacked(row.in_force).frames)
    return np.unique(np.concatenate(frames))
