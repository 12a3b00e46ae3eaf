"""Several cameras in one file, a root that carries the placement, and what nodes are called."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track
from anaxis.core.checks.examine import take_camera
from anaxis.core.errors import BadInput
from anaxis.core.motion.placement import Similarity
from anaxis.core.recipe.model import Operation
from anaxis.core.scene.landmarks import Landmarks, node_name
from anaxis.core.scene.nodes import Scene, corrected
from anaxis.core.scene.picture import Picture
from anaxis.core.scene.tree import angle_between_deg
from anaxis.delivery.deliver import deliver_all
from anaxis.delivery.options import DeliveryOptions
from anaxis.delivery.proved import Delivered
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.diagnosis.returned import CameBack, bare_of, explain
from anaxis.formats import read_file
from anaxis.formats.file_axes import file_axes
from anaxis.packages import shipped_profiles
from anaxis.standin.package import open_as_package
from conftest import reading_zooms
from test_habits import with_habits
from test_writers import PICTURE, shot

NODES = ("usd", "alembic", "gltf", "collada")
MARKS = Landmarks(("tide bell", "wheel hub"), np.array([[[3.0, 1.5, -20.0], [-2.0, 2.0, -15.0]]]))
PLACED = Similarity(
    2.0, Rotation.from_euler("yxz", [40, 5, -3], degrees=True).as_matrix(), np.array([12.0, -3.0, 50.0])
)
ROOTED = DeliveryOptions(under_root=True)


def three() -> list[ShotCamera]:
    """Three cameras that differ in range, motion, lens and picture; two of them share their name."""
    first = replace(shot(), name="Rail 20 é")
    second = PLACED.track(replace(shot(35, 40.0), name="kite"))
    third = replace(shot(50, 7.0), name="kite")
    third = replace(third, lens=replace(third.lens, focal_mm=third.lens.focal_mm * 1.5))
    other = Picture(Image(2048, 858), "width", False, False)
    return [ShotCamera(first, MARKS, PICTURE), ShotCamera(second, MARKS, other), ShotCamera(third, MARKS, PICTURE)]


def read_again(done: Delivered, format_key: str, key: str = "zup-lh-cm") -> Scene:
    scene = read_file(done.files[0])
    if format_key == "alembic":  # states neither axes nor unit nor rate
        axes = file_axes("alembic", shipped_profiles()[key].convention)
        scene = corrected(scene, axes.up, axes.unit_m, done.outgoing.track.rate)
    return scene


def camera_named(scene: Scene, name: str) -> Track:
    """An Alembic camera is called "lens", and goes by its transform's name."""
    path = next(c.path for c in scene.cameras if name in c.path.strip("/").split("/"))
    return take_camera(scene, path).done


@pytest.mark.parametrize("format_key", NODES)
@pytest.mark.parametrize("options", [DeliveryOptions(), ROOTED])
def test_cameras_together_in_one_file_are_each_themselves(
    format_key: str, options: DeliveryOptions, tmp_path: Path
) -> None:
    cameras = three()
    profile = reading_zooms(shipped_profiles()["zup-lh-cm"])
    done = deliver_all(cameras, profile, format_key, tmp_path, options, stem="all")
    assert [p.name for p in tmp_path.iterdir()] == [done[0].files[0].name]
    assert [d.node for d in done] == ["Rail_20_e", "kite", "kite_2"]
    near = 1e-3 if format_key == "gltf" else 1e-9
    scene = read_again(done[0], format_key)
    for leaving, one in zip(cameras, done, strict=True):
        assert one.proof.max_px <= (0.5 if format_key == "gltf" else 0.01)
        assert np.allclose(one.seen.frames, leaving.track.frames, atol=1e-4)
        back, meant = camera_named(scene, one.node), leaving.track
        there = np.isin(np.round(back.frames, 3), meant.frames)
        assert there.sum() == len(meant)
        assert np.abs(back.position_m[there] - meant.position_m).max() < near
        assert angle_between_deg(back.rotation[there], meant.rotation).max() < 1e-4


