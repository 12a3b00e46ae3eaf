"""Writing COLLADA 1.4: a matrix on every frame in double precision, or few curved keys a component.

One animated ``matrix`` and a ``yfov`` with its aspect are what common readers take; turns about single axes and
an ``xfov`` are taken by few. Where few keys are asked for there is no other way: a matrix has no curve between
two keys, so a translation and three rotations carry a curve each, whose tangents lie a third of the span away in
time, which is the cubic Hermite curve they stand for. The perspective holds no film back and no offsets.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple
from xml.sax.saxutils import quoteattr

import numpy as np

from anaxis.core.image_plane import CORNERS, ON_PICTURE
from anaxis.core.motion.keys import KeyRule, Keys
from anaxis.core.outgoing import Outgoing, pose_matrices, root_matrix
from anaxis.core.scene.landmarks import unique_name
from anaxis.core.space.axes import Convention
from anaxis.core.space.rotation import angles_from_matrices
from anaxis.core.typing import Floats
from anaxis.formats.file_axes import file_axes, is_still
from anaxis.formats.format import FAR_WRITTEN_M, NEAR_WRITTEN_M
from anaxis.formats.nodes import SampledNode, nodes_of, places

# A near plane at 0 makes a projection that divides by nothing, in readers that take it as it is.
NEAREST_M = 1e-4
_UNIT_NAMES = {0.001: "millimeter", 0.01: "centimeter", 1.0: "meter", 0.0254: "inch", 0.3048: "foot"}


def key_rule(receiver: Convention) -> KeyRule:
    return KeyRule(file_axes("collada", receiver).convention, "bezier")


def write_collada(cameras: Sequence[Outgoing], folder: Path, stem: str) -> list[Path]:
    """Write ``stem.dae``; returns the files written."""
    axes = file_axes("collada", cameras[0].convention)
    ids = {"scene"}
    written = [_Written(node, ids, axes.convention) for node in nodes_of(cameras)]
    lenses = [w.lens() for w in written]
    animations = [a for w in written for a in w.animations()]
    scene = [w.scene() for w in written]
    unit = axes.convention.metres_per_unit
    # The standard allows no library without anything in it.
    moving = f"<library_animations>{''.join(animations)}</library_animations>\n" if animations else ""
    target = folder / f"{stem}.dae"
    target.write_text(
        '<?xml version="1.0" encoding="utf-8"?>\n<COLLADA xmlns="http://www.collada.org/2005/11/COLLADASchema" version="1.4.1">\n'
        "<asset><contributor><authoring_tool>Anaxis</authoring_tool></contributor><created>2000-01-01T00:00:00</created><modified>2000-01-01T00:00:00</modified>"
        f'<unit name="{_UNIT_NAMES.get(unit, "unit")}" meter="{unit:.17g}"/><up_axis>{axes.up}_UP</up_axis></asset>\n'
        f"<library_cameras>{''.join(lenses)}</library_cameras>\n{moving}{''.join(w.geometry() for w in written)}"
        f'<library_visual_scenes><visual_scene id="scene">{"".join(scene)}</visual_scene></library_visual_scenes>\n'
        '<scene><instance_visual_scene url="#scene"/></scene></COLLADA>\n',
        encoding="utf-8",
    )
    return [target]


class _AnimationChannel(NamedTuple):
    """What is animated, by a value (n, c) on every frame, or by one column of the camera's keys."""

    target: str
    values: Floats
    column: int | None = None


