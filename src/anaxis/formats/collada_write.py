"""Writing COLLADA 1.4: a translation and three turns, each component an animation channel in double precision.

The perspective holds a horizontal field of view and an aspect, no film back and no offsets. A lens that moves is
an animated ``xfov``, which most readers drop. Keys with slopes become BEZIER samplers with tangents a third of
the span away in time, which is the cubic Hermite curve they stand for.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from xml.sax.saxutils import quoteattr

import numpy as np

from anaxis.core.axes import Convention
from anaxis.core.outgoing import Outgoing, pose_matrices, root_matrix
from anaxis.core.reduce import KeyRule, Keys
from anaxis.core.rotation import angles_from_matrices
from anaxis.core.typing import Floats
from anaxis.formats.file_axes import file_axes, is_still, seconds_from_zero
from anaxis.formats.nodes import Node, nodes_of, places

_UNIT_NAMES = {0.001: "millimeter", 0.01: "centimeter", 1.0: "meter", 0.0254: "inch", 0.3048: "foot"}


def key_rule(receiver: Convention) -> KeyRule:
    return KeyRule(file_axes("collada", receiver).convention, "bezier")


def write_collada(cameras: Sequence[Outgoing], folder: Path, stem: str) -> list[Path]:
    """Write ``stem.dae``. Raises BadInput for frames below 0."""
    axes = file_axes("collada", cameras[0].convention)
    written = [
        _Written(node, "lens" + (f"_{i + 1}" if i else ""), axes.convention)
        for i, node in enumerate(nodes_of(cameras))
    ]
    lenses = [w.lens() for w in written]
    animations = [a for w in written for a in w.animations()]
    scene = [w.scene() for w in written]
    unit = axes.convention.metres_per_unit
    target = folder / f"{stem}.dae"
    target.write_text(
        '<?xml version="1.0" encoding="utf-8"?>\n<COLLADA xmlns="http://www.collada.org/2005/11/COLLADASchema" version="1.4.1">\n'
        "<asset><contributor><authoring_tool>Anaxis</authoring_tool></contributor><created>2000-01-01T00:00:00</created><modified>2000-01-01T00:00:00</modified>"
        f'<unit name="{_UNIT_NAMES.get(unit, "unit")}" meter="{unit:.17g}"/><up_axis>{axes.up}_UP</up_axis></asset>\n'
        f"<library_cameras>{''.join(lenses)}</library_cameras>\n"
        f"<library_animations>{''.join(animations)}</library_animations>\n"
        f'<library_visual_scenes><visual_scene id="scene">{"".join(scene)}</visual_scene></library_visual_scenes>\n'
        '<scene><instance_visual_scene url="#scene"/></scene></COLLADA>\n',
        encoding="utf-8",
    )
    return [target]


class _Written:
    """One camera in the numbers of the file, worked out once: ``place`` (n, 3), ``angles_deg`` (n, 3), ``xfov_deg`` (n,)."""

    def __init__(self, node: Node, key: str, convention: Convention) -> None:
        self.node, self.key, self.convention, self.outgoing = node, key, convention, node.outgoing
        track = node.outgoing.track
        matrix = pose_matrices(track, convention)
        self.place, self.angles_deg = matrix[:, :3, 3], angles_from_matrices(matrix[:, :3, :3], "XYZ").deg
        self.used = track.lens.used(node.outgoing.image, node.outgoing.fit)
        self.xfov_deg = 2 * np.degrees(np.arctan(self.used.width_mm / 2 / track.lens.focal_mm))

    def lens(self) -> str:
        lens, unit, used = self.outgoing.track.lens, self.convention.metres_per_unit, self.used
        return (
            f'<camera id="{self.key}" name={quoteattr(self.node.name)}><optics><technique_common><perspective><xfov sid="xfov">{self.xfov_deg[0]:.17g}</xfov>'
            f"<aspect_ratio>{float(used.width_mm[0] / used.height_mm[0]):.17g}</aspect_ratio><znear>{_distance(lens.near_m, unit, 0.01)}</znear>"
            f"<zfar>{_distance(lens.far_m, unit, 10_000.0)}</zfar></perspective></technique_common></optics></camera>"
        )

    def animations(self) -> list[str]:
        """A channel for every component that moves."""
        seconds = seconds_from_zero(self.outgoing, "COLLADA")
        channels: list[tuple[str, Floats, int | None]] = []
        for i, axis in enumerate("XYZ"):
            channels.append((f"{self.node.name}/place.{axis}", self.place[:, i], i))
            channels.append((f"{self.node.name}/turn{axis}.ANGLE", self.angles_deg[:, i], 3 + i))
        channels.append((f"{self.key}/xfov", self.xfov_deg, None))
        return [
            _animation(channel, seconds, values, self.outgoing, column)
            for channel, values, column in channels
            if len(seconds) > 1 and not is_still(values)
        ]

    def scene(self) -> str:
        """The camera's node and its landmarks', below the root where there is one."""
        node, convention = self.node, self.convention
        turns = "".join(
            f'<rotate sid="turn{a}">{v} {_words(self.angles_deg[:1, i])}</rotate>'
            for i, a, v in ((2, "Z", "0 0 1"), (1, "Y", "0 1 0"), (0, "X", "1 0 0"))
        )
        inside = f'{_open(node.name)}<translate sid="place">{_words(self.place[0])}</translate>{turns}<instance_camera url="#{self.key}"/></node>'
        for name, at in places(node, convention):
            inside += f"{_open(name)}<translate>{_words(at[0])}</translate></node>"
        if node.root is None:
            return inside
        matrix = root_matrix(node.root.placement, convention)
        return f'{_open(node.root.name)}<matrix sid="placement">{_words(matrix)}</matrix>{inside}</node>'


def _open(name: str) -> str:
    return f"<node id={quoteattr(name)} name={quoteattr(name)}>"


def _distance(values_m: Floats, unit: float, otherwise_m: float) -> str:
    first = float(values_m[0])
    return f"{(first if np.isfinite(first) else otherwise_m) / unit:.17g}"


def _words(values: Floats) -> str:
    return " ".join(f"{v:.17g}" for v in np.asarray(values).reshape(-1).tolist())


def _source(key: str, values: Floats, width: int, params: str, kind: str = "float") -> str:
    return (
        f'<source id="{key}"><float_array id="{key}a" count="{values.size}">{_words(values)}</float_array><technique_common>'
        f'<accessor source="#{key}a" count="{len(values)}" stride="{width}">'
        + "".join(f'<param name="{p}" type="{kind}"/>' for p in params.split())
        + "</accessor></technique_common></source>"
    )


def _animation(target: str, seconds: Floats, values: Floats, outgoing: Outgoing, column: int | None) -> str:
    """One channel; with keys of its own it is a curve, else straight between the frames written."""
    key, keys = target.replace("/", "_").replace(".", "_"), outgoing.keys
    curved = keys is not None and column is not None
    if keys is not None and column is not None:
        seconds, values = seconds[keys.index], keys.values[:, column]
    # A field of view is no channel of the keys: it stays on every frame.
    n = len(seconds)
    inputs = _source(f"{key}_i", seconds, 1, "TIME") + _source(
        f"{key}_o", values, 1, target.rsplit(".", 1)[-1].rsplit("/", 1)[-1].upper()
    )
    names = " ".join(["BEZIER" if curved else "LINEAR"] * n)
    inputs += (
        f'<source id="{key}_k"><Name_array id="{key}_ka" count="{n}">{names}</Name_array><technique_common><accessor source="#{key}_ka" count="{n}" stride="1">'
        '<param name="INTERPOLATION" type="name"/></accessor></technique_common></source>'
    )
    tangents = ""
    if curved and keys is not None and column is not None:
        into, out = _tangents(keys, column, seconds)
        inputs += _source(f"{key}_ti", into, 2, "X Y") + _source(f"{key}_to", out, 2, "X Y")
        tangents = f'<input semantic="IN_TANGENT" source="#{key}_ti"/><input semantic="OUT_TANGENT" source="#{key}_to"/>'
    return (
        f'<animation id="{key}">{inputs}<sampler id="{key}_s"><input semantic="INPUT" source="#{key}_i"/><input semantic="OUTPUT" source="#{key}_o"/>'
        f'<input semantic="INTERPOLATION" source="#{key}_k"/>{tangents}</sampler><channel source="#{key}_s" target="{target}"/></animation>\n'
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