@pytest.mark.parametrize("format_key", NODES)
@pytest.mark.parametrize("reduce_px", [None, 0.1])
def test_a_root_carries_the_placement_and_nothing_moves(
    format_key: str, reduce_px: float | None, tmp_path: Path
) -> None:
    """The world is the same; below the root the camera stands as it did before it was placed."""
    before = shot()
    leaving = ShotCamera(PLACED.track(before), PLACED.landmarks(MARKS), PICTURE, PLACED)
    profile = reading_zooms(shipped_profiles()["yup-rh-m"])
    done = deliver_all([leaving], profile, format_key, tmp_path, DeliveryOptions(reduce_px, under_root=True))[0]
    assert done.proof.max_px <= (reduce_px or 0) + (0.5 if format_key == "gltf" else 0.01)
    assert any("root node with its placement" in n and "scale stays" in n for n in done.outgoing.notes)
    scene = read_again(done, format_key, "yup-rh-m")
    root = next(n for n in scene.nodes if n.name.endswith("_root"))
    assert root.parent is None
    alone = take_camera(scene, None)
    near = 1e-3 if format_key == "gltf" else 1e-6
    at = 0  # a key is on the first frame in any case
    assert np.abs(alone.done.position_m[at] - leaving.track.position_m[at]).max() < near
    bare = done.outgoing.below_root
    assert np.allclose(bare.position_m[at], 2.0 * before.position_m[at], atol=1e-6)
    assert angle_between_deg(bare.rotation[at : at + 1], before.rotation[at : at + 1]).max() < 1e-6
    marks = alone.landmarks
    where = marks.names.index(next(n for n in marks.names if n.startswith("tide")))
    assert np.allclose(marks.position_m[0, where], PLACED.points(MARKS.position_m[0, 0]), atol=near)


@pytest.mark.parametrize("format_key", ["usd", "collada"])
def test_habits_are_made_up_for_below_a_root(format_key: str, tmp_path: Path) -> None:
    turned = with_habits(
        "zup-rh-m", {"code": "world_turn", "axis": "Z", "angle_deg": 90}, {"code": "unit", "metres_per_unit": 0.01}
    )
    done = deliver_all([ShotCamera(shot(), MARKS, PICTURE, PLACED)], turned, format_key, tmp_path, ROOTED)[0]
    assert done.proof.max_px <= 0.01 and done.outgoing.root is not None
    for code in ("parents", "twice"):
        done = deliver_all(
            [ShotCamera(shot(), MARKS, PICTURE, PLACED)],
            with_habits("zup-rh-m", {"code": code}),
            format_key,
            tmp_path,
            ROOTED,
        )[0]
        assert done.outgoing.root is None and any("a root would be lost" in n for n in done.outgoing.notes)
        assert done.proof.max_px <= 0.01


@pytest.mark.parametrize("format_key", ["usd", "alembic"])
def test_a_root_left_out_on_the_way_is_found(format_key: str, tmp_path: Path) -> None:
    """The package drops what stands above a camera, which nobody knew: the camera comes back as it was before it was placed."""
    leaving, plain = ShotCamera(PLACED.track(shot()), MARKS, PICTURE, PLACED), with_habits("zup-rh-m")
    sent = deliver_all([leaving], plain, format_key, tmp_path, ROOTED)[0]
    careless = with_habits("zup-rh-m", {"code": "parents"})
    back = open_as_package(sent.files[0], careless, PICTURE.image, rate=leaving.track.rate).track
    recipe = (Operation("place", PLACED.as_params()),)
    scene = read_again(sent, format_key, "zup-rh-m")
    bare = bare_of(scene, scene.cameras[0].path, recipe, leaving.track)
    found = explain(leaving.track, PICTURE, CameBack(back), plain, bare)
    assert found.explained and [c for c, _ in found.explanations[0].causes] == ["parents"]


def test_what_a_file_cannot_hold_is_said(tmp_path: Path) -> None:
    profile = shipped_profiles()["zup-rh-m"]
    with pytest.raises(BadInput, match="one camera in each file"):
        deliver_all(three(), profile, "json", tmp_path)
    first, second, _ = three()
    slower = replace(second, track=replace(second.track, rate=Fraction(30000, 1001)))
    with pytest.raises(BadInput, match=r"29\.97.*one rate"):
        deliver_all([first, slower], profile, "usd", tmp_path)
    done = deliver_all([first], profile, "columns", tmp_path, ROOTED)[0]
    assert done.outgoing.root is None and any("no nodes" in n for n in done.outgoing.notes)
    assert not list(tmp_path.glob("*.usd"))


@given(st.lists(st.text(max_size=40), max_size=8))
def test_node_names_are_legal_and_their_own(names: list[str]) -> None:
    from pxr import Sdf

    taken: set[str] = set()
    made = [node_name(n, taken) for n in names]
    assert len(set(made)) == len(made)
    assert all(Sdf.Path.IsValidIdentifier(m) and m.isascii() for m in made)
