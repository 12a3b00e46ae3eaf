"""Writing glTF 2.0: Y up, metres, single precision; a node a camera, at the top or below a root, its motion in an animation.

Core glTF holds a field of view and an aspect, no film back and no offsets; those go into ``extras``. A lens
that moves is written by the animation-pointer extension, which most readers drop. Keys with slopes become
CUBICSPLINE samplers, whose tangents are slopes per second.
"""

from __future__ import annotations

import json
import struct
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from anaxis.core.axes import Convention
from anaxis.core.outgoing import Outgoing
from anaxis.core.reduce import KeyRule, continuous_quaternions
from anaxis.core.timing import plain_frame, rate_text
from anaxis.core.typing import Floats
from anaxis.formats.file_axes import is_still, seconds_from_zero
from anaxis.formats.nodes import Node, nodes_of, places

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


def write_gltf(cameras: Sequence[Outgoing], folder: Path, stem: str) -> list[Path]:
    """Write ``stem.glb``. Raises BadInput for frames below 0."""
    document = _Document()
    for node in nodes_of(cameras):
        document.add(node)
    target = folder / f"{stem}.glb"
    target.write_bytes(_container(json.dumps(document.as_dict()).encode(), bytes(document.buffer.data)))
    return [target]


class _Document:
    """The document as it grows, camera after camera."""

    def __init__(self) -> None:
        self.buffer = _Buffer()
        self.nodes: list[dict[str, Any]] = []
        self.top: list[int] = []
        self.cameras: list[dict[str, Any]] = []
        self.animations: list[dict[str, Any]] = []

    def add(self, node: Node) -> None:
        """One camera with its animation, its landmarks, and its root."""
        outgoing, track = node.outgoing, node.outgoing.track
        turn = continuous_quaternions(track.rotation)
        used = track.lens.used(outgoing.image, outgoing.fit)
        yfov = 2 * np.arctan(used.height_mm / 2 / track.lens.focal_mm)
        entry: dict[str, Any] = {"name": node.name, "camera": len(self.cameras)}
        motion = _Motion(self.buffer, outgoing)
        if len(track) > 1 and not (is_still(track.position_m) and is_still(turn)):
            motion.add({"node": len(self.nodes), "path": "translation"}, track.position_m, [0, 1, 2])
            motion.add({"node": len(self.nodes), "path": "rotation"}, turn, [3, 4, 5, 6])
        else:
            entry |= {"translation": track.position_m[0].tolist(), "rotation": turn[0].tolist()}
        if not is_still(yfov):
            pointer = {"pointer": f"/cameras/{len(self.cameras)}/perspective/yfov"}
            motion.add({"path": "pointer", "extensions": {POINTER: pointer}}, yfov[:, None], [])
        here = [
            entry, *({"name": name, "translation": place[0].tolist()} for name, place in places(node, Convention()))
        ]  # fmt: skip
        index = list(range(len(self.nodes), len(self.nodes) + len(here)))
        self.nodes += here
        if node.root is not None:
            placement = node.root.placement
            self.nodes.append({
                "name": node.root.name, "children": index, "translation": placement.shift_m.tolist(),
                "rotation": Rotation.from_matrix(placement.turn).as_quat().tolist(),
            })  # fmt: skip
            index = [len(self.nodes) - 1]
        self.top += index
        aspect = float(used.width_mm[0] / used.height_mm[0])
        self.cameras.append(_camera(outgoing, node.name, float(yfov[0]), aspect))
        if motion.channels:
            self.animations.append(
                {"name": node.name, "channels": motion.channels, "samplers": motion.samplers}
            )

    def as_dict(self) -> dict[str, Any]:
        pointed = any(c["target"]["path"] == "pointer" for a in self.animations for c in a["channels"])
        return {
            "asset": {"version": "2.0", "generator": "Anaxis"},
            "scene": 0, "scenes": [{"nodes": self.top}], "nodes": self.nodes, "cameras": self.cameras,
            "bufferViews": self.buffer.views, "accessors": self.buffer.accessors,
            "buffers": [{"byteLength": len(self.buffer.data)}],
            **({"animations": self.animations} if self.animations else {}),
            **({"extensionsUsed": [POINTER]} if pointed else {}),
        }  # fmt: skip


class _Motion:
    """The samplers and channels of one camera."""

    def __init__(self, buffer: _Buffer, outgoing: Outgoing) -> None:
        self.buffer, self.keys, self.rate = buffer, outgoing.keys, float(outgoing.track.rate)
        self.samplers: list[dict[str, Any]] = []
        self.channels: list[dict[str, Any]] = []
        seconds = seconds_from_zero(outgoing, "glTF")
        self.every = buffer.add(seconds[:, None])
        self.times = self.every if self.keys is None else buffer.add(seconds[self.keys.index][:, None])

    def add(self, target: dict[str, Any], values: Floats, columns: list[int]) -> None:
        """A channel (n, c): by the keys' ``columns`` where there are keys, else on every frame."""
        keys = self.keys
        if keys is not None and columns:
            parts = (keys.slope_in * self.rate, keys.values, keys.slope_out * self.rate)
            cubic = np.stack([p[:, columns] for p in parts], axis=1).reshape(-1, len(columns))
            sampler = {"input": self.times, "output": self.buffer.add(cubic), "interpolation": "CUBICSPLINE"}
        else:
            # A field of view is no channel of the keys: it stays on every frame.
            sampler = {"input": self.every, "output": self.buffer.add(values), "interpolation": "LINEAR"}
        self.samplers.append(sampler)
        self.channels.append({"sampler": len(self.samplers) - 1, "target": target})


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


def _camera(outgoing: Outgoing, name: str, yfov: float, aspect: float) -> dict[str, Any]:
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
        "name": name,
        "perspective": perspective,
        "extras": {"anaxis": extras},
    }
