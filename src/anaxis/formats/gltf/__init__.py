"""glTF 2.0, text and binary."""

from __future__ import annotations

from typing import TYPE_CHECKING

from anaxis.formats.format import NEAR_WRITTEN_M, Format, Reader, Writer

if TYPE_CHECKING:
    from anaxis.formats.set_piece import SetWriter


class _Gltf(Format):
    def reader(self) -> Reader:
        from anaxis.formats.gltf.read import read_gltf

        return read_gltf

    def writer(self) -> Writer:
        from anaxis.formats.gltf.write import key_rule, write_gltf

        return Writer(write_gltf, key_rule)

    def set_writer(self) -> SetWriter:
        from anaxis.formats.gltf.write_set import write_gltf_set

        return write_gltf_set


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
    set_suffix=".glb",
    set_holds="moving",
)
