"""The recipe: what its operations do, their order, and that doing it again gives the same bytes."""

from __future__ import annotations

import json
import runpy
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from pytransform3d.rotations import matrix_from_axis_angle
from scipy.spatial.transform import Rotation

from anaxis.core.camera.lens import Image
from anaxis.core.checks.examine import take_camera
from anaxis.core.errors import BadInput
from anaxis.core.motion.edits import lens_document
from anaxis.core.proof.compare import compare
from anaxis.core.recipe.documents import recipe_document, recipe_from_document
from anaxis.core.recipe.model import Operation
from anaxis.core.recipe.operations import KINDS, baking
from anaxis.core.recipe.replay import checked_order, inserted, replay
from anaxis.core.scene.bake import bake_camera, world_matrices
from anaxis.core.scene.landmarks import LEGAL_NAME_RULE, NO_LANDMARKS, legal_name
from anaxis.core.scene.nodes import Scene
from anaxis.core.scene.tree import levels, roll_deg
from anaxis.formats import read_file
from anaxis.library.archive import track_to_bytes
from make_scenes import SHOTS
from other_formats import world_of


def op(code: str, **params: Any) -> Operation:
    return Operation(code, params)


def done(scene: Scene, *operations: Operation, path: str | None = None) -> Any:
    return replay(scene, scene.camera(path).path, operations)


RIG = """def Xform "base" {
 double3 xformOp:translate.timeSamples = { 1: (0, 0, 0), 10: (90, 0, 0) }
 double xformOp:rotateY.timeSamples = { 1: 0, 10: 45 }
 uniform token[] xformOpOrder = ["xformOp:translate", "xformOp:rotateY"]
 CAMERA
}
def Xform "bell" {
 double3 xformOp:translate.timeSamples = { 1: (100, 50, -400), 7: (160, 90, -300) }
 uniform token[] xformOpOrder = ["xformOp:translate"]
}
def Xform "cart" {
 double3 xformOp:translate.timeSamples = { 1: (0, 120, 0), 10: (0, 120, 500) }
 uniform token[] xformOpOrder = ["xformOp:translate"]
}"""


@pytest.fixture
def rig(usda: Callable[..., Path]) -> Scene:
    """A rolled camera under a moving base, in centimetres, with a moving bell and a cart beside it."""
    ops = (
        "double3 xformOp:translate.timeSamples = { 1: (0, 10, 300), 10: (50, 20, 250) }\n"
        ' double xformOp:rotateZ = 12\n uniform token[] xformOpOrder = ["xformOp:translate", "xformOp:rotateZ"]'
    )
    return read_file(usda(RIG, ops=ops))


def test_aim_looks_at_its_target_on_every_frame_and_keeps_the_roll(rig: Scene) -> None:
    before = bake_camera(rig).track
    track = done(rig, op("aim", node="/bell")).done
    bell = world_matrices(rig, "/bell", track.frames)[:, :3, 3] / 100
    ahead = (bell - track.position_m) / np.linalg.norm(bell - track.position_m, axis=1, keepdims=True)
    assert np.allclose(track.position_m, before.position_m) and np.allclose(-track.rotation[:, :, 2], ahead, atol=1e-12)
    assert np.allclose(roll_deg(track.rotation), roll_deg(before.rotation)) and np.allclose(
        roll_deg(before.rotation), 12
    )
    # The roll is a turn about the look axis: against pytransform3d, from a level camera.
    level = done(rig, op("aim", node="/bell"), op("level_horizon")).done
    for i in (0, 4, 9):
        turned = matrix_from_axis_angle([*level.rotation[i, :, 2], np.radians(12)]) @ level.rotation[i]
        assert np.allclose(turned, track.rotation[i], atol=1e-9)
    # A bake between frames is aimed there too, and not drawn between aimed frames.
    fine = done(rig, op("aim", node="/bell"), op("bake", step=0.25)).done
    bell = world_matrices(rig, "/bell", fine.frames)[:, :3, 3] / 100
    off = np.cross(-fine.rotation[:, :, 2], bell - fine.position_m)
    assert len(fine) == 37 and np.abs(off).max() < 1e-12


def test_a_position_from_a_node_and_a_camera_hung_on_one(rig: Scene) -> None:
    before = bake_camera(rig).track
    cart = world_matrices(rig, "/cart", before.frames)[:, :3, 3] / 100
    placed = done(rig, op("place_at", node="/cart")).done
    assert np.allclose(placed.position_m, cart) and np.allclose(placed.rotation, before.rotation, atol=1e-12)
    own = world_matrices(rig, "/base/cam", before.frames)
    base = world_matrices(rig, "/base", before.frames)
    numbers = (np.linalg.inv(base) @ own)[:, :3, 3] / 100
    hung = done(rig, op("attach", node="/cart")).done
    assert np.allclose(hung.position_m, cart + numbers)
    kept = done(rig, op("attach", node="/cart", keep_place="where it stands")).done
    assert np.allclose(kept.position_m[0], before.position_m[0]) and np.allclose(kept.rotation[0], before.rotation[0])
    assert np.allclose(kept.position_m - kept.position_m[0], cart - cart[0] + numbers - numbers[0])
    with pytest.raises(BadInput, match="has no node '/nowhere'"):
        done(rig, op("attach", node="/nowhere"))