class _Written:
    """One camera in the numbers of the file, worked out once: ``matrix`` (n, 4, 4), ``yfov_deg`` (n,).

    ``ids`` are those taken in the file: a camera may be called anything, and an id is there once.
    """

    def __init__(self, node: SampledNode, ids: set[str], convention: Convention) -> None:
        self.node, self.ids, self.convention, self.outgoing = node, ids, convention, node.outgoing
        self.id, self.key = unique_name(node.name, ids), unique_name(f"{node.name}_lens", ids)
        track = node.outgoing.track
        self.matrix = pose_matrices(track, convention)
        self.used = track.lens.used(node.outgoing.image, node.outgoing.fit)
        self.yfov_deg = 2 * np.degrees(np.arctan(self.used.height_mm / 2 / track.lens.focal_mm))
        plane = node.outgoing.plane
        self.plane = None if plane is None else plane.in_units(convention.metres_per_unit)
        self.plane_id, self.quad = (
            ("", "") if plane is None else (unique_name(n, ids) for n in ("image_plane", "image_plane_quad"))
        )
        self.marks = [(name, unique_name(name, ids), at) for name, at in places(node, convention)]

    def lens(self) -> str:
        lens, unit, used = self.outgoing.track.lens, self.convention.metres_per_unit, self.used
        return (
            f'<camera id="{self.key}" name={quoteattr(self.node.name)}><optics><technique_common><perspective><yfov sid="yfov">{self.yfov_deg[0]:.17g}</yfov>'
            f"<aspect_ratio>{float(used.width_mm[0] / used.height_mm[0]):.17g}</aspect_ratio><znear>{_distance(lens.near_m, unit, NEAR_WRITTEN_M, NEAREST_M)}</znear>"
            f"<zfar>{_distance(lens.far_m, unit, FAR_WRITTEN_M)}</zfar></perspective></technique_common></optics></camera>"
        )

    def geometry(self) -> str:
        """The image plane's quad, in the library that holds it; the format's textures are left to the receiver."""
        if self.plane is None:
            return ""
        key = self.quad
        return (
            f'<library_geometries><geometry id="{key}" name="image_plane"><mesh>{_source(f"{key}_p", CORNERS, 3, "X Y Z")}'
            f'{_source(f"{key}_t", ON_PICTURE, 2, "S T")}<vertices id="{key}_v"><input semantic="POSITION" source="#{key}_p"/></vertices>'
            f'<polylist count="1"><input semantic="VERTEX" source="#{key}_v" offset="0"/><input semantic="TEXCOORD" source="#{key}_t" offset="1"/>'
            "<vcount>4</vcount><p>0 0 1 1 2 2 3 3</p></polylist></mesh></geometry></library_geometries>\n"
        )

    def animations(self) -> list[str]:
        """A channel for everything that moves."""
        channels = self._pose_channels()
        channels.append(_AnimationChannel(f"{self.key}/yfov", self.yfov_deg[:, None]))
        if self.plane is not None:
            channels.append(_AnimationChannel(f"{self.plane_id}/transform", self.plane.reshape(-1, 16)))
        channels += [_AnimationChannel(f"{key}/transform", _moved(at)) for _, key, at in self.marks if len(at) > 1]
        seconds = self.outgoing.seconds_in_file
        return [
            _animation(c, seconds, self.outgoing, self.ids)
            for c in channels
            if len(seconds) > 1 and not is_still(c.values)
        ]

    def _pose_channels(self) -> list[_AnimationChannel]:
        keys = self.outgoing.keys
        if keys is None:
            return [_AnimationChannel(f"{self.id}/transform", self.matrix.reshape(-1, 16))]
        out = []
        for i, axis in enumerate("XYZ"):
            out.append(_AnimationChannel(f"{self.id}/place.{axis}", keys.values[:, i : i + 1], i))
            out.append(_AnimationChannel(f"{self.id}/turn{axis}.ANGLE", keys.values[:, 3 + i : 4 + i], 3 + i))
        return out

    def scene(self) -> str:
        """The camera's node and its landmarks', below the root where there is one."""
        node, convention = self.node, self.convention
        below = ""
        if self.plane is not None:
            below = (
                f'{_open(self.plane_id, "image_plane")}<matrix sid="transform">{_words(self.plane[0])}</matrix>'
                f'<instance_geometry url="#{self.quad}"/></node>'
            )
        inside = f'{_open(self.id, node.name)}{self._pose()}<instance_camera url="#{self.key}"/>{below}</node>'
        for name, key, at in self.marks:
            first = _moved(at[:1])
            inside += f'{_open(key, name)}<matrix sid="transform">{_words(first)}</matrix></node>'
        if node.root is None:
            return inside
        matrix = root_matrix(node.root.placement, convention)
        key = unique_name(node.root.name, self.ids)
        return f'{_open(key, node.root.name)}<matrix sid="placement">{_words(matrix)}</matrix>{inside}</node>'

    def _pose(self) -> str:
        """Where the node is on its first frame, in the elements that are animated."""
        if self.outgoing.keys is None:
            return f'<matrix sid="transform">{_words(self.matrix[0])}</matrix>'
        angles = angles_from_matrices(self.matrix[:1, :3, :3], "XYZ").deg
        turns = "".join(
            f'<rotate sid="turn{a}">{v} {_words(angles[:, i])}</rotate>'
            for i, a, v in ((2, "Z", "0 0 1"), (1, "Y", "0 1 0"), (0, "X", "1 0 0"))
        )
        return f'<translate sid="place">{_words(self.matrix[0, :3, 3])}</translate>{turns}'


