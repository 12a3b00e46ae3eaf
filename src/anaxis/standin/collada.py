"""A COLLADA file evaluated by the standard's words, for the stand-in; the library only parses the XML."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import scipy

from anaxis.core.time.rates import nearest_rate
from anaxis.core.typing import Floats
from anaxis.standin.gltf import FILM_WIDTH_MM, Evaluated
from anaxis.standin.views import Y_UP, Z_UP, FileViews, ReadRequest, chosen, posed

_NS = "{http://www.collada.org/2005/11/COLLADASchema}"


def collada_views(path: Path, asked: ReadRequest) -> FileViews:
    found = evaluate(path, asked.at, asked.camera, asked.rate, asked.zero_frame or 0.0)
    world = Z_UP if found.up == "Z" else Y_UP
    views = posed(
        found.name, found.frames, found.rate, found.locals, found.lens, world, found.unit, asked.image, found.up, found.unit
    )  # fmt: skip
    return replace(views, own_frames=found.own_frames)


def evaluate(
    path: Path, at: Floats | None, wanted: str | None = None, rate: Fraction | None = None, zero_frame: float = 0.0
) -> Evaluated:
    """A camera by its node's name, the file's first where None, at its own samples or at frames ``at``.

    ``rate`` and ``zero_frame`` (the frame at 0 s) are what a person sets there; the file states neither. Raises
    BadInput where the camera is not there.
    """
    from lxml import etree

    root = etree.parse(str(path), etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=True)).getroot()
    instances = [(str(e.getparent().get("name")), e) for e in root.iter(f"{_NS}instance_camera")]
    instance = chosen(path.name, instances, wanted)
    chain, node = [], instance.getparent()
    while node is not None and node.tag == f"{_NS}node":
        chain.append(node)
        node = node.getparent()
    # Whose animation it is: that of the nodes above the camera, or of its lens.
    whose = {n.get("id") for n in chain} | {str(instance.get("url"))[1:]}
    channels = [c for c in root.iter(f"{_NS}channel") if str(c.get("target")).split("/")[0] in whose]
    curves = {target: curve for target, curve in (_curve(root, c) for c in channels) if curve is not None}
    times = np.unique(np.concatenate([c[0] for c in curves.values()])) if curves else np.zeros(1)
    rate = rate or (nearest_rate(1 / float(np.min(np.diff(times)))) if len(times) > 1 else nearest_rate(24.0))
    own = np.round(times * float(rate), 6) + zero_frame
    frames = own if at is None else at
    seconds = times if at is None else (frames - zero_frame) / float(rate)
    locals_ = [_local(n, curves, seconds) for n in reversed(chain)]
    camera = next(c for c in root.iter(f"{_NS}camera") if "#" + str(c.get("id")) == instance.get("url"))
    stated = {c.tag.removeprefix(_NS): float(c.text) for c in next(camera.iter(f"{_NS}perspective"))}
    n = len(seconds)
    aspect = stated.get("aspect_ratio")
    fov = {
        k: _value(curves.get(f"{camera.get('id')}/{k}"), seconds, stated[k]) for k in ("xfov", "yfov") if k in stated
    }
    tangents = {k: 2 * np.tan(np.radians(v) / 2) for k, v in fov.items()}
    width = tangents["xfov"] if "xfov" in tangents else tangents["yfov"] * (aspect or 1.0)
    height = tangents["yfov"] if "yfov" in tangents else tangents["xfov"] / (aspect or 1.0)
    unit_element = next(root.iter(f"{_NS}unit"), None)
    unit = float(unit_element.get("meter") or 1.0) if unit_element is not None else 1.0
    up_element = next(root.iter(f"{_NS}up_axis"), None)
    lens = {
        "focal_mm": FILM_WIDTH_MM / width,
        "film_width_mm": np.full(n, FILM_WIDTH_MM),
        "film_height_mm": FILM_WIDTH_MM * height / width,
        "offset_x_mm": np.zeros(n),
        "offset_y_mm": np.zeros(n),
        "squeeze": np.ones(n),
        "near_m": np.full(n, stated["znear"] * unit),
        "far_m": np.full(n, stated["zfar"] * unit),
    }
    up = str(up_element.text)[0] if up_element is not None else "Y"
    return Evaluated(str(chain[0].get("name")), frames, rate, locals_, lens, None, 1.0, up, unit, own)


def _floats(element: Any) -> Floats:
    return np.array(next(element.iter(f"{_NS}float_array")).text.split(), dtype=np.float64)


def _curve(root: Any, channel: Any) -> tuple[str, tuple[Floats, Floats, Floats | None, Floats | None] | None]:
    """A channel's target and its key times, values, and control points before and behind each key."""
    by_id = {e.get("id"): e for e in root.iter(f"{_NS}source", f"{_NS}sampler")}
    sampler = by_id[channel.get("source")[1:]]
    parts = {i.get("semantic"): by_id[i.get("source")[1:]] for i in sampler if i.tag == f"{_NS}input"}
    tangents = [_floats(parts[k]).reshape(-1, 2) if k in parts else None for k in ("IN_TANGENT", "OUT_TANGENT")]
    return channel.get("target"), (_floats(parts["INPUT"]), _floats(parts["OUTPUT"]), tangents[0], tangents[1])


