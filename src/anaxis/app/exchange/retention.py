"""How long changes that are everybody's by now are kept: what a side holds is kept with it, and needs none of them."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import Engine, delete, func, or_, select

from anaxis.app.context import Context
from anaxis.app.exchange.passing import locked
from anaxis.app.exchange.sides import held_with_sequence, keep_snapshot
from anaxis.app.roles import LOCAL
from anaxis.store.exchange import Clash, ExchangeChange, RemoteCamera


def clear_changes(engine: Engine, days: int) -> int:
    """Take away changes that are older, in force and part of what is kept of their side; how many went. Those that an open clash is
    about stay."""
    gone = 0
    with Context(engine, LOCAL) as context:
        numbers = list(
            context.execute(select(RemoteCamera.id).where(RemoteCamera.held_sequence.is_not(None))).scalars()
        )
    for number in numbers:
        with Context(engine, LOCAL) as context, context.begin():  # each by itself: no side waits for long
            remote = context.get_one(RemoteCamera, number)
            locked(context, [remote.client_id])
            context.refresh(remote)
            if not remote.known:
                continue
            sequence, held = held_with_sequence(context, remote)
            if sequence > (remote.held_sequence or 0):
                keep_snapshot(context, remote, sequence, held)
            old = ExchangeChange.created_at < func.now() - timedelta(days=days)
            asked = select(Clash.out_id).where(Clash.closed_at.is_(None))
            done = or_(ExchangeChange.direction == "in", ExchangeChange.acknowledged_at.is_not(None))
            went = context.execute(
                delete(ExchangeChange).where(
                    ExchangeChange.remote_id == number,
                    old,
                    done,
                    ExchangeChange.sequence <= sequence,
                    ExchangeChange.id.not_in(asked),
                )
            )
            gone += int(went.rowcount)  # type: ignore[attr-defined]
    return gone
