"""Every format written: read back by its library, by our own reader, and against OpenUSD as the reference."""

from __future__ import annotations

import hashlib
import re
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Track, make_lens
from anaxis.core.checks.examine import take_camera
from anaxis.core.proof.precision import single_precision_bound_px
from anaxis.core.proof.proof import prove
from anaxis.core.scene.landmarks import NO_LANDMARKS
from anaxis.core.scene.nodes import corrected
from anaxis.core.scene.picture import Picture
from anaxis.core.scene.tree import angle_between_deg
from anaxis.delivery.deliver import deliver
from anaxis.delivery.options import DeliveryOptions
from anaxis.formats import read_file
from anaxis.formats.file_axes import file_axes
from anaxis.formats.track_json.document import convention_document
from anaxis.packages import SHIPPED_KEYS, shipped_profiles
from conftest import reading_zooms
from test_resample import walk

IMAGE = Image(4096, 2304)
PICTURE = Picture(IMAGE, "width", False, False)
FORMATS = ("usd", "alembic", "gltf", "collada", "json", "columns")
NO_MARKS = np.zeros((1, 0, 3))


def shot(count: int = 60, first: float = 1001.0) -> Track:
    """A walk with a lens that moves; no offsets, which two formats cannot hold."""
    source = walk(count=count, first=first)
    lens = make_lens(
        count,
        focal_mm=source.lens.focal_mm,
        film_width_mm=24.89,
        film_height_mm=14.0,
        focus_m=source.lens.focus_m,
        fstop=4.0,
        near_m=0.1,
        far_m=900.0,
    )
    return replace(source, lens=lens)


@pytest.mark.parametrize("format_key", FORMATS)
@pytest.mark.parametrize("key", SHIPPED_KEYS)
def test_what_is_written_arrives(format_key: str, key: str, tmp_path: Path) -> None:
    """Through the stand-in, at 4096 px: exact in double precision, within its own bound in single."""
    source = shot()
    done = deliver(source, NO_LANDMARKS, PICTURE, reading_zooms(shipped_profiles()[key]), format_key, tmp_path)
    if format_key == "gltf":
        bound = single_precision_bound_px(source, IMAGE, "width", NO_MARKS)
        assert (done.proof.deviation_px <= bound).all() and done.proof.max_px > 1e-6
    else:
        assert done.proof.max_px <= 0.01
    assert np.allclose(done.seen.frames, source.frames, atol=1e-4) and done.seen.track.rate == source.rate


@pytest.mark.parametrize("format_key", FORMATS)
@pytest.mark.parametrize("key", ["zup-lh-cm", "yup-rh-m"])
def test_our_reader_reads_what_we_write(format_key: str, key: str, tmp_path: Path) -> None:
    source, profile = shot(), shipped_profiles()[key]
    done = deliver(source, NO_LANDMARKS, PICTURE, profile, format_key, tmp_path)
    scene = read_file(done.files[0])
    axes = file_axes(format_key, profile.convention)
    if format_key == "columns":  # no table says its axes and unit: a person chooses them, the columns are told
        told = scene.columns
        assert told is not None and {"up_axis", "metres_per_unit"} <= set(scene.guesses)
        layout = told["layout"] | {"convention": convention_document(profile.convention)}
        scene = read_file(done.files[0], layout=layout)
    if format_key == "alembic":
        assert axes.up and {"up_axis", "metres_per_unit"} <= set(scene.guesses)
        scene = corrected(scene, axes.up, axes.unit_m, source.rate)
    back = take_camera(scene, None).done
    near = 1e-5 if format_key == "gltf" else 1e-9
    assert np.allclose(back.frames, source.frames, atol=1e-6) and back.rate == source.rate
    assert np.abs(back.position_m - source.position_m).max() < near
    assert angle_between_deg(back.rotation, source.rotation).max() < max(
        1e-5 if format_key == "gltf" else 0, 1e-9 * 180
    )
    seen = prove(
        source, projection_of(source, IMAGE, "width"), projection_of(back, IMAGE, scene.source_fit or "width"), NO_MARKS
    )
    assert seen.max_px <= (0.05 if format_key == "gltf" else 0.01)


def test_every_format_says_what_usd_says(tmp_path: Path) -> None:
    profile = reading_zooms(shipped_profiles()["zup-lh-cm"])
    seen = {f: deliver(shot(), NO_LANDMARKS, PICTURE, profile, f, tmp_path).seen.track for f in FORMATS}
    for name, track in seen.items():
        near = 2e-6 if name == "gltf" else 1e-9
        assert np.abs(track.position_m - seen["usd"].position_m).max() < near, name
        assert angle_between_deg(track.rotation, seen["usd"].rotation).max() < 1e-5, name
        view = track.lens.focal_mm / track.lens.used(IMAGE, "width").width_mm
        assert np.allclose(
            view, seen["usd"].lens.focal_mm / seen["usd"].lens.used(IMAGE, "width").width_mm, rtol=1e-6
        ), name


