"""OpenUSD: text, binary and packages."""

from __future__ import annotations

from anaxis.formats.format import Format, Reader, Writer


class _Usd(Format):
    def reader(self) -> Reader:
        from anaxis.formats.usd.read import read_usd

        return read_usd

    def writer(self) -> Writer:
        from anaxis.formats.usd.write import key_rule, write_usd

        return Writer(write_usd, key_rule)


FORMAT = _Usd("usd", "OpenUSD", ("usd",), (".usd", ".usda", ".usdc", ".usdz"), several=True, calibrates=True)
