"""glTF 2.0, text and binary."""

from __future__ import annotations

from typing import TYPE_CHECKING

from anaxis.formats.format import NEAR_WRITTEN_M, Format, Reader, Writer

if TYPE_CHECKING:
    from anaxis.core.motion.reduce import KeyRule
    from anaxis.core.space.axes import Convention


class _Gltf(Format):
    def reader(self) -> Reader:
        from anaxis.formats.gltf.read import read_gltf

        return read_gltf

    def writer(self) -> Writer:
        from anaxis.formats.gltf.write import write_gltf

        return write_gltf

    def key_rule(self, receiver: Convention) -> KeyRule:
        from anaxis.formats.gltf.write import key_rule

        return key_rule(receiver)


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