def _moved(places: Floats) -> Floats:
    """Places (n, 3) as matrices, (n, 16)."""
    out = np.tile(np.eye(4), (len(places), 1, 1))
    out[:, :3, 3] = places
    return out.reshape(-1, 16)


def _open(key: str, name: str) -> str:
    return f"<node id={quoteattr(key)} name={quoteattr(name)}>"


def _distance(values_m: Floats, unit: float, otherwise_m: float, least_m: float = 0.0) -> str:
    first = float(values_m[0])
    return f"{max(first if np.isfinite(first) else otherwise_m, least_m) / unit:.17g}"


def _words(values: Floats) -> str:
    return " ".join(f"{v:.17g}" for v in np.asarray(values).reshape(-1).tolist())


def _source(key: str, values: Floats, width: int, params: str, kind: str = "float") -> str:
    return (
        f'<source id="{key}"><float_array id="{key}_a" count="{values.size}">{_words(values)}</float_array><technique_common>'
        f'<accessor source="#{key}_a" count="{len(values)}" stride="{width}">'
        + "".join(f'<param name="{p}" type="{kind}"/>' for p in params.split())
        + "</accessor></technique_common></source>"
    )


def _animation(channel: _AnimationChannel, seconds: Floats, outgoing: Outgoing, ids: set[str]) -> str:
    """One channel; with keys of its own it is a curve, else straight between the frames written."""
    keys, target, values = outgoing.keys, channel.target, channel.values
    key = unique_name(target.replace("/", "_").replace(".", "_"), ids)
    source = {k: unique_name(f"{key}_{k}", ids) for k in ("i", "o", "k", "ti", "to", "s")}
    curved = keys is not None and channel.column is not None
    if keys is not None and curved:
        seconds = seconds[keys.index]
    # A field of view and a landmark are no channels of the keys: they stay on every frame.
    n = len(seconds)
    name = "TRANSFORM" if values.shape[1] == 16 else target.rsplit(".", 1)[-1].rsplit("/", 1)[-1].upper()
    kind = "float4x4" if values.shape[1] == 16 else "float"
    inputs = _source(source["i"], seconds, 1, "TIME") + _source(source["o"], values, values.shape[1], name, kind)
    names = " ".join(["BEZIER" if curved else "LINEAR"] * n)
    inputs += (
        f'<source id="{source["k"]}"><Name_array id="{source["k"]}_a" count="{n}">{names}</Name_array><technique_common><accessor source="#{source["k"]}_a" count="{n}" stride="1">'
        '<param name="INTERPOLATION" type="name"/></accessor></technique_common></source>'
    )
    tangents = ""
    if curved and keys is not None and channel.column is not None:
        into, out = _tangents(keys, channel.column, seconds)
        inputs += _source(source["ti"], into, 2, "X Y") + _source(source["to"], out, 2, "X Y")
        tangents = f'<input semantic="IN_TANGENT" source="#{source["ti"]}"/><input semantic="OUT_TANGENT" source="#{source["to"]}"/>'
    return (
        f'<animation id="{key}">{inputs}<sampler id="{source["s"]}"><input semantic="INPUT" source="#{source["i"]}"/><input semantic="OUTPUT" source="#{source["o"]}"/>'
        f'<input semantic="INTERPOLATION" source="#{source["k"]}"/>{tangents}</sampler><channel source="#{source["s"]}" target="{target}"/></animation>\n'
    )


def _tangents(keys: Keys, column: int, seconds: Floats) -> tuple[Floats, Floats]:
    """Control points (time, value) before and behind each key, (k, 2) each, a third of the span away."""
    third_s = np.diff(seconds) / 3
    third_f = np.diff(keys.frames) / 3
    before_s, behind_s = np.concatenate([third_s[:1], third_s]), np.concatenate([third_s, third_s[-1:]])
    before_f, behind_f = np.concatenate([third_f[:1], third_f]), np.concatenate([third_f, third_f[-1:]])
    value = keys.values[:, column]
    into = np.stack([seconds - before_s, value - keys.slope_in[:, column] * before_f], axis=1)
    out = np.stack([seconds + behind_s, value + keys.slope_out[:, column] * behind_f], axis=1)
    return into, out
