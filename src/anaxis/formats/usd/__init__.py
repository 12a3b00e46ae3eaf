"""OpenUSD: text, binary and packages."""

from __future__ import annotations

from typing import TYPE_CHECKING

from anaxis.formats.format import Format, Reader, Writer

if TYPE_CHECKING:
    from anaxis.core.motion.reduce import KeyRule
    from anaxis.core.space.axes import Convention


class _Usd(Format):
    def reader(self) -> Reader:
        from anaxis.formats.usd.read import read_usd

        return read_usd

    def writer(self) -> Writer:
        from anaxis.formats.usd.write import write_usd

        return write_usd

    def key_rule(self, receiver: Convention) -> KeyRule:
        from anaxis.formats.usd.write import key_rule

        return key_rule(receiver)


FORMAT = _Usd("usd", "OpenUSD", ("usd",), (".usd", ".usda", ".usdc", ".usdz"), several=True, calibrates=True)
