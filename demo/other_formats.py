"""Writes a demo shot in every other open format that is read: ``python demo/other_formats.py FOLDER``.

Each writer uses its format's own library (or plain text) and its own transform elements, so that what
a reader makes of it can be held against the shot itself.
"""

from __future__ import annotations

import json
import struct
import sys
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any
from xml.sax.saxutils import quoteattr

import imath
import numpy as np
from alembic3d import Abc, AbcCoreAbstract, AbcGeom

from make_scenes import SHOTS, Shot, Writer
from set_pieces import LANDMARKS, pieces

POINTER = "KHR_animation_pointer"


def world_of(shot: Shot) -> np.ndarray:
    """The camera's canonical world matrices, (n, 4, 4): what every reader must come to."""
    out = np.broadcast_to(np.eye(4), (len(shot.frames), 4, 4))
    for _, local in shot.rig:
        out = out @ local
    return out


def _all(values: np.ndarray, n: int) -> np.ndarray:
    return np.broadcast_to(values, (n, *values.shape[1:]))


# Alembic: Y up, centimetres, neither of which it can say


def write_alembic(shot: Shot, path: Path) -> None:
    """Xforms of one matrix op each; the camera's lens in mm and cm, its clip planes in file units."""
    n = len(shot.frames)
    archive = Abc.OArchive(str(path))
    times = AbcCoreAbstract.TimeSampling(1.0 / shot.rate, float(shot.frames[0]) / shot.rate)
    sampling = archive.addTimeSampling(times)
    parent = archive.getTop()
    for name, local in shot.rig:
        xform = AbcGeom.OXform(parent, name)
        xform.getSchema().setTimeSampling(sampling)
        scaled = local.copy()
        scaled[:, :3, 3] *= 100.0
        for m in _all(scaled, n) if len(local) > 1 else scaled:
            sample = AbcGeom.XformSample()
            sample.setMatrix(imath.M44d(*m.T.reshape(-1).tolist()))
            xform.getSchema().set(sample)
        parent = xform
    camera = AbcGeom.OCamera(parent, "lens")
    camera.getSchema().setTimeSampling(sampling)
    for i in range(n):
        sample = AbcGeom.CameraSample()
        sample.setFocalLength(float(_all(shot.focal_mm, n)[i]))
        sample.setHorizontalAperture(shot.film_mm[0] / 10)
        sample.setVerticalAperture(shot.film_mm[1] / 10)
        sample.setHorizontalFilmOffset(shot.offset_mm[0] / 10)
        sample.setVerticalFilmOffset(shot.offset_mm[1] / 10)
        sample.setLensSqueezeRatio(shot.squeeze)
        sample.setFocusDistance(float(shot.focus_m[i]) * 100)
        sample.setNearClippingPlane(10.0)
        sample.setFarClippingPlane(50000.0)
        camera.getSchema().set(sample)
    top = archive.getTop()
    for name, at in LANDMARKS.items():
        sample = AbcGeom.XformSample()
        sample.setTranslation(imath.V3d(*(v * 100 for v in at)))
        AbcGeom.OXform(top, name).getSchema().set(sample)
    for piece in pieces():
        if piece.faces:
            mesh = AbcGeom.OPolyMesh(AbcGeom.OXform(top, f"{piece.name}_at"), piece.name)
            points = imath.V3fArray(len(piece.points))
            for i, p in enumerate(piece.points):
                points[i] = imath.V3f(*(float(v) * 100 for v in p))
            corners = [c for face in piece.faces for c in face]
            index, counts = imath.IntArray(len(corners)), imath.IntArray(len(piece.faces))
            for i, c in enumerate(corners):
                index[i] = c
            for i, face in enumerate(piece.faces):
                counts[i] = len(face)
            mesh.getSchema().set(AbcGeom.OPolyMeshSchemaSample(points, index, counts))


# glTF: Y up, metres


class _Gltf:
    def __init__(self) -> None:
        self.data = bytearray()
        self.views: list[dict[str, Any]] = []
        self.accessors: list[dict[str, Any]] = []

    def add(self, array: np.ndarray, component: int = 5126) -> int:
        kind = {5126: "<f4", 5125: "<u4"}[component]
        values = np.ascontiguousarray(array, dtype=kind)
        width = 1 if values.ndim == 1 else values.shape[1]
        flat = values.reshape(len(values), -1)
        self.views.append({"buffer": 0, "byteOffset": len(self.data), "byteLength": values.nbytes})
        self.data += values.tobytes()
        self.accessors.append(
            {
                "bufferView": len(self.views) - 1,
                "componentType": component,
                "count": len(values),
                "type": {1: "SCALAR", 3: "VEC3", 4: "VEC4"}[width],
                "min": flat.min(axis=0).tolist(),
                "max": flat.max(axis=0).tolist(),
            }
        )
        return len(self.accessors) - 1


