"""Who works, in which transaction, from which page, and who does the calculations: the first argument of every use case.

A context is made once for a request, a command or a job. Nobody has the rights of an administrator by default: whoever
makes a context says who acts in it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any, ParamSpec, TypeVar

from sqlalchemy import Connection, Engine, event
from sqlalchemy.orm import UOWTransaction

from anaxis.app.mirrors import Mirrors
from anaxis.app.roles import Actor
from anaxis.library.runner import Here, Runner
from anaxis.store.session import StoreSession

P = ParamSpec("P")
T = TypeVar("T")


@dataclass(frozen=True)
class Sandbox:
    """Who does functions of the library: ``calculators`` those that answer at once, ``makers`` those that make files (None:
    this process)."""

    calculators: Runner
    makers: Runner | None = None


class Context(StoreSession):
    """A session of the store in which ``actor`` works, and which sees the shows that the actor sees.

    ``checks_base``: a change is refused where the camera's current version is no longer ``base_version``, the one that the
    page showed (None: the version that the change itself names). ``sandbox``: where there is none, this process does the
    calculations. ``releases``: the connection is given back to the pool while something is calculated. ``mirrors``: what
    cameras of connected packages hold, kept between transactions.
    """

    def __init__(
        self,
        engine: Engine | Connection,
        actor: Actor,
        *,
        checks_base: bool = False,
        base_version: int | None = None,
        sandbox: Sandbox | None = None,
        mirrors: Mirrors[Any] | None = None,
        releases: bool = False,
        **options: Any,
    ) -> None:
        super().__init__(engine, actor.shows, actor.name, **options)
        self.actor = actor
        self.checks_base, self.base_version = checks_base, base_version
        self.sandbox, self.mirrors, self.releases = sandbox, mirrors, releases
        self.has_writes = False  # written in this transaction, which is not committed yet
        self.signals: dict[str, None] = {}  # sent to every server when this transaction is committed

    def act_as(self, actor: Actor) -> None:
        """From now on ``actor`` works here: who it is was found out in this very transaction."""
        self.actor, self.actor_name, self.shows = actor, actor.name, actor.shows

    @contextmanager
    def acting_as(self, actor: Actor) -> Iterator[None]:
        """``actor`` works here meanwhile."""
        before = self.actor
        self.act_as(actor)
        try:
            yield
        finally:
            self.act_as(before)

    @property
    def calculators(self) -> Runner:
        """Who calculates what a file's content decides; the connection is released while another process does."""
        return Here() if self.sandbox is None else _Releasing(self, self.sandbox.calculators)

    def make(self, what: str, function: Callable[P, T], /, *args: P.args, **kwargs: P.kwargs) -> T:
        """A function of :mod:`anaxis.library.made`, done by the makers where there are any. Raises BadInput, also Busy.

        Its progress is told where this process does the work alone.
        """
        self.release_connection()
        makers = self.sandbox.makers if self.sandbox is not None else None
        if makers is None:
            return function(*args, **kwargs)
        kwargs.pop("progress", None)
        return makers.run(what, function, *args, **kwargs)

    def release_connection(self) -> None:
        """Give the connection back, where this context may and nothing is written; what was read stays readable."""
        writes = self.new or self.dirty or self.deleted or self.has_writes
        if self.releases and not writes and not self.in_nested_transaction():
            self.commit()


@dataclass(frozen=True)
class _Releasing:
    context: Context
    runner: Runner

    def run(self, what: str, function: Callable[P, T], /, *args: P.args, **kwargs: P.kwargs) -> T:
        self.context.release_connection()
        return self.runner.run(what, function, *args, **kwargs)


@event.listens_for(Context, "after_flush")
def _writes(context: Context, flushed: UOWTransaction) -> None:
    context.has_writes = True


@event.listens_for(Context, "after_commit")
def _committed(context: Context) -> None:
    context.has_writes = False
