"""A glTF file evaluated by the standard's words, for the stand-in; the library only parses it."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import scipy

from anaxis.core.camera.lens import Image
from anaxis.core.time.rates import nearest_rate, parse_rate
from anaxis.core.typing import Floats
from anaxis.standin.views import Y_UP, FileViews, ReadRequest, chosen, posed

# A perspective has no size of its own: it is given that of a full-frame film back.
FILM_WIDTH_MM = 36.0


@dataclass(frozen=True, eq=False)
class Evaluated:
    """One camera: ``locals`` are the transforms above it and its own, outermost first, (n, 4, 4) each.

    ``own_frames`` (k,) are those that the file itself has samples on; one where nothing moves."""

    name: str
    frames: Floats
    rate: Fraction
    locals: list[Floats]
    lens: dict[str, Floats]
    size: tuple[int, int] | None
    pixel_aspect: float
    up: str = "Y"
    unit: float = 1.0
    own_frames: Floats = field(default_factory=lambda: np.zeros(1))


def gltf_views(path: Path, asked: ReadRequest) -> FileViews:
    """By the standard's words: node transforms outermost first, quaternions, yfov in radians, seconds."""
    zooms = asked.profile.lens.reads_gltf_zoom
    found = evaluate(path, asked.at, asked.camera, asked.rate, asked.zero_frame, zooms, asked.between_keys)
    image = Image(*found.size, found.pixel_aspect) if found.size else asked.image
    views = posed(found.name, found.frames, found.rate, found.locals, found.lens, Y_UP, 1.0, image, "Y", 1.0)
    return replace(views, own_frames=found.own_frames, stated=frozenset({"image"} if found.size else ()))


def evaluate(
    path: Path,
    at: Floats | None,
    wanted: str | None = None,
    rate: Fraction | None = None,
    zero_frame: float | None = None,
    animated_lens: bool = False,
    between_keys: bool = False,
) -> Evaluated:
    """A camera by its node's name, the file's first where None, at its own samples or at frames ``at``.

    ``rate`` and ``zero_frame`` (the frame at 0 s) are what a person sets there, else what the file's extras say. Few
    readers take an animated lens: with ``animated_lens`` False it stands as on the first frame. ``between_keys`` as in
    :class:`anaxis.standin.views.ReadRequest`. Raises BadInput
    where the camera is not there.
    """
    from pygltflib import GLTF2

    document = GLTF2().load(str(path))
    nodes = document.nodes
    index = chosen(path.name, [(n.name, i) for i, n in enumerate(nodes) if n.camera is not None], wanted)
    parents = {c: i for i, n in enumerate(nodes) for c in (n.children or [])}
    chain = [index]
    while chain[-1] in parents:
        chain.append(parents[chain[-1]])
    lens_at = f"/cameras/{nodes[index].camera}/"
    camera = document.cameras[nodes[index].camera]
    own = (camera.extras or {}).get("anaxis", {}) if isinstance(camera.extras, dict) else {}
    own_channels = (*(f"/nodes/{i}/" for i in chain), *([lens_at] if animated_lens else []))
    animated = {k: v for k, v in channels_of(document).items() if k.startswith(own_channels)}
    times = np.unique(np.concatenate([t[:, 0] for t, _, _ in animated.values()])) if animated else np.zeros(1)
    if rate is None:
        guessed = nearest_rate(1 / float(np.median(np.diff(times)))) if len(times) > 1 else Fraction(24)
        rate = parse_rate(own["rate"]) if "rate" in own else guessed
    zero = float(own.get("frame_at_zero_s", 0.0)) if zero_frame is None else zero_frame
    # Single precision loses the last digits of a time: a frame is the whole number beside it.
    own_frames = np.round(times.astype(np.float64) * float(rate), 3) + zero
    frames = own_frames if at is None else at
    exact = (frames - zero) / float(rate)
    if between_keys:
        seconds = exact
    elif at is None:
        seconds = times.astype(np.float64)
    else:
        seconds = at_keys(exact, times, 1e-3 / float(rate))
    locals_ = [local_matrices(nodes[i], i, animated, seconds) for i in reversed(chain)]
    view = camera.perspective
    yfov = _sampled(animated.get(f"{lens_at}perspective/yfov"), seconds, np.array([view.yfov]))[:, 0]
    n = len(seconds)
    aspect = float(view.aspectRatio or 1.0)
    height = FILM_WIDTH_MM / aspect
    lens = {
        "focal_mm": height / 2 / np.tan(yfov / 2),
        "film_width_mm": np.full(n, FILM_WIDTH_MM),
        "film_height_mm": np.full(n, height),
        "offset_x_mm": np.zeros(n),
        "offset_y_mm": np.zeros(n),
        "squeeze": np.ones(n),
        "near_m": np.full(n, float(view.znear)),
        "far_m": np.full(n, float(view.zfar) if view.zfar else np.nan),
    }
    image = own.get("image")
    size = (int(image["width_px"]), int(image["height_px"])) if image else None
    return Evaluated(
        nodes[index].name or "camera",
        frames,
        rate,
        locals_,
        lens,
        size,
        float(image["pixel_aspect"]) if image else 1.0,
        own_frames=own_frames,
    )


