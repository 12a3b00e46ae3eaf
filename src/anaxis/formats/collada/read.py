"""Reading COLLADA 1.4 into a scene: any up axis and unit, every transform element, animated.

Cameras look along local -Z. A field of view is stored and no film back, so one is taken and said
to be a guess. Animation targets may be single components or whole elements; a matrix element is
addressed as (row)(column).
"""

from __future__ import annotations

import re
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import scipy

from anaxis.core.camera.track import Lens, make_lens
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.scene.flips import angle_flips
from anaxis.core.scene.guesses import guess_rate, with_guesses
from anaxis.core.scene.landmarks import Names, unique_name
from anaxis.core.scene.nodes import UP_AXES, Node, Scene, sampled_range, snapped
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import nearest_rate
from anaxis.core.typing import Floats
from anaxis.formats import curves
from anaxis.formats.collada.mesh import geometry_shape
from anaxis.formats.collada.xml_tree import Document, Sampler, check_depth, child, children, local, numbers
from anaxis.formats.sampling import keys_and_whole_frames
from anaxis.formats.set_lines import MAX_MARKS, within_budget
from anaxis.formats.views import FILM_WIDTH_MM, NO_FILM_BACK, orthographic

_SIZES = {"translate": 3, "rotate": 4, "scale": 3, "matrix": 16, "lookat": 9, "skew": 7}
_MEMBERS = {"X": 0, "Y": 1, "Z": 2, "W": 3, "ANGLE": 3, "R": 0, "G": 1, "B": 2, "A": 3, "U": 0, "V": 1}
_MAX_NODES = 50_000


def read_collada(path: Path, within: Path | None = None) -> Scene:
    """Read a .dae; raises BadInput where it cannot be read."""
    return _ColladaReader(Document(path)).scene()


