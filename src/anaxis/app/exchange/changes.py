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
from anaxis.store.exchange import EFFECTS, Party, Recording, RecordingBlock, Shared, SharedChange

# Samples from one time that a page is told how many there are to the next.
_SHOWN_EVERY = 120


class MissingChange(BadInput):
    """A change came whose predecessor did not."""

    code = "gap"


# What a party tells


def take_change(context: Context, party_id: int, connection: str | None, change: Change, cells: FramePatch) -> bool:
    """Keep a change of a party and pass it on. False where it is kept already: it was sent again.

    Raises MissingChange, Replaced; BadInput for one that makes no sense, which then counts as heard (see :func:`refuse_change`).
    """
    with context.no_autoflush:  # what is written goes out at the end, together
        return _taken(context, party_id, connection, change, cells)


def _taken(context: Context, party_id: int, connection: str | None, change: Change, cells: FramePatch) -> bool:
    shared = context.execute(
        select(Shared).where(Shared.party_id == party_id, Shared.key == change.camera)
    ).scalar_one_or_none()
    if shared is None:
        raise BadInput(
            f"There is no camera '{change.camera}' in the scene that was sent: send the scene first.", "no_such_camera"
        )
    parties, links = lock_about(context, shared)
    party = parties[party_id]
    if not _is_next(party, connection, change.number):
        return False
    before = held_by(context, shared)
    # What the others hold is asked for now: what is read after something was written is not kept for the next change.
    theirs = {to.id: held_by(context, to) for to in (other_end(link, shared) for link in links)}
    if not (shared.known or change.replaces):
        party.heard = change.number  # all of it will be asked for
        return True
    now = before.with_cells(cells, change.replaces)
    side_of(shared).track(now.on(cells.frames))  # raises where it is no camera
    party.heard = change.number
    entry = change.entry.model_dump() if change.entry else None
    number, effect = context.execute(
        insert(SharedChange)
        .values(
            party_id=party.id, shared_id=shared.id, way="in", number=change.number, base=change.base, replaces=change.replaces, entry=entry,
            data=cells.packed(), frames=len(cells), effect=EFFECTS.next_value(), said="",
        )
        .returning(SharedChange.id, SharedChange.effect)
    ).one()  # fmt: skip
    assert effect is not None
    context.has_writes = True
    if entry is not None:
        shared.take_entry(entry)
    elif cells.frames[0] < shared.first or cells.frames[-1] > shared.last:
        shared.first, shared.last = min(shared.first, float(cells.frames[0])), max(shared.last, float(cells.frames[-1]))
    if not shared.known or many_since_snapshot(shared, effect):
        keep_snapshot(context, shared, effect, now)
    told = PropagatedChange(
        shared, changed_cells(before, now, cells, change.replaces), now, change.base, number, theirs
    )
    unseen = unseen_by(context, told, party)
    for link in links if len(before) else ():
        propagate(context, link, told, parties, unseen)
    against_pushed(context, told, unseen)
    notify(context, f"c{shared.id}")
    return True


def changed_cells(before: CameraState, now: CameraState, cells: FramePatch, replaces: bool) -> FramePatch:
    """What of a change is one: all of it, or of a whole camera that is sent the frames that are others than before."""
    if not replaces or not len(before):
        return cells
    place, there = before.places(cells.frames)
    same = np.zeros(len(cells), dtype=np.bool_)
    same[there] = cells.where(there).same_as(before.rows[place[there]])
    return cells.where(~same)


def refuse_change(context: Context, party_id: int, connection: str | None, change: Change, sentence: str) -> None:
    """A change that cannot be taken counts as heard, so that what comes behind it can; the sentence stays with the party."""
    party = locked(context, [party_id])[party_id]
    if _is_next(party, connection, change.number):
        party.heard, party.said = change.number, sentence
        row = SharedChange(party_id=party.id, way="in", number=change.number, base=change.base, data=b"", said=sentence)
        context.add(row)
        notify(context, f"s{party.show_id}")


def take_samples(context: Context, party_id: int, connection: str | None, message: SamplesMessage) -> bool:
    """Keep a tracker's samples where they belong to a recording. False where they are kept already."""
    party = locked(context, [party_id])[party_id]
    if not _is_next(party, connection, message.number):
        return False
    party.heard = message.number
    recording = context.get(Recording, message.recording) if message.recording is not None else None
    if recording is not None and recording.party_id == party.id and recording.ended_at is None:
        block = np.array(message.samples, dtype=np.float64).reshape(-1, 12)
        if not np.isfinite(block).all():
            raise BadInput(f"Message {message.number}: a sample holds something that is no number.", "not_a_number")
        recording.width_px, recording.height_px = message.width_px, message.height_px
        recording.samples += len(block)
        if recording.samples % _SHOWN_EVERY < len(block):
            notify(context, f"s{party.show_id}")
        context.add(RecordingBlock(recording_id=recording.id, number=message.number, data=block.tobytes()))
        if message.last:
            recording.ended_at = func.now()
            notify(context, f"s{party.show_id}")
    context.flush()
    return True


