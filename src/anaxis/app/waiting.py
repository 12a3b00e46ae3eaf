"""Who works out what a file's content decides, and the connection that is given back meanwhile."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import ParamSpec, TypeVar

from sqlalchemy import event
from sqlalchemy.orm import Session

from anaxis.library.runner import Here, Runner

P = ParamSpec("P")
T = TypeVar("T")


def runner_of(session: Session) -> Runner:
    """Who works out what a file's content decides: a process apart for the pages, this one for all else.

    The session's connection is given back while another process works.
    """
    apart: Runner | None = session.info.get("examiner")
    return Here() if apart is None else _Waiting(session, apart)


@dataclass(frozen=True)
class _Waiting:
    session: Session
    runner: Runner

    def run(self, what: str, function: Callable[P, T], /, *args: P.args, **kwargs: P.kwargs) -> T:
        let_go(self.session)
        return self.runner.run(what, function, *args, **kwargs)


def made(session: Session, what: str, work: Callable[P, T], /, *of: P.args, **more: P.kwargs) -> T:
    """A function of :mod:`anaxis.library.made` done apart where somebody waits for a page, else here.

    Raises BadInput, also Busy. How far it is, is heard here alone.
    """
    maker: Runner | None = session.info.get("maker")
    let_go(session)
    if maker is None:
        return work(*of, **more)
    more.pop("progress", None)
    return maker.run(what, work, *of, **more)


def let_go(session: Session) -> None:
    """Give the connection back while something else is waited for or worked out, where the session's owner says so.

    What was read stays readable; what is written later is kept all together, as before.
    """
    waiting = session.new or session.dirty or session.deleted or session.info.get("wrote")
    if session.info.get("lets_go") and not waiting and not session.in_nested_transaction():
        session.commit()


@event.listens_for(Session, "after_flush")
def _wrote(session: Session, context: object) -> None:
    """What was written and is not kept yet must not be kept by halves."""
    session.info["wrote"] = True


@event.listens_for(Session, "after_commit")
def _kept(session: Session) -> None:
    session.info.pop("wrote", None)
