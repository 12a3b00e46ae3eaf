"""Reading and writing: round trips, units, time codes, render settings."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import fields
from pathlib import Path

import numpy as np
import pytest
from pxr import Gf, Usd, UsdGeom, UsdUtils

from anaxis.core.camera.track import Lens
from anaxis.core.errors import BadInput
from anaxis.core.outgoing import make_outgoing
from anaxis.core.scene.bake import bake_camera
from anaxis.core.scene.picture import picture_of
from anaxis.core.scene.surroundings import landmarks_of
from anaxis.core.space.axes import Convention
from anaxis.delivery.deliver import deliver
from anaxis.formats import read_file
from anaxis.formats.track_json.document import write_track_json
from anaxis.library.archive import scene_from_bytes, scene_to_bytes
from anaxis.packages import shipped_profiles
from lanes import pairs

SHOTS = ("TW_010", "TW_020", "TW_030", "TW_040")


@pytest.mark.parametrize(("shot", "key"), pairs(SHOTS, shipped_profiles()))
def test_every_format_arrives_within_a_hundredth_of_a_pixel(
    demo_files: dict[str, Path], tmp_path: Path, shot: str, key: str
) -> None:
    from anaxis.core.camera.lens import Image

    scene = read_file(demo_files[shot])
    track = bake_camera(scene).track
    picture = picture_of(scene, Image(4096, round(4096 / 1.9)), None)
    limits = {"usd": 0.01, "json": 1e-6, "columns": 1e-6}
    for format_key, limit in limits.items():
        done = deliver(track, landmarks_of(scene, track.frames), picture, shipped_profiles()[key], format_key, tmp_path)
        assert done.proof.max_px <= limit and done.proof.test_points == 187


@pytest.mark.parametrize("key", list(shipped_profiles()))
def test_a_written_usd_reads_back_as_the_same_camera(demo_files: dict[str, Path], tmp_path: Path, key: str) -> None:
    scene = read_file(demo_files["TW_030"])
    track = bake_camera(scene).track
    marks = landmarks_of(scene, track.frames).shown()
    profile = shipped_profiles()[key]
    done = deliver(track, marks, picture_of(scene, None, None), profile, "usd", tmp_path)
    again = read_file(done.files[0])
    back = bake_camera(again).track
    assert np.allclose(back.position_m, track.position_m, rtol=1e-12, atol=1e-12)
    assert np.allclose(back.rotation, track.rotation, atol=1e-12)
    assert np.allclose(back.lens.squeeze, 2) and np.allclose(back.lens.focal_mm, 50, rtol=1e-6)
    assert np.allclose(landmarks_of(again, back.frames).shown().position_m, marks.position_m, atol=1e-9)
    stage = Usd.Stage.Open(str(done.files[0]))
    assert UsdGeom.GetStageUpAxis(stage) == ("Z" if key.startswith("zup") else "Y")
    assert UsdGeom.GetStageMetersPerUnit(stage) == profile.metres_per_unit
    assert (stage.GetStartTimeCode(), stage.GetEndTimeCode(), stage.GetTimeCodesPerSecond()) == (1001, 1400, 24)
    # The lens is in tenths of a scene unit, whatever the unit.
    camera = UsdGeom.Camera(stage.GetDefaultPrim())
    assert camera.GetFocalLengthAttr().Get() == pytest.approx(50 / (100 * profile.metres_per_unit))


def test_writing_twice_gives_the_same_bytes(demo_files: dict[str, Path], tmp_path: Path) -> None:
    scene = read_file(demo_files["TW_020"])
    track = bake_camera(scene).track
    for format_key in ("usd", "json", "columns"):
        both = []
        for name in ("a", "b"):
            (folder := tmp_path / format_key / name).mkdir(parents=True)
            done = deliver(
                track,
                landmarks_of(scene, track.frames),
                picture_of(scene, None, None),
                shipped_profiles()["zup-lh-cm"],
                format_key,
                folder,
            )
            both.append(done.files[0].read_bytes())
        assert both[0] == both[1]


def test_track_json_is_lossless(demo_files: dict[str, Path], tmp_path: Path) -> None:
    from anaxis.core.camera.lens import Image

    scene = read_file(demo_files["TW_020"])
    track = bake_camera(scene).track
    out = make_outgoing(track, Convention(), Image(1920, 1080), "width", "width", landmarks_of(scene, track.frames))
    again = read_file(write_track_json([out], tmp_path, "x")[0])
    back = bake_camera(again).track
    assert again.source_fit == "width" and again.rate == track.rate
    for name in ("frames", "position_m", "rotation"):
        assert np.array_equal(getattr(back, name), getattr(track, name)), name
    for field in fields(Lens):
        assert np.array_equal(getattr(back.lens, field.name), getattr(track.lens, field.name), equal_nan=True), (
            field.name
        )


def test_a_scene_survives_the_archive(demo_files: dict[str, Path]) -> None:
    scene = read_file(demo_files["TW_010"])
    back = scene_from_bytes(scene_to_bytes(scene))
    assert [n.path for n in back.nodes] == [n.path for n in scene.nodes] and back.image == scene.image
    assert np.array_equal(bake_camera(back).track.rotation, bake_camera(scene).track.rotation)


@pytest.mark.parametrize("metres_per_unit", (0.001, 0.01, 0.0254, 1.0))
def test_lens_lengths_are_tenths_of_a_unit(usda: Callable[..., Path], metres_per_unit: float) -> None:
    path = usda(
        head=f'upAxis = "Y"\n metersPerUnit = {metres_per_unit}',
        lens="float focalLength = 2\n float horizontalAperture = 3\n float verticalAperture = 1.5\n"
        " float horizontalApertureOffset = 0.5\n float verticalApertureOffset.timeSamples = {1: 0, 5: 1}\n"
        " float focusDistance = 7\n float fStop = 2.8\n float2 clippingRange = (1, 100)",
    )
    lens = bake_camera(read_file(path)).track.lens
    mm = 0.1 * metres_per_unit * 1000
    assert np.allclose([lens.focal_mm[0], lens.film_width_mm[0], lens.film_height_mm[0]], np.array([2, 3, 1.5]) * mm)
    assert np.allclose(lens.offset_x_mm, 0.5 * mm) and np.allclose(
        lens.offset_y_mm[:6], np.array([0, 0.25, 0.5, 0.75, 1, 1]) * mm
    )
    assert np.allclose(lens.focus_m, 7 * metres_per_unit) and np.allclose(lens.fstop, 2.8)
    assert np.allclose([lens.near_m[0], lens.far_m[0]], [metres_per_unit, 100 * metres_per_unit])


@pytest.mark.parametrize(
    ("head", "rate", "first", "last"),
    (
        ("timeCodesPerSecond = 24", "24", 1, 10),
        ("timeCodesPerSecond = 23.976023976", "24000/1001", 1, 10),
        ("timeCodesPerSecond = 30\n framesPerSecond = 24", "30", 1, 10),
        ("framesPerSecond = 25", "25", 1, 10),
        # Codes that are ticks of a sixth of a frame: only the playback rate says what a frame is.
        ("timeCodesPerSecond = 144\n framesPerSecond = 24", "24", 1, 1),
    ),
)
def test_time_codes(usda: Callable[..., Path], head: str, rate: str, first: int, last: int) -> None:
    from fractions import Fraction

    scene = read_file(usda(head=f'upAxis = "Y"\n metersPerUnit = 0.01\n {head}'))
    assert scene.rate == Fraction(rate)
    track = bake_camera(scene).track
    assert (track.frames[0], track.frames[-1]) == (first, last)


def test_render_settings_state_the_resolution(usda: Callable[..., Path]) -> None:
    settings = (
        'def RenderSettings "r" {\n uniform int2 resolution = (2048, 858)\n uniform float pixelAspectRatio = 2\n}'
    )
    image = read_file(usda("CAMERA\n" + settings)).image
    assert image is not None and (image.width_px, image.height_px, image.pixel_aspect) == (2048, 858, 2)
    assert read_file(usda()).image is None


def test_splines_and_instances_are_followed(usda: Callable[..., Path]) -> None:
    body = (
        'class "_rig" {\n CAMERA\n}\n def Xform "one" (\n instanceable = true\n inherits = </_rig>\n) {\n'
        ' double3 xformOp:translate = (5, 0, 0)\n uniform token[] xformOpOrder = ["xformOp:translate"]\n}'
    )
    scene = read_file(usda(body))
    assert [c.path for c in scene.cameras] == ["/one/cam"]
    assert np.allclose(bake_camera(scene).track.position_m[0], [0.05, 0.1, 3.0])
    spline = 'double xformOp:rotateY.spline = {\n bezier,\n 1: 0; post held,\n 9: 80; post held,\n}\n uniform token[] xformOpOrder = ["xformOp:rotateY"]'
    track = bake_camera(read_file(usda(ops=spline, name="spline.usda"))).track
    assert (track.frames[0], track.frames[-1]) == (1, 9)
    assert np.allclose(track.rotation[-1][:, 0], [np.cos(np.radians(80)), 0, -np.sin(np.radians(80))])


def test_usdz_opens_its_own_layers_and_nothing_outside(usda: Callable[..., Path], tmp_path: Path) -> None:
    usda(name="inner.usda")
    outer = tmp_path / "outer.usda"
    outer.write_text('#usda 1.0\n(\n subLayers = [@./inner.usda@]\n upAxis = "Y"\n metersPerUnit = 0.01\n)\n')
    package = tmp_path / "p.usdz"
    assert UsdUtils.CreateNewUsdzPackage(str(outer), str(package))
    assert [c.path for c in read_file(package).cameras] == ["/cam"]
    flat = read_file(outer)
    assert flat.cameras == [] and flat.findings[0].code == "outside_reference"


def test_columns_carry_every_digit(demo_files: dict[str, Path], tmp_path: Path) -> None:
    scene = read_file(demo_files["TW_010"])
    track = bake_camera(scene).track
    done = deliver(
        track,
        landmarks_of(scene, track.frames),
        picture_of(scene, None, None),
        shipped_profiles()["zup-rh-m"],
        "columns",
        tmp_path,
    )
    table = np.genfromtxt(done.files[0], delimiter=",", names=True)
    assert np.array_equal(table["frame"], track.frames)
    assert np.array_equal(table["position_z"], track.position_m[:, 1])


@pytest.mark.parametrize(
    ("change", "said"),
    (
        ({"rate": 24}, "rate"),
        ({"position": [[0, 0]]}, "position"),
        ({"frames": [1, 1]}, "frames must rise|2 frames"),
        ({"convention": {"world": {"right": "+X", "up": "+Z", "back": "+Y"}}}, "convention"),
        ({"lens": {"focal_mm": "long"}}, "lens"),
    ),
)
def test_broken_track_documents_are_named(
    demo_files: dict[str, Path], tmp_path: Path, change: dict[str, object], said: str
) -> None:
    scene = read_file(demo_files["TW_010"])
    track = bake_camera(scene, None, np.array([1001.0])).track
    deliver(
        track,
        landmarks_of(scene, track.frames),
        picture_of(scene, None, None),
        shipped_profiles()["yup-rh-m"],
        "json",
        tmp_path,
    )
    path = next(tmp_path.glob("*.json"))
    document = {**json.loads(path.read_text()), **change}
    path.write_text(json.dumps(document))
    with pytest.raises(BadInput, match=said):
        read_file(path)


def test_gf_agrees_that_z_up_is_a_quarter_turn() -> None:
    from anaxis.core.scene.nodes import UP_AXES

    assert np.allclose(np.array(Gf.Matrix3d(Gf.Rotation(Gf.Vec3d(1, 0, 0), 90))).T, UP_AXES["Z"])


@pytest.mark.parametrize("ticks", [705_600_000, 192_000, 254_016_000_000])
def test_a_clock_of_ticks_is_no_frame_rate_and_no_fault(ticks: int, usda: Callable[..., Path]) -> None:
    """Time codes that count ticks: what a frame is the playback rate says."""
    head = f'upAxis = "Y"\n metersPerUnit = 0.01\n timeCodesPerSecond = {ticks}\n framesPerSecond = 24'
    per_frame = ticks // 24
    ops = (
        f"double3 xformOp:translate.timeSamples = {{ {per_frame}: (0, 10, 300), {10 * per_frame}: (50, 20, 250) }}\n"
        ' uniform token[] xformOpOrder = ["xformOp:translate"]'
    )
    scene = read_file(usda(head=head, ops=ops))
    assert scene.rate == 24 and scene.camera().keys.tolist() == [1, 10]


def test_a_file_at_a_rate_that_nothing_runs_at_is_refused(usda: Callable[..., Path]) -> None:
    with pytest.raises(BadInput, match=r"shot\.usda: 7\.056e\+08 is not a usable frame rate: it must be between"):
        read_file(usda(head='upAxis = "Y"\n metersPerUnit = 0.01\n timeCodesPerSecond = 705600000'))
