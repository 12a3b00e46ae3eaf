"""Changes in both ways: kept before they are acknowledged, passed on by links, held against what the other side changed.

A side numbers its changes; each is taken once, in order. A change says as its base the highest number of the other way
that its side held when it was made: cells that were sent after it, and that it changes too, are a clash. Each side keeps
its own there until the link's rule or a person chooses. All of it happens under the locks of the parties concerned,
taken in the order of their numbers.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
from sqlalchemy import event, func, insert, or_, select, text, update
from sqlalchemy.orm import Session, undefer

from anaxis.app.exchange.cells import NOTHING, Cells, Held, unpacked
from anaxis.app.exchange.messages import Change, Samples
from anaxis.app.exchange.sides import held_by, keep_snapshot, many_since_snapshot, sent_to, side_of
from anaxis.core.errors import BadInput
from anaxis.core.typing import Bools, Floats
from anaxis.store.exchange import EFFECTS, NOTIFIED, Clash, Link, Party, Recording, RecordingBlock, Shared, SharedChange

RULES = {
    "ask": "each keeps its own until a person chooses",
    "first": "the first side's is taken",
    "second": "the second side's is taken",
}


class Replaced(BadInput):
    """Another connection of the same package counts now."""

    code = "replaced"


class Gap(BadInput):
    """A change came whose predecessor did not."""

    code = "gap"


def notify(session: Session, *events: str) -> None:
    """Tell every server, once this transaction is kept: ``p5`` something waits for party 5, ``c7`` camera 7 holds something
    else, ``s3`` something of show 3's page changed."""
    session.info.setdefault("told", {}).update(dict.fromkeys(events))


_TELL = text("SELECT pg_notify(:channel, told) FROM unnest(cast(:events AS text[])) AS told")


@event.listens_for(Session, "before_commit")
def _told_with_it(session: Session) -> None:
    told = session.info.pop("told", None)
    if told:
        session.execute(_TELL, {"channel": NOTIFIED, "events": list(told)})


def locked(session: Session, numbers: Sequence[int]) -> dict[int, Party]:
    """The parties of these numbers, locked in order until the transaction ends."""
    query = select(Party).where(Party.id.in_(set(numbers))).order_by(Party.id).with_for_update(of=Party)
    return {p.id: p for p in session.execute(query.execution_options(populate_existing=True)).scalars()}


def links_of(session: Session, shared: Shared) -> list[Link]:
    """The links that a camera is an end of, and that are not stopped."""
    ends = or_(Link.first_id == shared.id, Link.second_id == shared.id)
    return list(session.execute(select(Link).where(ends, Link.stopped_at.is_(None)).order_by(Link.id)).scalars())


def other_end(link: Link, shared: Shared) -> Shared:
    return link.second if link.first_id == shared.id else link.first


def offset_from(link: Link, shared: Shared) -> float:
    """What is added to a frame of this end for the frame of the other."""
    return link.offset if link.first_id == shared.id else -link.offset


def lock_about(session: Session, shared: Shared) -> tuple[dict[int, Party], list[Link]]:
    """The party of a camera and those at the other ends of its links, locked, and the links."""
    links = links_of(session, shared)
    parties = locked(session, [shared.party_id, *(other_end(link, shared).party_id for link in links)])
    return parties, links


# What a party tells


def take_change(session: Session, party_id: int, connection: str | None, change: Change, cells: Cells) -> bool:
    """Keep a change of a party and pass it on. False where it is kept already: it was sent again.

    Raises Gap, Replaced; BadInput for one that makes no sense, which then counts as heard (see :func:`refuse_change`).
    """
    with session.no_autoflush:  # what is written goes out at the end, together
        return _taken(session, party_id, connection, change, cells)