def test_levels_say_what_each_adds_and_are_switched_off_one_by_one(rig: Scene) -> None:
    track = bake_camera(rig).track
    found = levels(rig, "/base/cam", track.frames)
    assert [n.path for n in found.nodes] == ["/base/cam", "/base"]
    for i, node in enumerate(found.nodes):
        held = done(rig, op("level", node=node.path, way="still")).done
        assert np.allclose(np.linalg.norm(held.position_m - track.position_m, axis=1), found.moved_m[i])
        turn = Rotation.from_matrix(held.rotation).inv() * Rotation.from_matrix(track.rotation)
        assert np.allclose(np.degrees(turn.magnitude()), found.turned_deg[i], atol=1e-6)
    assert found.moved_m[:, 0].max() == 0 and found.turned_deg[1, -1] == pytest.approx(45)
    out = done(rig, op("level", node="/base", way="out")).done
    assert np.allclose(out.position_m[-1], [0.5, 0.2, 2.5])


def test_scale_is_dropped_and_parents_shut_out_let_in(usda: Callable[..., Path]) -> None:
    body = 'def Xform "s" {\n double3 xformOp:scale = (-0.01, 0.01, 0.02)\n uniform token[] xformOpOrder = ["xformOp:scale"]\n CAMERA\n}'
    scene = read_file(usda(body))
    assert bake_camera(scene).mirrored.all()
    work = done(scene, op("drop_scale", node="/s"))
    assert not work.baked.mirrored.any() and np.allclose(work.done.position_m[-1], np.array([50, 20, 250]) / 100)
    alone = RIG.replace("CAMERA", 'def Camera "cam" {\n uniform token[] xformOpOrder = ["!resetXformStack!"]\n}')
    scene = read_file(usda(alone, lens="float focalLength = 35\n float horizontalAperture = 36"))
    assert np.ptp(bake_camera(scene).track.position_m) == 0
    assert np.allclose(done(scene, op("inherit", node="/base/cam")).done.position_m[-1], [0.9, 0, 0])


def test_gaps_and_jumps_are_drawn_from_their_neighbours(usda: Callable[..., Path]) -> None:
    keys = "".join(f"{f}: ({v}, 10, 300), " for f, v in enumerate([0, 1, 2, "nan", 4, 90, 6, 7], 1))
    ops = f'double3 xformOp:translate.timeSamples = {{ {keys} }}\n uniform token[] xformOpOrder = ["xformOp:translate"]'
    scene = read_file(usda(ops=ops))
    with pytest.raises(BadInput, match="position that is not a number at frame 4"):
        take_camera(scene, None)
    recipe = (op("fill_gaps"), op("bridge", first=6))
    track = take_camera(scene, None, recipe=recipe).done
    assert np.allclose(track.position_m[:, 0] * 100, range(8)) and np.allclose(track.rotation, np.eye(3))
    with pytest.raises(BadInput, match=r"'Interpolate a jump' failed: 'cam' has no frame from 60 to 60"):
        done(scene, op("fill_gaps"), op("bridge", first=60))


def test_trim_renumber_shift_near_and_landmarks(rig: Scene) -> None:
    recipe = (
        op("trim", first=3, last=8),
        op("shift", x_m=10, y_m=-2, z_m=0.5),
        op("renumber", first=1001),
        op("near_plane", near_m=0.2),
        op("marks_add", marks=[{"name": "sluice post", "position_m": [1, 2, 3]}]),
        op("mark_rename", name="cart", to="barrow"),
        op("marks_hide", names=["bell"], way="hide"),
    )
    whole, work = done(rig), done(rig, *recipe)
    assert work.done.frames.tolist() == [1001, 1002, 1003, 1004, 1005, 1006] and (work.done.lens.near_m == 0.2).all()
    assert np.allclose(work.done.position_m, whole.done.position_m[2:8] + np.array([10, -2, 0.5]))
    assert (
        work.landmarks.names == ("bell", "cart".replace("cart", "barrow"), "sluice post")
        and len(work.landmarks.shown()) == 2
    )
    barrow = work.landmarks.position_m[:, 1]
    assert np.allclose(barrow, whole.landmarks.position_m[2:8, whole.landmarks.index("cart")] + [10, -2, 0.5])
    with pytest.raises(BadInput, match="There is no landmark 'tower'"):
        done(rig, op("marks_hide", names=["tower"], way="hide"))