class _ColladaReader:
    def __init__(self, document: Document) -> None:
        self.document, self.name = document, document.name
        self.guesses: dict[str, str] = {}
        self.findings: list[Finding] = []
        self.nodes: list[Node] = []
        self.marks = 0
        self.names = Names()
        self.fits: list[str] = []
        self.metres_per_unit, self.up = 1.0, "Y"
        # Animated element to the member and curve of each of its channels.
        self.animated: dict[Any, list[tuple[str, Sampler]]] = {}

    def scene(self) -> Scene:
        guess_unit, guess_up = self._asset()
        self._read_animations()
        root = self._visual_scene()
        for node in children(root, "node") if root is not None else []:
            self._add(node, None, 0)
        first, last = sampled_range(self.nodes) or (0.0, 0.0)
        scene = Scene(
            name=self.name,
            format="collada",
            convention=Convention(UP_AXES[self.up], metres_per_unit=self.metres_per_unit),
            rate=self.rate,
            first_frame=first,
            last_frame=last,
            nodes=tuple(within_budget(self.nodes)),
            in_seconds=True,
            source_fit=self.fits[0] if self.fits else None,
            guesses=self.guesses,
            findings=tuple(self.findings),
        )
        return with_guesses(scene, guess_up, guess_unit)

    def _asset(self) -> tuple[bool, bool]:
        """Unit and up axis as stated; returns whether unit and up axis have to be guessed."""
        asset = child(self.document.root, "asset")
        unit = child(asset, "unit") if asset is not None else None
        up = child(asset, "up_axis") if asset is not None else None
        letter = (up.text or "").strip()[:1].upper() if up is not None else ""
        if letter in UP_AXES:
            self.up = letter
        metres = unit.get("meter") if unit is not None else None
        if metres is not None:
            try:
                self.metres_per_unit = float(metres)
            except ValueError:
                self.metres_per_unit = float("nan")
            if not (np.isfinite(self.metres_per_unit) and self.metres_per_unit > 0):
                raise BadInput(
                    f"{self.name} says unit meter = '{metres}': it must be a number above zero; set it and export again."
                )
        # A unit element without a number is a metre by the standard; only where there is none, nothing is said.
        return unit is None, letter not in UP_AXES

    # Animation

    def _read_animations(self) -> None:
        found: dict[Any, list[tuple[str, Sampler]]] = {}
        lost: list[str] = []
        for animation in self.document.root.iterfind(".//{*}library_animations//{*}animation"):
            for channel in children(animation, "channel"):
                element, member = self.document.by_target(channel.get("target") or "")
                sampler = self.document.by_url(channel.get("source"))
                if element is None or sampler is None:
                    lost.append(channel.get("target") or "?")
                    continue
                found.setdefault(element, []).append((member, self.document.sampler(sampler)))
        if lost:
            self.findings.append(
                Finding(
                    "lost_target",
                    "note",
                    f"{len(lost)} animation channel{'s' * (len(lost) > 1)} of {self.name} have no target in the file ('"
                    f"{lost[0][:80]}').",
                    "Check in the source what they animate.",
                    "Their targets stay still.",
                )
            )
        seconds = [s.seconds for channels in found.values() for _, s in channels]
        self.rate, why = self._stated_rate() or guess_rate(np.concatenate([np.zeros(0), *seconds]))
        self.guesses["rate"] = why
        per_second = float(self.rate)
        for element, channels in found.items():
            self.animated[element] = [(member, _in_frames(s, per_second)) for member, s in channels]

    def _stated_rate(self) -> tuple[Fraction, str] | None:
        """A frame rate some writers leave in their extra data."""
        for element in self.document.root.iterfind(".//{*}extra//{*}frame_rate"):
            try:
                return nearest_rate(
                    float(element.text or "")
                ), "not part of the format; stated in the extra data of the file"
            except (ValueError, BadInput):
                continue
        return None

    # Nodes

    def _visual_scene(self) -> Any | None:
        instance = self.document.root.find("{*}scene/{*}instance_visual_scene")
        found = self.document.by_url(instance.get("url")) if instance is not None else None
        return found if found is not None else self.document.root.find(".//{*}visual_scene")

    def _add(self, element: Any, parent: str | None, depth: int) -> None:
        check_depth(depth, self.name)
        if len(self.nodes) >= _MAX_NODES:
            raise BadInput(f"{self.name} holds over {_MAX_NODES} nodes: export only the camera and its set.")
        label = re.sub(r"[/\s]+", "_", element.get("name") or element.get("id") or "node")[:200]
        path = unique_name(f"{parent or ''}/{label}", self.names)
        frames, local_matrices, keys, stepped = self._local(element, path)
        node = Node(path, parent, "transform", frames, local_matrices, keys, stepped=stepped)
        camera = child(element, "instance_camera")
        geometry = child(element, "instance_geometry")
        inner = [*children(element, "node"), *self._instanced(element)]
        if camera is not None:
            lens, lens_frames, lens_keys, held = self._lens(self.document.by_url(camera.get("url")), path)
            node = replace(
                node, kind="camera", lens=lens, lens_frames=lens_frames, lens_keys=lens_keys, lens_stepped=held
            )
        elif geometry is not None:
            shape = geometry_shape(self.document, self.document.by_url(geometry.get("url")))
            if shape is not None:
                node = replace(node, kind="set", segments=shape.lines, triangles=shape.triangles, mesh=shape.mesh)
        elif not inner and not any(local(c).startswith("instance_") for c in element) and self.marks < MAX_MARKS:
            self.marks += 1
            node = replace(node, kind="landmark")
        self.nodes.append(node)
        for below in inner:
            self._add(below, path, depth + 1)

    def _instanced(self, element: Any) -> list[Any]:
        found = [self.document.by_url(i.get("url")) for i in children(element, "instance_node")]
        return [f for f in found if f is not None and local(f) == "node"]

    def _local(self, element: Any, path: str) -> tuple[Floats, Floats, Floats, bool]:
        steps = [c for c in element if local(c) in _SIZES]
        curves_of = {c: self.animated[c] for c in steps if c in self.animated}
        every = [s.seconds for channels in curves_of.values() for _, s in channels]
        keys = np.unique(np.concatenate([np.zeros(0), *every]))
        # A single baked matrix says all there is on its keys; anything else is evaluated between them.
        baked = len(curves_of) == 1 == len(steps) and all(
            local(c) == "matrix"
            and len(channels) == 1
            and channels[0][0] == ""
            and set(channels[0][1].kinds) == {"LINEAR"}
            for c, channels in curves_of.items()
        )
        stepped = _all_held([s for channels in curves_of.values() for _, s in channels], keys)
        frames = keys if baked or stepped else keys_and_whole_frames(keys, f"{self.name}, {path}")
        if not len(frames):
            frames = np.zeros(1)
        out = np.eye(4)[None]
        for step in steps:
            kind = local(step)
            base = numbers(step, f"{self.name}, {path}")
            if len(base) != _SIZES[kind]:
                raise BadInput(
                    f"{self.name}, {path}: its '{kind}' has {len(base)} numbers instead of {_SIZES[kind]}; export it again."
                )
            values = np.repeat(base[None], len(frames) if step in curves_of else 1, axis=0)
            for member, sampler in curves_of.get(step, []):
                self._overlay(values, kind, member, sampler, frames, path)
            out = out @ _matrices(kind, values)
        return frames, np.array(np.broadcast_to(out, (len(frames), 4, 4))), keys, stepped

    def _overlay(self, values: Floats, kind: str, member: str, sampler: Sampler, frames: Floats, path: str) -> None:
        """Put a curve's values in the place of those it animates, in ``values`` (n, c)."""
        at = _columns(kind, member)
        if at is None or sampler.values.shape[1] != len(at):
            raise BadInput(
                f"{self.name}, {path}: an animation of '{kind}{member}' has {sampler.values.shape[1]} values for each key, which does not fit: export it again."
                ""
            )
        values[:, at] = _evaluated(sampler, frames)
        if kind == "rotate" and 3 in at:
            found = angle_flips(path, "An angle", sampler.seconds, sampler.values[:, at.index(3)])
            if found:
                self.findings.append(found)

    # Lens

    def _lens(self, camera: Any | None, path: str) -> tuple[Lens, Floats, Floats, bool]:
        common = camera.find("{*}optics/{*}technique_common") if camera is not None else None
        view = child(common, "perspective") if common is not None else None
        if view is None:
            is_flat = common is not None and child(common, "orthographic") is not None
            missing = Finding(
                "no_lens",
                "error",
                f"{path} has no perspective lens in the file.",
                "Set its projection to perspective in the source and export again.",
                node=path,
            )
            self.findings.append(orthographic(path) if is_flat else missing)
        parts = {
            k: child(view, k) if view is not None else None for k in ("xfov", "yfov", "aspect_ratio", "znear", "zfar")
        }
        channels = {k: self.animated[e] for k, e in parts.items() if e is not None and e in self.animated}
        samplers = [s for c in channels.values() for _, s in c]
        keys = np.unique(np.concatenate([np.zeros(0), *(s.seconds for s in samplers)]))
        stepped = _all_held(samplers, keys)
        frames = keys if stepped else keys_and_whole_frames(keys, f"{self.name}, {path}")
        values: dict[str, Floats] = {}
        for key, element in parts.items():
            if key in channels:
                values[key] = _evaluated(channels[key][0][1], frames)[:, 0]
            else:
                stated = numbers(element, self.name) if element is not None else np.zeros(0)
                values[key] = stated[:1] if len(stated) else np.array([np.nan])
        focal, height, fit = _film(values)
        if np.isnan(values["aspect_ratio"]).any() and (
            np.isnan(values["xfov"]).any() or np.isnan(values["yfov"]).any()
        ):
            self.guesses[f"aspect:{path}"] = "the file states no aspect; 16:9 is assumed"
        self.fits.append(fit)
        self.guesses[f"lens:{path}"] = NO_FILM_BACK
        unit = self.metres_per_unit
        lens = make_lens(
            max(1, len(frames)),
            focal_mm=focal,
            film_width_mm=FILM_WIDTH_MM,
            film_height_mm=height,
            near_m=values["znear"] * unit,
            far_m=values["zfar"] * unit,
        )
        return lens, frames, keys, stepped


