"""OpenUSD: text, binary and packages."""

from __future__ import annotations

from typing import TYPE_CHECKING

from anaxis.formats.format import Format, Reader, Writer

if TYPE_CHECKING:
    from anaxis.formats.set_piece import SetWriter


class _Usd(Format):
    def reader(self) -> Reader:
        from anaxis.formats.usd.read import read_usd

        return read_usd

    def writer(self) -> Writer:
        from anaxis.formats.usd.write import key_rule, write_usd

        return Writer(write_usd, key_rule)

    def set_writer(self) -> SetWriter:
        from anaxis.formats.usd.write_set import write_usd_set

        return write_usd_set


# Files that a layer may refer to.
LAYER_SUFFIXES = (".usda", ".usdc", ".usd")
FORMAT = _Usd(
    "usd",
    "OpenUSD",
    ("usd",),
    (".usd", ".usda", ".usdc", ".usdz"),
    several=True,
    calibrates=True,
    set_suffix=".usdc",
    set_holds="deforming",
)
