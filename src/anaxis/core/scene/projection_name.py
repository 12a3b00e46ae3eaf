"""The name of a projection camera, by which nobody takes it for the shot camera, in any package."""

from __future__ import annotations

import re

from anaxis.core.time.rates import format_frame

# Words by which the trade calls such a camera, standing alone between signs or digits.
_WORDS = re.compile(r"(?<![a-z])(projection|projcam|proj|projector)(?![a-z])", re.IGNORECASE)


def projection_name(camera: str, frame: float) -> str:
    """``shotcam_projection_f1040``: what stays of it in every format."""
    number = format_frame(frame).replace("-", "m").replace(".", "p")
    return f"{camera}_projection_f{number}"


def called_projection(name: str) -> bool:
    """Whether a camera's name says that it is a projection camera."""
    return _WORDS.search(name) is not None
