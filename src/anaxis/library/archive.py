"""A scene or a track as bytes: float64 arrays behind a JSON header, compressed.

Used between the parsing process and the server, and in the database. It holds data only (no
pickles), so a broken parser cannot make the reader run anything.
"""

from __future__ import annotations

import io
import json
import zipfile
import zlib
from collections.abc import Iterator, Mapping
from dataclasses import fields
from typing import Any

import numpy as np

from anaxis.core.camera.distortion.distortion import Distortion, distortion_from_document
from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Lens, Track
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.mesh import Mesh, Spread
from anaxis.core.scene.nodes import Node, Scene
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import kept_rate, rate_text
from anaxis.core.typing import Floats, Ints

_MAGIC = b"anaxis2\n"
_MAX_BODY_BYTES = 1_000_000_000
_NODE_ARRAYS = ("frames", "local", "keys", "lens_frames", "lens_keys")
# What not every node has.
_NODE_MORE = ("segments", "triangles", "size", "marked")
_MESH_ARRAYS = ("points", "counts", "corners", "frames")
_SPREADS, _SPREAD_AT = ("normals", "texture"), ("points", "corners")
_NODE_FLAGS = ("hidden", "only_drawn", "invisible", "guide")
_PLAIN_FIELDS = ("lens_in_units", "in_seconds", "stated_rate", "columns")
_LENS_FIELDS = tuple(f.name for f in fields(Lens))


def pack(header: dict[str, Any], arrays: Mapping[str, Floats]) -> bytes:
    """A header and named arrays: one compressed block, since a scene has hundreds of small arrays."""
    held = {k: np.ascontiguousarray(a, dtype="<f8") for k, a in arrays.items()}
    text = json.dumps({"header": header, "shapes": {k: a.shape for k, a in held.items()}}).encode()
    body = len(text).to_bytes(8, "little") + text + b"".join(a.tobytes() for a in held.values())
    return _MAGIC + zlib.compress(body, 1)


def unpack(data: bytes) -> tuple[dict[str, Any], dict[str, Floats]]:
    """The inverse of :func:`pack`; raises BadInput for bytes that are no such archive."""
    try:
        if not data.startswith(_MAGIC):
            return _unpack_npz(data)
        body = _inflated(data[len(_MAGIC) :])
        size = int.from_bytes(body[:8], "little")
        outline = json.loads(body[8 : 8 + size])
        arrays, at = {}, 8 + size
        for name, shape in outline["shapes"].items():
            count = int(np.prod(shape, dtype=np.int64))
            arrays[name] = np.frombuffer(body, "<f8", count, at).reshape(shape).astype(np.float64)
            at += count * 8
        return outline["header"], arrays
    except BadInput:  # what is said already is said better
        raise
    except (ValueError, KeyError, TypeError, OSError, EOFError, zipfile.BadZipFile, zlib.error) as error:
        raise BadInput("A stored track is damaged: restore it from a backup, or take in the file again.") from error


def _inflated(data: bytes) -> bytes:
    """The block as it was before it was compressed; what a parser sends is not trusted to be of any size."""
    stream = zlib.decompressobj()
    body = stream.decompress(data, _MAX_BODY_BYTES)
    if stream.unconsumed_tail or not stream.eof:
        raise BadInput(
            f"The contents of the file need more than {_MAX_BODY_BYTES / 1e9:g} GB: export only the camera and its set."
        )
    return body


def _unpack_npz(data: bytes) -> tuple[dict[str, Any], dict[str, Floats]]:
    """As versions were kept before."""
    with np.load(io.BytesIO(data), allow_pickle=False) as archive:
        arrays = {k: archive[k] for k in archive.files}
    header: dict[str, Any] = json.loads(arrays.pop("header").tobytes())
    return header, arrays


def scene_to_bytes(scene: Scene) -> bytes:
    arrays: dict[str, Floats] = {"world": scene.convention.world, "camera": scene.convention.camera}
    nodes = []
    for i, node in enumerate(scene.nodes):
        for name in _NODE_ARRAYS:
            value = getattr(node, name)
            if len(value):
                arrays[f"{i}.{name}"] = value
        for name in _NODE_MORE:
            value = getattr(node, name)
            if value is not None:
                arrays[f"{i}.{name}"] = value
        if node.mesh is not None:
            arrays |= {f"{i}.mesh.{k}": getattr(node.mesh, k) for k in _MESH_ARRAYS}
            arrays |= {f"{i}.mesh.{k}": spread.values for k, spread in _spreads(node.mesh)}
        if node.lens is not None:
            arrays[f"{i}.lens"] = np.stack([getattr(node.lens, f) for f in _LENS_FIELDS])
        nodes.append(
            {
                "path": node.path,
                "parent": node.parent,
                "kind": node.kind,
                "resets": node.resets,
                "stepped": [node.stepped, node.lens_stepped],
                **{k: True for k in _NODE_FLAGS if getattr(node, k)},
                **({"distortion": node.distortion.document()} if node.distortion is not None else {}),
            }
        )
    image = scene.image
    header = {
        "name": scene.name,
        "format": scene.format,
        "metres_per_unit": scene.convention.metres_per_unit,
        "order": scene.convention.order,
        "signs": scene.convention.signs,
        "rate": rate_text(scene.rate),
        "range": [scene.first_frame, scene.last_frame],
        "nodes": nodes,
        "image": [image.width_px, image.height_px, image.pixel_aspect] if image else None,
        "source_fit": scene.source_fit,
        **{k: getattr(scene, k) for k in _PLAIN_FIELDS},
        "guesses": scene.guesses,
        "findings": [f.as_dict() for f in scene.findings],
    }
    return pack(header, arrays)