@pytest.mark.parametrize("format_key", FORMATS)
def test_what_is_written_twice_is_the_same_to_the_byte(format_key: str, tmp_path: Path) -> None:
    sums = []
    for name in ("a", "b"):
        (tmp_path / name).mkdir()
        files = deliver(
            shot(), NO_LANDMARKS, PICTURE, shipped_profiles()["zup-lh-cm"], format_key, tmp_path / name
        ).files
        sums.append([hashlib.sha256(f.read_bytes()).hexdigest() for f in files])
    assert sums[0] == sums[1]


@pytest.mark.parametrize("format_key", FORMATS)
def test_few_keys_are_written_as_the_format_draws_them(format_key: str, tmp_path: Path) -> None:
    source = shot(120)
    done = deliver(
        source,
        NO_LANDMARKS,
        PICTURE,
        reading_zooms(shipped_profiles()["zup-rh-m"]),
        format_key,
        tmp_path,
        DeliveryOptions(reduce_px=3.0),
    )
    assert done.reduced is not None and done.proof.max_px <= 3.0
    curved = format_key in ("json", "gltf", "collada")
    assert (done.reduced.keys.rule.interpolation == "bezier") == curved
    assert len(done.reduced.keys) < (30 if curved else 119)
    if format_key == "collada":
        assert done.files[0].read_text().count("BEZIER") == 6 * len(done.reduced.keys)


@pytest.mark.parametrize("format_key", ["gltf", "collada"])
def test_what_a_format_cannot_hold_is_said(format_key: str, tmp_path: Path) -> None:
    source = shot(20)
    shifted = replace(source, lens=replace(source.lens, offset_y_mm=np.full(20, 0.5)))
    done = deliver(shifted, NO_LANDMARKS, PICTURE, shipped_profiles()["zup-lh-cm"], format_key, tmp_path)
    said = " ".join(done.outgoing.notes)
    assert "stores no" in said and "0.5000 mm up" in said
    assert ("hardly any package reads" if format_key == "gltf" else "view. Some readers drop") in said
    assert done.proof.grade == "off"  # and the proof does not hide it
    early = deliver(
        shot(20), NO_LANDMARKS, PICTURE, reading_zooms(shipped_profiles()["zup-lh-cm"]), format_key, tmp_path, DeliveryOptions(first=-5.0)
    )  # fmt: skip
    assert early.outgoing.zero_frame == -5 and early.proof.max_px <= 0.05
    assert any("Frame -5 is at 0 s" in n and "no time before 0" in n for n in early.outgoing.notes)


def test_alembic_is_read_by_its_library(tmp_path: Path) -> None:
    """The window the library itself makes of the lens, and the pose by its own matrices."""
    from alembic3d import Abc, AbcGeom

    source, profile = shot(24), shipped_profiles()["yup-rh-cm"]
    path = deliver(source, NO_LANDMARKS, PICTURE, profile, "alembic", tmp_path).files[0]
    top = Abc.IArchive(str(path)).getTop()
    xform = AbcGeom.IXform(top, top.getChild(0).getName())
    camera = AbcGeom.ICamera(xform, xform.getChild(0).getName())
    near = Abc.ISampleSelector.TimeIndexType.kNearIndex
    for i, frame in enumerate(source.frames.tolist()):
        at = Abc.ISampleSelector(frame / 24, near)
        window = camera.getSchema().getValue(at).getScreenWindow()
        view = camera.getSchema().getValue(at).getFieldOfView()
        assert view == pytest.approx(np.degrees(2 * np.arctan(24.89 / 2 / source.lens.focal_mm[i])), rel=1e-9)
        # The receiver inscribes the image by width: what it is handed is the part of the film back that is used.
        assert window["right"] == -window["left"] == pytest.approx(1.0, rel=1e-6)
        assert window["top"] == -window["bottom"] == pytest.approx(9 / 16, rel=1e-6)
        matrix = np.array(xform.getSchema().getValue(at).getMatrix()).reshape(4, 4).T
        assert np.allclose(matrix[:3, 3], source.position_m[i] * 100, rtol=1e-12)
        assert np.allclose(matrix[:3, :3], source.rotation[i], atol=1e-12)


def test_a_near_plane_of_nothing_is_not_written_to_collada_and_that_is_said(tmp_path: Path) -> None:
    source = shot(5)
    source = replace(source, lens=replace(source.lens, near_m=np.zeros(5)))
    done = deliver(source, NO_LANDMARKS, PICTURE, shipped_profiles()["yup-rh-m"], "collada", tmp_path)
    written = re.search(r"<znear>([^<]+)</znear>", done.files[0].read_text())
    assert written and float(written[1]) == pytest.approx(1e-4)
    assert done.proof.within(0.01) and any("Anaxis writes 0.0001 m" in n for n in done.outgoing.notes)


