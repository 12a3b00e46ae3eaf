"""The calibration form as it comes back: numbers of the camera, places of the points, and where some are seen."""

import json
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any, Literal

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Lens, Track, make_lens
from anaxis.core.errors import BadInput
from anaxis.core.outgoing import Outgoing
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import parse_rate, plain_frame, rate_text
from anaxis.core.typing import Floats
from anaxis.diagnosis.calibration_kit import LENS, POINTS, SEEN_AT, made_points

Needs = Literal["all", "camera", "pixels"]


@dataclass(frozen=True, eq=False)
class Returned:
    """What a package says in its own numbers; ``pixels`` maps a frame to where points are seen, name to (x, y)."""

    frames: Floats
    rate: Fraction
    position: Floats
    rotation_deg: Floats
    lens: Lens
    points: dict[str, Floats]
    pixels: dict[float, dict[str, Floats]]
    image: Image
    format_key: str


def returned_from_file(path: Path, needs: Needs = "all") -> Returned:
    """The form filled in; raises BadInput that names what is missing."""
    try:
        document = json.loads(path.read_text(encoding="utf-8"))
    except OSError as error:
        raise BadInput(f"The form {path} cannot be read ({error.strerror}): check the name.") from error
    except (ValueError, RecursionError) as error:
        raise BadInput(f"The form {path} is not readable JSON: save it again.") from error
    return returned_from_document(document, path.name, needs)


def returned_from_document(document: Any, name: str, needs: Needs = "all") -> Returned:
    """A form from its parsed JSON; raises BadInput that names what is missing.

    ``needs`` is "all" for the first form, "camera" for the second, "pixels" beside the camera for the third.
    """
    try:
        frames = np.array(document["frames"], dtype=np.float64)
        n = len(frames)
        lens = make_lens(n, **{k: np.array(document[k], dtype=np.float64) for k in LENS})
        found = Returned(
            frames, parse_rate(str(document["rate"])), np.array(document["position"], dtype=np.float64).reshape(n, 3),
            np.array(document["rotation_deg"], dtype=np.float64).reshape(n, 3), lens,
            {k: np.array(v, dtype=np.float64).reshape(3) for k, v in document["points"].items() if len(v)},
            {float(f): {k: np.array(v, dtype=np.float64).reshape(2) for k, v in seen.items()} for f, seen in document["pixels"].items()},
            Image(*(int(v) for v in document["resolution"])), str(document.get("format", "usd")),
        )  # fmt: skip
    except BadInput:
        raise
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise BadInput(
            f"{name} is not filled in: it needs frames, position, rotation_deg, the lens, points and pixels; {error}."
        ) from error
    numbers = [found.position, found.rotation_deg, *(getattr(lens, k) for k in LENS)]
    if not all(np.isfinite(v).all() for v in (frames, *numbers)):
        raise BadInput(
            f"{name} has a value that is not a number in frames, position, rotation_deg or lens: correct it."
        )
    if needs != "all" and (n < 1 or (needs == "pixels" and not found.pixels)):
        raise BadInput(
            f"{name} is not filled in: it needs the camera on at least one frame{', and pixels' * (needs == 'pixels')}."
        )
    if needs == "all" and (n < 1 or len(found.points) < 3 or not found.pixels):
        raise BadInput(f"{name} is not filled in: at least one frame, three points and one frame of pixels are needed.")
    if unknown := sorted(set(found.points) - set(POINTS)):
        raise BadInput(f"{name} has a point '{unknown[0]}', which is not in the kit.")
    return found


def form_of(track: Track, convention: Convention, image: Image, fit: str, format_key: str) -> dict[str, Any]:
    """The form as a package fills it in: a camera and the points in its own numbers, and some of its picture."""
    numbers = Outgoing(track, convention, image, fit, made_points(), ()).numbers()
    names, where = list(POINTS), np.array(list(POINTS.values()))
    seen, depth = projection_of(track, image, fit).project(where)
    pixels: dict[str, Any] = {}
    for i in sorted({min(i, len(track) - 1) for i in SEEN_AT}):
        pixels[str(plain_frame(track.frames[i]))] = {
            n: seen[i, k].tolist() for k, n in enumerate(names) if depth[i, k] > 0.01
        }
    return {
        "anaxis_return": 1,
        "format": format_key,
        "rate": rate_text(track.rate),
        "resolution": [image.width_px, image.height_px],
        "frames": [plain_frame(f) for f in track.frames.tolist()],
        "position": numbers.position.tolist(),
        "rotation_deg": numbers.rotation_deg.tolist(),
        **{k: getattr(track.lens, k).tolist() for k in LENS},
        "points": dict(zip(names, convention.position_from_canonical(where).tolist(), strict=True)),
        "pixels": {f: s for f, s in pixels.items() if s},
    }