def channels_of(document: Any) -> dict[str, tuple[Floats, Floats, str]]:
    """What is animated, by its address: times (k, 1), values, and how a reader draws between them."""
    found = {}
    for animation in document.animations or []:
        for channel in animation.channels:
            sampler = animation.samplers[channel.sampler]
            found[_target(channel)] = (
                array_of(document, sampler.input), array_of(document, sampler.output), sampler.interpolation or "LINEAR",
            )  # fmt: skip
    return found


def at_keys(seconds: Floats, times: Floats, near_s: float) -> Floats:
    """Seconds moved onto the keys that lie beside them: a reader snaps them to the same frame."""
    place = np.clip(np.searchsorted(times, seconds), 1, max(1, len(times) - 1))
    place = np.minimum(place, len(times) - 1)
    before = np.maximum(place - 1, 0)
    nearest = np.where(np.abs(times[before] - seconds) < np.abs(times[place] - seconds), times[before], times[place])
    return np.where(np.abs(nearest - seconds) < near_s, nearest, seconds)


def _target(channel: Any) -> str:
    if channel.target.path == "pointer":
        return str(channel.target.extensions["KHR_animation_pointer"]["pointer"])
    return f"/nodes/{channel.target.node}/{channel.target.path}"


def array_of(document: Any, index: int) -> Floats:
    """The numbers of an accessor in single precision, (k, width)."""
    accessor = document.accessors[index]
    view = document.bufferViews[accessor.bufferView]
    data = (
        document.get_data_from_buffer_uri(document.buffers[view.buffer].uri)
        if document.buffers[view.buffer].uri
        else document.binary_blob()
    )
    width = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}[accessor.type]
    start = (view.byteOffset or 0) + (accessor.byteOffset or 0)
    return np.frombuffer(data, "<f4", accessor.count * width, start).reshape(-1, width).astype(np.float64)


def _sampled(found: tuple[Floats, Floats, str] | None, seconds: Floats, still: Floats) -> Floats:
    """A channel at ``seconds`` (n,), held outside its keys: (n, width)."""
    if found is None:
        return np.tile(still, (len(seconds), 1))
    times, values, way = found[0][:, 0], found[1], found[2]
    at = np.clip(seconds, times[0], times[-1])
    if len(times) == 1:
        return np.tile(values[:1], (len(at), 1))
    if way == "CUBICSPLINE":
        into, value, out = values[0::3], values[1::3], values[2::3]
        span = np.clip(np.searchsorted(times, at, side="right") - 1, 0, len(times) - 2)
        drawn = np.empty((len(at), value.shape[1]))
        for s in np.unique(span).tolist():
            here = span == s
            drawn[here] = scipy.interpolate.CubicHermiteSpline(
                times[s : s + 2], value[s : s + 2], np.stack([out[s], into[s + 1]])
            )(at[here])
        return drawn
    if way == "STEP":
        return values[np.searchsorted(times, at, side="right") - 1]
    if values.shape[1] == 4:
        return np.asarray(
            scipy.spatial.transform.Slerp(times, scipy.spatial.transform.Rotation.from_quat(values))(at).as_quat()
        )
    return np.stack([np.interp(at, times, v) for v in values.T], axis=1)


def local_matrices(node: Any, index: int, animated: dict[str, tuple[Floats, Floats, str]], seconds: Floats) -> Floats:
    """A node's transform at ``seconds`` (n,), (n, 4, 4)."""
    if node.matrix:
        return np.tile(np.array(node.matrix).reshape(4, 4).T, (len(seconds), 1, 1))
    place = _sampled(animated.get(f"/nodes/{index}/translation"), seconds, np.array(node.translation or [0.0, 0, 0]))
    turn = _sampled(animated.get(f"/nodes/{index}/rotation"), seconds, np.array(node.rotation or [0.0, 0, 0, 1]))
    scale = _sampled(animated.get(f"/nodes/{index}/scale"), seconds, np.array(node.scale or [1.0, 1, 1]))
    out = np.tile(np.eye(4), (len(seconds), 1, 1))
    out[:, :3, :3] = scipy.spatial.transform.Rotation.from_quat(turn).as_matrix() * scale[:, None, :]
    out[:, :3, 3] = place
    return out
