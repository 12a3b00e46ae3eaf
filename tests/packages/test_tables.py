"""A package's own column layout: written, read by the stand-in and by our reader, and handed back."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from anaxis.core.camera.track import Track
from anaxis.core.checks.examine import take_camera
from anaxis.core.errors import BadInput
from anaxis.core.scene.landmarks import NO_LANDMARKS
from anaxis.core.scene.tree import angle_between_deg
from anaxis.delivery.deliver import deliver
from anaxis.diagnosis.returned import of_table
from anaxis.formats import read_file
from anaxis.packages import shipped_profiles
from anaxis.packages.model import Profile, profile_from_dict
from test_writers import PICTURE, shot


def with_table(key: str, columns: str, **rule: Any) -> Profile:
    """A profile whose table has these columns: "frame position_x rotation_x:rad -rotation_y"..."""
    parsed = []
    for text in columns.split():
        quantity, _, unit = text.lstrip("-").partition(":")
        parsed.append({"quantity": quantity, "unit": unit, "sign": -1 if text[0] == "-" else 1})
    document = shipped_profiles()[key].model_dump(mode="json")
    return profile_from_dict(document | {"table": {"columns": parsed, **rule}}, "a test")


PLACE = "position_x position_y position_z"
LAYOUTS = {
    "radians, swapped and negated": ("zup-lh-cm", "seconds -position_y position_x position_z rotation_z:rad rotation_x:rad -rotation_y:rad hfov film_width film_height", {"separator": "tab"}),
    "quaternion, no headings": ("yup-lh-m", f"frame {PLACE} quaternion_w quaternion_x quaternion_y quaternion_z vfov:rad film_width:inch film_height:cm", {"headings": False, "separator": "blank"}),
    "field of view alone": ("zup-rh-cm", f"frame {PLACE} rotation_x rotation_y rotation_z hfov nothing", {"separator": "tab"}),
    "vertical view, fitted by height": ("yup-rh-m", f"frame {PLACE} rotation_x rotation_y rotation_z vfov", {"separator": "semicolon"}),
    "zoom": ("ydown-px", f"frame {PLACE} rotation_x rotation_y rotation_z zoom", {}),
    "focal length in inches": ("yup-rh-cm", f"{PLACE} rotation_x rotation_y rotation_z focal:inch frame", {}),
}  # fmt: skip


@pytest.mark.parametrize("name", LAYOUTS)
def test_a_table_in_the_packages_own_layout_arrives(name: str, tmp_path: Path) -> None:
    """What the table does not hold is typed there, by the sheet; the picture is the same."""
    key, columns, rule = LAYOUTS[name]
    profile, source = with_table(key, columns, **rule), shot()  # type: ignore[arg-type]
    done = deliver(source, NO_LANDMARKS, PICTURE, profile, "columns", tmp_path)
    assert done.proof.max_px <= 1e-4
    back = of_table(done.files[0], profile, PICTURE, source).track
    assert np.abs(back.position_m - source.position_m).max() < 1e-9
    assert np.allclose(back.frames, source.frames)


@pytest.mark.parametrize("name", list(LAYOUTS)[:2])
def test_our_reader_reads_it_by_the_profiles_layout(name: str, tmp_path: Path) -> None:
    key, columns, rule = LAYOUTS[name]
    profile, source = with_table(key, columns, **rule), shot()  # type: ignore[arg-type]
    path = deliver(source, NO_LANDMARKS, PICTURE, profile, "columns", tmp_path).files[0]
    layout = profile.layout
    assert layout is not None
    scene = read_file(path, layout=layout | {"rate": "24"})
    back: Track = take_camera(scene, None).done
    assert np.abs(back.position_m - source.position_m).max() < 1e-9
    assert angle_between_deg(back.rotation, source.rotation).max() < 1e-6
    assert np.allclose(back.lens.focal_mm / back.lens.film_width_mm, source.lens.focal_mm / source.lens.film_width_mm)


def test_a_table_with_times_says_its_rate_itself(tmp_path: Path) -> None:
    """The package's own rate is 30; its table's times are those of a camera at 24."""
    source = shot()
    for columns, rate in (
        (f"frame seconds {PLACE} rotation_x rotation_y rotation_z", 24),
        (f"frame {PLACE} rotation_x rotation_y rotation_z", 30),
    ):
        profile = with_table("zup-lh-cm", columns)
        path = deliver(source, NO_LANDMARKS, PICTURE, profile, "columns", tmp_path).files[0]
        assert read_file(path, layout=profile.layout).rate == rate


def test_numbers_stand_in_the_columns_as_the_layout_says(tmp_path: Path) -> None:
    """Against arithmetic written out by hand: Z up, left-handed, centimetres, the camera looks along +X."""
    source = shot(3)
    profile = with_table(
        "zup-lh-cm",
        "frame position_x:  position_y -position_z rotation_x rotation_y:rad rotation_z focal:cm".replace(":  ", " "),
    )
    text = deliver(source, NO_LANDMARKS, PICTURE, profile, "columns", tmp_path).files[0].read_text()
    head, *rows = text.splitlines()
    assert head == "frame,position_x,position_y,position_z,rotation_x,rotation_y_rad,rotation_z,focal_cm"
    table = np.array([[float(c) for c in r.split(",")] for r in rows])
    right, up, back = source.position_m.T * 100
    assert np.allclose(table[:, 1:4], np.stack([right, back, -up], axis=1))
    assert np.allclose(table[:, 7], source.lens.focal_mm / 10)
    # The look, turned by the angles shown (x and y count backwards there), is where the camera looks.
    shown = np.stack([-table[:, 4], -np.degrees(table[:, 5]), table[:, 6]], axis=1)
    look = Rotation.from_euler("xyz", shown, degrees=True).apply([1.0, 0.0, 0.0])
    ahead = -source.rotation[:, :, 2]
    assert np.allclose(look, np.stack([ahead[:, 0], ahead[:, 2], ahead[:, 1]], axis=1), atol=1e-9)


@pytest.mark.parametrize(
    ("columns", "said"),
    [
        ("frame position_x position_y rotation_x rotation_y rotation_z", "three positions"),
        (f"{PLACE} rotation_x rotation_y rotation_z", "frame or the time"),
        (f"frame frame {PLACE} rotation_x rotation_y rotation_z", "two columns have 'frame'"),
        (f"frame {PLACE} rotation_x:mm rotation_y rotation_z", "not in 'mm'"),
        (f"frame {PLACE} rotation_x rotation_y rotation_z warp", "not a column quantity"),
    ],
)
def test_a_layout_that_holds_no_camera_is_refused(columns: str, said: str) -> None:
    with pytest.raises(BadInput, match=said):
        with_table("zup-lh-cm", columns)


def test_a_table_that_does_not_fit_its_layout_is_one_sentence(tmp_path: Path) -> None:
    profile = with_table("yup-rh-m", f"frame {PLACE} rotation_x rotation_y rotation_z vfov")
    path = tmp_path / "back.csv"
    path.write_text("frame,x,y,z,a,b,c,v\n1,0,0,0,0,0,0,40\n2,0,0,0,0,0,40\n")
    with pytest.raises(BadInput, match=r"row 3, has 7 cells .* 8 columns"):
        of_table(path, profile, PICTURE, shot())
    path.write_text("frame,x,y,z,a,b,c,v\n1,0,0,0,0,0,0,wide\n")
    with pytest.raises(BadInput, match="is not numbers"):
        of_table(path, profile, PICTURE, shot())
    stop = with_table("yup-rh-m", f"frame {PLACE} rotation_x rotation_y rotation_z vfov focus", separator="blank")
    source = shot()
    lens = source.lens
    open_focus = replace(source, lens=replace(lens, focus_m=np.full(len(source), np.nan)))
    with pytest.raises(BadInput, match="no focus"):
        deliver(open_focus, NO_LANDMARKS, PICTURE, stop, "columns", tmp_path)