def write_gltf(shot: Shot, path: Path) -> None:
    """Translation and rotation samplers, LINEAR; an animated lens by the pointer extension. ``.glb`` or ``.gltf``."""
    from scipy.spatial.transform import Rotation

    n, out = len(shot.frames), _Gltf()
    times = out.add(shot.frames / shot.rate)
    nodes: list[dict[str, Any]] = []
    channels: list[dict[str, Any]] = []
    samplers: list[dict[str, Any]] = []

    def animate(target: dict[str, Any], values: np.ndarray) -> None:
        samplers.append({"input": times, "output": out.add(values), "interpolation": "LINEAR"})
        channels.append({"sampler": len(samplers) - 1, "target": target})

    for i, (name, local) in enumerate(shot.rig):
        turn = Rotation.from_matrix(local[:, :3, :3]).as_quat()
        flips = np.cumprod(np.where(np.sum(turn[1:] * turn[:-1], axis=1) < 0, -1, 1))
        turn[1:] *= flips[:, None]
        node: dict[str, Any] = {"name": name}
        if len(local) > 1:
            animate({"node": i, "path": "translation"}, local[:, :3, 3])
            animate({"node": i, "path": "rotation"}, turn)
        else:
            node |= {"translation": local[0, :3, 3].tolist(), "rotation": turn[0].tolist()}
        if i + 1 < len(shot.rig):
            node["children"] = [i + 1]
        nodes.append(node)
    nodes[-1]["camera"] = 0
    aspect = shot.resolution[0] / shot.resolution[1]
    width = shot.film_mm[0] * shot.squeeze
    yfov = 2 * np.arctan(width / aspect / 2 / _all(shot.focal_mm, n))
    if len(shot.focal_mm) > 1:
        animate({"path": "pointer", "extensions": {POINTER: {"pointer": "/cameras/0/perspective/yfov"}}}, yfov)
    roots = [0]
    for name, at in LANDMARKS.items():
        roots.append(len(nodes))
        nodes.append({"name": name, "translation": list(at)})
    meshes = []
    for piece in pieces():
        if piece.faces:
            triangles = [(f[0], f[k], f[k + 1]) for f in piece.faces for k in range(1, len(f) - 1)]
            position, index = out.add(piece.points), out.add(np.array(triangles).reshape(-1), 5125)
            meshes.append({"primitives": [{"attributes": {"POSITION": position}, "indices": index}]})
            roots.append(len(nodes))
            nodes.append({"name": piece.name, "mesh": len(meshes) - 1})
    document = {
        "asset": {"version": "2.0", "generator": "Anaxis demo"},
        "scene": 0, "scenes": [{"nodes": roots}], "nodes": nodes, "meshes": meshes,
        "cameras": [{"type": "perspective", "perspective": {"yfov": float(yfov[0]), "aspectRatio": aspect, "znear": 0.1, "zfar": 500.0}}],
        "animations": [{"channels": channels, "samplers": samplers}],
        "bufferViews": out.views, "accessors": out.accessors, "buffers": [{"byteLength": len(out.data)}],
        **({"extensionsUsed": [POINTER]} if len(shot.focal_mm) > 1 else {}),
    }  # fmt: skip
    if path.suffix == ".gltf":
        document["buffers"][0]["uri"] = path.with_suffix(".bin").name  # type: ignore[index]
        path.with_suffix(".bin").write_bytes(bytes(out.data))
        path.write_text(json.dumps(document))
        return
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    body = bytes(out.data) + b"\0" * (-len(out.data) % 4)
    head = struct.pack("<4sII", b"glTF", 2, 12 + 8 + len(text) + 8 + len(body))
    chunks = struct.pack("<I4s", len(text), b"JSON") + text + struct.pack("<I4s", len(body), b"BIN\0") + body
    path.write_bytes(head + chunks)


# COLLADA: Z up, centimetres


