"""Screenshots of a receiving package: the camera that took them, and why it is not the one meant."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from anaxis.core.errors import BadInput
from anaxis.diagnosis.picture.border import asked_area
from anaxis.diagnosis.picture.said import PictureDiagnosis
from anaxis.diagnosis.stills import read_picture
from anaxis.library.pictures import AskedPicture, Expected, explain_pictures, read_points
from anaxis.packages import find_profile
from anaxis.packages.model import Profile
from anaxis.public.camera import Camera

__all__ = ["PictureDiagnosis", "Still", "explain_stills"]


@dataclass(frozen=True)
class Still:
    """A screenshot of a package.

    ``points``: where it shows the landmarks, in pixels from its upper left, by name (None for one that is not visible), or a file of
    rows ``name x y``. ``frame``: that of the shot, None where it is unknown. ``area``: the part that the camera made, as
    "x,y,width,height" or "whole"; without bars and borders where it is "".
    """

    file: str | Path
    points: Mapping[str, tuple[float, float] | None] | str | Path
    frame: float | None = None
    area: str = ""


def explain_stills(meant: Camera, stills: Sequence[Still], package: str | Profile | None = None) -> PictureDiagnosis:
    """The cause of what screenshots of a package show, in its words: ``sentence``, ``explanations`` best first with their ``causes``,
    ``probability`` and ``residual_px``, ``explained``, ``decided``, ``cameras`` found, and ``as_dict()``, which is what ``anaxis picture
    --json`` prints.

    Parameters:
        meant: the camera that was sent.
        stills: screenshots with their landmarks; several are explained together.
        package: the package that they show: its key, a profile's JSON file, or a profile.

    Raises BadInput for a file that cannot be read and for fewer than four landmarks in a still.
    """
    if not stills:
        raise BadInput("Name at least one still.")
    going = meant._leaving().going
    picture = going.leaving.picture
    asked = []
    for still in stills:
        path = Path(still.file)
        pixels = read_picture(path)
        area = asked_area(still.area or None, pixels, picture.image.aspect)
        given = still.points
        placed, found = (dict(given), False) if isinstance(given, Mapping) else read_points(Path(given))
        asked.append(AskedPicture(path.name, area, still.frame, placed, found))
    return explain_pictures(
        Expected.of_work(going.work, picture), None if package is None else find_profile(package), asked
    )
