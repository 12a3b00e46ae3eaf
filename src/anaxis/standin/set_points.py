"""The objects of a delivered set as each format's own library, or the standard's words, evaluate them: nothing of
:mod:`anaxis.formats` is shared."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import numpy as np

from anaxis.core.typing import Floats, Ints
from anaxis.standin.gltf import array_of, at_keys, channels_of, local_matrices

# By an object's name, the places of the points that are wanted, (k,).
Wanted = Mapping[str, Ints]
Points = dict[str, Floats]


def set_points(path: Path, frames: Floats, seconds: Floats, wanted: Wanted) -> Points:
    """Some points of the objects of a file in the file's world, by name: (n, k, 3) on ``frames`` (n,), which are at ``seconds`` in
    files that count these, or (1, k, 3) for an object that does not move. Objects that the file does not hold are left out."""
    return _READERS[path.suffix.lower()](path, frames, seconds, wanted)


def _usd(path: Path, frames: Floats, seconds: Floats, wanted: Wanted) -> Points:
    from pxr import Sdf, Usd, UsdGeom

    stage = Usd.Stage.Open(Sdf.Layer.OpenAsAnonymous(str(path)))  # from the disk, also while a writer holds the layer
    found: Points = {}
    cache = UsdGeom.XformCache()
    for prim in stage.Traverse():
        if not prim.IsA(UsdGeom.Mesh) or prim.GetName() not in wanted:
            continue
        attribute, at = UsdGeom.Mesh(prim).GetPointsAttr(), wanted[prim.GetName()]
        chain = [UsdGeom.Xformable(stage.GetPrimAtPath(p)) for p in prim.GetPath().GetPrefixes()]
        moves = attribute.GetNumTimeSamples() > 1 or any(x and x.GetTimeSamples() for x in chain)
        out = []
        for frame in frames.tolist() if moves else [frames[0]]:
            cache.SetTime(float(frame))
            world = np.array(cache.GetLocalToWorldTransform(prim))
            points = np.asarray(attribute.Get(float(frame)), dtype=np.float64)[at]
            out.append(points @ world[:3, :3] + world[3, :3])
        found[prim.GetName()] = np.stack(out)
    return found


def _alembic(path: Path, frames: Floats, seconds: Floats, wanted: Wanted) -> Points:
    from alembic3d import Abc, AbcGeom

    near = Abc.ISampleSelector.TimeIndexType.kNearIndex
    found: Points = {}
    archive = Abc.IArchive(str(path))

    def walk(entry: Any, chain: list[Any]) -> None:
        here = [*chain, AbcGeom.IXform(entry.getParent(), entry.getName()).getSchema()] if AbcGeom.IXform.matches(entry.getMetaData()) else chain  # fmt: skip
        if AbcGeom.IPolyMesh.matches(entry.getMetaData()) and entry.getParent().getName() in wanted:
            schema = AbcGeom.IPolyMesh(entry.getParent(), entry.getName()).getSchema()
            name = entry.getParent().getName()
            moves = max(schema.getNumSamples(), *(x.getNumSamples() for x in chain)) > 1
            out = []
            for second in seconds.tolist() if moves else [0.0]:
                at = Abc.ISampleSelector(second, near)
                points = np.array(schema.getValue(at).getPositions(), dtype=np.float64)[wanted[name]]
                for x in reversed(chain):
                    matrix = np.array(x.getValue(at).getMatrix()).reshape(4, 4)
                    points = points @ matrix[:3, :3] + matrix[3, :3]
                out.append(points)
            found[name] = np.stack(out)
        for i in range(entry.getNumChildren()):
            walk(entry.getChild(i), here)

    for i in range(archive.getTop().getNumChildren()):
        walk(archive.getTop().getChild(i), [])
    return found


def _gltf(path: Path, frames: Floats, seconds: Floats, wanted: Wanted) -> Points:
    from pygltflib import GLTF2

    document = GLTF2().load(str(path))
    nodes, animated = document.nodes, channels_of(document)
    parents = {c: i for i, n in enumerate(nodes) for c in (n.children or [])}
    clocks = [t[:, 0] for t, *_ in animated.values()]
    exact = at_keys(seconds, np.unique(np.concatenate(clocks)), 1e-3) if clocks else seconds
    found: Points = {}
    for index, node in enumerate(nodes):
        if node.mesh is None or node.name not in wanted:
            continue
        attributes = document.meshes[node.mesh].primitives[0].attributes
        points = array_of(document, attributes.POSITION)[wanted[node.name]][None]
        chain = [index]
        while chain[-1] in parents:
            chain.append(parents[chain[-1]])
        moves = any(f"/nodes/{i}/{path}" in animated for i in chain for path in ("translation", "rotation", "scale"))
        for i in chain:
            matrix = local_matrices(nodes[i], i, animated, exact if moves else exact[:1])
            points = points @ np.swapaxes(matrix[:, :3, :3], 1, 2) + matrix[:, None, :3, 3]
        found[node.name] = points
    return found


def _obj(path: Path, frames: Floats, seconds: Floats, wanted: Wanted) -> Points:
    points: dict[str, list[list[float]]] = {}
    name = ""
    for line in path.read_text().splitlines():
        word, _, rest = line.partition(" ")
        if word == "o":
            name = rest
        elif word == "v":
            points.setdefault(name, []).append([float(v) for v in rest.split()])
    return {n: np.array(p)[None, wanted[n]] for n, p in points.items() if n in wanted}


_READERS: dict[str, Callable[[Path, Floats, Floats, Wanted], Points]] = {".usdc": _usd, ".abc": _alembic, ".glb": _gltf, ".obj": _obj}  # fmt: skip
