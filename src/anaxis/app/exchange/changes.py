"""Changes in both ways: kept before they are acknowledged, each taken once, in order; what waits to be sent.

A side numbers its changes. Whoever is linked is told of each within the transaction that keeps it
(:mod:`anaxis.app.exchange.passing`).
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from sqlalchemy import func, insert, select, update

from anaxis.app.context import Context
from anaxis.app.exchange.cells import NOTHING, CameraState, FramePatch, unpacked
from anaxis.app.exchange.messages import Change, SamplesMessage
from anaxis.app.exchange.passing import (
    PropagatedChange,
    against_pushed,
    lock_about,
    locked,
    notify,
    other_end,
    propagate,
    require_current,
    unseen_by,
)
from anaxis.app.exchange.sides import held_by, keep_snapshot, many_since_snapshot, side_of
from anaxis.core.errors import BadInput
from anaxis.store.exchange import SEQUENCE, Client, ExchangeChange, Recording, RecordingBlock, RemoteCamera

# Samples from one time that a page is told how many there are to the next.
_SHOWN_EVERY = 120


class MissingChange(BadInput):
    """A change came whose predecessor did not."""

    code = "gap"


# What a client tells


def take_change(context: Context, client_id: int, connection: str | None, change: Change, cells: FramePatch) -> bool:
    """Keep a change of a client and pass it on. False where it is kept already: it was sent again.

    Raises MissingChange, Replaced; BadInput for one that makes no sense, which then counts as heard (see :func:`refuse_change`).
    """
    with context.no_autoflush:  # what is written goes out at the end, together
        return _taken(context, client_id, connection, change, cells)


def _taken(context: Context, client_id: int, connection: str | None, change: Change, cells: FramePatch) -> bool:
    remote = context.execute(
        select(RemoteCamera).where(RemoteCamera.client_id == client_id, RemoteCamera.key == change.camera)
    ).scalar_one_or_none()
    if remote is None:
        raise BadInput(
            f"There is no camera '{change.camera}' in the sent scene: send the scene first.", "no_such_camera"
        )
    clients, links = lock_about(context, remote)
    client = clients[client_id]
    if not _is_next(client, connection, change.number):
        return False
    before = held_by(context, remote)
    # What the others hold is asked for now: what is read after something was written is not kept for the next change.
    theirs = {to.id: held_by(context, to) for to in (other_end(link, remote) for link in links)}
    if not (remote.known or change.replaces):
        client.last_received = change.number  # all of it will be asked for
        return True
    now = before.with_cells(cells, change.replaces)
    side_of(remote).track(now.on(cells.frames))  # raises where it is no camera
    client.last_received = change.number
    entry = change.entry.model_dump() if change.entry else None
    number, sequence = context.execute(
        insert(ExchangeChange)
        .values(
            client_id=client.id, remote_id=remote.id, direction="in", number=change.number, base=change.base, replaces=change.replaces, entry=entry,
            data=cells.packed(), frames=len(cells), sequence=SEQUENCE.next_value(), said="",
        )
        .returning(ExchangeChange.id, ExchangeChange.sequence)
    ).one()  # fmt: skip
    assert sequence is not None
    context.has_writes = True
    if entry is not None:
        remote.take_entry(entry)
    elif cells.frames[0] < remote.first or cells.frames[-1] > remote.last:
        remote.first, remote.last = min(remote.first, float(cells.frames[0])), max(remote.last, float(cells.frames[-1]))
    if not remote.known or many_since_snapshot(remote, sequence):
        keep_snapshot(context, remote, sequence, now)
    told = PropagatedChange(
        remote, changed_cells(before, now, cells, change.replaces), now, change.base, number, theirs, before
    )
    unseen = unseen_by(context, told, client)
    for link in links if len(before) else ():
        propagate(context, link, told, clients, unseen)
    against_pushed(context, told, unseen)
    notify(context, f"c{remote.id}")
    return True


def changed_cells(before: CameraState, now: CameraState, cells: FramePatch, replaces: bool) -> FramePatch:
    """What of a change is one: all of it, or of a whole camera that is sent the frames that are others than before."""
    if not replaces or not len(before):
        return cells
    place, there = before.places(cells.frames)
    same = np.zeros(len(cells), dtype=np.bool_)
    same[there] = cells.where(there).same_as(before.rows[place[there]])
    return cells.where(~same)


def refuse_change(context: Context, client_id: int, connection: str | None, change: Change, sentence: str) -> None:
    """A change that cannot be taken counts as heard, so that what comes behind it can; the sentence stays with the client."""
    client = locked(context, [client_id])[client_id]
    if _is_next(client, connection, change.number):
        client.last_received, client.said = change.number, sentence
        row = ExchangeChange(
            client_id=client.id, direction="in", number=change.number, base=change.base, data=b"", said=sentence
        )
        context.add(row)
        notify(context, f"s{client.show_id}")


def take_samples(context: Context, client_id: int, connection: str | None, message: SamplesMessage) -> bool:
    """Keep a tracker's samples where they belong to a recording. False where they are kept already."""
    client = locked(context, [client_id])[client_id]
    if not _is_next(client, connection, message.number):
        return False
    client.last_received = message.number
    recording = context.get(Recording, message.recording) if message.recording is not None else None
    if recording is not None and recording.client_id == client.id and recording.ended_at is None:
        block = np.array(message.samples, dtype=np.float64).reshape(-1, 12)
        if not np.isfinite(block).all():
            raise BadInput(f"Message {message.number}: a sample has a value that is not a number.", "not_a_number")
        recording.width_px, recording.height_px = message.width_px, message.height_px
        recording.samples += len(block)
        if recording.samples % _SHOWN_EVERY < len(block):
            notify(context, f"s{client.show_id}")
        context.add(RecordingBlock(recording_id=recording.id, number=message.number, data=block.tobytes()))
        if message.last:
            recording.ended_at = func.now()
            notify(context, f"s{client.show_id}")
    context.flush()
    return True


