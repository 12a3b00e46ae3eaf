"""Alembic."""

from __future__ import annotations

from typing import TYPE_CHECKING

from anaxis.formats.format import Format, Reader, Writer

if TYPE_CHECKING:
    from anaxis.formats.set_piece import SetWriter


class _Alembic(Format):
    def reader(self) -> Reader:
        from anaxis.formats.alembic.read import read_alembic

        return read_alembic

    def writer(self) -> Writer:
        from anaxis.formats.alembic.write import key_rule, write_alembic

        return Writer(write_alembic, key_rule)

    def set_writer(self) -> SetWriter:
        from anaxis.formats.alembic.write_set import write_alembic_set

        return write_alembic_set


FORMAT = _Alembic(
    "alembic",
    "Alembic",
    ("abc", "alembic"),
    (".abc",),
    several=True,
    clips_m=(0.1, 100_000.0),
    calibrates=True,
    set_suffix=".abc",
    set_holds="deforming",
)
