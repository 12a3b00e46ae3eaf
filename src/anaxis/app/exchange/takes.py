"""Versions of what packages hold: pulled by hand, kept at a link's moments; and versions written back."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from itertools import count
from typing import Any, NamedTuple

import numpy as np
from pydantic import BaseModel
from sqlalchemy import func, select
from sqlalchemy.orm import undefer

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.app.exchange.cells import EVERY, NOTHING, ROUNDING, CameraState, FramePatch, Groups, held_of
from anaxis.app.exchange.kept import As, keep_as, require_shot
from anaxis.app.exchange.links import whole_of
from anaxis.app.exchange.passing import enqueue, lock_about, locked, notify
from anaxis.app.exchange.sides import Side, held_with_sequence, profile_of, sent_to, side_of, side_to
from anaxis.core.errors import BadInput
from anaxis.core.names import listed
from anaxis.core.outgoing import make_outgoing
from anaxis.core.scene.landmarks import Landmarks, legal_name
from anaxis.core.time.rates import kept_rate, rate_text
from anaxis.core.typing import Floats
from anaxis.packages.package_values import GROUP_WORDS, chosen_groups, columns_of
from anaxis.store.exchange import Client, Link, Pulled, RemoteCamera
from anaxis.store.models import Version
from anaxis.store.queries import find_shot, picture_of_version, track_of
from anaxis.store.rows import found as row_of


class Pull(BaseModel):
    """As which shot and camera a package's camera is kept; an empty name of the camera is the one it has there."""

    shot: str = ""
    camera: str = ""


@use_case("pull")
def pull(context: Context, remote: RemoteCamera, asked: Pull) -> Version:
    """What a package's camera holds now, as the next take of the camera here that it is kept as, else of the one of that name in the
    shot, else as a new one."""
    if remote.camera_id is None:
        require_shot(asked.shot)
        if len(asked.camera) > 120:
            raise BadInput("The camera needs a name of at most 120 characters.")
        found = find_shot(context, remote.client.show.name, asked.shot.strip())
        name = legal_name(asked.camera.strip() or remote.name, set())
        known = next((c for c in found.cameras if c.name == name), None) if found is not None else None
        if known is not None:
            remote.camera_id = known.id
            context.flush()
    return kept_as_version(context, remote, f"pulled from {remote.called}", asked)


def kept_as_version(context: Context, remote: RemoteCamera, change: str, asked: Pull | None = None) -> Version:
    """What a camera of a package holds, kept. Raises BadInput where that is not known, or is not a camera that can be used."""
    held, side, asked = whole_of(context, remote), side_of(remote), asked or Pull()
    fit = side.profile.lens.fit
    outgoing = make_outgoing(side.track(held), side.profile.convention, side.image, fit, fit, marks_of(remote.client))
    to = As(remote.camera_id, remote.client.show.name, asked.shot, asked.camera.strip() or remote.name)
    version = keep_as(context, outgoing, remote.called, to, change)
    remote.camera_id = version.camera_id
    context.add(Pulled(version_id=version.id, remote_id=remote.id, data=held.packed()))
    context.flush()
    context.refresh(remote, ["camera"])
    notify(context, f"s{remote.client.show_id}")
    return version


def marks_of(client: Client) -> Landmarks:
    """The named points of a package's scene, canonical."""
    from_scene = client.scene.get("marks", [])
    names: list[str] = []
    for mark in from_scene:
        names.append(legal_name(mark["name"], set(names)))
    place = np.array([m["position"] for m in from_scene], dtype=np.float64).reshape(1, -1, 3)
    convention = profile_of(client.profile).convention
    return Landmarks(tuple(names), convention.position_to_canonical(place))


# A link's moments


@use_case("save a version of a link")
def keep_moment(context: Context, link: Link, why: str) -> Version:
    """What a link's first camera holds now, as a version. Raises BadInput where it is kept as no camera yet."""
    if link.first.camera_id is None:
        raise BadInput(f"Pull {link.first.called} once first, so that its versions have a camera.")
    sequence, _ = held_with_sequence(context, link.first)
    version = kept_as_version(context, link.first, why)
    link.moment_at, link.moment_sequence = datetime.now(UTC), sequence
    return version


