"""Who is connected: a package or tracker says who it is, what is in it, what is chosen there, and goes."""

from __future__ import annotations

import secrets
from datetime import UTC, datetime, timedelta

from sqlalchemy import func, select, update
from sqlalchemy.dialects.postgresql import insert

from anaxis.app.acting import require, use_case
from anaxis.app.context import Context
from anaxis.app.exchange.messages import CameraEntry, Hello, SceneMessage
from anaxis.app.exchange.passing import locked, notify, require_current
from anaxis.app.roles import Role
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import parse_rate
from anaxis.packages.model import Profile, profile_from_dict
from anaxis.store.exchange import Link, Party, Shared
from anaxis.store.models import Show
from anaxis.store.packages import get_package

# Of scenes with more cameras only those that are chosen or linked are asked for by themselves.
ASKED_FOR_BY_ITSELF = 20
# A server says of its connections every 15 s that they are there.
_THERE_FOR = timedelta(seconds=45)


def enter(context: Context, hello: Hello) -> Party:
    """The party of a hello, with a connection of its own from now on. Raises BadInput, NotAllowed."""
    show = _show(context, hello.show)
    require(context, Role.ARTIST, show.id, "connect a package")
    profile = _profile(context, hello)
    context.execute(
        insert(Party)
        .values(show_id=show.id, client=hello.client, kind=hello.kind, name=hello.name, actor=context.actor.name)
        .on_conflict_do_nothing()
    )
    query = select(Party).where(Party.show_id == show.id, Party.client == hello.client)
    party = locked(context, [context.execute(query).scalar_one().id]).popitem()[1]
    if party.actor != context.actor.name and is_there(party):
        raise BadInput(
            f"{party.name} is connected by {party.actor}: end that connection first, or connect a scene of your own.",
            "in_use",
        )
    if hello.last < party.heard:
        raise BadInput(
            f"{hello.name} counts its changes up to {hello.last}, and {party.heard} were heard from it: its scene is an older copy. Open the "
            "newest one, or connect this one as a package of its own.",
            "older_copy",
        )
    if hello.have > party.sent:
        raise BadInput(
            f"{hello.name} holds change {hello.have} of this server, which has sent {party.sent}: the server's store is an older copy. Connect "
            "the scene as a package of its own.",
            "older_store",
        )
    if party.profile and party.profile != profile.model_dump(mode="json"):
        _forget_what_is_held(context, party)  # other numbers mean the same camera now
    party.kind, party.name, party.actor = hello.kind, hello.name, context.actor.name
    party.profile = profile.model_dump(mode="json")
    party.connection, party.removed_at = secrets.token_hex(8), None
    party.connected_at = party.seen_at = datetime.now(UTC)
    context.flush()
    notify(context, f"s{show.id}", f"p{party.id}")
    return party


def _show(context: Context, name: str) -> Show:
    shows = list(context.execute(select(Show).where(Show.archived_at.is_(None)).order_by(Show.name)).scalars())
    found = [s for s in shows if not name or s.name == name]
    if len(found) != 1:
        listed = ", ".join(s.name for s in shows[:8]) or "none"
        raise BadInput(
            f"{f'There is no show {name!r}' if name else 'Name a show'}: there are {listed}.", "no_such_show"
        )
    return found[0]


def _profile(context: Context, hello: Hello) -> Profile:
    if isinstance(hello.profile, str):
        if not hello.profile and hello.kind == "tracker":
            return get_package(context, "yup-rh-m")
        return get_package(context, hello.profile)
    return profile_from_dict(hello.profile, f"The profile of {hello.name}")


def _is_linked(context: Context, party: Party) -> bool:
    linked = select(Link.id).join(Shared, (Shared.id == Link.first_id) | (Shared.id == Link.second_id))
    return (
        context.execute(linked.where(Shared.party_id == party.id, Link.stopped_at.is_(None)).limit(1)).first()
        is not None
    )


def _forget_what_is_held(context: Context, party: Party) -> None:
    if _is_linked(context, party):
        raise BadInput(
            f"{party.name} is linked by another profile: stop its links on the Live page, then connect it by this one.",
            "other_profile",
        )
    context.execute(update(Shared).where(Shared.party_id == party.id).values(held=None, held_effect=None))


