"""Column text: a camera as a table."""

from __future__ import annotations

from typing import TYPE_CHECKING

from anaxis.formats.format import Format, Reader, Writer

if TYPE_CHECKING:
    from anaxis.core.motion.reduce import KeyRule
    from anaxis.core.space.axes import Convention


class _Columns(Format):
    def reader(self) -> Reader:
        from anaxis.formats.tables.read import read_columns

        return read_columns

    def writer(self) -> Writer:
        from anaxis.formats.tables.write import write_columns

        return write_columns

    def key_rule(self, receiver: Convention) -> KeyRule:
        from anaxis.formats.tables.write import key_rule

        return key_rule(receiver)


FORMAT = _Columns(
    "columns", "Column text", ("columns",), (".csv", ".tsv", ".txt"), sets=False, has_layouts=True, calibrates=True
)
