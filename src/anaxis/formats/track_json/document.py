"""Track JSON: Anaxis's own open document, one camera, lossless float64.

The document says in which convention its numbers are. In the canonical convention (the default of
:func:`write_track_json` with no receiver) a track comes back bit for bit. The schema beside this
file, ``track.schema.json``, is the published description.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any

import numpy as np

from anaxis.core.bounds import MAX_FRAMES
from anaxis.core.camera.channels import CHANNELS
from anaxis.core.camera.distortion.distortion import Distortion, distortion_from_document
from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track, make_lens
from anaxis.core.errors import BadInput
from anaxis.core.motion.keys import KeyRule, Keys
from anaxis.core.outgoing import Outgoing
from anaxis.core.scene.nodes import Node, Scene
from anaxis.core.space.axes import Convention, axes_matrix, axis_name
from anaxis.core.time.rates import parse_rate, plain_frame, rate_text
from anaxis.core.typing import Floats, Ints

_IN_UNITS = {k.removesuffix("_m"): k for k, c in CHANNELS.items() if c.of_the_scene}
_PLAIN = tuple(k for k, c in CHANNELS.items() if not c.of_the_scene)


@cache
def track_schema() -> dict[str, Any]:
    text = files("anaxis.formats.track_json").joinpath("track.schema.json").read_text(encoding="utf-8")
    schema: dict[str, Any] = json.loads(text)
    return schema


def write_track_json(cameras: Sequence[Outgoing], folder: Path, stem: str) -> list[Path]:
    """Write ``stem.track.json`` in the receiver's convention; a document holds one camera."""
    (outgoing,) = cameras
    target = folder / f"{stem}.track.json"
    target.write_bytes(track_bytes(outgoing))
    return [target]


def track_bytes(outgoing: Outgoing) -> bytes:
    """The document of a camera as a file holds it."""
    return json.dumps(track_document(outgoing), indent=1, allow_nan=False).encode()


def track_document(outgoing: Outgoing) -> dict[str, Any]:
    """The document of a camera, ready for ``json.dumps``; channels that do not vary are one number."""
    track, convention, image = outgoing.track, outgoing.convention, outgoing.image
    numbers = outgoing.numbers()
    lens: dict[str, Any] = {k: _channel(getattr(track.lens, k)) for k in _PLAIN}
    for key, field in _IN_UNITS.items():
        lens[key] = _channel(getattr(track.lens, field) / convention.metres_per_unit)
    marks = convention.position_from_canonical(outgoing.landmarks.position_m)
    keys = {"keys": _keys_document(outgoing.keys)} if outgoing.keys is not None else {}
    return {
        "anaxis_track": 1,
        "name": track.name,
        "convention": convention_document(convention),
        "rate": rate_text(track.rate),
        "image": {"width_px": image.width_px, "height_px": image.height_px, "pixel_aspect": image.pixel_aspect},
        "fit": outgoing.fit,
        "frames": [plain_frame(f) for f in track.frames.tolist()],
        "position": numbers.position.tolist(),
        "rotation": numbers.matrix[:, :3, :3].reshape(-1, 9).tolist(),
        "rotation_deg": numbers.rotation_deg.tolist(),
        "lens": lens,
        "landmarks": [
            {"name": name, "position": marks[:, i].tolist()} for i, name in enumerate(outgoing.landmarks.names)
        ],
        **({"distortion": track.distortion.document()} if track.distortion is not None else {}),
        **_marks_document(track),
        **keys,
    }


def _marks_document(track: Track) -> dict[str, Any]:
    """The frames marked as cuts, and as none; those only that are."""
    if track.marked is None:
        return {}
    found = {"cuts": track.frames[track.marked > 0], "no_cuts": track.frames[track.marked < 0]}
    return {k: [plain_frame(f) for f in v.tolist()] for k, v in found.items() if len(v)}


