"""What a side holds, in its own numbers and in ours, and how one side's numbers become another's."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import undefer

from anaxis.app.context import Context
from anaxis.app.exchange.cells import EVERY, NOTHING, ROUNDING, CameraState, FramePatch, Groups, held_of, unpacked
from anaxis.app.mirrors import Mirrors
from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track
from anaxis.core.motion.resample import at_rate
from anaxis.core.outgoing import make_outgoing
from anaxis.core.scene.landmarks import NO_LANDMARKS
from anaxis.core.time.rates import kept_rate
from anaxis.core.typing import Floats
from anaxis.packages.habit import Outbound
from anaxis.packages.habits import HABITS, compensated
from anaxis.packages.habits.numbers import CHANNELS, signed_channels
from anaxis.packages.model import Profile, profile_from_dict
from anaxis.packages.package_values import SLICES, own_rows, track_of_rows
from anaxis.store.exchange import ExchangeChange, RemoteCamera

# What a package does to numbers that it is sent; all other habits are about files and their trees.
OF_NUMBERS = (
    "world_turn", "world_shift", "look_axis", "scale", "frame_offset", "film_factor", "film_default", "focal_factor", "vfov_as_hfov",
    "no_offsets", "channels", "snap", "no_roll",
)  # fmt: skip
# Rows in force since the last snapshot, from where on a new one is kept.
_SNAPSHOT_AFTER = 200


def held_by(context: Context, remote: RemoteCamera) -> CameraState:
    """What a side's camera holds by all that is in force; nothing where nobody knows."""
    return held_with_sequence(context, remote)[1]


def held_with_sequence(context: Context, remote: RemoteCamera) -> tuple[int, CameraState]:
    """The same, and the sequence that it is of."""
    if not remote.known:
        return 0, NOTHING
    mirrors: Mirrors[CameraState] | None = context.mirrors
    known = mirrors.get(remote.id) if mirrors is not None else None
    if known is None or known[0] < (remote.held_sequence or 0):
        known = (remote.held_sequence or 0, held_of(remote.held))
    sequence, held = known
    query = (
        select(ExchangeChange)
        .where(ExchangeChange.remote_id == remote.id, ExchangeChange.sequence > sequence)
        .order_by(ExchangeChange.sequence)
        .options(undefer(ExchangeChange.data), undefer(ExchangeChange.back))
    )
    for row in context.execute(query).scalars():
        held = held.with_cells(unpacked(row.in_force), row.replaces)
        sequence = row.sequence or sequence
    if mirrors is not None and not context.has_writes:  # what may still be undone is nobody else's to know
        mirrors.put(remote.id, sequence, held)
    return sequence, held


def keep_snapshot(context: Context, remote: RemoteCamera, sequence: int, held: CameraState) -> None:
    """Keep what is held as of a sequence, so that fewer rows have to be gone through."""
    remote.held, remote.held_sequence = held.packed(), sequence
    context.flush()


def many_since_snapshot(remote: RemoteCamera, sequence: int) -> bool:
    """Whether the next snapshot is due; sequences are counted over all cameras, so it comes rather early than late."""
    return sequence - (remote.held_sequence or 0) > _SNAPSHOT_AFTER


@dataclass(frozen=True, eq=False)
class Side:
    """A camera of a package with what its numbers mean."""

    profile: Profile
    image: Image
    rate: str
    name: str

    @property
    def habits(self) -> list[tuple[str, dict[str, Any]]]:
        return [h for h in self.profile.active_habits if h[0] in OF_NUMBERS]

    @property
    def habits_of_files(self) -> list[str]:
        """What its habits of files do, in words; they have no part in numbers that are sent."""
        return [HABITS[code].says(p) for code, p in self.profile.active_habits if code not in OF_NUMBERS]

    def track(self, held: CameraState) -> Track:
        """The canonical track of what is held. Raises BadInput."""
        return track_of_rows(self.name, held.frames, kept_rate(self.rate), held.rows, self.profile, self.image)