def test_collada_is_read_by_its_library(tmp_path: Path) -> None:
    import collada

    source, profile = shot(12), shipped_profiles()["zup-rh-m"]
    path = deliver(source, NO_LANDMARKS, PICTURE, profile, "collada", tmp_path).files[0]
    document = collada.Collada(str(path))
    assert document.assetInfo.upaxis == "Z_UP" and document.assetInfo.unitmeter == 1.0
    (seen,) = document.scene.objects("camera")
    pose = profile.convention.rotation_from_canonical(source.rotation)[0]
    assert np.allclose(seen.matrix[:3, :3], pose, atol=1e-6)
    assert np.allclose(seen.matrix[:3, 3], profile.convention.position_from_canonical(source.position_m)[0], atol=1e-5)
    half_height = np.tan(np.radians(seen.yfov) / 2)
    assert half_height * seen.aspect_ratio == pytest.approx(24.89 / 2 / source.lens.focal_mm[0], rel=1e-6)


def test_gltf_is_what_the_standard_asks_for(tmp_path: Path) -> None:
    from pygltflib import GLTF2

    source = shot(30)
    path = deliver(source, NO_LANDMARKS, PICTURE, shipped_profiles()["yup-rh-m"], "gltf", tmp_path).files[0]
    document = GLTF2().load(str(path))
    assert document.asset.version == "2.0" and len(document.cameras) == 1
    animation = document.animations[0]
    data = document.binary_blob()
    for channel in animation.channels:
        sampler = animation.samplers[channel.sampler]
        accessor = document.accessors[sampler.output]
        view = document.bufferViews[accessor.bufferView]
        values = np.frombuffer(data, "<f4", offset=view.byteOffset, count=view.byteLength // 4).reshape(
            accessor.count, -1
        )
        assert np.allclose(accessor.min, values.min(axis=0)) and np.allclose(accessor.max, values.max(axis=0))
        if channel.target.path == "rotation":
            assert np.allclose(np.linalg.norm(values, axis=1), 1, atol=1e-6)
            assert np.allclose(Rotation.from_quat(values).as_matrix(), source.rotation, atol=1e-6)
            assert (np.sum(values[1:] * values[:-1], axis=1) > 0).all()


def test_clips_of_alembic_are_in_the_packages_unit(tmp_path: Path) -> None:
    from alembic3d import Abc, AbcGeom

    path = deliver(shot(4), NO_LANDMARKS, PICTURE, shipped_profiles()["yup-rh-cm"], "alembic", tmp_path).files[0]
    top = Abc.IArchive(str(path)).getTop()
    xform = AbcGeom.IXform(top, top.getChild(0).getName())
    sample = AbcGeom.ICamera(xform, xform.getChild(0).getName()).getSchema().getValue(Abc.ISampleSelector(0))
    assert sample.getNearClippingPlane() == pytest.approx(10) and sample.getFarClippingPlane() == pytest.approx(90_000)
    assert sample.getFocusDistance() == pytest.approx(100 * shot(4).lens.focus_m[0])


def test_usd_holds_a_far_clip_that_moves_and_the_pixels_shape(tmp_path: Path) -> None:
    from pxr import Usd, UsdGeom, UsdRender

    source = shot(6)
    moving = replace(source, lens=replace(source.lens, far_m=np.linspace(100, 600, 6)))
    wide = Picture(Image(2048, 1716, 2.0), "width", False, False)
    path = deliver(moving, NO_LANDMARKS, wide, shipped_profiles()["yup-rh-cm"], "usd", tmp_path).files[0]
    stage = Usd.Stage.Open(str(path))
    (camera,) = (UsdGeom.Camera(p) for p in stage.Traverse() if p.IsA(UsdGeom.Camera))
    clips = [tuple(camera.GetClippingRangeAttr().Get(frame)) for frame in source.frames.tolist()]
    assert clips == [pytest.approx((10.0, 100 * far)) for far in moving.lens.far_m]
    settings = [UsdRender.Settings(p) for p in stage.Traverse() if p.IsA(UsdRender.Settings)]
    assert [s.GetPixelAspectRatioAttr().Get() for s in settings] == [2.0]
    assert [tuple(s.GetResolutionAttr().Get()) for s in settings] == [(2048, 1716)]


@pytest.mark.parametrize(("last_frame", "begins_at_0_s"), [(24 * 255, False), (24 * 257, True)])
def test_gltf_begins_with_the_first_frame_where_its_times_tell_frames_apart_no_longer(
    last_frame: int, begins_at_0_s: bool, tmp_path: Path
) -> None:
    from pygltflib import GLTF2

    source = shot(24, first=last_frame - 23.0)
    path = deliver(source, NO_LANDMARKS, PICTURE, shipped_profiles()["yup-rh-cm"], "gltf", tmp_path).files[0]
    document = GLTF2().load(str(path))
    starts = {document.accessors[s.input].min[0] for s in document.animations[0].samplers}
    assert starts == {0.0} if begins_at_0_s else min(starts) == pytest.approx((last_frame - 23) / 24)