def take_acknowledged(
    context: Context, party_id: int, connection: str | None, number: int, held: FramePatch | None
) -> None:
    """A side holds for good what it was sent, or what it says it holds instead."""
    with context.no_autoflush:
        _acknowledged(context, party_id, connection, number, held)


def _acknowledged(
    context: Context, party_id: int, connection: str | None, number: int, held: FramePatch | None
) -> None:
    of = (SharedChange.party_id == party_id, SharedChange.way == "out", SharedChange.number == number)
    query = select(SharedChange.shared_id, SharedChange.link_id, SharedChange.acknowledged_at).where(*of)
    known = context.execute(query).one_or_none()
    if known is None or known.shared_id is None or known.acknowledged_at is not None:
        return
    shared = context.get_one(Shared, known.shared_id)
    if known.link_id is None:  # what a person had written here is a change for whoever is linked to it
        parties, links = lock_about(context, shared)
    else:
        parties, links = locked(context, [party_id]), []
    party = parties[party_id]
    require_current(party, connection)
    values: dict[str, Any] = {"acknowledged_at": func.clock_timestamp(), "effect": EFFECTS.next_value()}
    if held is not None:
        values["back"] = held.packed()
    done = update(SharedChange).where(*of, SharedChange.acknowledged_at.is_(None)).values(**values)
    row = context.execute(
        done.returning(SharedChange.id, SharedChange.effect, SharedChange.data, SharedChange.replaces),
        execution_options={"synchronize_session": False},
    ).one_or_none()
    if row is None:  # said twice at once
        return
    context.has_writes = True
    party.applied = max(party.applied, number)
    notify(context, f"c{shared.id}")
    snapshot = not shared.known or many_since_snapshot(shared, row.effect)
    if not (snapshot or links):
        return
    cells = held if held is not None else unpacked(row.data)
    try:
        if shared.known:
            now = held_by(context, shared)
        elif row.replaces:  # a new camera there
            now = NOTHING.with_cells(cells, True)
        else:
            return
    except BadInput:
        shared.held_effect = None  # what it says it holds is no camera: all of it is asked for again
        return
    if snapshot:
        keep_snapshot(context, shared, row.effect, now)
    theirs = {to.id: held_by(context, to) for to in (other_end(link, shared) for link in links)}
    told = PropagatedChange(shared, cells, now, number, row.id, theirs)
    unseen = unseen_by(context, told, party) if links else []
    for link in links:
        propagate(context, link, told, parties, unseen)


def _is_next(party: Party, connection: str | None, number: int) -> bool:
    """Whether a number is the next; False where it is known. Raises MissingChange, Replaced."""
    require_current(party, connection)
    if number <= party.heard:
        return False
    if number != party.heard + 1:
        raise MissingChange(f"Change {number} came where {party.heard + 1} was next: send it and all behind it again.")
    return True


class Waits(NamedTuple):
    """A change that a party is to be sent: of the camera of an id, with its base; ``cells`` as they go over the wire."""

    number: int
    camera: str
    base: int
    replaces: bool
    entry: dict[str, Any] | None
    cells: FramePatch


def waiting(context: Context, party_id: int, behind: int, most: int = 50) -> list[Waits]:
    """What a party has not been sent on this connection yet, in order."""
    c = SharedChange
    query = (
        select(c.number, Shared.key, c.base, c.replaces, c.entry, func.coalesce(c.wire, c.data))
        .join(Shared, Shared.id == c.shared_id)
        .where(c.party_id == party_id, c.way == "out", c.number > behind)
        .order_by(c.number)
        .limit(most)
    )
    return [
        Waits(n, key, base, replaces, entry, unpacked(data))
        for n, key, base, replaces, entry, data in context.execute(query)
    ]


def acknowledged_until(context: Context, party_id: int) -> int:
    """The number up to which a party has acknowledged what it was sent: all behind it is sent again, for what was done and never
    acknowledged is answered once more with what is held."""
    c = SharedChange
    open_ones = select(func.min(c.number)).where(c.party_id == party_id, c.way == "out", c.acknowledged_at.is_(None))
    first = context.execute(open_ones).scalar()
    return int(first) - 1 if first is not None else 2**53