def _taken(session: Session, party_id: int, connection: str | None, change: Change, cells: Cells) -> bool:
    shared = session.execute(
        select(Shared).where(Shared.party_id == party_id, Shared.key == change.camera)
    ).scalar_one_or_none()
    if shared is None:
        raise BadInput(
            f"There is no camera '{change.camera}' in the scene that was sent: send the scene first.", "no_such_camera"
        )
    parties, links = lock_about(session, shared)
    party = parties[party_id]
    if not _is_next(party, connection, change.number):
        return False
    before = held_by(session, shared)
    # What the others hold is asked for now: what is read after something was written is not kept for the next change.
    theirs = {to.id: held_by(session, to) for to in (other_end(link, shared) for link in links)}
    if not (shared.known or change.replaces):
        party.heard = change.number  # all of it will be asked for
        return True
    now = before.with_cells(cells, change.replaces)
    side_of(shared).track(now.on(cells.frames))  # raises where it is no camera
    party.heard = change.number
    entry = change.entry.model_dump() if change.entry else None
    number, effect = session.execute(
        insert(SharedChange)
        .values(
            party_id=party.id, shared_id=shared.id, way="in", number=change.number, base=change.base, replaces=change.replaces, entry=entry,
            data=cells.packed(), frames=len(cells), effect=EFFECTS.next_value(), said="",
        )
        .returning(SharedChange.id, SharedChange.effect)
    ).one()  # fmt: skip
    assert effect is not None
    session.info["wrote"] = True
    if entry is not None:
        _take_entry(shared, entry)
    elif cells.frames[0] < shared.first or cells.frames[-1] > shared.last:
        shared.first, shared.last = min(shared.first, float(cells.frames[0])), max(shared.last, float(cells.frames[-1]))
    if not shared.known or many_since_snapshot(session, shared, effect):
        keep_snapshot(session, shared, effect, now)
    told = Told(shared, changed_cells(before, now, cells, change.replaces), now, change.base, number, theirs)
    unseen = _unseen(session, told, party)
    for link in links if len(before) else ():
        _pass_on(session, link, told, parties, unseen)
    _against_pushed(session, told, unseen)
    notify(session, f"c{shared.id}")
    return True


class Told(NamedTuple):
    """What a camera has come to hold: the ``cells`` that are others, all it holds ``now``, behind which ``base`` of what it was sent,
    the ``cause``, a change's id, and what the cameras it is linked to hold, by their numbers."""

    shared: Shared
    cells: Cells
    now: Held
    base: int
    cause: int
    theirs: dict[int, Held]


Unseen = list[tuple[SharedChange, Cells]]


def changed_cells(before: Held, now: Held, cells: Cells, replaces: bool) -> Cells:
    """What of a change is one: all of it, or of a whole camera that is sent the frames that are others than before."""
    if not replaces or not len(before):
        return cells
    place, there = before.places(cells.frames)
    same = np.zeros(len(cells), dtype=np.bool_)
    same[there] = cells.where(there).same_as(before.rows[place[there]])
    return cells.where(~same)


def refuse_change(session: Session, party_id: int, connection: str | None, change: Change, sentence: str) -> None:
    """A change that cannot be taken counts as heard, so that what comes behind it can; the sentence stays with the party."""
    party = locked(session, [party_id])[party_id]
    if _is_next(party, connection, change.number):
        party.heard, party.said = change.number, sentence
        row = SharedChange(party_id=party.id, way="in", number=change.number, base=change.base, data=b"", said=sentence)
        session.add(row)
        notify(session, f"s{party.show_id}")