def test_an_earlier_lens_is_kept_over_a_new_motion(demo_files: dict[str, Path]) -> None:
    zoom = take_camera(read_file(demo_files["TW_020"]), None).done
    crane = read_file(demo_files["TW_010"])
    kept = done(crane, op("keep_lens", lens=json.loads(json.dumps(lens_document(zoom))), of="take 1")).done
    # TW_010 starts at frame 1001, where TW_020's lens has long ended: it is held there.
    assert np.allclose(kept.lens.focal_mm, zoom.lens.focal_mm[-1]) and np.allclose(kept.lens.offset_y_mm, 0.6)
    shifted = done(crane, op("renumber", first=1), op("keep_lens", lens=lens_document(zoom))).done
    assert np.array_equal(shifted.lens.focal_mm, zoom.lens.focal_mm[:120]) and np.isnan(shifted.lens.fstop).sum() == 0


@pytest.mark.parametrize("number", range(4))
def test_doing_a_recipe_again_gives_the_same_bytes(demo_files: dict[str, Path], number: int) -> None:
    shot = SHOTS[number]()
    path = demo_files[shot.name]
    first = float(shot.frames[10])
    recipe = (
        op("aim", node=f"/{shot.name}/landmarks/tide_bell"),
        op("bake", first=first, last=first + 40, step=0.5),
        op("bridge", first=first + 5),
        op("level_horizon"),
        op("marks_hide", names=["jetty_lamp"], way="hide"),
    )
    kept = []
    for _ in range(2):
        again = recipe_from_document(json.loads(json.dumps(recipe_document(recipe))))
        scene = read_file(path)
        work = replay(scene, scene.cameras[0].path, again)
        kept.append(track_to_bytes(work.done, work.landmarks, work.lines_m))
    assert kept[0] == kept[1] and len(kept[0]) > 2000
    assert np.allclose(bake_camera(read_file(path)).track.position_m, world_of(shot)[:, :3, 3], atol=1e-9)


def bake_frames(rig: Scene, params: dict[str, Any]) -> Any:
    return baking.frames_of(rig, "/base/cam", baking.BAKE.read(params))


def test_the_bake_takes_a_range_and_a_step_and_samples_on_a_frame_as_they_are(rig: Scene) -> None:
    assert bake_frames(rig, {"first": 2, "last": 5, "step": 0.5}).tolist() == [2, 2.5, 3, 3.5, 4, 4.5, 5]
    assert bake_frames(rig, {"step": 4}).tolist() == [1, 5, 9]
    for params, said in (
        ({"first": 9, "last": 2}, "ends before it begins"),
        ({"step": -1}, "above zero"),
        ({"step": 1e-7}, "larger step"),
    ):
        with pytest.raises(BadInput, match=said):
            bake_frames(rig, params)
    node = rig.node("/bell")
    halves = world_matrices(rig, "/bell", np.array([1.0, 7.0]))
    assert np.array_equal(halves[0], node.local[0]) and np.array_equal(halves[1], node.local[-1])


def test_tree_operations_stand_before_the_bake_and_track_operations_behind_it() -> None:
    recipe = inserted(inserted(inserted((), op("trim", first=2)), op("aim", node="/a")), op("bake", step=2))
    assert [o.code for o in recipe] == ["aim", "bake", "trim"]
    assert [o.code for o in inserted(recipe, op("bake", step=1))] == ["aim", "bake", "trim"]
    assert checked_order(recipe) == recipe
    with pytest.raises(BadInput, match="'Aim at another node' works on the node tree and cannot come after 'Trim'"):
        checked_order((op("trim", first=2), op("aim", node="/a")))


def test_a_recipe_kept_before_the_clips_had_the_trades_name_is_done_as_it_was(rig: Scene) -> None:
    old, new = (
        done(rig, op("lens_curve", channel=name, way="set to", value=0.25)).done.lens.near_m
        for name in ("near plane", "near clip")
    )
    assert (old == 0.25).all() and np.array_equal(old, new)


def test_an_operations_parameters_describe_themselves() -> None:
    schema = KINDS["trim"].params.model_json_schema()
    assert schema["additionalProperties"] is False and set(schema["properties"]) == {"first", "last"}
    assert KINDS["lens_factor"].operation({"what": "lens", "factor": " 100 "}).params == {
        "what": "lens",
        "factor": 100.0,
    }
    with pytest.raises(BadInput, match=r"no parameter 'tide': choose one of first, last") as refused:
        KINDS["trim"].operation({"tide": "1"})
    assert refused.value.code == "bad_parameter"


def test_a_parameter_of_an_older_version_is_refused_in_a_file_and_left_out_of_what_is_stored() -> None:
    document = [{"code": "trim", "params": {"first": 20, "tide": 1}}]
    with pytest.raises(BadInput, match="'tide'"):
        recipe_from_document(document)
    assert recipe_from_document(document, strict=False) == (op("trim", first=20),)