def scene_from_bytes(data: bytes) -> Scene:
    header, arrays = unpack(data)
    nodes = [_node(entry, i, arrays) for i, entry in enumerate(header["nodes"])]
    return Scene(
        name=header["name"],
        format=header["format"],
        convention=Convention(
            arrays["world"], arrays["camera"], header["metres_per_unit"], header["order"], tuple(header["signs"])
        ),
        rate=kept_rate(header["rate"]),
        first_frame=header["range"][0],
        last_frame=header["range"][1],
        nodes=tuple(nodes),
        image=Image(*header["image"]) if header["image"] else None,
        source_fit=header["source_fit"],
        **{k: header[k] for k in _PLAIN_FIELDS if k in header},
        guesses=header["guesses"],
        findings=tuple(Finding(**f) for f in header["findings"]),
    )


def _node(entry: dict[str, Any], at: int, arrays: Mapping[str, Floats]) -> Node:
    lens, marked = (arrays.get(f"{at}.{k}") for k in ("lens", "marked"))
    named: dict[str, Any] = {k: arrays.get(f"{at}.{k}", np.zeros(0)) for k in _NODE_ARRAYS}
    named |= {k: arrays.get(f"{at}.{k}") for k in ("segments", "triangles", "size")}
    named |= {k: bool(entry.get(k)) for k in _NODE_FLAGS}
    return Node(
        entry["path"],
        entry["parent"],
        entry["kind"],
        resets=entry["resets"],
        stepped=entry.get("stepped", [False, False])[0],
        lens_stepped=entry.get("stepped", [False, False])[1],
        lens=None if lens is None else Lens(**dict(zip(_LENS_FIELDS, lens, strict=True))),
        distortion=_distortion(entry),
        marked=None if marked is None else marked.astype(np.int64),
        mesh=_mesh(at, arrays),
        **named,
    )


def _mesh(at: int, arrays: Mapping[str, Floats]) -> Mesh | None:
    points, counts, corners, frames = (arrays.get(f"{at}.mesh.{k}") for k in _MESH_ARRAYS)
    if points is None or counts is None or corners is None or frames is None:
        return None
    mesh = Mesh(points, counts.astype(np.int64), corners.astype(np.int64), frames)
    return mesh.with_surface(*(_spread(arrays, f"{at}.mesh.{k}") for k in _SPREADS))


def _spreads(mesh: Mesh) -> Iterator[tuple[str, Spread]]:
    """A mesh's normals and texture coordinates, by what their array is called."""
    for name in _SPREADS:
        spread: Spread | None = getattr(mesh, name)
        if spread is not None:
            yield f"{name}.{_SPREAD_AT[spread.by_corner]}", spread


def _spread(arrays: Mapping[str, Floats], name: str) -> Spread | None:
    for by_corner, where in enumerate(_SPREAD_AT):
        values = arrays.get(f"{name}.{where}")
        if values is not None:
            return Spread(values, bool(by_corner))
    return None


def track_to_bytes(track: Track, landmarks: Landmarks, segments_m: Floats) -> bytes:
    """A version as it is kept: the baked track, its landmarks and the set's lines."""
    arrays = {
        "frames": track.frames,
        "position_m": track.position_m,
        "rotation": track.rotation,
        "lens": np.stack([getattr(track.lens, f) for f in _LENS_FIELDS]),
        "landmarks_m": landmarks.position_m,
        "sizes_m": landmarks.size_m,
        "segments_m": segments_m,
    }
    header = {
        "name": track.name,
        "rate": rate_text(track.rate),
        "landmarks": landmarks.names,
        "hidden": sorted(landmarks.hidden),
        "marked": None
        if track.marked is None
        else {int(i): int(track.marked[i]) for i in np.flatnonzero(track.marked)},
        **({"distortion": track.distortion.document()} if track.distortion is not None else {}),
    }
    return pack(header, arrays)


def _distortion(kept: dict[str, Any]) -> Distortion | None:
    return distortion_from_document(kept["distortion"]) if "distortion" in kept else None


def _marked(kept: dict[str, int] | None, count: int) -> Ints | None:
    if kept is None:
        return None
    out = np.zeros(count, dtype=np.int64)
    out[[int(k) for k in kept]] = list(kept.values())
    return out


def track_from_bytes(data: bytes) -> tuple[Track, Landmarks, Floats]:
    header, a = unpack(data)
    lens = Lens(**dict(zip(_LENS_FIELDS, a["lens"], strict=True)))
    track = Track(
        header["name"],
        a["frames"],
        kept_rate(header["rate"]),
        a["position_m"],
        a["rotation"],
        lens,
        _marked(header.get("marked"), len(a["frames"])),
        _distortion(header),
    )
    names = tuple(header["landmarks"])
    sizes = a.get("sizes_m", np.zeros((len(names), 3)))
    marks = Landmarks(names, a["landmarks_m"], sizes, frozenset(header.get("hidden", ())))
    return track, marks, a["segments_m"]
