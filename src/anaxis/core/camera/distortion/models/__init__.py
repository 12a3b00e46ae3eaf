"""The distortion models there are, one file each. To add one, write its file and name it in the list below."""

from __future__ import annotations

from anaxis.core.camera.distortion.kind import DistortionKind
from anaxis.core.camera.distortion.models import anamorphic, division, fisheye, radial_tangential

MODELS: dict[str, DistortionKind] = {m.KIND.code: m.KIND for m in (radial_tangential, division, anamorphic, fisheye)}