def _marked(document: dict[str, Any], frames: Floats, name: str) -> Ints | None:
    """What the document marks of its frames. Raises BadInput for a cut at a frame it has not."""
    if not document.get("cuts") and not document.get("no_cuts"):
        return None
    out = np.zeros(len(frames), dtype=np.int64)
    for key, mark in (("cuts", 1), ("no_cuts", -1)):
        asked = _array(document.get(key, []), (-1,), name, key)
        place = np.flatnonzero(np.isin(frames, asked))
        if len(place) != len(np.unique(asked)) or (len(place) and place[0] == 0):
            raise BadInput(
                f"{name}: {key} holds a frame that is none of its own, or its first: each must have one before it."
            )
        out[place] = mark
    return out


def key_rule(receiver: Convention) -> KeyRule:
    """Curves with tangents, in the receiver's own angles."""
    return KeyRule(receiver, "bezier")


def _keys_document(keys: Keys) -> dict[str, Any]:
    """The curves that draw the samples: a cubic Hermite curve between keys, slopes per frame."""
    return {
        "interpolation": "cubic",
        "frames": [plain_frame(f) for f in keys.frames.tolist()],
        "channels": {
            name: {
                "values": keys.values[:, i].tolist(),
                "slopes_in": keys.slope_in[:, i].tolist(),
                "slopes_out": keys.slope_out[:, i].tolist(),
            }
            for i, name in enumerate(keys.channels)
        },
    }


def convention_document(convention: Convention) -> dict[str, Any]:
    """A convention as a profile file and a track document write it."""

    def axes(m: Floats) -> dict[str, str]:
        return {k: axis_name(m[:, i]) for i, k in enumerate(("right", "up", "back"))}

    return {
        "world": axes(convention.world),
        "camera": axes(convention.camera),
        "metres_per_unit": convention.metres_per_unit,
        "rotation": {"order": convention.order, "signs": list(convention.signs)},
    }


def convention_from_document(spoken: dict[str, Any]) -> Convention:
    """The inverse of :func:`convention_document`; raises BadInput for axes that do not agree."""
    return Convention(
        world=axes_matrix(**spoken["world"]),
        camera=axes_matrix(**spoken["camera"], of_what="camera"),
        metres_per_unit=float(spoken["metres_per_unit"]),
        order=spoken["rotation"]["order"],
        signs=tuple(spoken["rotation"]["signs"]),
    )


def read_track_json(path: Path, within: Path | None = None) -> Scene:
    """Read a track document; raises BadInput that says which field is wrong."""
    return scene_of_track(path.read_bytes(), path.name)


def scene_of_track(data: bytes, name: str) -> Scene:
    """The scene of a track document's bytes, of a file called ``name``; raises BadInput that says which field is wrong."""
    try:
        document = json.loads(data.decode("utf-8"))
    except (ValueError, RecursionError) as error:
        where = f" (line {error.lineno}, column {error.colno})" if isinstance(error, json.JSONDecodeError) else ""
        raise BadInput(
            f"{name} is not readable JSON{where}: it breaks off or is another kind of file; export it again."
        ) from error
    from jsonschema import (
        Draft202012Validator,  # takes long to load, and packages write this format more than they read it
    )

    problem = next(iter(Draft202012Validator(track_schema()).iter_errors(_sketch(document))), None)
    if problem is not None:
        where = "/".join(str(p) for p in problem.absolute_path) or "the document"
        said = problem.message if len(problem.message) < 120 else problem.message[:117] + "..."
        raise BadInput(f"{name} is not a track document: in {where}, {said}; see track.schema.json.")
    return _scene(document, name)


def _sketch(value: Any, depth: int = 0) -> Any:
    """The document with its long lists cut short: the schema settles the shape, numpy the numbers.

    The schema of a 10,000-frame track would take seconds to walk.
    """
    if isinstance(value, dict):
        return {k: _sketch(v, depth + 1) for k, v in value.items()}
    if isinstance(value, list) and depth < 4:
        return [_sketch(v, depth + 1) for v in (value if len(value) <= 16 else value[:4])]
    return value


