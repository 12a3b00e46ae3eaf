"""What one package holds, written into another once: into a camera that is there, or as a new one."""

from __future__ import annotations

from pydantic import BaseModel
from sqlalchemy.orm import Session

from anaxis.app.acting import use_case
from anaxis.app.exchange.cells import EVERY, NOTHING
from anaxis.app.exchange.links import whole_of
from anaxis.app.exchange.passing import lock_about, locked, notify, put_down
from anaxis.app.exchange.sides import Side, differing, profile_of, sent_to, side_of
from anaxis.app.exchange.takes import entry_of
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import kept_rate, rate_label
from anaxis.packages.own_numbers import GROUPS
from anaxis.store.exchange import Party, Shared


class Across(BaseModel):
    """From the camera ``source`` to the camera ``to`` of another package, or as a new one of the package ``party``."""

    source: int
    to: int | None = None
    party: int | None = None
    groups: list[str] = list(EVERY)
    frame_for_frame: bool = False
    same_numbers: bool = False


@use_case("write across")
def write_across(session: Session, asked: Across) -> Shared:
    """Raises BadInput where nothing is to be written, and where the rates differ and nobody said that it is to go frame for frame."""
    source = session.get_one(Shared, asked.source)
    groups = tuple(g for g in GROUPS if g in asked.groups)
    if not groups:
        raise BadInput("No channel is chosen: tick at least one.")
    side, now = side_of(source), whole_of(session, source)
    if asked.to is None:
        party = session.get_one(Party, asked.party)
        if party.show_id != source.party.show_id or party.kind != "package":
            raise BadInput("Choose a package that is connected in the same show.")
        parties = locked(session, [party.id])
        to = _new_there(session, source, party)
        fresh = Side(profile_of(party.profile), side.image, source.rate, source.name)
        sent = sent_to(side.track(now), side.image, side.profile.lens.fit, fresh, NOTHING, EVERY)
        put_down(session, parties[party.id], to, sent.meant, sent.wire, replaces=True, entry=entry_of(to))
        notify(session, f"s{party.show_id}")
        return to
    to = session.get_one(Shared, asked.to)
    if to.party.show_id != source.party.show_id or to.id == source.id:
        raise BadInput("Choose another camera, of a package that is connected in the same show.")
    if kept_rate(source.rate) != kept_rate(to.rate) and not asked.frame_for_frame:
        raise BadInput(
            f"{source.called} runs at {rate_label(kept_rate(source.rate))} frames a second and {to.called} at {rate_label(kept_rate(to.rate))}: set one "
            "rate in both, or choose frame for frame, by which the move takes another time there."
        )
    parties, _ = lock_about(session, to)
    there = whole_of(session, to)
    offset = 0.0 if asked.same_numbers else to.first - source.first
    sent = sent_to(side.track(now), side.image, side.profile.lens.fit, side_of(to), there, EVERY, offset)
    parts = differing(sent, there, groups)
    if not parts:
        raise BadInput(
            f"Nothing is to be written: {to.called} holds in these channels what {source.called} holds.",
            "nothing_to_write",
        )
    for meant, wire in parts:
        put_down(session, parties[to.party_id], to, meant, wire)
    notify(session, f"s{to.party.show_id}")
    return to


def _new_there(session: Session, source: Shared, party: Party) -> Shared:
    taken = {c.key for c in party.cameras}
    key = next(k for k in (f"anaxis-s{source.id}-{n}" for n in range(1, 10_000)) if k not in taken)
    row = Shared(
        party_id=party.id, key=key, name=source.name, first=source.first, last=source.last, rate=source.rate, width_px=source.width_px,
        height_px=source.height_px, pixel_aspect=source.pixel_aspect,
    )  # fmt: skip
    session.add(row)
    session.flush()
    session.refresh(row, ["party"])
    return row