def write_collada(shot: Shot, path: Path) -> None:
    """Parents as animated matrices, the camera as translate and rotate elements animated by component."""
    from make_scenes import Z_UP

    n = len(shot.frames)
    turn4 = np.eye(4)
    turn4[:3, :3] = Z_UP
    sources: list[str] = []
    opened, closed = "", ""
    for i, (name, local) in enumerate(shot.rig):
        # Every level in the file's own axes; the camera's own axes stay, and its last turn takes them there.
        matrix = turn4 @ local @ (turn4.T if i + 1 < len(shot.rig) else np.eye(4))
        matrix[:, :3, 3] *= 100.0
        matrix = _all(matrix, n)
        if i + 1 < len(shot.rig):
            element = f'<matrix sid="m">{_words(matrix[0].reshape(-1))}</matrix>'
            if len(local) > 1:
                sources.append(_animation(f"{name}/m", shot, matrix.reshape(n, 16), ["TRANSFORM"]))
        else:
            element = _camera_elements(name, shot, matrix, sources)
        camera = '<instance_camera url="#lens"/>' if i + 1 == len(shot.rig) else ""
        opened += f"<node id={quoteattr(name)} name={quoteattr(name)}>{element}{camera}"
        closed = "</node>" + closed
    aspect = shot.resolution[0] / shot.resolution[1]
    xfov = 2 * np.degrees(np.arctan(shot.film_mm[0] * shot.squeeze / 2 / _all(shot.focal_mm, n)))
    if len(shot.focal_mm) > 1:
        sources.append(_animation("lens/xfov", shot, xfov[:, None], ["XFOV"]))
    geometry, marks = "", ""
    for name, at in LANDMARKS.items():
        marks += (
            f"<node id={quoteattr(name)} name={quoteattr(name)}><translate>{_words(Z_UP @ at * 100)}</translate></node>"
        )
    for piece in pieces():
        if piece.faces:
            points = piece.points @ Z_UP.T * 100
            p = " ".join(str(c) for f in piece.faces for c in f)
            xyz = "".join(f'<param name="{a}" type="float"/>' for a in "XYZ")
            geometry += (
                f'<geometry id="{piece.name}_g"><mesh><source id="{piece.name}_p"><float_array id="{piece.name}_a" count="{points.size}">'
                f'{_words(points.reshape(-1))}</float_array><technique_common><accessor source="#{piece.name}_a" count="{len(points)}" stride="3">{xyz}</accessor>'
                f'</technique_common></source><vertices id="{piece.name}_v"><input semantic="POSITION" source="#{piece.name}_p"/></vertices>'
                f'<polylist count="{len(piece.faces)}"><input semantic="VERTEX" source="#{piece.name}_v" offset="0"/>'
                f"<vcount>{' '.join(str(len(f)) for f in piece.faces)}</vcount><p>{p}</p></polylist></mesh></geometry>"
            )
            marks += f'<node id="{piece.name}" name="{piece.name}"><instance_geometry url="#{piece.name}_g"/></node>'
    path.write_text(
        '<?xml version="1.0" encoding="utf-8"?>\n<COLLADA xmlns="http://www.collada.org/2005/11/COLLADASchema" version="1.4.1">'
        '<asset><created>2026-01-01T00:00:00</created><modified>2026-01-01T00:00:00</modified><unit name="centimeter" meter="0.01"/>'
        "<up_axis>Z_UP</up_axis></asset>"
        f'<library_cameras><camera id="lens"><optics><technique_common><perspective><xfov sid="xfov">{xfov[0]:.17g}</xfov>'
        f"<aspect_ratio>{aspect:.17g}</aspect_ratio><znear>10</znear><zfar>50000</zfar></perspective></technique_common></optics>"
        f"</camera></library_cameras><library_geometries>{geometry}</library_geometries>"
        f"<library_animations>{''.join(sources)}</library_animations>"
        f'<library_visual_scenes><visual_scene id="scene">{opened}{closed}{marks}</visual_scene></library_visual_scenes>'
        '<scene><instance_visual_scene url="#scene"/></scene></COLLADA>\n'
    )


def _camera_elements(name: str, shot: Shot, matrix: np.ndarray, sources: list[str]) -> str:
    """A translate and three rotates, each animated by its own component, with the turn into Z up last."""
    r = matrix[:, :3, :3]
    angles = np.degrees(np.unwrap(np.stack([
        np.arctan2(r[:, 2, 1], r[:, 2, 2]), np.arcsin(np.clip(-r[:, 2, 0], -1, 1)), np.arctan2(r[:, 1, 0], r[:, 0, 0]),
    ], axis=1), axis=0))  # fmt: skip
    for i, axis in enumerate("XYZ"):
        sources.append(_animation(f"{name}/place.{axis}", shot, matrix[:, i, 3:4], [axis]))
        sources.append(_animation(f"{name}/turn{axis}.ANGLE", shot, angles[:, i : i + 1], ["ANGLE"]))
    turns = "".join(
        f'<rotate sid="turn{a}">{v} {_words(angles[:1, i])}</rotate>'
        for i, a, v in ((2, "Z", "0 0 1"), (1, "Y", "0 1 0"), (0, "X", "1 0 0"))
    )
    return f'<translate sid="place">{_words(matrix[0, :3, 3])}</translate>{turns}'


def _words(values: np.ndarray) -> str:
    return " ".join(f"{v:.17g}" for v in np.asarray(values).reshape(-1).tolist())


