"""glTF 2.0, text and binary."""

from __future__ import annotations

from anaxis.formats.format import NEAR_WRITTEN_M, Format, Reader, Writer


class _Gltf(Format):
    def reader(self) -> Reader:
        from anaxis.formats.gltf.read import read_gltf

        return read_gltf

    def writer(self) -> Writer:
        from anaxis.formats.gltf.write import key_rule, write_gltf

        return Writer(write_gltf, key_rule)


FORMAT = _Gltf(
    "gltf",
    "glTF 2.0",
    ("gltf",),
    (".gltf", ".glb"),
    several=True,
    film_back=False,
    in_seconds=True,
    single_precision=True,
    clips_m=(NEAR_WRITTEN_M, None),
)
