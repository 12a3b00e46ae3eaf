"""How long changes that are everybody's by now are kept: what a side holds is kept with it, and needs none of them."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import Engine, delete, func, or_, select

from anaxis.app.context import Context
from anaxis.app.exchange.passing import locked
from anaxis.app.exchange.sides import held_with_effect, keep_snapshot
from anaxis.app.roles import LOCAL
from anaxis.store.exchange import Clash, Shared, SharedChange


def clear_changes(engine: Engine, days: int) -> int:
    """Take away changes that are older, in force and part of what is kept of their side; how many went. Those that an open clash is
    about stay."""
    gone = 0
    with Context(engine, LOCAL) as context:
        numbers = list(context.execute(select(Shared.id).where(Shared.held_effect.is_not(None))).scalars())
    for number in numbers:
        with Context(engine, LOCAL) as context, context.begin():  # each by itself: no side waits for long
            shared = context.get_one(Shared, number)
            locked(context, [shared.party_id])
            context.refresh(shared)
            if not shared.known:
                continue
            effect, held = held_with_effect(context, shared)
            if effect > (shared.held_effect or 0):
                keep_snapshot(context, shared, effect, held)
            old = SharedChange.created_at < func.now() - timedelta(days=days)
            asked = select(Clash.out_id).where(Clash.closed_at.is_(None))
            done = or_(SharedChange.way == "in", SharedChange.acknowledged_at.is_not(None))
            went = context.execute(
                delete(SharedChange).where(
                    SharedChange.shared_id == number,
                    old,
                    done,
                    SharedChange.effect <= effect,
                    SharedChange.id.not_in(asked),
                )
            )
            gone += int(went.rowcount)  # type: ignore[attr-defined]
    return gone
