"""Opening a USD layer without opening anything else.

A stage opens whatever its layers refer to, anywhere on disk. So every arc that leaves the uploaded
file is removed of the layers in memory before a stage is made of them, and reported.
"""

from __future__ import annotations

import re
from pathlib import Path
from tempfile import TemporaryDirectory

from pxr import Sdf, Tf

from anaxis.core.errors import BadInput
from anaxis.formats.usd import LAYER_SUFFIXES
from anaxis.formats.zip_upload import STORED_TIMES, unpack

_LISTS = ("explicitItems", "addedItems", "prependedItems", "appendedItems", "deletedItems", "orderedItems")


class Opened:
    """A root layer with the layers it may use kept open, and what was cut off.

    With ``within``, layers in that folder may be referred to, and no others. ``outside`` lists the
    asset paths never opened, ``clips`` the prims whose value clips were left out. Close it (or leave its ``with`` block) to drop the layers and unpacked files.
    """

    def __init__(self, path: Path, within: Path | None = None) -> None:
        self.outside: list[str] = []
        self.clips: list[str] = []
        self._layers: list[Sdf.Layer] = []
        self._folder: TemporaryDirectory[str] | None = None
        try:
            if path.suffix.lower() == ".usdz":
                self._folder = TemporaryDirectory(prefix="anaxis-usdz-")
                inside = Path(self._folder.name).resolve()
                layers = unpack(path, inside, STORED_TIMES * path.stat().st_size + 1_000_000, LAYER_SUFFIXES)
                if not layers:
                    raise BadInput(f"{path.name} holds no USD layer: pack the camera layer first in it.")
                self.root = self._open(layers[0], inside)
            elif within is not None:
                self.root = self._open(path.resolve(), within.resolve())
            else:
                # Anonymous: nothing of this path stays in the process-wide layer registry.
                self.root = _parse(path, path.name, anonymous=True)
                self._cut(self.root, None, None)
        except BaseException:
            self.close()
            raise

    def __enter__(self) -> Opened:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        self._layers.clear()
        self.root = None
        if self._folder:
            self._folder.cleanup()

    def _open(self, path: Path, inside: Path) -> Sdf.Layer:
        layer = _parse(path, path.name, anonymous=False)
        if layer not in self._layers:
            self._layers.append(layer)
            self._cut(layer, path.parent, inside)
        return layer

    def _allowed(self, asset: str, folder: Path | None, inside: Path | None) -> bool:
        """Whether an asset path stays within the unpacked package; opens the layer if so."""
        if not asset:
            return True  # an arc within the same layer
        if folder is not None and inside is not None and "`" not in asset and "[" not in asset:
            target = (folder / asset).resolve()
            if target.is_relative_to(inside) and target.is_file():
                self._open(target, inside)
                return True
        if asset not in self.outside:
            self.outside.append(asset)
        return False

    def _cut(self, layer: Sdf.Layer, folder: Path | None, inside: Path | None) -> None:
        layer.subLayerPaths = [p for p in layer.subLayerPaths if self._allowed(p, folder, inside)]
        paths: list[Sdf.Path] = []
        layer.Traverse("/", paths.append)
        for path in paths:
            spec = layer.GetPrimAtPath(path) if path.IsPrimPath() or path.IsPrimVariantSelectionPath() else None
            if spec is None:
                continue
            for field in ("references", "payload"):
                if spec.HasInfo(field):
                    kept = self._kept(spec.GetInfo(field), folder, inside)
                    if kept is not None:
                        spec.SetInfo(field, kept)
            if spec.HasInfo("clips"):
                self.clips.append(str(path))
                spec.ClearInfo("clips")

    def _kept(self, op: object, folder: Path | None, inside: Path | None) -> object | None:
        """The same list operation without the arcs that lead outside; None where all may stay."""
        cut = False
        for name in _LISTS:
            items = list(getattr(op, name))
            kept = [i for i in items if self._allowed(i.assetPath, folder, inside)]
            if len(kept) != len(items):
                setattr(op, name, kept)
                cut = True
        return op if cut else None


def _parse(path: Path, name: str, anonymous: bool) -> Sdf.Layer:
    try:
        layer = Sdf.Layer.OpenAsAnonymous(str(path)) if anonymous else Sdf.Layer.FindOrOpen(str(path))
    except (Tf.ErrorException, RuntimeError) as error:
        raise BadInput(_unreadable(name, str(error))) from error
    if layer is None:
        raise BadInput(_unreadable(name, ""))
    return layer


def _unreadable(name: str, reason: str) -> str:
    where = re.search(r":(\d+):(\d+): ([^']*)", reason)
    detail = f" (line {where[1]}, column {where[2]})" if where else ""
    return (
        f"{name} cannot be read as USD{detail}: it is not a USD file or it breaks off; "
        "export it again and check that the whole file was copied."
    )
