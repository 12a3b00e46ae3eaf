"""What one package holds, written into another once: into a camera that is there, or as a new one."""

from __future__ import annotations

from pydantic import BaseModel

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.app.exchange.cells import EVERY, NOTHING
from anaxis.app.exchange.links import require_timing, whole_of
from anaxis.app.exchange.passing import enqueue, lock_about, locked, notify
from anaxis.app.exchange.sides import Side, differing, profile_of, side_of, side_to
from anaxis.app.exchange.takes import new_there
from anaxis.core.errors import BadInput
from anaxis.packages.package_values import chosen_groups
from anaxis.store.exchange import Client, RemoteCamera
from anaxis.store.rows import found as row_of


class Across(BaseModel):
    """From the camera ``source`` to the camera ``to`` of another package, or as a new one of the package ``client``."""

    source: int
    to: int | None = None
    client: int | None = None
    groups: list[str] = list(EVERY)
    frame_for_frame: bool = False
    by_time: bool = False
    same_numbers: bool = False


@use_case("write across")
def write_across(context: Context, asked: Across) -> RemoteCamera:
    """Raises BadInput where nothing is to be written, and where the rates differ and the request does not choose how to time them."""
    source = row_of(context, RemoteCamera, asked.source, "camera of a package")
    groups = chosen_groups(asked.groups)
    side, now = side_of(source), whole_of(context, source)
    if asked.to is None:
        client = row_of(context, Client, asked.client or 0, "package")
        if client.show_id != source.client.show_id or client.kind != "package":
            raise BadInput("Choose a package connected in the same show.")
        clients = locked(context, [client.id])
        to = new_there(context, client, f"s{source.id}", source.entry)
        fresh = Side(profile_of(client.profile), side.image, source.rate, source.name)
        sent = side_to(side, now, fresh, NOTHING)
        enqueue(context, clients[client.id], to, sent.meant, sent.wire, replaces=True, entry=to.entry)
        notify(context, f"s{client.show_id}")
        return to
    to = row_of(context, RemoteCamera, asked.to, "camera of a package")
    if to.client.show_id != source.client.show_id or to.id == source.id:
        raise BadInput("Choose another camera of a package connected in the same show.")
    require_timing(source, to, asked.frame_for_frame, asked.by_time)
    clients, _ = lock_about(context, to)
    there = whole_of(context, to)
    offset = 0.0 if asked.same_numbers else to.first - source.first
    anchor = source.first if asked.by_time else None
    parts = differing(side_to(side, now, side_of(to), there, offset=offset, anchor=anchor), there, groups)
    if not parts:
        raise BadInput(
            f"Nothing to write: {to.called} holds in these channels what {source.called} holds.", "nothing_to_write"
        )
    for meant, wire in parts:
        enqueue(context, clients[to.client_id], to, meant, wire)
    notify(context, f"s{to.client.show_id}")
    return to