def due_moments(context: Context) -> list[Link]:
    """The links whose next version is due, and whose first camera holds something new since the last; each is held by whoever asks."""
    late = func.extract("epoch", func.clock_timestamp() - Link.moment_at) >= Link.every_s
    query = (
        select(Link).where(Link.stopped_at.is_(None), Link.every_s > 0, late).with_for_update(of=Link, skip_locked=True)
    )
    return [
        k
        for k in context.execute(query).scalars()
        if k.first.camera_id is not None and held_with_sequence(context, k.first)[0] > k.moment_sequence
    ]


# Written back


class Push(BaseModel):
    """A version for a package: to the camera ``remote`` there, or as a new one. ``groups`` are the channels that are written.
    ``both`` says what is done where both sides changed the same since it was pulled: "ask" refuses, "ours", "theirs"."""

    remote: int | None = None
    client: int | None = None
    name: str = ""
    groups: list[str] = list(EVERY)
    both: str = "ask"


class PulledPart(NamedTuple):
    """Cells as they are ``meant`` to be there, and as they go over the ``wire``."""

    meant: FramePatch
    wire: FramePatch


@dataclass(frozen=True, eq=False)
class Writing:
    """What a push would write: ``parts``, one a group; one in all, and ``whole``, where the camera there is new or has other
    frames. ``both`` are the frames that were changed there too since it was pulled, by group; ``since`` is what was pulled."""

    parts: list[PulledPart]
    whole: bool
    both: dict[str, Floats]
    since: Version | None

    @property
    def groups(self) -> list[str]:
        return [g for p in self.parts for g in p.meant.groups]


def planned_push(
    context: Context, version: Version, remote: RemoteCamera | None, client: Client, groups: Groups
) -> Writing:
    """What of a version is written to a camera of a package: what was changed here since it was pulled from there, in the groups
    chosen; all of it where it was never pulled from there, or has other frames by now. Raises BadInput."""
    track, picture = track_of(version)[0], picture_of_version(version)
    if remote is None:
        to = Side(profile_of(client.profile), picture.image, rate_text(track.rate), track.name)
        sent = sent_to(track, picture.image, picture.fit, to, NOTHING, EVERY)
        return Writing([PulledPart(sent.meant, sent.wire)], True, {}, None)
    there = whole_of(context, remote)
    pulled = _pulled(context, version, remote)
    before = held_of(pulled.data) if pulled is not None else there
    sent = sent_to(track, picture.image, picture.fit, side_of(remote), before, EVERY)
    since = pulled.version if pulled is not None else None

    def on_same_frames(held: CameraState) -> bool:
        return len(held) == len(track) and bool(np.allclose(held.frames, track.frames, rtol=0, atol=1e-3))

    if not on_same_frames(there) or kept_rate(remote.rate) != track.rate:
        side = side_of(remote)
        whole = side_to(side, CameraState(sent.meant.frames, _with_theirs(sent.meant, groups, there)), side, before)
        # What was changed there since it was pulled would go with the frames that are replaced.
        changed = pulled is not None and not _same(before, there)
        return Writing(
            [PulledPart(whole.meant, whole.wire)],
            True,
            dict.fromkeys(groups, whole.meant.frames) if changed else {},
            since,
        )
    base = before if on_same_frames(before) else there
    parts, both = [], {}
    for group in groups:
        ours, theirs = (~c.only([group]).same_as(base.rows, ROUNDING) for c in (sent.meant, there.cells()))
        if ours.any():
            parts.append(PulledPart(sent.meant.where(ours).only([group]), sent.wire.where(ours).only([group])))
        if (ours & theirs).any():
            both[group] = sent.meant.frames[ours & theirs]
    return Writing(parts, False, both, since)


def _with_theirs(cells: FramePatch, groups: Groups, there: CameraState) -> Floats:
    """Rows (k, 16) of the groups chosen as ours, and of the others as they are there at the nearest frame."""
    rows = there.near(cells.frames).copy()
    columns = columns_of(groups)
    rows[:, columns] = cells.rows[:, columns]
    return rows


