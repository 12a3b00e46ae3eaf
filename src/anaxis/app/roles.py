"""Roles: what somebody may do, everywhere or in a show. Each role may do what those below it may."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import IntEnum


class Role(IntEnum):
    """A viewer looks; an artist takes in, edits and delivers; a lead sees to packages, plans and archive; an administrator
    to people and settings."""

    NOBODY = 0
    VIEWER = 1
    ARTIST = 2
    LEAD = 3
    ADMINISTRATOR = 4

    @property
    def called(self) -> str:
        return self.name.lower()

    @property
    def article(self) -> str:
        return f"{'an' if self.name[0] in 'AEIOU' else 'a'} {self.called}"


GIVEN = (Role.VIEWER, Role.ARTIST, Role.LEAD)  # in a show; an administrator is one everywhere


@dataclass(frozen=True)
class Actor:
    """Somebody who does things here: a role everywhere, another in some shows (by number), neither above ``most``, which is
    what the token says that they act by."""

    name: str
    everywhere: Role = Role.NOBODY
    in_shows: Mapping[int, Role] = field(default_factory=dict)
    person: int | None = None
    most: Role = Role.ADMINISTRATOR

    @property
    def of_studio(self) -> Role:
        """The role in what is the whole studio's and of no show."""
        return min(self.most, self.everywhere)

    def role(self, show: int | None) -> Role:
        """In a show; of what is of no show the highest of all, since it is everybody's."""
        own = max(self.in_shows.values(), default=Role.NOBODY) if show is None else self.in_shows.get(show, Role.NOBODY)
        return min(self.most, max(self.everywhere, own))

    @property
    def shows(self) -> frozenset[int] | None:
        """The shows that may be seen; None for all."""
        return None if self.everywhere >= Role.VIEWER else frozenset(self.in_shows)


# Whoever has the database's address may do everything with it: commands, and work that was asked for by somebody who might.
LOCAL = Actor("local", Role.ADMINISTRATOR)
# Whoever is not signed in yet: has no role, sees no show.
VISITOR = Actor("visitor")