@pytest.mark.parametrize(
    ("document", "said"),
    (
        ("tide", "A recipe must be a list"),
        ([{"code": "sail"}], "'sail' is not an operation"),
        ([7], "Operation 1 of the recipe cannot be read"),
        ([{"code": "trim"}] * 201, "at most 200 operations"),
    ),
)
def test_a_recipe_that_cannot_be_read_is_one_sentence(document: Any, said: str) -> None:
    with pytest.raises(BadInput, match=said):
        recipe_from_document(document)


@pytest.mark.parametrize(
    ("operation", "said"),
    (
        (op("lens_factor", what="lens"), "'Times' is missing"),
        (op("lens_factor", what="tide", factor=2), "'tide' is not a choice for 'What'"),
        (op("lens_factor", what="lens", factor="much"), "'much' is not a number for 'Times'"),
        (op("near_plane", near_m="inf"), "'inf' is not a number"),
        (op("film_back", width_mm=0, height_mm=3), "above zero"),
        (op("keep_lens", lens={"frames": [1]}), "cannot be read"),
        (op("marks_add", marks=[{"name": "a"}]), "needs a name and three numbers"),
        (op("set_add", sha256="x"), "is missing"),
        (op("correct", up_axis="Q"), "is not a choice"),
        (op("correct", metres_per_unit=-1), "positive number|above zero"),
    ),
)
def test_an_operation_that_cannot_be_done_says_which_and_why(rig: Scene, operation: Operation, said: str) -> None:
    with pytest.raises(BadInput, match=f"'{KINDS[operation.code].label}' failed: .*({said})"):
        done(rig, operation)


def test_names_are_made_legal_and_unique_by_the_rule_shown() -> None:
    taken: set[str] = set()
    assert [legal_name(n, taken) for n in ("main cam", "main/cam", "Kamera ä", "___", "x" * 200)] == [
        "main_cam",
        "main_cam_2",
        "Kamera_a",
        "camera",
        "x" * 114,
    ]
    assert "_2" in LEGAL_NAME_RULE


def test_a_comparison_says_which_channels_since_when_and_by_how_many_pixels(demo_files: dict[str, Path]) -> None:
    scene = read_file(demo_files["TW_020"])
    a = take_camera(scene, None).done
    b = done(scene, op("bridge", first=100, last=110), op("trim", first=20)).done
    image = Image(1920, 1080)
    found = compare(a, b, (image, image), ("width", "width"), NO_LANDMARKS)
    assert len(found.common) == 221 and found.only_a.tolist() == list(range(1, 20)) and len(found.only_b) == 0
    assert found.proof and 100 <= found.proof.worst_frame <= 110 and found.proof.median_px < 1e-9
    assert {c.label for c in found.changes} >= {"rotation", "position back (Z)"}
    assert all(100 <= c.since <= 110 and c.frames <= 11 for c in found.changes)
    same = compare(a, a, (image, Image(3840, 2160)), ("width", "width"), NO_LANDMARKS)
    assert same.changes == [] and same.proof and same.proof.max_px < 1e-9
    none = compare(a, done(scene, op("renumber", first=9000)).done, (image, image), ("width", "width"), NO_LANDMARKS)
    assert none.proof is None and none.changes == []


@pytest.mark.parametrize(
    ("params", "said"),
    (
        ({"first": "early"}, "'early' is not a number for 'First frame'"),
        ({"step": 0}, "step of 0 frames is not possible"),
    ),
)
def test_a_bake_is_checked_like_every_other_operation(rig: Scene, params: dict[str, Any], said: str) -> None:
    with pytest.raises(BadInput, match=f"'Bake' failed: .*{said}"):
        done(rig, op("bake", **params))


def test_a_jump_at_frame_zero_is_bridged_up_to_there(rig: Scene) -> None:
    shifted = (op("renumber", first=-4), op("bridge", first=-2, last=0))
    plain = done(rig, op("renumber", first=-4)).done
    track = done(rig, *shifted).done
    changed = np.flatnonzero(np.abs(track.position_m - plain.position_m).max(axis=1) > 1e-9)
    assert set(track.frames[changed]) == {-2, -1, 0}


def test_the_document_lists_every_operation_and_is_up_to_date() -> None:
    """Made from the registry, so that no parameter is left undocumented."""
    script = Path(__file__).parents[2] / "scripts" / "document_operations.py"
    made = runpy.run_path(str(script))
    text = made["TARGET"].read_text()
    assert text == made["document"](), "run scripts/document_operations.py"
    for kind in KINDS.values():
        section = text.split(f"### `{kind.code}`:")[1].split("###")[0]
        assert all(f"| `{f.name}` |" in section for f in kind.fields)