def _array(value: Any, shape: tuple[int, ...], name: str, key: str) -> Floats:
    """Numbers of a known shape; null counts as not a number. Raises BadInput naming the field."""
    try:
        return np.array(value, dtype=np.float64).reshape(shape)
    except (TypeError, ValueError) as error:
        raise BadInput(
            f"{name}: {key} holds a value that is not a number, or a row of the wrong length; each frame "
            f"needs {int(np.prod(shape[1:]))}."
        ) from error


def _scene(document: dict[str, Any], name: str) -> Scene:
    convention = convention_from_document(document["convention"])
    n = len(document["frames"])
    frames = _array(document["frames"], (n,), name, "frames")
    for key in ("position", "rotation"):
        if len(document[key]) != n:
            raise BadInput(f"{name} has {n} frames but {len(document[key])} entries in {key}: each frame needs one.")
    if n > MAX_FRAMES or (np.diff(frames) <= 0).any():
        raise BadInput(f"{name}: the frames must rise from one to the next, {MAX_FRAMES} of them at most.")
    local = np.zeros((n, 4, 4))
    local[:, :3, :3] = _array(document["rotation"], (n, 3, 3), name, "rotation")
    local[:, :3, 3] = _array(document["position"], (n, 3), name, "position")
    local[:, 3, 3] = 1.0
    lens: dict[str, Floats] = {}
    for key, value in document["lens"].items():
        values = _array(_listed(value), (-1,), name, key)
        if len(values) not in (1, n):
            raise BadInput(f"{name} has {n} frames but {len(values)} values of {key}: give one, or one a frame.")
        if key in _IN_UNITS:
            lens[_IN_UNITS[key]] = values * convention.metres_per_unit
        else:
            lens[key] = values
    animated = any(len(v) > 1 for v in lens.values())
    camera = Node(
        path="/" + document["name"], parent=None, kind="camera", frames=frames, local=local, keys=frames,
        lens=make_lens(n if animated else 1, **lens),
        lens_frames=frames if animated else np.zeros(0), lens_keys=frames if animated else np.zeros(0),
        distortion=_distortion(document, n, name), marked=_marked(document, frames, name),
    )  # fmt: skip
    image = document.get("image")
    return Scene(
        name=name,
        format="json",
        convention=convention,
        rate=parse_rate(document["rate"]),
        first_frame=float(frames[0]),
        last_frame=float(frames[-1]),
        nodes=(camera, *(_landmark(m, frames, name) for m in document.get("landmarks", []))),
        image=Image(image["width_px"], image["height_px"], image.get("pixel_aspect", 1.0)) if image else None,
        source_fit=document.get("fit"),
    )


def _distortion(document: dict[str, Any], n: int, name: str) -> Distortion | None:
    if "distortion" not in document:
        return None
    found = distortion_from_document(document["distortion"], f"{name}, its distortion,")
    if found.frames not in (1, n):
        raise BadInput(
            f"{name} has {n} frames and its distortion is given for {found.frames}: give one number, or one a frame."
        )
    return found


def _landmark(entry: dict[str, Any], frames: Floats, name: str) -> Node:
    positions = _array(entry["position"], (-1, 3), name, f"the landmark '{entry['name']}'")
    if len(positions) not in (1, len(frames)):
        raise BadInput(
            f"{name}: the landmark '{entry['name']}' has {len(positions)} positions for {len(frames)} frames."
        )
    local = np.tile(np.eye(4), (len(positions), 1, 1))
    local[:, :3, 3] = positions
    moving = len(positions) > 1
    return Node(
        f"/landmarks/{entry['name']}",
        None,
        "landmark",
        frames if moving else np.zeros(1),
        local,
        frames if moving else np.zeros(0),
    )


def _channel(values: Floats) -> Any:
    """One number where a channel does not vary (null where the file says nothing), else a list."""
    listed = [None if np.isnan(v) else v for v in values.tolist()]
    return listed[0] if all(v == listed[0] for v in listed) else listed


def _listed(value: Any) -> list[Any]:
    return value if isinstance(value, list) else [value]