def take_samples(session: Session, party_id: int, connection: str | None, message: Samples) -> bool:
    """Keep a tracker's samples where they belong to a recording. False where they are kept already."""
    party = locked(session, [party_id])[party_id]
    if not _is_next(party, connection, message.number):
        return False
    party.heard = message.number
    recording = session.get(Recording, message.recording) if message.recording is not None else None
    if recording is not None and recording.party_id == party.id and recording.ended_at is None:
        block = np.array(message.samples, dtype=np.float64).reshape(-1, 12)
        if not np.isfinite(block).all():
            raise BadInput(f"Message {message.number}: a sample holds something that is no number.", "not_a_number")
        recording.width_px, recording.height_px = message.width_px, message.height_px
        recording.samples += len(block)
        session.add(RecordingBlock(recording_id=recording.id, number=message.number, data=block.tobytes()))
        if message.last:
            recording.ended_at = func.now()
            notify(session, f"s{party.show_id}")
    session.flush()
    return True


def take_acknowledged(session: Session, party_id: int, connection: str | None, number: int, held: Cells | None) -> None:
    """A side holds for good what it was sent, or what it says it holds instead."""
    with session.no_autoflush:
        _acknowledged(session, party_id, connection, number, held)


def _acknowledged(session: Session, party_id: int, connection: str | None, number: int, held: Cells | None) -> None:
    of = (SharedChange.party_id == party_id, SharedChange.way == "out", SharedChange.number == number)
    query = select(SharedChange.shared_id, SharedChange.link_id, SharedChange.acknowledged_at).where(*of)
    known = session.execute(query).one_or_none()
    if known is None or known.shared_id is None or known.acknowledged_at is not None:
        return
    shared = session.get_one(Shared, known.shared_id)
    if known.link_id is None:  # what a person had written here is a change for whoever is linked to it
        parties, links = lock_about(session, shared)
    else:
        parties, links = locked(session, [party_id]), []
    party = parties[party_id]
    _require_current(party, connection)
    values: dict[str, Any] = {"acknowledged_at": func.clock_timestamp(), "effect": EFFECTS.next_value()}
    if held is not None:
        values["back"] = held.packed()
    done = update(SharedChange).where(*of, SharedChange.acknowledged_at.is_(None)).values(**values)
    row = session.execute(
        done.returning(SharedChange.id, SharedChange.effect, SharedChange.data, SharedChange.replaces),
        execution_options={"synchronize_session": False},
    ).one_or_none()
    if row is None:  # said twice at once
        return
    session.info["wrote"] = True
    party.applied = max(party.applied, number)
    notify(session, f"c{shared.id}")
    snapshot = not shared.known or many_since_snapshot(session, shared, row.effect)
    if not (snapshot or links):
        return
    try:
        if shared.known:
            now = held_by(session, shared)
        elif row.replaces:  # a new camera there
            now = NOTHING.with_cells(held if held is not None else unpacked(row.data), True)
        else:
            return
    except BadInput:
        shared.held_effect = None  # what it says it holds is no camera: all of it is asked for again
        return
    if snapshot:
        keep_snapshot(session, shared, row.effect, now)
    theirs = {to.id: held_by(session, to) for to in (other_end(link, shared) for link in links)}
    told = Told(shared, held if held is not None else unpacked(row.data), now, number, row.id, theirs)
    unseen = _unseen(session, told, party) if links else []
    for link in links:
        _pass_on(session, link, told, parties, unseen)


def _is_next(party: Party, connection: str | None, number: int) -> bool:
    """Whether a number is the next; False where it is known. Raises Gap, Replaced."""
    _require_current(party, connection)
    if number <= party.heard:
        return False
    if number != party.heard + 1:
        raise Gap(f"Change {number} came where {party.heard + 1} was next: send it and all behind it again.")
    return True


def _require_current(party: Party, connection: str | None) -> None:
    if connection is not None and party.connection != connection:
        raise Replaced(f"{party.name} is connected a second time: the newer connection counts.")


def _next_effect(session: Session) -> int:
    return int(session.execute(select(EFFECTS.next_value())).scalar_one())


def _take_entry(shared: Shared, entry: dict[str, Any]) -> None:
    for name in ("name", "first", "last", "rate", "width_px", "height_px", "pixel_aspect"):
        if getattr(shared, name) != entry[name]:
            setattr(shared, name, entry[name])


