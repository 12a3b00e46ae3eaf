"""Writing glTF 2.0: Y up, metres, single precision; one node with the camera, its motion in an animation.

Core glTF holds a field of view and an aspect, no film back and no offsets; those go into ``extras``. A lens
that moves is written by the animation-pointer extension, which most readers drop. Keys with slopes become
CUBICSPLINE samplers, whose tangents are slopes per second.
"""

from __future__ import annotations

import json
import struct
from pathlib import Path
from typing import Any

import numpy as np

from anaxis.core.axes import Convention
from anaxis.core.outgoing import Outgoing
from anaxis.core.reduce import KeyRule, continuous_quaternions
from anaxis.core.timing import plain_frame, rate_text
from anaxis.core.typing import Floats
from anaxis.formats.file_axes import is_still, seconds_from_zero

POINTER = "KHR_animation_pointer"


def key_rule(receiver: Convention) -> KeyRule:
    return KeyRule(Convention(), "bezier", "quaternions")


class _Buffer:
    """The one binary buffer, its views and accessors."""

    def __init__(self) -> None:
        self.data = bytearray()
        self.views: list[dict[str, Any]] = []
        self.accessors: list[dict[str, Any]] = []

    def add(self, array: Floats) -> int:
        values = np.ascontiguousarray(array, dtype="<f4")
        flat = values.reshape(len(values), -1)
        self.views.append({"buffer": 0, "byteOffset": len(self.data), "byteLength": values.nbytes})
        self.data += values.tobytes()
        kind = {1: "SCALAR", 3: "VEC3", 4: "VEC4"}[flat.shape[1]]
        self.accessors.append(
            {
                "bufferView": len(self.views) - 1, "componentType": 5126, "count": len(values), "type": kind,
                "min": flat.min(axis=0).astype(float).tolist(), "max": flat.max(axis=0).astype(float).tolist(),
            }
        )  # fmt: skip
        return len(self.accessors) - 1


def write_gltf(outgoing: Outgoing, folder: Path, stem: str) -> list[Path]:
    """Write ``stem.glb``. Raises BadInput for frames below 0."""
    track, image = outgoing.track, outgoing.image
    seconds = seconds_from_zero(outgoing, "glTF")
    buffer = _Buffer()
    samplers: list[dict[str, Any]] = []
    channels: list[dict[str, Any]] = []
    keys = outgoing.keys
    every = buffer.add(seconds[:, None])
    times = every if keys is None else buffer.add(seconds[keys.index][:, None])

    def animate(target: dict[str, Any], values: Floats, columns: list[int]) -> None:
        if keys is not None and columns:
            per_second = float(track.rate)
            parts = (keys.slope_in * per_second, keys.values, keys.slope_out * per_second)
            cubic = np.stack([p[:, columns] for p in parts], axis=1).reshape(-1, len(columns))
            samplers.append({"input": times, "output": buffer.add(cubic), "interpolation": "CUBICSPLINE"})
        else:
            # A field of view is no channel of the keys: it stays on every frame.
            samplers.append({"input": every, "output": buffer.add(values), "interpolation": "LINEAR"})
        channels.append({"sampler": len(samplers) - 1, "target": target})

    turn = continuous_quaternions(track.rotation)
    node: dict[str, Any] = {"name": track.name, "camera": 0}
    if len(track) > 1 and not (is_still(track.position_m) and is_still(turn)):
        animate({"node": 0, "path": "translation"}, track.position_m, [0, 1, 2])
        animate({"node": 0, "path": "rotation"}, turn, [3, 4, 5, 6])
    else:
        node |= {"translation": track.position_m[0].tolist(), "rotation": turn[0].tolist()}
    used = track.lens.used(image, outgoing.fit)
    yfov = 2 * np.arctan(used.height_mm / 2 / track.lens.focal_mm)
    if not is_still(yfov):
        pointer = {"pointer": "/cameras/0/perspective/yfov"}
        animate({"path": "pointer", "extensions": {POINTER: pointer}}, yfov[:, None], [])
    marks = outgoing.landmarks
    nodes = [
        node,
        *(
            {"name": n, "translation": p}
            for n, p in zip(marks.names, marks.position_m[0].tolist(), strict=True)
        ),
    ]
    document = {
        "asset": {"version": "2.0", "generator": "Anaxis"},
        "scene": 0, "scenes": [{"nodes": list(range(len(nodes)))}], "nodes": nodes,
        "cameras": [_camera(outgoing, float(yfov[0]), float(used.width_mm[0] / used.height_mm[0]))],
        "bufferViews": buffer.views, "accessors": buffer.accessors,
        "buffers": [{"byteLength": len(buffer.data)}],
        **({"animations": [{"name": track.name, "channels": channels, "samplers": samplers}]} if channels else {}),
        **({"extensionsUsed": [POINTER]} if any(c["target"]["path"] == "pointer" for c in channels) else {}),
    }  # fmt: skip
    target = folder / f"{stem}.glb"
    target.write_bytes(_container(json.dumps(document).encode(), bytes(buffer.data)))
    return [target]


def _container(text: bytes, data: bytes) -> bytes:
    """The document and its buffer in one file, each padded to four bytes as the standard asks."""
    text += b" " * (-len(text) % 4)
    data += b"\0" * (-len(data) % 4)
    head = struct.pack("<4sII", b"glTF", 2, 12 + 8 + len(text) + 8 + len(data))
    return (
        head
        + struct.pack("<I4s", len(text), b"JSON")
        + text
        + struct.pack("<I4s", len(data), b"BIN\0")
        + data
    )


def _camera(outgoing: Outgoing, yfov: float, aspect: float) -> dict[str, Any]:
    track, lens = outgoing.track, outgoing.track.lens
    near, far = float(lens.near_m[0]), float(lens.far_m[0])
    perspective: dict[str, Any] = {
        "yfov": yfov,
        "aspectRatio": aspect,
        "znear": near if np.isfinite(near) else 0.01,
    }
    if np.isfinite(far):
        perspective["zfar"] = far
    first = {k: float(getattr(lens, k)[0]) for k in (
        "focal_mm", "film_width_mm", "film_height_mm", "offset_x_mm", "offset_y_mm", "squeeze", "focus_m", "fstop")}  # fmt: skip
    image = outgoing.image
    extras = {
        "rate": rate_text(track.rate), "first_frame": plain_frame(track.frames[0]),
        "image": {"width_px": image.width_px, "height_px": image.height_px, "pixel_aspect": image.pixel_aspect},
        "lens": {k: v for k, v in first.items() if np.isfinite(v)},
    }  # fmt: skip
    return {
        "type": "perspective",
        "name": track.name,
        "perspective": perspective,
        "extras": {"anaxis": extras},
    }