def _animation(target: str, shot: Shot, values: np.ndarray, params: list[str]) -> str:
    key = target.replace("/", "_").replace(".", "_")
    n, width = values.shape
    names = "".join(f'<param name="{p}" type="{"float4x4" if width == 16 else "float"}"/>' for p in params)
    return (
        f'<animation id="{key}"><source id="{key}_i"><float_array id="{key}_ia" count="{n}">{_words(shot.frames / shot.rate)}</float_array>'
        f'<technique_common><accessor source="#{key}_ia" count="{n}" stride="1"><param name="TIME" type="float"/></accessor></technique_common></source>'
        f'<source id="{key}_o"><float_array id="{key}_oa" count="{values.size}">{_words(values)}</float_array><technique_common>'
        f'<accessor source="#{key}_oa" count="{n}" stride="{width}">{names}</accessor></technique_common></source>'
        f'<source id="{key}_k"><Name_array id="{key}_ka" count="{n}">{" ".join(["LINEAR"] * n)}</Name_array><technique_common>'
        f'<accessor source="#{key}_ka" count="{n}" stride="1"><param name="INTERPOLATION" type="Name"/></accessor></technique_common></source>'
        f'<sampler id="{key}_s"><input semantic="INPUT" source="#{key}_i"/><input semantic="OUTPUT" source="#{key}_o"/>'
        f'<input semantic="INTERPOLATION" source="#{key}_k"/></sampler><channel source="#{key}_s" target="{target}"/></animation>'
    )


# Column text, OBJ, a bundle


def write_columns(shot: Shot, path: Path) -> None:
    """A bare table, no headings: frame, place in centimetres, three angles (X first), focal length."""
    world, n = world_of(shot), len(shot.frames)
    r = world[:, :3, :3]
    angles = np.degrees(np.unwrap(np.stack([
        np.arctan2(r[:, 2, 1], r[:, 2, 2]), np.arcsin(np.clip(-r[:, 2, 0], -1, 1)), np.arctan2(r[:, 1, 0], r[:, 0, 0]),
    ], axis=1), axis=0))  # fmt: skip
    table = np.column_stack([shot.frames, world[:, :3, 3] * 100, angles, _all(shot.focal_mm, n)])
    lines = [f"{row[0]:.0f} " + " ".join(f"{v:.9f}" for v in row[1:]) for row in table.tolist()]
    path.write_text("\n".join(lines) + "\n")


def write_obj(shot: Shot, path: Path) -> None:
    """The set alone, in metres, with the tide bell as a point."""
    lines, count = ["# the set of The Tidewright, in metres"], 0
    for piece in pieces():
        lines.append(f"o {piece.name}")
        lines += [f"v {p[0]:.9g} {p[1]:.9g} {p[2]:.9g}" for p in piece.points.tolist()]
        runs = piece.faces or [list(range(len(piece.points)))]
        lines += [f"{'f' if piece.faces else 'l'} " + " ".join(str(c + 1 + count) for c in run) for run in runs]
        count += len(piece.points)
    bell = LANDMARKS["tide_bell"]
    lines += ["o tide_bell", f"v {bell[0]} {bell[1]} {bell[2]}", "p -1"]
    path.write_text("\n".join(lines) + "\n")


def write_bundle(shot: Shot, path: Path) -> None:
    """A zip of a layer that refers to another for its rig."""
    rig = path.with_name(f"{path.stem}_rig.usda")
    rig.unlink(missing_ok=True)
    Writer(shot, rig).write()
    layer = (
        '#usda 1.0\n(\n defaultPrim = "shot"\n'
        f' metersPerUnit = {shot.metres_per_unit}\n upAxis = "{"Z" if shot.z_up else "Y"}"\n timeCodesPerSecond = {shot.rate}\n)\n'
        f'def Xform "shot" (references = @./parts/{rig.name}@) {{}}\n'
    )
    with zipfile.ZipFile(path, "w") as out:
        out.writestr("shot/shot.usda", layer)
        out.write(rig, f"shot/parts/{rig.name}")
    rig.unlink()


WRITERS: dict[str, Callable[[Shot, Path], None]] = {
    ".abc": write_alembic,
    ".glb": write_gltf,
    ".gltf": write_gltf,
    ".dae": write_collada,
    ".txt": write_columns,
    ".obj": write_obj,
    ".zip": write_bundle,
}


def write_in_every_format(folder: Path, number: int = 1) -> dict[str, Path]:
    """One demo shot (by its place in SHOTS) in every format, by suffix."""
    folder.mkdir(parents=True, exist_ok=True)
    shot = SHOTS[number]()
    out = {}
    for suffix, write in WRITERS.items():
        out[suffix] = folder / f"{shot.name}_camera_v001{suffix}"
        write(shot, out[suffix])
    return out


if __name__ == "__main__":
    for written in write_in_every_format(Path(sys.argv[1] if len(sys.argv) > 1 else "demo/files")).values():
        print(written)
