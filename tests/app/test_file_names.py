"""Sequence, episode and shot names as studios write them: each comes out right, or is asked about, and none is mixed with another."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import Engine, select

from anaxis.app.cameras.file_names import guessed, named, possible_shots
from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from anaxis.core.errors import BadInput
from anaxis.store.models import Camera, Shot
from shell import run

# Name, shot, camera that is from others, version.
NAMES = [
    "TW_010_camera_v001|TW_010||1",
    "TW-010-camera-v012|TW-010||12",
    "TW_010_shotcam_v001_baked|TW_010||1",
    "TW_010_take3|TW_010||3",
    "TW_010_rev12|TW_010||12",
    "TW_010_final2|TW_010||",
    "TW_010_4k|TW_010||",
    "TW_010_25fps_v2|TW_010||2",
    "TW_010_1920x1080_v2|TW_010||2",
    "TW_010_1001-1120|TW_010||",
    "TW_010_20261130|TW_010||",
    "TW_010_2026-11-30_v4|TW_010||4",
    "TW_010_cameraLeft_v001|TW_010|cameraLeft|1",
    "TW_010_cam2_v001|TW_010|cam2|1",
    "TW010_camA_v001|TW010|camA|1",
    "TW010_camB_v002|TW010|camB|2",
    "tw010camera_v3|tw010||3",
    "camera_TW_010_v001|TW_010||1",
    "v002_TW_010_cam|TW_010||2",
    "solve_TW_030_v5|TW_030||5",
    "TW_030_solve02_v5|TW_030||5",
    "SQ09_0310_cam_v001|SQ09_0310||1",
    "sq010_sh0040_cam_v004|sq010_sh0040||4",
    "sq0100_sh0010_plate01_cam_v001|sq0100_sh0010||1",
    "sc012_sh034B_rendercam_v001|sc012_sh034B||1",
    "ep101_sq020_sh0030_lay_v002|ep101_sq020_sh0030||2",
    "E01_S02_SH0030_camera|E01_S02_SH0030||",
    "s01e02_0450_cam_v001|s01e02_0450||1",
    "tw_sq010_sh0040_anim_v010|tw_sq010_sh0040||10",
    "101_020_0030_mm_v001|101_020_0030||1",
    "010_0040_layout|010_0040||",
    "0010|0010||",
    "sh010a_cam|sh010a||",
    "shot010.cam.v001|shot010||1",
    "mill_shot_010_v3|mill_shot_010||3",
    "TID_0010|TID_0010||",
    "TID0010_v0003|TID0010||3",
    "TID.0010.matchmove.v003|TID.0010||3",
    "TDL_103_027_010_cam_v003|TDL_103_027_010||3",
    "tdl103_027_010_lay|tdl103_027_010||",
    "A001_C003_0101AB_tracked|A001_C003_0101AB||",
    "R2_120_B_cam|R2_120||",
    "reel2_sc12_pt3_cam_v7|reel2_sc12_pt3||7",
    "Szene12_Einst3_Kamera_v2|Szene12_Einst3||2",
    "shotA_cam|shotA||",
    "mill|mill||",
    "mill_wheel_closeup|mill_wheel_closeup||",
]


@pytest.mark.parametrize("row", NAMES)
def test_a_name_is_read_as_people_read_it(row: str) -> None:
    name, shot, camera, version = row.split("|")
    found = guessed(f"deliveries/{name}.usd")
    assert (found.shot, found.camera, str(found.version or "")) == (shot, camera, version)


@pytest.mark.parametrize(
    ("name", "rule", "shot", "camera"),
    [
        ("TW_010_camera_v001", "{shot}_{camera}_v{version}", "TW_010", "camera"),
        ("sq010_sh0040_cam_v004", "{shot}_{camera}_v{version}", "sq010_sh0040", "cam"),
        ("ep101_sq020_sh0030_lay_v002", "{shot}_*_v{version}", "ep101_sq020_sh0030", ""),
        ("out/TW/TW_010_camera_v003", "{show}/{shot}_*_v{version}", "TW_010", ""),
        ("TW_010_camera_v001", "{shot}_*", "TW_010", ""),
        ("TW_010cam2", "{shot}cam{version}", "TW_010", ""),
    ],
)
def test_a_rule_that_splits_a_name_in_several_ways_takes_the_shot_that_people_see(
    name: str, rule: str, shot: str, camera: str
) -> None:
    found = named(f"{name}.usd", rule)
    assert (found.shot, found.camera) == (shot, camera)


def test_a_show_that_has_the_shot_decides_and_else_it_is_asked() -> None:
    rule = "{shot}_{camera}_v{version}"
    with pytest.raises(BadInput, match="in several ways: the shot may be 'a', 'a_b', 'a_b_c'"):
        named("a_b_c_d_v1.usd", rule)
    assert named("a_b_c_d_v1.usd", rule, {"a_b"})[1:3] == ("a_b", "c_d")
    assert guessed("wheel_low_angle_v2.usd", {"wheel_low"}).shot == "wheel_low"
    assert guessed("sq010_sh0040_cam.usd", {"sq010"}).shot == "sq010_sh0040", "a shot that says less is another one"
    with pytest.raises(BadInput, match="does not match the rule"):
        named("nothing.usd", rule)


def test_files_of_many_shots_and_two_cameras_stay_apart(
    engine: Engine, usda: Callable[..., Path], tmp_path: Path
) -> None:
    url = engine.url.render_as_string(hide_password=False)
    names = [
        "sq010_sh0030_cam_v004",
        "sq010_sh0040_cam_v004",
        "sq020_sh0040_cam_v001",
        "TW010_camA_v001",
        "TW010_camB_v002",
    ]
    files = [usda(name=f"{n}.usda", ops=f"double3 xformOp:translate = ({i}, 1, 5)\n uniform token[] xformOpOrder = [\"xformOp:translate\"]")
             for i, n in enumerate(names)]  # fmt: skip
    ran = run("take-in", *files, "--show", "Mill", DATABASE_URL=url)
    assert ran.returncode == 0, ran.stderr
    with Context(engine, LOCAL) as store:
        shots = {s.name: sorted(c.name for c in s.cameras) for s in store.scalars(select(Shot))}
        assert shots == {
            "sq010_sh0030": ["cam"], "sq010_sh0040": ["cam"], "sq020_sh0040": ["cam"], "TW010": ["cam", "camB"],
        }  # fmt: skip
        assert all(len(c.versions) == 1 for c in store.scalars(select(Camera)))
    # A newer file of the second camera is a take of that one, and an older file of the first is left out with a line and exit 4.
    newer = usda(
        name="TW010_camB_v003.usda",
        ops='double3 xformOp:translate = (9, 1, 5)\n uniform token[] xformOpOrder = ["xformOp:translate"]',
    )
    older = usda(
        name="TW010_camA_v000.usda",
        ops='double3 xformOp:translate = (8, 1, 5)\n uniform token[] xformOpOrder = ["xformOp:translate"]',
    )
    ran = run("take-in", newer, older, "--show", "Mill", DATABASE_URL=url)
    assert ran.returncode == 4 and "TW010_camA_v000.usda was skipped" in ran.stderr
    with Context(engine, LOCAL) as store:
        takes = {c.name: len(c.versions) for c in store.scalars(select(Camera).join(Shot).where(Shot.name == "TW010"))}
        assert takes == {"cam": 1, "camB": 2}


_WORD = st.sampled_from(["sq010", "SH0040", "a", "MI", "010", "cam", "tide mill", "é1", "v004", "left"])
_NAME = st.lists(_WORD, min_size=1, max_size=4).map("_".join)


@given(
    _NAME, st.lists(_NAME, max_size=8), st.sampled_from(["", "{shot}_v{version}", "{shot}_{camera}", "{show}_{shot}*"])
)
def test_only_the_shots_that_may_be_meant_are_looked_up(name: str, shots: list[str], rule: str) -> None:
    """The oracle is the whole list: a show of 10,000 shots is not read for each file."""
    told: list[object] = []
    for asked in (lambda: shots, lambda: [s for s in shots if s.lower() in possible_shots(f"{name}.usd", rule)]):
        try:
            told.append(named(f"{name}.usd", rule, asked()))
        except BadInput as refused:
            told.append(refused.code)
    assert told[0] == told[1]