def _value(curve: tuple[Floats, Floats, Floats | None, Floats | None] | None, seconds: Floats, still: float) -> Floats:
    if curve is None:
        return np.full(len(seconds), still)
    times, values, into, out = curve
    at = np.clip(seconds, times[0], times[-1])
    if into is None or out is None or len(times) == 1:
        return np.interp(at, times, values)
    # Control points a third of the span away in time make the Bezier curve a cubic Hermite one.
    leaving = (out[:, 1] - values) / (out[:, 0] - times)
    arriving = (values - into[:, 1]) / (times - into[:, 0])
    span = np.clip(np.searchsorted(times, at, side="right") - 1, 0, len(times) - 2)
    drawn = np.empty(len(at))
    for s in np.unique(span).tolist():
        here = span == s
        drawn[here] = scipy.interpolate.CubicHermiteSpline(
            times[s : s + 2], values[s : s + 2], [leaving[s], arriving[s + 1]]
        )(at[here])
    return drawn


def _matrix(curve: Any | None, seconds: Floats, still: Floats) -> Floats:
    """A whole matrix, (n, 4, 4): element by element straight between its keys."""
    if curve is None:
        return np.tile(still.reshape(4, 4), (len(seconds), 1, 1))
    times, values = curve[0], curve[1].reshape(len(curve[0]), 16)
    at = np.clip(seconds, times[0], times[-1])
    return np.stack([np.interp(at, times, v) for v in values.T], axis=1).reshape(-1, 4, 4)


def _local(node: Any, curves: dict[str, Any], seconds: Floats) -> Floats:
    out = np.tile(np.eye(4), (len(seconds), 1, 1))
    for element in node:
        kind, sid = element.tag.removeprefix(_NS), element.get("sid")
        if kind not in ("translate", "rotate", "scale", "matrix"):
            continue
        numbers = np.array(element.text.split(), dtype=np.float64)
        step = np.tile(np.eye(4), (len(seconds), 1, 1))
        at = f"{node.get('id')}/{sid}"
        if kind == "translate":
            step[:, :3, 3] = np.stack(
                [_value(curves.get(f"{at}.{a}"), seconds, v) for a, v in zip("XYZ", numbers.tolist(), strict=True)],
                axis=1,
            )
        elif kind == "rotate":
            angle = _value(curves.get(f"{at}.ANGLE"), seconds, float(numbers[3]))
            step[:, :3, :3] = scipy.spatial.transform.Rotation.from_rotvec(
                np.radians(angle)[:, None] * numbers[:3]
            ).as_matrix()
        elif kind == "scale":
            step[:, [0, 1, 2], [0, 1, 2]] = numbers
        else:
            step[:] = _matrix(curves.get(at), seconds, numbers)
        out = out @ step
    return out
