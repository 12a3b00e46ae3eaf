"""Alembic."""

from __future__ import annotations

from typing import TYPE_CHECKING

from anaxis.formats.format import Format, Reader, Writer

if TYPE_CHECKING:
    from anaxis.core.motion.reduce import KeyRule
    from anaxis.core.space.axes import Convention


class _Alembic(Format):
    def reader(self) -> Reader:
        from anaxis.formats.alembic.read import read_alembic

        return read_alembic

    def writer(self) -> Writer:
        from anaxis.formats.alembic.write import write_alembic

        return write_alembic

    def key_rule(self, receiver: Convention) -> KeyRule:
        from anaxis.formats.alembic.write import key_rule

        return key_rule(receiver)


FORMAT = _Alembic(
    "alembic", "Alembic", ("abc", "alembic"), (".abc",), several=True, clips_m=(0.1, 100_000.0), calibrates=True
)
