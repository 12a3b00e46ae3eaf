"""A joined camera in every format: on every frame its shots', nothing drawn between two of them, by readers of others too."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from anaxis.core.camera.lens import Image
from anaxis.core.derive import KINDS
from anaxis.core.derive.derived import Derived, Input
from anaxis.core.scene.bake import bake_camera
from anaxis.core.scene.picture import Picture
from anaxis.delivery.deliver import deliver_all
from anaxis.delivery.options import DeliveryOptions
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.formats import read_file
from anaxis.packages import find_profile
from ordinary import SHOTS, Shot, pixels, points_ahead, track_of, zoomless

# On one lens, so that formats without an animated lens hold the cut as well.
CUT: list[tuple[Shot, float, int]] = [
    (SHOTS["whip"](), 1030, 40), (SHOTS["frame_86400"](), 86410, 24), (SHOTS["frame_minus_20"](), -10, 30), (SHOTS["jitter"](), 1050, 30),
]  # fmt: skip
ENDS = np.cumsum([c for *_, c in CUT])


def joined(first: float = 1001) -> Derived:
    inputs, pieces, at = {}, [], 0
    for shot, start, count in CUT:
        picture = Picture(Image(shot.width_px, shot.height_px), "width", False, False)
        inputs[shot.name] = Input(shot.name, track_of(shot), picture)
        pieces.append({"name": shot.name, "role": shot.name, "first": start, "begins": at, "frames": count})
        at += count
    given = {"pieces": pieces, "rate": "24", "first": first, "width_px": 1920, "height_px": 1080}
    return KINDS["joined"].derive(inputs, given)


def leaving(made: Derived) -> ShotCamera:
    return ShotCamera(made.track, made.landmarks, Picture(made.image, made.fit, False, False))


@pytest.mark.parametrize("first", [1001.0, 86400.0, -20.0])
@pytest.mark.parametrize("format_key", ["usd", "alembic", "gltf", "collada", "json", "columns"])
def test_it_arrives_as_its_shots_on_every_frame(format_key: str, first: float, tmp_path: Path) -> None:
    (done,) = deliver_all([leaving(joined(first))], find_profile("zup-lh-cm"), format_key, tmp_path)
    assert done.proof.compared == done.proof.owed == ENDS[-1] and not len(done.proof.missing)
    for k, (shot, start, count) in enumerate(CUT):
        frames, rows = start + np.arange(count), np.arange(count) + (ENDS[k] - count)
        points = points_ahead(shot, frames)
        meant, _ = pixels(shot, frames, points)
        seen, _ = done.seen.projection.select_frames(rows).project(points)
        # glTF keeps seconds and positions in single precision; a shot drawn elsewhere would be off by hundreds.
        assert np.abs(seen - meant).max() < (3.0 if format_key == "gltf" else 0.01), (
            shot.name,
            np.abs(seen - meant).max(),
        )


@pytest.mark.parametrize("format_key", ["usd", "alembic", "gltf", "collada"])
def test_nothing_is_drawn_between_two_shots(format_key: str, tmp_path: Path) -> None:
    """The file read again, at moments before a cut: each lies on its own shot's way, and none between the two."""
    made = joined()
    (done,) = deliver_all([leaving(made)], find_profile("yup-rh-m"), format_key, tmp_path)
    scene = read_file(done.files[0])
    for k, end in enumerate(ENDS[:-1]):
        at = 1001 + end + np.array([-0.9, -0.5, -0.25, -0.03, 0.0])
        found = bake_camera(scene, None, at).track.position_m
        shot, start, count = CUT[k]
        mine, _, _ = shot.at(start + count + np.array([-0.9, -0.5, -0.25, -0.03]))
        other, begins, _ = CUT[k + 1]
        theirs, _, _ = other.at(np.array([begins]))
        assert np.abs(found[:4] - mine).max() < 0.03, (k, np.abs(found[:4] - mine).max())
        assert np.abs(found[4] - theirs[0]).max() < 1e-4


def test_usd_s_own_reader_sees_no_way_from_one_shot_to_the_next(tmp_path: Path) -> None:
    from pxr import Usd, UsdGeom

    (done,) = deliver_all([leaving(joined())], find_profile("yup-rh-m"), "usd", tmp_path)
    stage = Usd.Stage.Open(str(done.files[0]))
    (prim,) = [p for p in stage.Traverse() if p.IsA(UsdGeom.Camera)]
    for k, end in enumerate(ENDS[:-1]):
        place = (
            UsdGeom.Xformable(prim).GetLocalTransformation(Usd.TimeCode(1001 + float(end) - 0.5)).ExtractTranslation()
        )
        shot, start, count = CUT[k]
        mine, _, _ = shot.at(np.array([start + count - 0.5]))
        assert np.abs(np.array(place) - mine[0]).max() < 0.02


def test_motion_blur_and_few_keys_keep_the_cuts_apart(tmp_path: Path) -> None:
    for options in (DeliveryOptions(samples=5), DeliveryOptions(reduce_px=0.5)):
        (done,) = deliver_all([leaving(joined())], find_profile("yup-rh-m"), "usd", tmp_path, options)
        assert done.proof.max_px <= (0.01 if options.reduce_px is None else 0.5)
        scene = read_file(done.files[0])
        for k, end in enumerate(ENDS[:-1]):
            at = np.array([1001 + end - 0.3])
            shot, start, count = CUT[k]
            mine, _, _ = shot.at(start + count - np.array([0.3]))
            assert np.abs(bake_camera(scene, None, at).track.position_m - mine).max() < 0.05


def test_track_json_keeps_the_cuts(tmp_path: Path) -> None:
    made = joined()
    (done,) = deliver_all([leaving(made)], find_profile("yup-rh-m"), "json", tmp_path)
    back = bake_camera(read_file(done.files[0])).track
    assert back.marked is not None and made.track.marked is not None and (back.marked == made.track.marked).all()
    assert np.flatnonzero(back.marked > 0).tolist() == ENDS[:-1].tolist()


def test_an_ordinary_camera_gets_no_sample_more(tmp_path: Path) -> None:
    shot: Any = zoomless()
    camera = ShotCamera(track_of(shot), joined().landmarks, Picture(Image(1920, 1080), "width", False, False))
    (done,) = deliver_all([camera], find_profile("yup-rh-m"), "usd", tmp_path)
    assert bake_camera(read_file(done.files[0])).keys.tolist() == shot.frames.tolist()