def _same(a: CameraState, b: CameraState) -> bool:
    return len(a) == len(b) and bool((a.frames == b.frames).all()) and bool(a.cells().same_as(b.rows).all())


def _pulled(context: Context, version: Version, remote: RemoteCamera) -> Pulled | None:
    """The pull from this camera that a version was made from, itself or the take it is an edit of."""
    of_take = select(Version.id).where(
        Version.camera_id == version.camera_id, Version.take == version.take, Version.edit == 0
    )
    query = (
        select(Pulled)
        .where(Pulled.version_id.in_(of_take), Pulled.remote_id == remote.id)
        .options(undefer(Pulled.data))
    )
    return context.execute(query).scalars().first()


@use_case("push")
def push(context: Context, version: Version, asked: Push) -> RemoteCamera:
    """Write a version into a package. Raises BadInput where both changed the same and nobody said which is to be, and where nothing
    is to be written."""
    groups = chosen_groups(asked.groups)
    remote = row_of(context, RemoteCamera, asked.remote, "camera of a package") if asked.remote is not None else None
    client = remote.client if remote is not None else row_of(context, Client, asked.client or 0, "package")
    clients = lock_about(context, remote)[0] if remote is not None else locked(context, [client.id])
    writing = planned_push(context, version, remote, client, groups)
    parts = writing.parts
    if writing.both and asked.both == "ask":
        frames = len(np.unique(np.concatenate(list(writing.both.values()))))
        raise BadInput(
            f"{client.name} has changed {frames} of these frames since they were pulled: choose whose values to use, or pull again.",
            "both_changed",
        )
    if asked.both == "theirs":
        parts = [p for p in (_without(p, writing.both) for p in parts) if len(p.meant)]
    if not parts:
        others = [] if remote is None else [g for g in changed_groups(context, version, remote) if g not in groups]
        more = (
            f" These channels differ and are not ticked: {listed([GROUP_WORDS[g] for g in others])}." if others else ""
        )
        raise BadInput(
            f"Nothing to write: in the ticked channels {version.called} is as {client.name} holds it.{more}",
            "nothing_to_write",
        )
    facts = version.facts
    span = {
        "first": float(facts["first_frame"]),
        "last": float(facts["last_frame"]),
        "rate": rate_text(kept_rate(facts["rate"])),
    }
    if remote is None:
        name = (asked.name.strip() or f"{version.camera.shot.name} {version.camera.name}")[:120]
        picture = {k: getattr(version, k) for k in ("width_px", "height_px", "pixel_aspect")}
        remote = new_there(context, client, str(version.camera_id), {"name": name, **span, **picture})
        remote.camera_id = version.camera_id
    elif writing.whole:
        remote.take_entry({**remote.entry, **span})
    entry = remote.entry if writing.whole else None
    for part in parts:
        enqueue(context, clients[client.id], remote, *part, replaces=writing.whole, entry=entry)
    notify(context, f"s{client.show_id}")
    return remote


def changed_groups(context: Context, version: Version, remote: RemoteCamera) -> list[str]:
    """The channels of a version that a package's camera would get, of all that there are. Raises BadInput."""
    return list(dict.fromkeys(planned_push(context, version, remote, remote.client, EVERY).groups))


def _without(part: PulledPart, both: dict[str, Floats]) -> PulledPart:
    """Without the frames that were changed there too."""
    keep = ~np.isin(part.meant.frames, np.concatenate([both.get(g, np.zeros(0)) for g in part.meant.groups]))
    return PulledPart(part.meant.where(keep), part.wire.where(keep))


def new_there(context: Context, client: Client, of: str, entry: dict[str, Any]) -> RemoteCamera:
    """A camera that a package is to have, listed as ``entry``; its id there tells what it is made ``of``, and is one of its own."""
    taken = {c.key for c in client.cameras}
    key = next(k for k in (f"anaxis-{of}-{n}" for n in count(1)) if k not in taken)
    row = RemoteCamera(client_id=client.id, key=key)
    row.take_entry(entry)
    context.add(row)
    context.flush()
    context.refresh(row, ["client"])
    return row
