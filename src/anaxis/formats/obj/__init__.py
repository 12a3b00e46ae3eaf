"""OBJ: surfaces, read as a set."""

from __future__ import annotations

from anaxis.formats.format import Format, Reader


class _Obj(Format):
    def reader(self) -> Reader:
        from anaxis.formats.obj.read import read_obj

        return read_obj


FORMAT = _Obj("obj", "OBJ", ("obj",), (".obj",), written=False, cameras=False)
