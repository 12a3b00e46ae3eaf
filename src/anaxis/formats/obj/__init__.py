"""OBJ: surfaces, read as a set."""

from __future__ import annotations

from typing import TYPE_CHECKING

from anaxis.formats.format import Format, Reader

if TYPE_CHECKING:
    from anaxis.formats.set_piece import SetWriter


class _Obj(Format):
    def reader(self) -> Reader:
        from anaxis.formats.obj.read import read_obj

        return read_obj

    def set_writer(self) -> SetWriter:
        from anaxis.formats.obj.write_set import write_obj_set

        return write_obj_set


FORMAT = _Obj("obj", "OBJ", ("obj",), (".obj",), written=False, cameras=False, set_suffix=".obj")
