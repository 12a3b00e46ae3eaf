"""Reading glTF 2.0 into a scene: right-handed, Y up, metres, cameras look along -Z.

A glTF camera is a vertical field of view and an aspect; it has no film back, so one is taken and
said to be a guess. Core glTF cannot animate a lens; the animation-pointer extension can, and is read.
"""

from __future__ import annotations

import json
import re
import struct
from collections import deque
from fractions import Fraction
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import scipy
from pygltflib import GLTF2

from anaxis.core.camera.track import Lens, make_lens
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.scene.guesses import guess_rate
from anaxis.core.scene.landmarks import Names, unique_name
from anaxis.core.scene.nodes import Node, Scene, sampled_range, snapped
from anaxis.core.space.axes import Convention
from anaxis.core.typing import Floats
from anaxis.formats import curves
from anaxis.formats.gltf.data import Accessors
from anaxis.formats.gltf.mesh import Meshes
from anaxis.formats.sampling import keys_and_whole_frames
from anaxis.formats.set_lines import MAX_MARKS, Shape, over_time, shape_stays, within_budget
from anaxis.formats.views import FILM_WIDTH_MM, NO_FILM_BACK, orthographic

_MAX_NODES = 50_000
_POINTER = "KHR_animation_pointer"


class _Channel(NamedTuple):
    """One animated property: key frames (k,), values (k, c), tangents for CUBICSPLINE."""

    frames: Floats
    values: Floats
    kind: str
    incoming: Floats | None
    outgoing: Floats | None

    def at(self, frames: Floats, turn: bool = False) -> Floats:
        """The values at ``frames`` (n,), (n, c); ``turn`` says that they are quaternions."""
        if self.kind != "CUBICSPLINE" and np.array_equal(frames, self.frames):
            return self.values
        if self.kind == "STEP":
            return curves.step(self.frames, self.values, frames)
        if self.kind == "CUBICSPLINE" and self.incoming is not None and self.outgoing is not None:
            return curves.hermite(self.frames, self.values, self.incoming, self.outgoing, frames)
        return (
            curves.slerp(self.frames, self.values, frames) if turn else curves.linear(self.frames, self.values, frames)
        )


class _Pose(NamedTuple):
    """A node's samples: ``frames`` (k,), ``local`` (k, 4, 4), the file's own ``keys``, and whether each is held."""

    frames: Floats
    local: Floats
    keys: Floats
    stepped: bool


def read_gltf(path: Path, within: Path | None = None) -> Scene:
    """Read a .gltf or .glb; raises BadInput where it cannot be read.

    Buffer files below ``within`` may be referred to; nothing else is ever opened.
    """
    data = path.read_bytes()
    try:
        if data[:4] == b"glTF":
            document = GLTF2.load_from_bytes(data)
        else:
            document = GLTF2.from_dict(json.loads(data.decode("utf-8-sig")))
        if document is None or not str(getattr(document.asset, "version", "")).startswith("2"):
            raise ValueError
    except (
        ValueError,
        KeyError,
        TypeError,
        AttributeError,
        IndexError,
        OSError,
        RecursionError,
        struct.error,
    ) as error:
        raise BadInput(
            f"{path.name} cannot be read as glTF 2.0: it is another version, damaged, or breaks off; export it again."
        ) from error
    return _GltfReader(document, path, within).scene()