# What is passed on


def _pass_on(session: Session, link: Link, told: Told, parties: dict[int, Party], unseen: Unseen) -> None:
    """A change of one end of a link, for the other; where both changed the same, by the link's rule."""
    shared, to = told.shared, other_end(link, told.shared)
    cells = told.cells.only(link.groups)
    if not cells.groups or not len(cells) or not to.known:
        return
    from_first = link.first_id == shared.id
    of_link = [(sent, both.only(link.groups)) for sent, both in unseen if sent.link_id == link.id]

    def send_theirs(sent: SharedChange, both: Cells) -> None:
        """What the other side holds is meant to be here too."""
        at = both.moved(offset_from(link, shared))
        send(session, parties, link, to, shared, told.theirs[to.id], told.now, at, cause=sent.cause_id)

    if not (link.both_ways or from_first):
        # One way: what the second changes is its own until the first changes it again.
        for sent, both in of_link:
            send_theirs(sent, both)
        return
    free = {g: np.ones(len(cells), dtype=np.bool_) for g in cells.groups}
    if link.both_ways and link.rule == "ask":
        for clash_groups, frames in open_cells(session, link, shared):
            for group in free.keys() & clash_groups:
                free[group] &= ~np.isin(np.round(cells.frames, 3), frames)
    for sent, both in of_link if link.both_ways else ():
        if link.rule == "ask":
            new = parts(both, {g: np.isin(both.frames, cells.frames[free[g]]) for g in both.groups})
            for part in new:
                _clash(session, link.show_id, shared, link, sent, part)
        elif (link.rule == "first") != from_first:
            send_theirs(sent, both)
        else:
            continue
        for group in both.groups:
            free[group] &= ~np.isin(cells.frames, both.frames)
    for part in parts(cells, free):
        send(session, parties, link, shared, to, told.now, told.theirs[to.id], part, cause=told.cause)


def parts(cells: Cells, masks: dict[str, Bools]) -> list[Cells]:
    """The cells for which the masks (k,) of their groups hold, as few blocks of frames by groups."""
    by_mask: dict[bytes, list[str]] = {}
    for group, mask in masks.items():
        if mask.any():
            by_mask.setdefault(mask.tobytes(), []).append(group)
    return [cells.where(masks[groups[0]]).only(groups) for groups in by_mask.values()]


def _unseen(session: Session, told: Told, party: Party) -> Unseen:
    """What a camera was sent behind its base on the same cells: each, the newest first, with the cells that both changed."""
    shared, cells = told.shared, told.cells
    if told.base >= party.sent or not len(cells):
        return []
    query = (
        select(SharedChange)
        .where(
            SharedChange.party_id == party.id, SharedChange.way == "out", SharedChange.shared_id == shared.id, SharedChange.number > told.base,
        )
        .order_by(SharedChange.number.desc())
        .options(undefer(SharedChange.data))
    )  # fmt: skip
    out = []
    seen = {g: np.zeros(len(cells), dtype=np.bool_) for g in cells.groups}
    for sent in session.execute(query).scalars():
        theirs = unpacked(sent.data)
        hit = np.isin(np.round(cells.frames, 3), np.round(theirs.frames, 3))
        masks = {g: hit & ~seen[g] for g in cells.groups if g in theirs.groups}
        out += [(sent, part) for part in parts(cells, masks)]
        for group in masks:
            seen[group] |= hit
    return out


def _against_pushed(session: Session, told: Told, unseen: Unseen) -> None:
    """What a person had written there, and the package changed before it came: shown, and nothing is taken by itself."""
    for sent, both in unseen:
        if sent.link_id is None:
            _clash(session, told.shared.party.show_id, told.shared, None, sent, both)