def take_scene(context: Context, party_id: int, connection: str | None, scene: SceneMessage) -> list[str]:
    """What is in a package now; returns the ids of the cameras whose frames are to be asked for. Raises Replaced, BadInput."""
    party = locked(context, [party_id])[party_id]
    require_current(party, connection)
    ids = [c.id for c in scene.cameras]
    if len(set(ids)) < len(ids):
        raise BadInput("Two cameras of the scene have the same id: each needs one of its own.", "bad_message")
    for entry in scene.cameras:
        _require_entry(entry)
    known = {c.key: c for c in context.execute(select(Shared).where(Shared.party_id == party_id)).scalars()}
    for entry in scene.cameras:
        row = known.get(entry.id)
        if row is None:
            row = Shared(party_id=party_id, key=entry.id)
            context.add(row)
        row.take_entry(entry.model_dump())
        row.gone_at = None
    for key, row in known.items():
        if key not in ids and row.gone_at is None:
            row.gone_at = datetime.now(UTC)
    party.scene = {"marks": [m.model_dump(mode="json") for m in scene.marks], "lines": [list(x) for x in scene.lines]}
    context.flush()
    notify(context, f"s{party.show_id}")
    return wanted(context, party)


def _require_entry(entry: CameraEntry) -> None:
    parse_rate(entry.rate)
    if not (-1e9 < entry.first <= entry.last < 1e9):
        raise BadInput(
            f"Camera '{entry.name}' runs from {entry.first:g} to {entry.last:g}: its first frame must not lie behind its last.",
            "bad_message",
        )


def wanted(context: Context, party: Party) -> list[str]:
    """The cameras of a party that nobody here knows, and should."""
    rows = list(
        context.execute(
            select(Shared).where(Shared.party_id == party.id, Shared.gone_at.is_(None)).order_by(Shared.id)
        ).scalars()
    )
    few = len(rows) <= ASKED_FOR_BY_ITSELF
    return [r.key for r in rows if not r.known and (few or r.key == party.selected)]


def choose(context: Context, party_id: int, connection: str | None, key: str | None) -> list[str]:
    """The camera that is chosen in a package; returns those to be asked for. Raises Replaced."""
    party = locked(context, [party_id])[party_id]
    require_current(party, connection)
    party.selected = key
    context.flush()
    notify(context, f"s{party.show_id}")
    return wanted(context, party)


def heard_of(context: Context, party_id: int, connection: str | None, said: str | None = None) -> None:
    """A party is there; ``said`` is what it could not take, "" once it could again. Raises Replaced."""
    party = locked(context, [party_id])[party_id]
    require_current(party, connection)
    party.seen_at = datetime.now(UTC)
    if said is not None:
        party.said = said[:1000]


def leave(context: Context, party_id: int, connection: str) -> None:
    """A connection ended; where a newer one took its place, that one stays."""
    gone = update(Party).where(Party.id == party_id, Party.connection == connection)
    context.execute(gone.values(connection=None, seen_at=func.now()))
    show = context.execute(select(Party.show_id).where(Party.id == party_id)).scalar_one_or_none()
    notify(context, f"s{show}")


def is_there(party: Party) -> bool:
    """Whether a party is connected, and was heard of in the last while: a server that was killed said nothing of it."""
    return party.connection is not None and datetime.now(UTC) - party.seen_at < _THERE_FOR


def parties_of(context: Context, show: Show) -> list[Party]:
    """Those of a show that were not taken off its list, those that are connected first."""
    query = select(Party).where(Party.show_id == show.id, Party.removed_at.is_(None))
    rows = context.execute(query.order_by(Party.connection.is_(None), Party.id)).scalars()
    return list(rows)


def packages_there(context: Context, show: Show) -> list[Party]:
    """The packages of a show that are connected now."""
    return [p for p in parties_of(context, show) if p.kind == "package" and is_there(p)]


@use_case("take off the list")
def take_off(context: Context, party: Party) -> Party:
    """A package that is away and not to be seen any more; where it connects again, it is there again. Raises BadInput while it is
    connected, or linked."""
    if is_there(party):
        raise BadInput(f"{party.name} is connected: end its connection there first.")
    if _is_linked(context, party):
        raise BadInput(f"{party.name} is linked: stop its links first.")
    party.removed_at = datetime.now(UTC)
    return party
