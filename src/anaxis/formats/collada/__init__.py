"""COLLADA 1.4."""

from __future__ import annotations

from anaxis.formats.format import FAR_WRITTEN_M, NEAR_WRITTEN_M, Format, Reader, Writer


class _Collada(Format):
    def reader(self) -> Reader:
        from anaxis.formats.collada.read import read_collada

        return read_collada

    def writer(self) -> Writer:
        from anaxis.formats.collada.write import key_rule, write_collada

        return Writer(write_collada, key_rule)


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
