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
from anaxis.store.exchange import Client, Link, RemoteCamera
from anaxis.store.models import Show
from anaxis.store.packages import get_package

# Of scenes with more cameras only those that are chosen or linked are asked for by themselves.
ASKED_FOR_BY_ITSELF = 20
# A server says of its connections every 15 s that they are there.
_THERE_FOR = timedelta(seconds=45)


def enter(context: Context, hello: Hello) -> Client:
    """The client of a hello, with a connection of its own from now on. Raises BadInput, NotAllowed."""
    show = _show(context, hello.show)
    require(context, Role.ARTIST, show.id, "connect a package")
    profile = _profile(context, hello)
    context.execute(
        insert(Client)
        .values(show_id=show.id, key=hello.client, kind=hello.kind, name=hello.name, actor=context.actor.name)
        .on_conflict_do_nothing()
    )
    query = select(Client).where(Client.show_id == show.id, Client.key == hello.client)
    client = locked(context, [context.execute(query).scalar_one().id]).popitem()[1]
    if client.actor != context.actor.name and is_there(client):
        raise BadInput(
            f"{client.name} is connected by {client.actor}: end that connection first, or connect another scene.",
            "in_use",
        )
    if hello.last < client.last_received:
        raise BadInput(
            f"{hello.name} has made changes up to {hello.last}, and {client.last_received} were received from it: its scene is an older copy. Open the "
            "newest scene, or connect this one as a new package.",
            "older_copy",
        )
    if hello.have > client.last_sent:
        raise BadInput(
            f"{hello.name} holds change {hello.have} of this server, which has sent {client.last_sent}: the server's store is an older copy. Connect the scene as a new package."
            "",
            "older_store",
        )
    if client.profile and client.profile != profile.model_dump(mode="json"):
        _forget_what_is_held(context, client)  # other numbers mean the same camera now
    client.kind, client.name, client.actor = hello.kind, hello.name, context.actor.name
    client.profile = profile.model_dump(mode="json")
    client.connection, client.removed_at = secrets.token_hex(8), None
    client.connected_at = client.seen_at = datetime.now(UTC)
    context.flush()
    notify(context, f"s{show.id}", f"p{client.id}")
    return client


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


def _is_linked(context: Context, client: Client) -> bool:
    linked = select(Link.id).join(
        RemoteCamera, (RemoteCamera.id == Link.first_id) | (RemoteCamera.id == Link.second_id)
    )
    return (
        context.execute(linked.where(RemoteCamera.client_id == client.id, Link.stopped_at.is_(None)).limit(1)).first()
        is not None
    )


def _forget_what_is_held(context: Context, client: Client) -> None:
    if _is_linked(context, client):
        raise BadInput(
            f"{client.name} is linked with another profile: stop its links on Live, then connect with this profile.",
            "other_profile",
        )
    context.execute(
        update(RemoteCamera).where(RemoteCamera.client_id == client.id).values(held=None, held_sequence=None)
    )


def take_scene(context: Context, client_id: int, connection: str | None, scene: SceneMessage) -> list[str]:
    """What is in a package now; returns the ids of the cameras whose frames are to be asked for. Raises Replaced, BadInput."""
    client = locked(context, [client_id])[client_id]
    require_current(client, connection)
    ids = [c.id for c in scene.cameras]
    if len(set(ids)) < len(ids):
        raise BadInput("Two cameras of the scene have the same id: each needs its own id.", "bad_message")
    for entry in scene.cameras:
        _require_entry(entry)
    known = {
        c.key: c for c in context.execute(select(RemoteCamera).where(RemoteCamera.client_id == client_id)).scalars()
    }
    for entry in scene.cameras:
        row = known.get(entry.id)
        if row is None:
            row = RemoteCamera(client_id=client_id, key=entry.id)
            context.add(row)
        row.take_entry(entry.model_dump())
        row.gone_at = None
    for key, row in known.items():
        if key not in ids and row.gone_at is None:
            row.gone_at = datetime.now(UTC)
    client.scene = {"marks": [m.model_dump(mode="json") for m in scene.marks], "lines": [list(x) for x in scene.lines]}
    context.flush()
    notify(context, f"s{client.show_id}")
    return wanted(context, client)


def _require_entry(entry: CameraEntry) -> None:
    parse_rate(entry.rate)
    if not (-1e9 < entry.first <= entry.last < 1e9):
        raise BadInput(
            f"Camera '{entry.name}' runs from {entry.first:g} to {entry.last:g}: its first frame must not be after its last.",
            "bad_message",
        )


def wanted(context: Context, client: Client) -> list[str]:
    """The cameras of a client that nobody here knows, and should."""
    rows = list(
        context.execute(
            select(RemoteCamera)
            .where(RemoteCamera.client_id == client.id, RemoteCamera.gone_at.is_(None))
            .order_by(RemoteCamera.id)
        ).scalars()
    )
    few = len(rows) <= ASKED_FOR_BY_ITSELF
    return [r.key for r in rows if not r.known and (few or r.key == client.selected)]


def choose(context: Context, client_id: int, connection: str | None, key: str | None) -> list[str]:
    """The camera that is chosen in a package; returns those to be asked for. Raises Replaced."""
    client = locked(context, [client_id])[client_id]
    require_current(client, connection)
    client.selected = key
    context.flush()
    notify(context, f"s{client.show_id}")
    return wanted(context, client)


def heard_of(context: Context, client_id: int, connection: str | None, said: str | None = None) -> None:
    """A client is there; ``said`` is what it could not take, "" once it could again. Raises Replaced."""
    client = locked(context, [client_id])[client_id]
    require_current(client, connection)
    client.seen_at = datetime.now(UTC)
    if said is not None:
        client.said = said[:1000]


def leave(context: Context, client_id: int, connection: str) -> None:
    """A connection ended; where a newer one took its place, that one stays."""
    gone = update(Client).where(Client.id == client_id, Client.connection == connection)
    context.execute(gone.values(connection=None, seen_at=func.now()))
    show = context.execute(select(Client.show_id).where(Client.id == client_id)).scalar_one_or_none()
    notify(context, f"s{show}")


def is_there(client: Client) -> bool:
    """Whether a client is connected, and was heard of in the last while: a server that was killed said nothing of it."""
    return client.connection is not None and datetime.now(UTC) - client.seen_at < _THERE_FOR


def clients_of(context: Context, show: Show) -> list[Client]:
    """Those of a show that were not taken off its list, those that are connected first."""
    query = select(Client).where(Client.show_id == show.id, Client.removed_at.is_(None))
    rows = context.execute(query.order_by(Client.connection.is_(None), Client.id)).scalars()
    return list(rows)


def packages_there(context: Context, show: Show) -> list[Client]:
    """The packages of a show that are connected now."""
    return [p for p in clients_of(context, show) if p.kind == "package" and is_there(p)]


@use_case("take off the list")
def take_off(context: Context, client: Client) -> Client:
    """A package that is away and not to be seen any more; where it connects again, it is there again. Raises BadInput while it is
    connected, or linked."""
    if is_there(client):
        raise BadInput(f"{client.name} is connected: end the connection in the package first.")
    if _is_linked(context, client):
        raise BadInput(f"{client.name} is linked: stop its links first.")
    client.removed_at = datetime.now(UTC)
    return client
