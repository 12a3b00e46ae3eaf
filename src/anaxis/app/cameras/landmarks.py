"""A camera's landmarks in a package's axes and unit: as rows, typed, as a card, as a table."""

from __future__ import annotations

import csv
import io
import re
from typing import Any, NamedTuple

import numpy as np

from anaxis.app.cameras.lens import place_of
from anaxis.app.context import Context
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.scene.card import Card, card_at
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import plain_frame
from anaxis.formats.text_cells import text_cell
from anaxis.formats.track_json.document import convention_from_document
from anaxis.store.models import Version
from anaxis.store.packages import all_packages
from anaxis.store.queries import track_of

THE_FILE = "file"


class LandmarkRow(NamedTuple):
    """One landmark as the table shows it: ``size`` is "" for a point."""

    name: str
    place: list[float]
    size: str
    hidden: bool
    moves: bool


def axes_of(store: Context, version: Version, key: str) -> tuple[Convention, str]:
    """The convention that landmarks are shown and typed in, and the name of its unit."""
    profile = all_packages(store).get(key)
    if profile is not None:
        return profile.convention, profile.unit_name
    convention = convention_from_document(version.facts["convention"])
    return convention, file_unit(convention)


def file_unit(convention: Convention) -> str:
    """The name of a file's unit where it has a usual one."""
    return {0.01: "cm", 1.0: "m", 0.001: "mm"}.get(convention.metres_per_unit, "units")


def landmark_rows(marks: Landmarks, convention: Convention) -> list[LandmarkRow]:
    """The table of landmarks at the first frame, in a package's axes and unit."""
    places = convention.position_from_canonical(marks.position_m)
    moves = marks.moving()
    sizes = np.abs(marks.size_m @ convention.world.T) / convention.metres_per_unit
    return [
        LandmarkRow(
            name,
            places[0, i].tolist(),
            " × ".join(f"{v:.4g}" for v in sizes[i]) if sizes[i].any() else "",
            name in marks.hidden,
            moves[i],
        )
        for i, name in enumerate(marks.names)
    ]


def parse_table(text: str, convention: Convention) -> list[dict[str, Any]]:
    """Landmarks from rows of a name and three numbers, in a package's axes and unit, as an operation's parameter.

    A row of headings is passed over. Raises BadInput that names the row.
    """
    marks = []
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip():
            continue
        cells = [c for c in re.split(r"[\t,;]+|\s+", line.strip()) if c]
        try:
            numbers = [float(c) for c in cells[-3:]]
            name = " ".join(cells[:-3]).strip('"')
            if len(numbers) != 3 or not name or not np.isfinite(numbers).all():
                raise ValueError
        except ValueError as error:
            if number == 1 and len(text.splitlines()) > 1 and not any(c.replace(".", "").isdigit() for c in cells):
                continue
            raise BadInput(
                f"Row {number}, '{line.strip()[:60]}', is not a landmark: write a name and three numbers, such as "
                "tide_bell 600 340 -900."
            ) from error
        place = convention.position_to_canonical(np.array(numbers))
        marks.append({"name": name, "position_m": place.tolist()})
    if not marks:
        raise BadInput("The table has no landmarks: write a name and three numbers in each row.")
    return marks


def landmark_table(track: Track, marks: Landmarks, convention: Convention, unit: str) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["name", "frame", f"x_{unit}", f"y_{unit}", f"z_{unit}"])
    places = convention.position_from_canonical(marks.position_m)
    for i, name in enumerate(marks.names):
        moves = len(places) > 1 and np.ptp(places[:, i], axis=0).max() > 0
        for f in range(len(places)) if moves else (0,):
            frame = plain_frame(track.frames[f]) if moves else ""
            writer.writerow([text_cell(name), frame, *(repr(float(v)) for v in places[f, i])])
    return out.getvalue()


def card_of(version: Version, name: str, frame: str, convention: Convention) -> tuple[Card, float]:
    """A card at a landmark that faces the camera, and the frame that was meant (the first where none is typed). Raises BadInput."""
    track, marks, _ = track_of(version)
    at = place_of(track, frame)
    place = marks.position_m[at if len(marks.position_m) > 1 else 0, marks.index(name)]
    return card_at(track, at, place, convention), float(track.frames[at])
