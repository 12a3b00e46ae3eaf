"""The track document: its own matrices, or its curves span by span by scipy."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import scipy

from anaxis.core.camera.lens import Image
from anaxis.core.time.rates import parse_rate
from anaxis.core.typing import Floats
from anaxis.packages.model import Axes
from anaxis.standin.package_values import own_views, turned
from anaxis.standin.views import FileViews, ReadRequest


def json_views(path: Path, asked: ReadRequest) -> FileViews:
    at = asked.at
    document = json.loads(path.read_text(encoding="utf-8"))
    frames = np.array(document["frames"], dtype=np.float64)
    lens = {k: np.broadcast_to(np.array(v, dtype=np.float64), frames.shape) for k, v in document["lens"].items()}
    spoken = document["convention"]
    unit = spoken["metres_per_unit"]
    lens |= {f"{k}_m": lens.pop(k) * unit for k in ("focus", "near", "far") if k in lens}
    position, rotation = np.array(document["position"]), np.array(document["rotation"]).reshape(-1, 3, 3)
    own = frames
    if "keys" in document and (at is not None or len(frames) > 1):
        frames = frames if at is None else at
        curves = curves_of(document["keys"], frames)
        position = np.stack([curves[f"position_{a}"] for a in "xyz"], axis=1)
        turns = np.stack([curves[f"rotation_{a}"] for a in "xyz"], axis=1) * spoken["rotation"]["signs"]
        rotation = turned(turns, spoken["rotation"]["order"])
        lens = {k: np.broadcast_to(v[:1], frames.shape) if k not in curves else curves[k] for k, v in lens.items()}
    views = own_views(
        document["name"], frames, parse_rate(document["rate"]), position, rotation, lens, Axes(**spoken["camera"]), Axes(**spoken["world"]),
        unit, Image(**document["image"]),
    )  # fmt: skip
    return replace(views, own_frames=own, stated=frozenset({"rate", "image"}))


def curves_of(keys: dict[str, Any], at: Floats) -> dict[str, Floats]:
    """The channels of a track document's curves at frames ``at`` (n,), span by span by scipy."""
    known = np.array(keys["frames"], dtype=np.float64)
    span = np.clip(np.searchsorted(known, at, side="right") - 1, 0, max(0, len(known) - 2))
    out = {}
    for name, channel in keys["channels"].items():
        values = np.empty(len(at))
        for s in np.unique(span).tolist():
            inside, ends = span == s, slice(s, s + 2)
            slopes = [channel["slopes_out"][s], channel["slopes_in"][min(s + 1, len(known) - 1)]]
            values[inside] = (
                scipy.interpolate.CubicHermiteSpline(known[ends], channel["values"][ends], slopes)(at[inside])
                if len(known) > 1
                else channel["values"][0]
            )
        out[name] = values
    return out