def open_cells(session: Session, link: Link, shared: Shared) -> list[tuple[set[str], Floats]]:
    """The groups and frames of a link's open clashes, in the frames of one end."""
    out = []
    for clash in open_clashes(session, link):
        offset = 0.0 if clash.shared_id == shared.id else offset_from(link, clash.shared)
        out.append((set(clash.groups), np.round(np.array(clash.frames, dtype=np.float64) + offset, 3)))
    return out


def open_clashes(session: Session, link: Link) -> list[Clash]:
    query = select(Clash).where(Clash.link_id == link.id, Clash.closed_at.is_(None)).order_by(Clash.id)
    return list(session.execute(query).scalars())


def _clash(session: Session, show_id: int, shared: Shared, link: Link | None, sent: SharedChange, both: Cells) -> None:
    known = select(Clash.id).where(
        Clash.shared_id == shared.id, Clash.out_id == sent.id, Clash.closed_at.is_(None), Clash.frames == both.frames.tolist(),
        Clash.groups == list(both.groups),
    )  # fmt: skip
    if session.execute(known).first() is not None:
        return
    session.add(
        Clash(
            show_id=show_id, shared_id=shared.id, link_id=link.id if link else None, out_id=sent.id, groups=list(both.groups), frames=both.frames.tolist(),
        )
    )  # fmt: skip
    session.flush()
    notify(session, f"s{show_id}")


def send(
    session: Session, parties: dict[int, Party], link: Link | None, shared: Shared, to: Shared, now: Held, there: Held, cells: Cells,
    cause: int | None = None,
) -> None:  # fmt: skip
    """What a camera holds ``now`` on some cells, on its way to the other end, which holds ``there``."""
    source = side_of(shared)
    whole = now.cells(cells.frames)
    if not len(whole):
        return
    track = source.track(Held(whole.frames, whole.rows))
    offset = offset_from(link, shared) if link is not None else 0.0
    made = sent_to(track, source.image, source.profile.lens.fit, side_of(to), there, cells.groups, offset)
    put_down(session, parties[to.party_id], to, made.meant, made.wire, link=link, cause=cause)


def put_down(
    session: Session, party: Party, to: Shared, meant: Cells, wire: Cells, link: Link | None = None, cause: int | None = None,
    replaces: bool = False, entry: dict[str, Any] | None = None,
) -> None:  # fmt: skip
    """A change for a party, whose row is locked: kept with its number, sent as soon as it is there."""
    party.sent += 1
    session.execute(
        insert(SharedChange).values(
            party_id=party.id, shared_id=to.id, way="out", number=party.sent, base=party.heard, replaces=replaces, entry=entry, data=meant.packed(),
            wire=None if wire is meant else wire.packed(), frames=len(meant), link_id=link.id if link else None, cause_id=cause, said="",
        )
    )  # fmt: skip
    notify(session, f"p{party.id}")


class Waits(NamedTuple):
    """A change that a party is to be sent: of the camera of an id, with its base; ``cells`` as they go over the wire."""

    number: int
    camera: str
    base: int
    replaces: bool
    entry: dict[str, Any] | None
    cells: Cells


def waiting(session: Session, party_id: int, behind: int, most: int = 50) -> list[Waits]:
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
        for n, key, base, replaces, entry, data in session.execute(query)
    ]


def acknowledged_until(session: Session, party_id: int) -> int:
    """The number up to which a party has acknowledged what it was sent: all behind it is sent again, for what was done and never
    acknowledged is answered once more with what is held."""
    c = SharedChange
    open_ones = select(func.min(c.number)).where(c.party_id == party_id, c.way == "out", c.acknowledged_at.is_(None))
    first = session.execute(open_ones).scalar()
    return int(first) - 1 if first is not None else 2**53


def stop_clashes(session: Session, link: Link) -> None:
    """With its link a clash is over: each side holds its own."""
    open_ones = update(Clash).where(Clash.link_id == link.id, Clash.closed_at.is_(None))
    session.execute(open_ones.values(closed_at=func.now(), chosen="the link was stopped"))
