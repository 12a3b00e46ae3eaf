"""How the source makes its picture, and which of that is a guess."""

from __future__ import annotations

from dataclasses import dataclass

from anaxis.core.camera.lens import Image
from anaxis.core.scene.nodes import Scene

DEFAULT_IMAGE = Image(1920, 1080)
DEFAULT_SOURCE_FIT = "width"


@dataclass(frozen=True, eq=False)
class Picture:
    """The image, how it is inscribed in the film back, and which of both nobody has said."""

    image: Image
    fit: str
    image_guessed: bool
    fit_guessed: bool


def picture_of(scene: Scene, image: Image | None, fit: str | None) -> Picture:
    """The source's picture: what was asked for, else what the file says, else a visible guess."""
    return Picture(
        image=image or scene.image or DEFAULT_IMAGE,
        fit=fit or scene.source_fit or DEFAULT_SOURCE_FIT,
        image_guessed=image is None and scene.image is None,
        fit_guessed=fit is None and scene.source_fit is None,
    )
