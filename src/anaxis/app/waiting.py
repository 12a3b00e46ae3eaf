"""Who works out what a file's content decides, and the connection that is given back meanwhile."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import event
from sqlalchemy.orm import Session

from anaxis.app.examined import Document, Examiner, Here


def examiner_of(session: Session) -> Examiner:
    """Who works out what a file's content decides: a process apart for the pages, this one for all else.

    The session's connection is given back while another process works.
    """
    apart: Examiner | None = session.info.get("examiner")
    return Here() if apart is None else _Waiting(session, apart)


@dataclass(frozen=True)
class _Waiting:
    session: Session
    examiner: Examiner

    def ask(self, function: str, given: Document, blocks: list[bytes], what: str) -> tuple[Document, list[bytes]]:
        let_go(self.session)
        return self.examiner.ask(function, given, blocks, what)


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
