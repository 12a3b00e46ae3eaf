"""The calibration kit: a made camera that exercises every axis, the lens and the numbering; named points; the form to fill."""

import json
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import scipy

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track, make_lens
from anaxis.core.errors import BadInput
from anaxis.core.outgoing import Outgoing
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.nodes import UP_AXES
from anaxis.core.space.axes import Convention
from anaxis.core.typing import Floats
from anaxis.formats import write_files

IMAGE = Image(1920, 1080)
FIT = "width"
# Points on every side of the made camera's path: whichever way a package turns or mirrors it, four and more of them are
# in its picture (tests count them).
POINTS = {
    "alder": (2.0, 0.5, -6.0), "birch": (-3.0, 1.5, -7.0), "cedar": (0.5, 3.0, -8.0), "dogwood": (4.0, -1.0, -9.0),
    "elm": (-1.0, -0.5, -5.0), "fir": (1.0, 1.0, -12.0), "gorse": (-5.0, 2.5, -11.0), "hazel": (3.0, 2.0, -4.5),
    "ivy": (1.5, 2.0, 11.0), "juniper": (-2.5, 0.5, 12.0), "larch": (2.5, -1.5, 13.0), "maple": (-1.0, 3.0, 14.0), "nettle": (0.5, 0.5, 16.0),
    "oak": (11.0, 2.0, 1.5), "pine": (12.0, 0.5, -2.5), "quince": (13.0, -1.5, 2.0), "rowan": (14.0, 3.0, -0.5), "sorrel": (16.0, 1.0, 0.5),
    "thyme": (-11.0, 2.0, -1.0), "umbel": (-12.0, 0.5, 2.5), "vetch": (-13.0, -1.5, -2.0), "willow": (-14.0, 3.0, 1.0), "yew": (-16.0, 1.0, -0.5),
    "aster": (1.5, 12.0, 1.0), "basil": (-2.5, 13.0, -1.5), "clover": (2.0, 14.0, 2.5), "daisy": (-1.0, 15.0, -0.5), "fennel": (0.5, 17.0, 0.5),
    "ginger": (1.5, -11.0, 1.5), "heather": (-2.5, -12.0, -1.0), "iris": (2.0, -13.0, 2.5), "lily": (-1.0, -14.0, -2.0), "mint": (0.5, -16.0, 0.5),
    "poppy": (18.0, 1.8, 0.2), "reed": (-18.0, 0.8, 0.4), "sedge": (0.2, 19.0, 0.8), "tansy": (-0.3, -18.0, 0.2), "viola": (0.8, 1.6, 18.0),
    "zinnia": (-0.4, 0.8, -15.0),
}  # fmt: skip
SEEN_AT = (0, 17, 34, 47)
# Formats that state their axes and unit, so that a package can go by them or not.
STATED = ("usd", "collada")
LENS = ("focal_mm", "film_width_mm", "film_height_mm", "offset_x_mm", "offset_y_mm")


def made_camera() -> Track:
    """48 frames from 11 on at 25 a second: every axis, roll, a lens that zooms and is shifted, no symmetry."""
    n = 48
    t = np.arange(n) / 25.0
    place: Floats = np.stack(
        [0.7 * np.sin(1.3 * t) + 0.11 * t, 1.2 + 0.4 * np.cos(0.9 * t), 0.5 * t + 0.2 * np.sin(2.1 * t)], axis=1
    )
    turn = scipy.spatial.transform.Rotation.from_rotvec(
        np.stack([0.15 * np.sin(1.7 * t) + 0.05, 0.2 * np.sin(0.8 * t) - 0.04, 0.1 * np.cos(1.1 * t)], axis=1)
    )
    lens = make_lens(
        n, focal_mm=24 + 6 * np.sin(0.7 * t), film_width_mm=25.6, film_height_mm=17.0, offset_x_mm=0.5, offset_y_mm=-0.3, focus_m=7.0,
        fstop=4.0, near_m=0.1, far_m=500.0,
    )  # fmt: skip
    return Track(
        "calibration",
        np.arange(11.0, 11.0 + n),
        Fraction(25),
        np.asarray(place, dtype=np.float64),
        turn.as_matrix(),
        lens,
    )


def made_points() -> Landmarks:
    return Landmarks(tuple(POINTS), np.array(list(POINTS.values()))[None])


def files_of(format_key: str) -> dict[str, tuple[Track, Convention]]:
    """The kit: what is opened there, by the name of its file.

    The second is in another unit with another axis up, where a format states those; the third has a film back of
    another aspect, so that every way to inscribe the image shows another picture.
    """
    wide = replace(made_camera(), lens=replace(made_camera().lens, film_height_mm=np.full(len(made_camera()), 10.7)))
    kit = {"calibration": (made_camera(), Convention()), "calibration_third": (wide, Convention())}
    if format_key in STATED:
        kit["calibration_second"] = (made_camera(), Convention(world=UP_AXES["Z"], metres_per_unit=0.01))
    return dict(sorted(kit.items()))


def write_start(out: Path, format_key: str) -> list[Path]:
    """Write the kit's files, the points as a table, and the forms to fill in. Raises BadInput."""
    try:
        out.mkdir(parents=True, exist_ok=True)
        files: list[Path] = []
        for name, (track, convention) in files_of(format_key).items():
            files += write_files(format_key, [Outgoing(track, convention, IMAGE, FIT, made_points(), ())], out, name)
        points = out / "points.csv"
        points.write_text(
            "name,x_m,y_m,z_m\n" + "".join(f"{n},{x},{y},{z}\n" for n, (x, y, z) in POINTS.items()), encoding="utf-8"
        )
        forms = []
        for name in files_of(format_key):
            forms.append(out / f"return{name.removeprefix('calibration')}.json")
            forms[-1].write_text(json.dumps(_empty_form(format_key), indent=1), encoding="utf-8")
        readme = out / "README.txt"
        readme.write_text(_README, encoding="utf-8")
    except OSError as error:
        raise BadInput(
            f"The files cannot be written to {out} ({error.strerror or error}): choose another folder with --out."
        ) from error
    return [*files, points, *forms, readme]


_README = """What to do with these files

1. Open the calibration camera in the package, as any camera is opened there.
2. Put the points of points.csv there: import the file where it can be, or place them where they match the geometry of the set. They are in metres, Y up, right-handed.
3. Fill in return.json in the package's own numbers: frames, the camera's position and angles on each, the lens;
   where each point stands; and for a few frames where some points are seen in its picture, in pixels from the
   upper left corner. As few as three frames and three points are enough; more settle more. Write the numbers with
   all the decimals the package shows.
4. anaxis calibrate finish return.json --key KEY --out profile.json

What one file cannot tell, two more do:
5. calibration_second is the same camera in another unit and with another axis up. Open it in an empty scene and fill
   in frames, position, rotation_deg and the lens of return_second.json: whether the package goes by a file's unit and
   up axis, or takes every file the same way.
6. calibration_third has a film back of another aspect. Open it, and fill in return_third.json with pixels, as in 3:
   how the package inscribes the image in the film back.
7. anaxis calibrate finish return.json --second return_second.json --third return_third.json --key KEY --out profile.json
"""


def _empty_form(format_key: str) -> dict[str, Any]:
    return {
        "anaxis_return": 1, "format": format_key, "rate": "24", "resolution": [IMAGE.width_px, IMAGE.height_px],
        "frames": [], "position": [], "rotation_deg": [], **{k: [] for k in LENS}, "points": {n: [] for n in POINTS}, "pixels": {},
    }  # fmt: skip
