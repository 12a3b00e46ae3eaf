"""Whether whoever opened a connection still may: asked in the transaction of each thing that is done over it."""

from __future__ import annotations

import time
from collections.abc import Callable

from sqlalchemy import select

from anaxis.app.acting import require
from anaxis.app.context import Context
from anaxis.app.roles import Actor, Role
from anaxis.store.people import Rights

# The event that every server is told when anybody's rights have changed (migration 0018).
RIGHTS = "rights"
# A token also ends by itself, at its time: asked again so often.
_ASKED_EVERY_S = 5.0


class Standing:
    """Who acts over a connection. ``find`` says who it is, and raises BadInput where it is nobody any more.

    The rights are read again when the number of changes of rights has risen, and every few seconds; the number is read in the
    same transaction as what is done, so that nothing is done by a right that had ended when it began.
    """

    def __init__(self, find: Callable[[Context], Actor], needs: Role, show: int, what: str) -> None:
        self._find, self._needs, self._show, self._what = find, needs, show, what
        self._known: tuple[int, float, Actor] | None = None

    def __call__(self, session: Context) -> Actor:
        """Raises NotSignedIn, NotAllowed."""
        revision = session.execute(select(Rights.revision)).scalar_one()
        known = self._known
        if known is not None and known[0] == revision and time.monotonic() - known[1] < _ASKED_EVERY_S:
            return known[2]
        actor = self._find(session)
        session.act_as(actor)
        require(session, self._needs, self._show, self._what)
        self._known = (revision, time.monotonic(), actor)
        return actor