class _GltfReader:
    def __init__(self, document: GLTF2, path: Path, within: Path | None) -> None:
        self.document, self.name = document, path.name
        self.accessors = Accessors(document, path.name, path.parent, within)
        self.meshes = Meshes(document, path.name, self.accessors)
        self.guesses: dict[str, str] = {}
        self.findings: list[Finding] = []
        self.nodes: list[Node] = []
        self.marks = 0
        self.rate = Fraction(24)
        self.channels: dict[str, _Channel] = {}

    def scene(self) -> Scene:
        self._read_animations()
        for index, path, parent in self._walk():
            self._add(index, path, parent)
        first, last = sampled_range(self.nodes) or (0.0, 0.0)
        return Scene(
            name=self.name,
            format="gltf",
            convention=Convention(metres_per_unit=1.0),
            rate=self.rate,
            first_frame=first,
            last_frame=last,
            nodes=tuple(within_budget(self.nodes)),
            in_seconds=True,
            source_fit="height" if any(n.kind == "camera" for n in self.nodes) else None,
            guesses=self.guesses,
            findings=tuple(self.findings),
        )

    # Animation

    def _read_animations(self) -> None:
        raw: dict[str, tuple[Floats, Floats, str]] = {}
        doubled = 0
        for animation in self.document.animations or []:
            for channel in animation.channels or []:
                target = _target(channel.target)
                if target is None:
                    continue
                if target in raw:
                    doubled += 1
                    continue
                try:
                    sampler = animation.samplers[channel.sampler]
                except (IndexError, TypeError) as error:
                    raise BadInput(
                        f"{self.name}: the animation of {target} has no sampler; export it again."
                    ) from error
                seconds = self.accessors.array(sampler.input)[:, 0]
                values = self.accessors.array(sampler.output)
                raw[target] = (seconds, values, sampler.interpolation or "LINEAR")
        if doubled:
            self.findings.append(
                Finding(
                    "several_takes",
                    "warning",
                    f"{self.name} holds {len(self.document.animations)} animations and {doubled} properties have more than "
                    "one; Anaxis uses the first.",
                    "Export one take in each file.",
                    "The camera may have the motion of another take.",
                )
            )
        every = np.concatenate([np.zeros(0), *(s for k, (s, _, _) in raw.items() if not k.endswith("/weights"))])
        self.rate, why = guess_rate(every)
        self.guesses["rate"] = why
        for target, (seconds, values, kind) in raw.items():
            try:
                self.channels[target] = self._channel(target, seconds, values, kind)
            except BadInput:
                if not target.endswith("/weights"):  # a shape that cannot be followed takes no camera away
                    raise
                self.findings.append(shape_stays(target, "the weights of its morph targets cannot be read"))

    def _channel(self, target: str, seconds: Floats, values: Floats, kind: str) -> _Channel:
        count = len(seconds)
        per_key = 3 if kind == "CUBICSPLINE" else 1
        if count == 0 or not np.isfinite(seconds).all() or (np.diff(seconds) <= 0).any():
            raise BadInput(f"{self.name}: the sample times of {target} do not rise; export it again.")
        if values.shape[1] == 1 and len(values) != count * per_key:
            values = values.reshape(count * per_key, -1) if len(values) % (count * per_key) == 0 else values
        if len(values) != count * per_key:
            raise BadInput(f"{self.name}: {target} has {count} sample times and {len(values)} values; export it again.")
        frames = snapped(seconds * float(self.rate))
        if kind == "CUBICSPLINE":
            parts = values.reshape(count, 3, -1)
            per_frame = parts / float(self.rate)  # tangents are per second
            return _Channel(frames, parts[:, 1], kind, per_frame[:, 0], per_frame[:, 2])
        return _Channel(frames, values, kind, None, None)

    # Nodes

    def _walk(self) -> list[tuple[int, str, str | None]]:
        """Every node with its path and its parent's, parents first. Raises BadInput for a ring."""
        nodes = self.document.nodes or []
        if len(nodes) > _MAX_NODES:
            raise BadInput(f"{self.name} holds over {_MAX_NODES} nodes: export only the camera and its set.")
        children = {
            i: [c for c in (n.children or []) if isinstance(c, int) and 0 <= c < len(nodes)]
            for i, n in enumerate(nodes)
        }
        below = {c for cs in children.values() for c in cs}
        taken = Names()
        waiting: deque[tuple[int, str | None]] = deque((i, None) for i in range(len(nodes)) if i not in below)
        out = []
        seen: set[int] = set()
        while waiting:
            index, parent = waiting.popleft()
            if index in seen:
                raise BadInput(f"{self.name}: node {index} has two parents; export it again.")
            seen.add(index)
            label = re.sub(r"[/\s]+", "_", nodes[index].name or f"node_{index}")[:200]
            path = unique_name(f"{parent or ''}/{label}", taken)
            out.append((index, path, parent))
            waiting += [(c, path) for c in children[index]]
        if len(seen) < len(nodes):
            raise BadInput(f"{self.name}: some nodes are their own parents; export it again.")
        return out

    def _add(self, index: int, path: str, parent: str | None) -> None:
        node = self.document.nodes[index]
        frames, local, keys, stepped = self._local(index, path)
        lens, lens_frames, lens_keys, lens_stepped = None, np.zeros(0), np.zeros(0), False
        kind = "transform"
        shape = self.meshes.shape(node.mesh) if node.mesh is not None else None
        if node.camera is not None:
            lens, lens_frames, lens_keys, lens_stepped = self._lens(node.camera, path)
            kind = "camera" if lens is not None else "transform"
        elif shape is not None:
            kind, shape = "set", self._deforming(index, path, shape)
        elif not node.children and node.mesh is None and node.skin is None:
            kind = "landmark" if self.marks < MAX_MARKS else "transform"
            self.marks += kind == "landmark"
        self.nodes.append(
            Node(path, parent, kind, frames, local, keys, False, lens, lens_frames, lens_keys,  # type: ignore[arg-type]
                 shape.lines if shape and kind == "set" else None, stepped, lens_stepped,
                 triangles=shape.triangles if shape and kind == "set" else None, mesh=shape.mesh if shape and kind == "set" else None)
        )  # fmt: skip
        if node.mesh is not None and kind != "camera":
            self.nodes += self.meshes.point_marks(node.mesh, path)

    def _deforming(self, index: int, path: str, shape: Shape) -> Shape:
        """A node's shape with the points that animated morph targets give it; what cannot be followed is said."""
        node, weights = self.document.nodes[index], self.channels.get(f"/nodes/{index}/weights")
        targets = self.meshes.targets(node.mesh) if node.mesh is not None and weights is not None else None
        rest, said = shape.mesh.points[0] if shape.mesh is not None else np.zeros((0, 3)), None
        fits = targets is not None and targets.shape[1:] == rest.shape
        if (
            weights is not None
            and targets is not None
            and fits
            and weights.kind == "LINEAR"
            and weights.values.shape[1] == len(targets)
        ):
            moving = (rest + np.tensordot(w, targets, axes=1) for w in weights.values)
            found, said = over_time(shape, weights.frames, moving, path)
            shape = found or shape
        elif weights is not None or node.skin is not None:
            by = "its skin" if node.skin is not None else "morph targets"
            said = shape_stays(path, f"its shape is animated by {by} in a way that Anaxis does not read")
        self.findings += [] if said is None else [said]
        return shape

    def _local(self, index: int, path: str) -> _Pose:
        node = self.document.nodes[index]
        found = {p: self.channels.get(f"/nodes/{index}/{p}") for p in ("translation", "rotation", "scale")}
        animated = [c for c in found.values() if c is not None]
        if node.matrix is not None and not animated:
            still = _sized(node.matrix, 16, f"{self.name}, {path}: its matrix")
            return _Pose(np.zeros(1), still.reshape(1, 4, 4).swapaxes(1, 2).copy(), np.zeros(0), False)
        keys = np.unique(np.concatenate([np.zeros(0), *(c.frames for c in animated)]))
        # Where every property has the same keys and straight lines between, the keys say it all.
        stepped = _all_are("STEP", animated, keys)
        plain = stepped or not animated or _all_are("LINEAR", animated, keys)
        frames = keys if plain else keys_and_whole_frames(keys, f"{self.name}, {path}")
        if not len(frames):
            frames = np.zeros(1)
        rest = {
            "translation": _sized(node.translation or [0, 0, 0], 3, f"{self.name}, {path}: its translation"),
            "rotation": _sized(node.rotation or [0, 0, 0, 1], 4, f"{self.name}, {path}: its rotation"),
            "scale": _sized(node.scale or [1, 1, 1], 3, f"{self.name}, {path}: its scale"),
        }
        values: dict[str, Floats] = {}
        for part, channel in found.items():
            if channel is None:
                values[part] = np.broadcast_to(rest[part], (len(frames), len(rest[part])))
                continue
            if channel.values.shape[1] != len(rest[part]):
                raise BadInput(
                    f"{self.name}, {path}: its {part} has {channel.values.shape[1]} components; export it again."
                )
            values[part] = channel.at(frames, turn=part == "rotation")
        local = np.tile(np.eye(4), (len(frames), 1, 1))
        turn = values["rotation"]
        length = np.linalg.norm(turn, axis=1)
        if not (length > 0).all():
            raise BadInput(f"{self.name}, {path}: its rotation has no length at some frame; export it again.")
        local[:, :3, :3] = scipy.spatial.transform.Rotation.from_quat(turn).as_matrix() * values["scale"][:, None, :]
        local[:, :3, 3] = values["translation"]
        return _Pose(frames, local, keys, stepped)

    def _lens(self, camera: int, path: str) -> tuple[Lens | None, Floats, Floats, bool]:
        try:
            found = self.document.cameras[camera]
        except (IndexError, TypeError) as error:
            raise BadInput(f"{self.name}, {path}: there is no camera {camera}; export it again.") from error
        if found.type != "perspective" or found.perspective is None:
            self.findings.append(orthographic(path))
        view = found.perspective
        names = {"yfov": "yfov", "aspectRatio": "aspect", "znear": "near", "zfar": "far"}
        animated = {
            ours: c
            for theirs, ours in names.items()
            if (c := self.channels.get(f"/cameras/{camera}/perspective/{theirs}"))
        }
        keys = np.unique(np.concatenate([np.zeros(0), *(c.frames for c in animated.values())]))
        stepped = _all_are("STEP", list(animated.values()), keys)
        frames = keys if stepped else keys_and_whole_frames(keys, f"{self.name}, {path}")
        values = {}
        for theirs, ours in names.items():
            still = getattr(view, theirs, None) if view is not None else None
            values[ours] = (
                animated[ours].at(frames)[:, 0]
                if ours in animated
                else np.array([np.nan if still is None else float(still)])
            )
        if not np.isfinite(values["yfov"]).all() or not ((values["yfov"] > 0) & (values["yfov"] < np.pi)).all():
            values["yfov"] = np.where((values["yfov"] > 0) & (values["yfov"] < np.pi), values["yfov"], np.nan)
        if np.isnan(values["aspect"]).any():
            values["aspect"] = np.array([16 / 9])
            self.guesses[f"aspect:{path}"] = "the file states no aspect; 16:9 is assumed"
        self.guesses[f"lens:{path}"] = NO_FILM_BACK
        with np.errstate(invalid="ignore", divide="ignore"):
            height = FILM_WIDTH_MM / values["aspect"]
            focal = height / 2 / np.tan(values["yfov"] / 2)
        lens = make_lens(
            max(1, len(frames)),
            focal_mm=focal,
            film_width_mm=FILM_WIDTH_MM,
            film_height_mm=height,
            near_m=values["near"],
            far_m=values["far"],
        )
        return lens, frames, keys, stepped


def _all_are(kind: str, channels: list[_Channel], keys: Floats) -> bool:
    """Whether there are channels, and each has all of the keys and goes from one to the next in one way."""
    return bool(channels) and all(c.kind == kind and len(c.frames) == len(keys) for c in channels)


def _target(target: Any) -> str | None:
    """What a channel animates, as a pointer: /nodes/3/translation, /cameras/0/perspective/yfov."""
    if target is None:
        return None
    if target.path == "pointer":
        pointer = ((target.extensions or {}).get(_POINTER) or {}).get("pointer")
        return str(pointer) if pointer else None
    if target.node is None or target.path not in ("translation", "rotation", "scale", "weights"):
        return None
    return f"/nodes/{target.node}/{target.path}"


def _sized(values: Any, size: int, what: str) -> Floats:
    """A list of ``size`` numbers; raises BadInput, naming ``what``, where it is not."""
    try:
        out = np.array(values, dtype=np.float64)
        if out.shape != (size,):
            raise ValueError
    except (ValueError, TypeError) as error:
        raise BadInput(f"{what} is not {size} numbers; export it again.") from error
    return out
