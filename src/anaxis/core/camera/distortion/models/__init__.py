"""The distortion models there are, one file each. To add one, write its file and name it in the list below."""

from __future__ import annotations

from anaxis.core.camera.distortion.kind import DistortionKind
from anaxis.core.camera.distortion.models import anamorphic, division, fisheye, radial_tangential
from anaxis.core.errors import BadInput

# What every model has beside its own: where its centre lies, as tangents from the lens's axis, and the squeeze of the
# picture it was measured in (1: the desqueezed one).
_COMMON = {"centre_u": 0.0, "centre_v": 0.0, "squeeze": 1.0}

MODELS: dict[str, DistortionKind] = {m.KIND.code: m.KIND for m in (radial_tangential, division, anamorphic, fisheye)}


def model_of(code: str) -> DistortionKind:
    """A model by its code; raises BadInput that lists them."""
    if code not in MODELS:
        raise BadInput(f"'{code[:40]}' is not a distortion model: choose one of {', '.join(MODELS)}.")
    return MODELS[code]


def usual_of(kind: DistortionKind) -> dict[str, float]:
    """Every coefficient that a model takes, with the value that leaves the picture as it is."""
    return {**kind.usual, **_COMMON}
