"""Flattening, against USD's own world matrices and frustum."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from pxr import Gf, Usd, UsdGeom
from scipy.spatial.transform import Rotation

from anaxis.core.errors import BadInput
from anaxis.core.scene.bake import bake_camera, local_matrices, world_matrices
from anaxis.core.scene.nodes import Node
from anaxis.core.space.axes import Convention
from anaxis.formats.usd.read import read_usd

EVERY_OP = """
    double3 xformOp:translate.timeSamples = { 1: (1, 2, 3), 10: (4, -5, 6) }
    double xformOp:rotateX.timeSamples = { 1: 0, 10: 70 }
    double xformOp:rotateY:second = 20
    double xformOp:rotateZ = -35
    double3 xformOp:rotateXYZ = (10, 20, 30)
    double3 xformOp:rotateXZY = (5, -20, 30)
    double3 xformOp:rotateYXZ.timeSamples = { 1: (5, -20, 30), 10: (50, 0, -10) }
    double3 xformOp:rotateYZX = (5, 2, 30)
    double3 xformOp:rotateZXY = (-15, 2, 3)
    double3 xformOp:rotateZYX = (5, 12, 3)
    quatd xformOp:orient = (0.7071067811865476, 0, 0.7071067811865476, 0)
    double3 xformOp:translate:pivot = (3, 1, 2)
    double3 xformOp:scale = (2, 2, 2)
    matrix4d xformOp:transform = ( (0, 1, 0, 0), (-1, 0, 0, 0), (0, 0, 1, 0), (7, 8, 9, 1) )
    uniform token[] xformOpOrder = ["xformOp:translate", "xformOp:translate:pivot", "xformOp:rotateX",
      "xformOp:rotateY:second", "xformOp:rotateZ", "xformOp:rotateXYZ", "xformOp:rotateXZY", "xformOp:rotateYXZ",
      "xformOp:rotateYZX", "xformOp:rotateZXY", "xformOp:rotateZYX", "xformOp:orient", "xformOp:scale",
      "!invert!xformOp:translate:pivot", "xformOp:transform"]
