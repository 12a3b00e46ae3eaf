"""COLLADA 1.4."""

from __future__ import annotations

from typing import TYPE_CHECKING

from anaxis.formats.format import FAR_WRITTEN_M, NEAR_WRITTEN_M, Format, Reader, Writer

if TYPE_CHECKING:
    from anaxis.core.motion.reduce import KeyRule
    from anaxis.core.space.axes import Convention


class _Collada(Format):
    def reader(self) -> Reader:
        from anaxis.formats.collada.read import read_collada

        return read_collada

    def writer(self) -> Writer:
        from anaxis.formats.collada.write import write_collada

        return write_collada

    def key_rule(self, receiver: Convention) -> KeyRule:
        from anaxis.formats.collada.write import key_rule

        return key_rule(receiver)


FORMAT = _Collada(
    "collada",
    "COLLADA 1.4",
    ("dae", "collada"),
    (".dae",),
    several=True,
    film_back=False,
    in_seconds=True,
    clips_m=(NEAR_WRITTEN_M, FAR_WRITTEN_M),
    calibrates=True,
)