def _all_held(samplers: list[Sampler], keys: Floats) -> bool:
    """Whether every curve has all of the keys and holds each up to the next."""
    return bool(samplers) and all(set(s.kinds) == {"STEP"} and len(s.seconds) == len(keys) for s in samplers)


def _film(values: dict[str, Floats]) -> tuple[Floats, Floats, str]:
    """Focal length, film height and the fit that keeps what is stated, from any two of xfov, yfov, aspect."""
    x, y = (np.tan(np.radians(values[k]) / 2) for k in ("xfov", "yfov"))
    aspect = values["aspect_ratio"]
    half = FILM_WIDTH_MM / 2
    with np.errstate(invalid="ignore", divide="ignore"):
        if not np.isnan(x).any():
            focal = half / x
            height = 2 * focal * y if not np.isnan(y).any() else FILM_WIDTH_MM / np.nan_to_num(aspect, nan=16 / 9)
            return focal, height, "width"
        height = FILM_WIDTH_MM / np.nan_to_num(aspect, nan=16 / 9)
        return height / 2 / y, height, "height"


def _in_frames(sampler: Sampler, per_second: float) -> Sampler:
    """The same curve with frames for seconds, in its handles too."""

    def handles(tangents: Floats | None) -> Floats | None:
        return None if tangents is None else tangents * np.array([per_second, 1.0])

    return sampler._replace(
        seconds=snapped(sampler.seconds * per_second),
        incoming=handles(sampler.incoming),
        outgoing=handles(sampler.outgoing),
    )