"""


def oracle(path: Path, prim: str, frame: float) -> tuple[np.ndarray, np.ndarray]:
    """Position and rotation of a camera in the file's space, from the library's frustum."""
    stage = Usd.Stage.Open(str(path))
    frustum = UsdGeom.Camera(stage.GetPrimAtPath(prim)).GetCamera(frame).frustum
    inverse = np.array(frustum.ComputeViewInverse())
    return inverse[3, :3], inverse[:3, :3].T


@pytest.mark.parametrize("up", ("Y", "Z"))
def test_every_op_under_animated_parents_agrees_with_usd(usda: Callable[..., Path], up: str) -> None:
    path = usda(
        'def Xform "a" {\n double3 xformOp:rotateXYZ.timeSamples = { 1: (0, 0, 0), 10: (40, 200, -80) }\n'
        ' uniform token[] xformOpOrder = ["xformOp:rotateXYZ"]\n'
        f' def Xform "b" {{\n {EVERY_OP}\n CAMERA\n }}\n}}',
        head=f'upAxis = "{up}"\n metersPerUnit = 0.1\n timeCodesPerSecond = 24',
    )
    scene = read_usd(path)
    baked = bake_camera(scene)
    # The standard's Z up turned into Y up: the same turn as rotating by -90 degrees about X.
    turn = Rotation.from_euler("x", -90, degrees=True).as_matrix() if up == "Z" else np.eye(3)
    for i, frame in enumerate(baked.track.frames):
        position, rotation = oracle(path, "/a/b/cam", frame)
        assert np.allclose(baked.track.position_m[i], turn @ position * 0.1, rtol=1e-9, atol=1e-12)
        assert np.allclose(baked.track.rotation[i], turn @ rotation, rtol=0, atol=1e-9)
    assert baked.scale.max() == pytest.approx(2)


def test_reset_xform_stack_cuts_the_parents_off(usda: Callable[..., Path]) -> None:
    path = usda(
        'def Xform "a" {\n double3 xformOp:translate = (100, 0, 0)\n uniform token[] xformOpOrder = ["xformOp:translate"]\n CAMERA\n}',
        ops='double3 xformOp:translate = (1, 2, 3)\n uniform token[] xformOpOrder = ["!resetXformStack!", "xformOp:translate"]',
    )
    assert np.allclose(bake_camera(read_usd(path)).track.position_m, [0.01, 0.02, 0.03])


@pytest.mark.parametrize(
    ("scale", "codes"),
    (("(0.01, 0.01, 0.01)", {"scale"}), ("(-1, 1, 1)", {"mirrored"}), ("(1, 3, 1)", {"scale", "shear"})),
)
def test_stray_scale_leaves_the_axes_and_is_found(usda: Callable[..., Path], scale: str, codes: set[str]) -> None:
    from anaxis.core.checks.examine import examine

    path = usda(
        f'def Xform "a" {{\n double3 xformOp:scale = {scale}\n uniform token[] xformOpOrder = ["xformOp:scale"]\n CAMERA\n}}',
        ops="double3 xformOp:translate.timeSamples = { 1: (0, 10, 300), 10: (50, 20, 250) }\n"
        " double3 xformOp:rotateXYZ = (30, 40, 10)\n"
        ' uniform token[] xformOpOrder = ["xformOp:translate", "xformOp:rotateXYZ"]',
    )
    scene = read_usd(path)
    track = bake_camera(scene).track
    assert np.allclose(np.linalg.det(track.rotation), 1) and np.allclose(
        track.rotation @ np.swapaxes(track.rotation, 1, 2), np.eye(3), atol=1e-12
    )
    # The look axis points where the scaled camera's did.
    world = world_matrices(scene, "/a/cam", track.frames)[:, :3, 2]
    assert np.allclose(track.rotation[:, :, 2], world / np.linalg.norm(world, axis=1, keepdims=True))
    found = {f.code: f for f in examine(scene)[0].findings}
    assert codes <= set(found)
    assert (
        ("/a is scaled" in found["scale"].message) if "scale" in codes else ("scale" not in found or "shear" in codes)
    )


def test_a_flat_camera_is_refused(usda: Callable[..., Path]) -> None:
    path = usda(ops='double3 xformOp:scale = (1, 0, 1)\n uniform token[] xformOpOrder = ["xformOp:scale"]')
    with pytest.raises(BadInput, match=r"shot.usda, /cam: .* no length at frame 1 "):
        bake_camera(read_usd(path))


def test_between_samples_rotation_takes_the_short_arc_and_samples_stay_exact() -> None:
    a, b = Rotation.from_euler("y", 10, degrees=True), Rotation.from_euler("y", 70, degrees=True)
    local = np.tile(np.eye(4), (2, 1, 1))
    local[:, :3, :3] = np.stack([a.as_matrix(), 3 * b.as_matrix()])
    local[:, 0, 3] = 0, 8
    node = Node("/n", None, "transform", np.array([1.0, 3.0]), local, keys=np.array([1.0, 3.0]))
    at = local_matrices(node, np.array([0.0, 1.0, 1.5, 3.0, 9.0]))
    assert np.array_equal(at[[0, 1]], local[[0, 0]]) and np.array_equal(at[[3, 4]], local[[1, 1]])
    assert np.allclose(at[2, :3, 3], [2, 0, 0])
    assert np.allclose(at[2, :3, :3], 1.5 * Rotation.from_euler("y", 25, degrees=True).as_matrix())


def test_the_library_reads_a_shear_as_we_report_it() -> None:
    """Where axes are not square no rigid camera is the same: ours keeps the middle of the picture."""
    sheared = np.array([[1.0, 0.4, 0], [0, 1, 0], [0.2, 0, 1]])
    from anaxis.core.scene.bake import unit_axes

    rotation, _, shear, mirrored = unit_axes(sheared[None])
    assert shear[0] > 0.1 and not mirrored[0]
    assert np.allclose(rotation[0, :, 2], sheared[:, 2] / np.linalg.norm(sheared[:, 2]))
    library = Gf.Matrix3d(*sheared.T.ravel())
    library.Orthonormalize()
    assert np.abs(np.array(library).T - rotation[0]).max() < 0.5


def test_five_animated_parents_match_the_librarys_world_matrix() -> None:
    stage = Usd.Stage.CreateInMemory()
    random, path = np.random.default_rng(4), ""
    for level in range(6):
        path += f"/n{level}"
        prim = UsdGeom.Camera.Define(stage, path) if level == 5 else UsdGeom.Xform.Define(stage, path)
        move, turn = (
            prim.AddTranslateOp(UsdGeom.XformOp.PrecisionDouble),
            prim.AddRotateZXYOp(UsdGeom.XformOp.PrecisionDouble),
        )
        for frame in range(50):
            move.Set(Gf.Vec3d(*random.uniform(-9, 9, 3)), frame)
            turn.Set(Gf.Vec3d(*random.uniform(-180, 180, 3)), frame)
    from anaxis.core.scene.nodes import Scene

    nodes, path = [], ""
    for level in range(6):
        parent, path = path or None, f"{path}/n{level}"
        xform = UsdGeom.Xformable(stage.GetPrimAtPath(path))
        local = np.stack([np.array(xform.GetLocalTransformation(float(f))).T for f in range(50)])
        nodes.append(Node(path, parent, "transform", np.arange(50.0), local, np.arange(50.0)))
    scene = Scene("s", "usd", Convention(), Fraction(24), 0, 49, tuple(nodes))
    ours = world_matrices(scene, path, np.arange(50.0))
    cache = UsdGeom.XformCache()
    for frame in range(50):
        cache.SetTime(frame)
        theirs = np.array(cache.GetLocalToWorldTransform(stage.GetPrimAtPath(path))).T
        assert np.allclose(ours[frame], theirs, rtol=1e-9, atol=1e-9)


def test_a_guess_set_by_hand_equals_a_file_that_states_it(usda: Callable[..., Path]) -> None:
    from anaxis.core.scene.nodes import corrected

    lens = "float focalLength = 0.35\n float horizontalAperture = 0.36\n float verticalAperture = 0.2\n float focusDistance = 4"
    silent = read_usd(usda(head="timeCodesPerSecond = 24", lens=lens))
    stated = read_usd(usda(head='upAxis = "Z"\n metersPerUnit = 1\n timeCodesPerSecond = 25', lens=lens))
    assert set(silent.guesses) == {"up_axis", "metres_per_unit"}
    ours, theirs = corrected(silent, "Z", 1.0, Fraction(25)), stated
    assert ours.guesses == {} and ours.rate == theirs.rate
    a, b = bake_camera(ours).track, bake_camera(theirs).track
    assert np.allclose(a.position_m, b.position_m) and np.allclose(a.rotation, b.rotation)
    for name in ("focal_mm", "film_width_mm", "focus_m", "near_m"):
        assert np.allclose(getattr(a.lens, name), getattr(b.lens, name), equal_nan=True), name
    with pytest.raises(BadInput, match="not an up axis"):
        corrected(silent, "W")
    with pytest.raises(BadInput, match="must be a positive number"):
        corrected(silent, metres_per_unit=-1)


def test_a_stepped_node_holds_each_sample_up_to_the_next() -> None:
    """On a sample its own place counts, between two the one before, outside the first and the last."""
    local = np.tile(np.eye(4), (3, 1, 1))
    local[:, 0, 3] = (1, 2, 3)
    node = Node("/lift", None, "transform", np.array([-4.0, 0.0, 10.5]), local, stepped=True)
    frames = np.array([-9.0, -4.0, -0.5, 0.0, 0.25, 10.0, 10.5, 90.0])
    assert local_matrices(node, frames)[:, 0, 3].tolist() == [1, 1, 1, 2, 2, 2, 3, 3]
