"""Column text: a camera as a table."""

from __future__ import annotations

from anaxis.formats.format import Format, Reader, Writer


class _Columns(Format):
    def reader(self) -> Reader:
        from anaxis.formats.tables.read import read_columns

        return read_columns

    def writer(self) -> Writer:
        from anaxis.formats.tables.write import key_rule, write_columns

        return Writer(write_columns, key_rule)


FORMAT = _Columns(
    "columns", "Column text", ("columns",), (".csv", ".tsv", ".txt"), sets=False, has_layouts=True, calibrates=True
)