def _evaluated(sampler: Sampler, frames: Floats) -> Floats:
    """A curve at many frames, (n, c); each stretch by the kind written at its first key."""
    keys, values = sampler.seconds, sampler.values
    kinds = set(sampler.kinds)
    if len(keys) == 1:
        return np.repeat(values, len(frames), axis=0)
    if kinds == {"STEP"}:
        return curves.step(keys, values, frames)
    out = curves.linear(keys, values, frames)
    left = curves.place(keys, frames).left
    here = np.array(sampler.kinds)[left]
    if "BEZIER" in kinds and sampler.incoming is not None and sampler.outgoing is not None:
        bent = np.stack(
            [
                curves.bezier(keys, values[:, i], sampler.incoming[:, i], sampler.outgoing[:, i], frames)
                for i in range(values.shape[1])
            ],
            axis=1,
        )
        out = np.where((here == "BEZIER")[:, None], bent, out)
    if "STEP" in kinds:
        out = np.where((here == "STEP")[:, None], curves.step(keys, values, frames), out)
    return out


def _columns(kind: str, member: str) -> list[int] | None:
    """Which of an element's numbers a member names; all of them where it names none."""
    if not member:
        return list(range(_SIZES[kind]))
    if found := re.fullmatch(r"\((\d+)\)(?:\((\d+)\))?", member):
        index = int(found[1]) if found[2] is None else int(found[1]) * 4 + int(found[2])
        return [index] if index < _SIZES[kind] else None
    index = _MEMBERS.get(member.lstrip(".").upper(), 99)
    return [index] if index < _SIZES[kind] else None


def _matrices(kind: str, v: Floats) -> Floats:
    """Transform elements (n, c) as matrices (n, 4, 4) for column vectors."""
    if kind == "matrix":
        return v.reshape(-1, 4, 4)
    out = np.tile(np.eye(4), (len(v), 1, 1))
    if kind == "translate":
        out[:, :3, 3] = v
    elif kind == "scale":
        out[:, [0, 1, 2], [0, 1, 2]] = v
    elif kind == "rotate":
        length = np.linalg.norm(v[:, :3], axis=1, keepdims=True)
        axis = np.divide(v[:, :3], length, out=np.zeros((len(v), 3)), where=length != 0)  # NaN stays
        out[:, :3, :3] = scipy.spatial.transform.Rotation.from_rotvec(axis * np.radians(v[:, 3:])).as_matrix()
    elif kind == "lookat":
        out[:, :3, :3], out[:, :3, 3] = _looking(v[:, :3], v[:, 3:6], v[:, 6:]), v[:, :3]
    elif kind == "skew":
        # The first axis is tilted by the angle towards the second.
        first, second = (a / np.linalg.norm(a, axis=1, keepdims=True) for a in (v[:, 1:4], v[:, 4:]))
        out[:, :3, :3] += np.tan(np.radians(v[:, 0]))[:, None, None] * second[:, :, None] * first[:, None, :]
    return out


def _looking(eye: Floats, target: Floats, up: Floats) -> Floats:
    with np.errstate(invalid="ignore", divide="ignore"):
        back = eye - target
        back = back / np.linalg.norm(back, axis=1, keepdims=True)
        right = np.cross(up, back)
        right = right / np.linalg.norm(right, axis=1, keepdims=True)
    return np.stack([right, np.cross(back, right), back], axis=2)
