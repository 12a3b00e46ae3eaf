"""Column text: what each column is told to be, layouts chosen and kept, tables that cannot be read."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from anaxis.core.checks.examine import take_camera
from anaxis.core.errors import BadInput
from anaxis.core.scene.bake import bake_camera
from anaxis.core.scene.picture import picture_of
from anaxis.core.scene.surroundings import landmarks_of
from anaxis.delivery.deliver import deliver
from anaxis.formats import read_file
from anaxis.formats.tables.layout import QUANTITIES, propose
from anaxis.formats.tables.read import read_columns
from anaxis.formats.track_json.document import convention_document
from anaxis.packages import shipped_profiles

N = 24
T = np.arange(N)
PLACE = np.stack([80 * np.sin(T / 7), 160 + 0.5 * T, 300 - 9.0 * T], axis=1)
ANGLES = np.stack([-4 + np.sin(T), 25 * np.cos(T / 9), 0.1 * T], axis=1)


def table(path: Path, columns: list[np.ndarray], head: str = "", gap: str = " ", digits: str = "%.9g") -> Path:
    rows = [gap.join(digits % v for v in row) for row in np.column_stack(columns).tolist()]
    path.write_text("\n".join(([head] if head else []) + rows) + "\n")
    return path


def told(path: Path) -> list[str]:
    scene = read_file(path)
    assert scene.columns
    return [c["quantity"] for c in scene.columns["layout"]["columns"]]


PLACES, TURNS = [f"position_{a}" for a in "xyz"], [f"rotation_{a}" for a in "xyz"]


def test_columns_are_told_by_behaviour_where_there_are_no_headings(tmp_path: Path) -> None:
    lens = np.full(N, 35.0)
    bare = table(tmp_path / "a.txt", [T + 1001, PLACE, ANGLES, lens])
    assert told(bare) == ["frame", *PLACES, *TURNS, "focal"]
    # Angles first and wrapping round at 360: the places are the ones that do not.
    wrapping = np.stack([(350 + 4.0 * T) % 360, 20 + T, 359.0 - 0.2 * T], axis=1)
    assert told(table(tmp_path / "b.txt", [T + 1, wrapping, PLACE])) == ["frame", *TURNS, *PLACES]
    turns = Rotation.from_euler("XYZ", ANGLES, degrees=True).as_quat()
    assert told(table(tmp_path / "c.txt", [T / 25, PLACE, turns])) == [
        "seconds",
        *PLACES,
        *(f"quaternion_{a}" for a in "xyzw"),
    ]
    radians = table(tmp_path / "d.txt", [T, PLACE, np.radians(ANGLES)])
    scene = read_file(radians)
    assert scene.columns and scene.columns["layout"]["columns"][4]["unit"] == "rad"
    assert np.allclose(bake_camera(scene).track.rotation, bake_camera(read_file(bare)).track.rotation, atol=1e-8)


@pytest.mark.parametrize(
    ("head", "expected"),
    (
        ("Frame,tx,ty,tz,rx,ry,rz,focalLength", ["frame", *PLACES, *TURNS, "focal"]),
        ("time_s;pos.x;pos.y;pos.z;pitch;yaw;roll;vfov_deg", ["seconds", *PLACES, *TURNS, "vfov"]),
        ("frame\tX\tY\tZ\trotateX\trotateY\trotateZ\tzoom", ["frame", *PLACES, *TURNS, "zoom"]),
        (
            "frm,translateX,translateY,translateZ,rotation_x_deg,rotation_y_deg,rotation_z_deg,note",
            ["frame", *PLACES, *TURNS, "focal"],
        ),
    ),
)
def test_columns_are_told_by_their_headings(tmp_path: Path, head: str, expected: list[str]) -> None:
    gap = next(g for g in ("\t", ";", ",") if g in head)
    first = T / 24 if "time" in head else T + 1
    assert told(table(tmp_path / "a.csv", [first, PLACE, ANGLES, np.full(N, 40.0)], head, gap)) == expected


def test_a_layout_chosen_by_hand_is_done_as_it_says(tmp_path: Path) -> None:
    """Centimetres, Z up and left-handed, radians, a sign, another order, its own rate."""
    path = table(tmp_path / "a.txt", [T + 1, np.radians(ANGLES), PLACE, T * 0.0])
    convention = shipped_profiles()["zup-lh-cm"].convention
    columns: list[dict[str, Any]] = [{"quantity": "frame"}]
    columns += [{"quantity": q, "unit": "rad", "sign": -1 if q.endswith("y") else 1} for q in TURNS]
    columns += [{"quantity": q} for q in PLACES] + [{"quantity": "nothing"}]
    layout = {"columns": columns, "convention": convention_document(convention), "order": "ZXY", "rate": "30000/1001"}
    scene = read_file(path, layout=layout)
    track = bake_camera(scene).track
    assert scene.rate == Fraction(30000, 1001) and not {"rate", "up_axis", "columns", "order"} & set(scene.guesses)
    assert np.allclose(track.position_m, convention.position_to_canonical(PLACE))
    # The convention counts x and y backwards; the column's own sign comes on top of it.
    x, y, z = (ANGLES * [-1, 1, 1]).T
    local = Rotation.from_euler("zxy", np.stack([z, x, y], axis=1), degrees=True).as_matrix()
    assert np.allclose(track.rotation, convention.rotation_to_canonical(local), atol=1e-9)


@pytest.mark.parametrize("key", ("yup-rh-cm", "zup-lh-cm", "ydown-px", "yup-lh-m"))
def test_what_was_written_as_columns_reads_back(tmp_path: Path, demo_files: dict[str, Path], key: str) -> None:
    scene, profile = read_file(demo_files["TW_020"]), shipped_profiles()[key]
    track = take_camera(scene, None).done
    picture = picture_of(scene, None, None)
    done = deliver(track, landmarks_of(scene, track.frames), picture, profile, "columns", tmp_path)
    told_by_heading = read_file(done.files[0])
    assert told_by_heading.columns and told_by_heading.rate == 25
    layout = told_by_heading.columns["layout"] | {"convention": convention_document(profile.convention)}
    again = bake_camera(read_file(done.files[0], layout=layout)).track
    assert np.allclose(again.position_m, track.position_m, atol=1e-9)
    assert np.allclose(again.rotation, track.rotation, atol=1e-9)
    assert np.allclose(again.lens.focal_mm, track.lens.focal_mm) and np.allclose(again.lens.focus_m, track.lens.focus_m)
    assert np.allclose(again.lens.offset_y_mm, track.lens.offset_y_mm)


def test_a_lens_by_its_field_of_view_or_zoom(tmp_path: Path) -> None:
    for name, values, expected in (("hfov", 47.0, 47.0), ("zoom", 1920 / 2 / np.tan(np.radians(20)), 40.0)):
        lens = bake_camera(
            read_file(table(tmp_path / "a.csv", [T, PLACE, T * 0 + values], f"frame,x,y,z,{name}", ","))
        ).track.lens
        assert np.allclose(2 * np.degrees(np.arctan(lens.film_width_mm / 2 / lens.focal_mm)), expected)
    lens = bake_camera(
        read_file(table(tmp_path / "a.csv", [T, PLACE, T * 0 + 30.0], "frame,x,y,z,vfov", ","))
    ).track.lens
    assert np.allclose(2 * np.degrees(np.arctan(lens.film_height_mm / 2 / lens.focal_mm)), 30.0)


@pytest.mark.parametrize(
    ("text", "said"),
    (
        ("frame,x,y,z\n1,0,0,0\n2,0,deep,0\n", r"row 3, column 3: 'deep' is not a number"),
        ("frame,x,y,z\n1,0,0,0\n2,0,0\n", "row 3, has 3 cells where the first has 4"),
        ("1 0 0 0\n3 0 0 0\n3 0 0 0\n", "columns"),
        ("frame,x,y,z\n2,0,0,0\n1,0,0,0\n", "row 3: its frame 1 does not follow 2"),
        ("frame,x,y,z\n1,0,0,0\n,0,0,0\n", "frame column has an empty cell in row 2"),
        ("high water\nlow water\n", "has 2 columns"),
        ("# only notes\n", "holds no rows"),
        ("x,y,z\n", "headings and no rows"),
        ("\0\0\0\0", "is not text"),
    ),
)
def test_a_table_that_cannot_be_read_is_one_sentence(tmp_path: Path, text: str, said: str) -> None:
    (tmp_path / "tide.txt").write_text(text)
    if said == "columns":  # two rows of one number: no frames then, which is told and no error
        assert "frames" in read_file(tmp_path / "tide.txt").guesses
        return
    with pytest.raises(BadInput, match=said):
        read_file(tmp_path / "tide.txt")


@pytest.mark.parametrize(
    ("columns", "said"),
    (
        ([{"quantity": "frame"}] * 4, "Two columns are set to 'frame'"),
        ([{"quantity": "tide"}] * 4, "Column 1 is set to 'tide'"),
        ([{"quantity": "frame"}], "names 1 columns and the table has 4"),
    ),
)
def test_a_layout_that_does_not_fit_is_one_sentence(tmp_path: Path, columns: list[dict[str, Any]], said: str) -> None:
    with pytest.raises(BadInput, match=said):
        read_file(table(tmp_path / "a.txt", [T, PLACE]), layout={"columns": columns})


@given(st.integers(2, 30), st.integers(3, 12), st.integers(0, 2**32 - 1))
def test_every_table_of_numbers_gets_a_proposal_that_uses_nothing_twice(rows: int, columns: int, seed: int) -> None:
    random = np.random.default_rng(seed)
    numbers = random.normal(0, 10.0 ** random.integers(-3, 5, columns), (rows, columns))
    found = propose(None, numbers)
    used = [c.quantity for c in found if c.quantity != "nothing"]
    assert (
        len(found) == columns and len(set(used)) == len(used) and all(c.quantity in QUANTITIES and c.why for c in found)
    )


@pytest.mark.parametrize("encoding", ["utf-16", "utf-16-le", "utf-16-be", "utf-8-sig"])
def test_unicode_text_of_a_spreadsheet_is_read(tmp_path: Path, encoding: str) -> None:
    plain = table(
        tmp_path / "plain.txt",
        [np.arange(1.0, 6.0), *np.random.default_rng(3).normal(size=(6, 5))],
        "frame\tx\ty\tz\trx\try\trz",
        "\t",
    )
    mark = {"utf-16-le": "\ufeff", "utf-16-be": "\ufeff"}.get(encoding, "")
    other = tmp_path / "other.txt"
    other.write_bytes((mark + plain.read_text()).encode(encoding))
    a, b = (read_columns(p).nodes[0] for p in (plain, other))
    assert np.array_equal(a.local, b.local) and np.array_equal(a.frames, b.frames)


def _ways(path: Path) -> list[str]:
    scene = read_file(path)
    assert scene.columns is not None
    return [w["words"] for w in scene.columns["readings"]]


def test_a_table_that_can_be_read_in_two_ways_says_both(tmp_path: Path) -> None:
    """Small angles, a quaternion's order, a first column that rises as a clock does: and none where a heading says it."""
    small = np.radians(ANGLES)
    in_degrees, in_radians = "the angles are in degrees", "the angles are in radians"
    assert _ways(table(tmp_path / "a.txt", [T, PLACE, small])) == [in_radians, in_degrees]
    head = "frame,tx,ty,tz,rx,ry,rz\n"
    rows = "\n".join(",".join(f"{v:.6f}" for v in (t, *p, *a)) for t, p, a in zip(T, PLACE, small, strict=True))
    (tmp_path / "b.csv").write_text(head + rows)
    assert _ways(tmp_path / "b.csv") == [in_degrees, in_radians]
    (tmp_path / "c.csv").write_text(head.replace("rx,ry,rz", "rx_rad,ry_rad,rz_rad") + rows)
    assert _ways(tmp_path / "c.csv") == []
    assert _ways(table(tmp_path / "d.txt", [T + 1001, PLACE, ANGLES, np.full(N, 35.0)])) == []
    turns = Rotation.from_euler("XYZ", ANGLES, degrees=True).as_quat()
    assert _ways(table(tmp_path / "e.txt", [T + 1, PLACE, turns])) == [
        "the quaternion's order is x y z w",
        "the quaternion's order is w x y z",
    ]
    rising = _ways(table(tmp_path / "f.txt", [3 + T / 25, PLACE, ANGLES]))
    assert rising == ["column 1 is a time in seconds", "column 1 is position X"]
    # each of the readings can be done as it says
    scene = read_file(tmp_path / "f.txt")
    assert scene.columns is not None
    for way in scene.columns["readings"]:
        again = read_file(tmp_path / "f.txt", layout={"columns": way["columns"]})
        assert again.columns is not None and again.columns["readings"] == []