def side_of(remote: RemoteCamera) -> Side:
    return Side(
        profile_of(remote.client.profile),
        Image(remote.width_px, remote.height_px, remote.pixel_aspect),
        remote.rate,
        remote.name,
    )


def profile_of(document: dict[str, Any]) -> Profile:
    """The profile that a client is connected by."""
    return profile_from_dict(document, "The profile")


@dataclass(frozen=True, eq=False)
class WireChange:
    """Cells on their way to a side: as they are ``meant`` to be there, as they go over the ``wire``, and what cannot be had."""

    meant: FramePatch
    wire: FramePatch
    cannot: tuple[str, ...] = ()


def sent_to(
    track: Track, image: Image, fit: str, to: Side, there: CameraState, groups: Groups, offset: float = 0.0
) -> WireChange:
    """A canonical track on some frames, as cells for a side, which holds ``there``.

    ``offset`` is added to the frames. Angles are those nearest to what is there. Raises BadInput for a lens that no
    film back of that side can show.
    """
    outgoing = make_outgoing(track, to.profile.convention, image, fit, to.profile.lens.fit, NO_LANDMARKS)
    moved = replace(outgoing.track, frames=outgoing.track.frames + offset)
    near = there.near(moved.frames)
    meant = FramePatch(moved.frames, EVERY, own_rows(moved, to.profile, to.image, near)).only(groups)
    habits = to.habits
    if not habits:
        return WireChange(meant, meant)
    before = Outbound(
        moved, moved.frames, to.profile.convention, to.profile.convention, to.image, to.profile.lens.fit, None, None
    )
    whole = [h for h in habits if h[0] != CHANNELS.code]
    done = compensated(before, whole) if whole else before
    rows = own_rows(done.track, to.profile, to.image, near)
    for code, params in reversed(habits):
        if code == CHANNELS.code:
            rows = _unswapped(rows, params)
    return WireChange(meant, FramePatch(done.track.frames, EVERY, rows).only(groups), done.cannot)


def side_to(
    side: Side, held: CameraState, to: Side, there: CameraState, groups: Groups = EVERY, offset: float = 0.0, anchor: float | None = None
) -> WireChange:  # fmt: skip
    """What one side holds, as cells for another, which holds ``there``. Raises BadInput.

    With an ``anchor``, the frame that keeps its number, the camera is resampled to the other side's rate; else it goes frame for frame.
    """
    track = side.track(held)
    if anchor is not None:
        track = at_rate(track, kept_rate(to.rate), "time", anchor)
    return sent_to(track, side.image, side.profile.lens.fit, to, there, groups, offset)


def differing(sent: WireChange, there: CameraState, groups: Groups) -> list[tuple[FramePatch, FramePatch]]:
    """What of cells in every group a side does not hold: meant, and as it goes over the wire. Of frames that it has the groups
    chosen; of frames that it has not all that a camera is."""
    place, known = there.places(sent.meant.frames)
    parts = [(sent.meant.where(~known), sent.wire.where(~known))]
    meant, wire = sent.meant.where(known).only(groups), sent.wire.where(known).only(groups)
    off = ~meant.same_as(there.rows[place[known]], ROUNDING)
    parts.append((meant.where(off), wire.where(off)))
    return [p for p in parts if len(p[0])]


def _unswapped(rows: Floats, params: dict[str, Any]) -> Floats:
    """Rows that come out right once the package has swapped or negated channels: as numbers, for that is what it does."""
    read, out = CHANNELS.read(params), rows.copy()
    for group, text in (("position", read.position), ("rotation", read.rotation)):
        order, signs = signed_channels(text)
        part = np.empty_like(rows[:, SLICES[group]])
        part[:, order] = rows[:, SLICES[group]] * signs
        out[:, SLICES[group]] = part
    return out