def take_acknowledged(
    context: Context, client_id: int, connection: str | None, number: int, held: FramePatch | None
) -> None:
    """A side holds for good what it was sent, or what it says it holds instead."""
    with context.no_autoflush:
        _acknowledged(context, client_id, connection, number, held)


def _acknowledged(
    context: Context, client_id: int, connection: str | None, number: int, held: FramePatch | None
) -> None:
    of = (ExchangeChange.client_id == client_id, ExchangeChange.direction == "out", ExchangeChange.number == number)
    query = select(ExchangeChange.remote_id, ExchangeChange.link_id, ExchangeChange.acknowledged_at).where(*of)
    known = context.execute(query).one_or_none()
    if known is None or known.remote_id is None or known.acknowledged_at is not None:
        return
    remote = context.get_one(RemoteCamera, known.remote_id)
    # A change for whoever else is linked to it: a person had it written here, or it goes on along a chain.
    clients, links = lock_about(context, remote)
    links = [link for link in links if link.id != known.link_id]
    client = clients[client_id]
    require_current(client, connection)
    before = held_by(context, remote) if links else NOTHING
    values: dict[str, Any] = {"acknowledged_at": func.clock_timestamp(), "sequence": SEQUENCE.next_value()}
    if held is not None:
        values["back"] = held.packed()
    done = update(ExchangeChange).where(*of, ExchangeChange.acknowledged_at.is_(None)).values(**values)
    row = context.execute(
        done.returning(ExchangeChange.id, ExchangeChange.sequence, ExchangeChange.data, ExchangeChange.replaces),
        execution_options={"synchronize_session": False},
    ).one_or_none()
    if row is None:  # said twice at once
        return
    context.has_writes = True
    client.last_acked = max(client.last_acked, number)
    notify(context, f"c{remote.id}")
    snapshot = not remote.known or many_since_snapshot(remote, row.sequence)
    if not (snapshot or links):
        return
    cells = held if held is not None else unpacked(row.data)
    try:
        if remote.known:
            now = held_by(context, remote)
        elif row.replaces:  # a new camera there
            now = NOTHING.with_cells(cells, True)
        else:
            return
    except BadInput:
        remote.held_sequence = None  # what it says it holds is no camera: all of it is asked for again
        return
    if snapshot:
        keep_snapshot(context, remote, row.sequence, now)
    theirs = {to.id: held_by(context, to) for to in (other_end(link, remote) for link in links)}
    told = PropagatedChange(remote, cells, now, number, row.id, theirs, before)
    unseen = unseen_by(context, told, client) if links else []
    for link in links:
        propagate(context, link, told, clients, unseen)


def _is_next(client: Client, connection: str | None, number: int) -> bool:
    """Whether a number is the next; False where it is known. Raises MissingChange, Replaced."""
    require_current(client, connection)
    if number <= client.last_received:
        return False
    if number != client.last_received + 1:
        raise MissingChange(
            f"Change {number} arrived, but change {client.last_received + 1} is next: send all changes from {client.last_received + 1} on again. "
            "If they are gone, the server's store is an older copy: connect the scene as a new package."
        )
    return True


class Waits(NamedTuple):
    """A change that a client is to be sent: of the camera of an id, with its base; ``cells`` as they go over the wire."""

    number: int
    camera: str
    base: int
    replaces: bool
    entry: dict[str, Any] | None
    cells: FramePatch


def waiting(context: Context, client_id: int, behind: int, most: int = 50) -> list[Waits]:
    """What a client has not been sent on this connection yet, in order."""
    c = ExchangeChange
    query = (
        select(c.number, RemoteCamera.key, c.base, c.replaces, c.entry, func.coalesce(c.wire, c.data))
        .join(RemoteCamera, RemoteCamera.id == c.remote_id)
        .where(c.client_id == client_id, c.direction == "out", c.number > behind)
        .order_by(c.number)
        .limit(most)
    )
    return [
        Waits(n, key, base, replaces, entry, unpacked(data))
        for n, key, base, replaces, entry, data in context.execute(query)
    ]


def acknowledged_until(context: Context, client_id: int) -> int:
    """The number up to which a client has acknowledged what it was sent: all behind it is sent again, for what was done and never
    acknowledged is answered once more with what is held."""
    c = ExchangeChange
    open_ones = select(func.min(c.number)).where(
        c.client_id == client_id, c.direction == "out", c.acknowledged_at.is_(None)
    )
    first = context.execute(open_ones).scalar()
    return int(first) - 1 if first is not None else 2**53
