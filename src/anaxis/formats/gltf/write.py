"""Writing glTF 2.0: Y up, metres, single precision; a node a camera, at the top or below a root, its motion in an animation.

Core glTF holds a field of view and an aspect, no film back and no offsets; those go into ``extras``. A lens
that moves is written by the animation-pointer extension, which most readers drop: in an animation of its own,
since some of them drop every channel of an animation that holds one they do not know. Keys with slopes become
CUBICSPLINE samplers, whose tangents are slopes per second. Each node rests where it is on its first frame,
for readers that play nothing.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import scipy

from anaxis.core.camera.channels import CHANNELS
from anaxis.core.camera.track import Track
from anaxis.core.image_plane import CORNERS, ON_PICTURE, ImagePlane
from anaxis.core.motion.cuts import cuts_of
from anaxis.core.motion.keys import KeyRule, continuous_quaternions
from anaxis.core.outgoing import Outgoing
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import plain_frame, rate_text
from anaxis.core.typing import Floats, Ints
from anaxis.formats.file_axes import is_still
from anaxis.formats.format import NEAR_WRITTEN_M
from anaxis.formats.gltf.container import Buffer, container
from anaxis.formats.nodes import SampledNode, nodes_of, places

POINTER = "KHR_animation_pointer"
_UNLIT = "KHR_materials_unlit"


def key_rule(receiver: Convention) -> KeyRule:
    return KeyRule(Convention(), "bezier", "quaternions")


def write_gltf(cameras: Sequence[Outgoing], folder: Path, stem: str) -> list[Path]:
    """Write ``stem.glb``; returns the files written."""
    document = _Document()
    for node in nodes_of(cameras):
        document.add(node)
    target = folder / f"{stem}.glb"
    target.write_bytes(container(json.dumps(document.as_dict()).encode(), bytes(document.buffer.data)))
    return [target]


class _Document:
    """The document as it grows, camera after camera."""

    def __init__(self) -> None:
        self.buffer = Buffer()
        self.nodes: list[dict[str, Any]] = []
        self.top: list[int] = []
        self.cameras: list[dict[str, Any]] = []
        self.animations: list[dict[str, Any]] = []
        self.meshes: list[dict[str, Any]] = []
        self.materials: list[dict[str, Any]] = []
        self.images: list[dict[str, Any]] = []

    def add(self, node: SampledNode) -> None:
        """One camera with its animation, its landmarks, and its root."""
        outgoing, track = node.outgoing, node.outgoing.track
        turn = continuous_quaternions(track.rotation)
        used = track.lens.used(outgoing.image, outgoing.fit)
        yfov = 2 * np.arctan(used.height_mm / 2 / track.lens.focal_mm)
        entry: dict[str, Any] = {"name": node.name, "camera": len(self.cameras)}
        seconds = _key_times(outgoing.seconds_in_file, cuts_of(track))
        motion, zoom = (_Motion(self.buffer, outgoing, seconds) for _ in range(2))
        # A common reader adds the node's own translation to a camera that has one: a camera that moves has none beside its
        # animation, one that stands has a matrix.
        still = is_still(track.position_m) and is_still(turn)
        if still:
            entry["matrix"] = _matrix(track).T.reshape(-1).tolist()
        else:
            motion.add({"node": len(self.nodes), "path": "translation"}, track.position_m, [0, 1, 2])
            motion.add({"node": len(self.nodes), "path": "rotation"}, turn, [3, 4, 5, 6])
        if not is_still(yfov):
            pointer = {"pointer": f"/cameras/{len(self.cameras)}/perspective/yfov"}
            zoom.add({"path": "pointer", "extensions": {POINTER: pointer}}, yfov[:, None], [])
        here = [entry]
        if outgoing.plane is not None:
            entry["children"] = [len(self.nodes) + 1]
            here.append(self._plane(outgoing.plane, motion, len(self.nodes) + 1))
        for name, place in places(node, Convention()):
            if not is_still(place):
                motion.add({"node": len(self.nodes) + len(here), "path": "translation"}, place, [])
            here.append({"name": name, "translation": place[0].tolist()})
        if still and not motion.channels:
            # Its range arrives all the same; and some readers refuse a file without a buffer.
            motion.hold({"node": len(self.nodes) + len(here), "path": "translation"}, np.zeros((len(track), 3)))
            here.append({"name": f"{node.name}_range"})
        below = entry.get("children", [])
        index = [i for i in range(len(self.nodes), len(self.nodes) + len(here)) if i not in below]
        self.nodes += here
        if node.root is not None:
            placement = node.root.placement
            self.nodes.append(
                {
                    "name": node.root.name,
                    "children": index,
                    "translation": placement.shift_m.tolist(),
                    "rotation": scipy.spatial.transform.Rotation.from_matrix(placement.turn).as_quat().tolist(),
                }
            )
            index = [len(self.nodes) - 1]
        self.top += index
        aspect = float(used.width_mm[0] / used.height_mm[0])
        self.cameras.append(_camera(outgoing, node.name, float(yfov[0]), aspect))
        for name, part in ((node.name, motion), (f"{node.name}_lens", zoom)):
            if part.channels:
                self.animations.append({"name": name, "channels": part.channels, "samplers": part.samplers})

    def _plane(self, plane: ImagePlane, motion: _Motion, index: int) -> dict[str, Any]:
        """The quad below its camera, with one picture of the plate on it: the format knows no sequence of them."""
        local = plane.local_m
        place, size = local[:, :3, 3], np.stack([local[:, 0, 0], local[:, 1, 1], np.ones(len(local))], axis=1)
        for path, values in (("translation", place), ("scale", size)):
            if not is_still(values):
                motion.add({"node": index, "path": path}, values, [])
        material: dict[str, Any] = {
            "name": "plate", "doubleSided": True, "extensions": {_UNLIT: {}},
            "pbrMetallicRoughness": {"baseColorFactor": [1, 1, 1, plane.opacity], "metallicFactor": 0},
            **({"alphaMode": "BLEND"} if plane.opacity < 1 else {}),
        }  # fmt: skip
        if plane.pictures is not None and plane.pictures.still:
            self.images.append({"bufferView": self.buffer.add_bytes(plane.pictures.still), "mimeType": "image/jpeg"})
            material["pbrMetallicRoughness"]["baseColorTexture"] = {"index": len(self.images) - 1}
        self.materials.append(material)
        # The picture's v runs down here.
        on_picture = self.buffer.add(np.stack([ON_PICTURE[:, 0], 1 - ON_PICTURE[:, 1]], axis=1))
        attributes = {"POSITION": self.buffer.add(CORNERS), "TEXCOORD_0": on_picture}
        faces = self.buffer.add_indices(np.array([0, 1, 2, 0, 2, 3]))
        self.meshes.append(
            {"primitives": [{"attributes": attributes, "indices": faces, "material": len(self.materials) - 1}]}
        )
        return {
            "name": "image_plane",
            "mesh": len(self.meshes) - 1,
            "translation": place[0].tolist(),
            "scale": size[0].tolist(),
        }

    def as_dict(self) -> dict[str, Any]:
        pointed = any(c["target"]["path"] == "pointer" for a in self.animations for c in a["channels"])
        used = [*([POINTER] if pointed else []), *([_UNLIT] if self.meshes else [])]
        return {
            "asset": {"version": "2.0", "generator": "Anaxis"},
            "scene": 0, "scenes": [{"nodes": self.top}], "nodes": self.nodes, "cameras": self.cameras,
            **({
                "bufferViews": self.buffer.views, "accessors": self.buffer.accessors,
                "buffers": [{"byteLength": len(self.buffer.data)}],
            } if self.buffer.data else {}),
            **({"animations": self.animations} if self.animations else {}),
            **({"meshes": self.meshes, "materials": self.materials} if self.meshes else {}),
            **({"images": self.images, "textures": [{"source": i} for i in range(len(self.images))]} if self.images else {}),
            **({"extensionsUsed": used} if used else {}),
        }  # fmt: skip


def _matrix(track: Track) -> Floats:
    """The first pose of a track as (4, 4)."""
    out = np.eye(4)
    out[:3, :3], out[:3, 3] = track.rotation[0], track.position_m[0]
    return out


def _key_times(seconds: Floats, cuts: Ints) -> Floats:
    """The times (n,) of the keys in single precision, as the format has them.

    At a cut the last key before it is moved no earlier and the first one behind it no later than its exact time: a reader that
    asks at the exact time then lands on the right side, too.
    """
    stored = seconds.astype(np.float32)
    late = cuts[stored[cuts] > seconds[cuts]]
    before = np.setdiff1d(cuts - 1, cuts)  # of a frame alone between two cuts, its begin counts
    early = before[stored[before] < seconds[before]]
    stored[late] = np.nextafter(stored[late], np.float32(-np.inf))
    stored[early] = np.nextafter(stored[early], np.float32(np.inf))
    return np.asarray(stored, dtype=np.float64)


class _Motion:
    """The samplers and channels of one camera, with keys at ``seconds`` (n,)."""

    def __init__(self, buffer: Buffer, outgoing: Outgoing, seconds: Floats) -> None:
        self.buffer, self.keys, self.rate = buffer, outgoing.keys, float(outgoing.track.rate)
        self.samplers: list[dict[str, Any]] = []
        self.channels: list[dict[str, Any]] = []
        self.seconds = seconds[:, None]
        self.times: dict[bool, int] = {}  # accessors: of the keys' times, and of every frame's

    def _times(self, by_keys: bool) -> int:
        if by_keys not in self.times:
            keys = self.keys if by_keys else None
            self.times[by_keys] = self.buffer.add(self.seconds if keys is None else self.seconds[keys.index])
        return self.times[by_keys]

    def hold(self, target: dict[str, Any], values: Floats) -> None:
        """A channel that stands, on the first and the last frame."""
        ends = np.unique([0, len(values) - 1])
        times, held = self.buffer.add(self.seconds[ends]), self.buffer.add(values[ends])
        self.samplers.append({"input": times, "output": held, "interpolation": "LINEAR"})
        self.channels.append({"sampler": len(self.samplers) - 1, "target": target})

    def add(self, target: dict[str, Any], values: Floats, columns: list[int]) -> None:
        """A channel (n, c): by the keys' ``columns`` where there are keys, else on every frame."""
        keys = self.keys
        if keys is not None and columns:
            parts = (keys.slope_in * self.rate, keys.values, keys.slope_out * self.rate)
            cubic = np.stack([p[:, columns] for p in parts], axis=1).reshape(-1, len(columns))
            sampler = {"input": self._times(True), "output": self.buffer.add(cubic), "interpolation": "CUBICSPLINE"}
        else:
            # A field of view and a landmark are no channels of the keys: they stay on every frame.
            sampler = {"input": self._times(False), "output": self.buffer.add(values), "interpolation": "LINEAR"}
        self.samplers.append(sampler)
        self.channels.append({"sampler": len(self.samplers) - 1, "target": target})


def _camera(outgoing: Outgoing, name: str, yfov: float, aspect: float) -> dict[str, Any]:
    track, lens = outgoing.track, outgoing.track.lens
    near, far = float(lens.near_m[0]), float(lens.far_m[0])
    perspective: dict[str, Any] = {
        "yfov": yfov,
        "aspectRatio": aspect,
        "znear": near if near > 0 else NEAR_WRITTEN_M,  # the standard asks for more than 0
    }
    if np.isfinite(far) and far > perspective["znear"]:
        perspective["zfar"] = far
    first = {k: float(getattr(lens, k)[0]) for k, c in CHANNELS.items() if not c.clip}
    image = outgoing.image
    extras = {
        "rate": rate_text(track.rate),
        "first_frame": plain_frame(track.frames[0]),
        "frame_at_zero_s": plain_frame(outgoing.zero_frame),
        "image": {"width_px": image.width_px, "height_px": image.height_px, "pixel_aspect": image.pixel_aspect},
        "lens": {k: v for k, v in first.items() if np.isfinite(v)},
    }
    return {"type": "perspective", "name": name, "perspective": perspective, "extras": {"anaxis": extras}}
