"""A set in every format that holds one: where its points stand, against sums on the source alone; normals, names, choices."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from pxr import Gf, Sdf, Usd, UsdGeom, Vt

from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation
from anaxis.delivery.options import DeliveryOptions
from anaxis.formats import read_file
from test_set_files import BOX, FIRST, LAST, delivered, shot, stage_in

__all__ = ["shot"]
Array = np.ndarray[Any, Any]
ALL = DeliveryOptions(set_formats="usd,alembic,gltf,obj")
MOVING, STILL = ("body", "wheel", "flag"), "shed"


def meant(source: Any, name: str, frame: float) -> Array:
    """The world points of a mesh of the source, as the USD library has them: Z up, centimetres."""
    prim = next(p for p in source.Traverse() if p.GetName() == name)
    world = UsdGeom.Xformable(prim).ComputeLocalToWorldTransform(frame)
    return np.array([world.Transform(Gf.Vec3d(p)) for p in UsdGeom.Mesh(prim).GetPointsAttr().Get(frame)])


def out_of(archive: zipfile.ZipFile, name: str, folder: Path) -> Path:
    path = folder / Path(name).name
    path.write_bytes(archive.read(name))
    return path


def in_alembic(path: Path, name: str, second: float) -> Array:
    from alembic3d import Abc, AbcGeom

    at = Abc.ISampleSelector(second, Abc.ISampleSelector.TimeIndexType.kNearIndex)
    top = AbcGeom.IXform(Abc.IArchive(str(path)).getTop(), "set")
    place = AbcGeom.IXform(top, name)
    matrix = np.array(place.getSchema().getValue(at).getMatrix()).reshape(4, 4)
    points = np.array(AbcGeom.IPolyMesh(place, "mesh").getSchema().getValue(at).getPositions())
    return np.asarray(points @ matrix[:3, :3] + matrix[3, :3])


def test_alembic_holds_motion_and_shapes(shot: Path, tmp_path: Path) -> None:
    path = out_of(delivered(shot, tmp_path, "zup-rh-cm", options=ALL), "set/set.abc", tmp_path)
    source = Usd.Stage.Open(str(shot))
    for name in (*MOVING, STILL):
        for frame in (FIRST, FIRST + 7, LAST):
            np.testing.assert_allclose(in_alembic(path, name, frame / 24), meant(source, name, frame), atol=2e-4)


def test_gltf_holds_motion_as_an_outside_reader_sees_it(shot: Path, tmp_path: Path) -> None:
    import vtk
    from vtk.util.numpy_support import vtk_to_numpy

    path = out_of(delivered(shot, tmp_path, "zup-rh-cm", options=ALL), "set/set.glb", tmp_path)
    source, window = Usd.Stage.Open(str(shot)), vtk.vtkRenderWindow()
    window.SetOffScreenRendering(1)
    importer = vtk.vtkGLTFImporter()
    importer.SetFileName(str(path))
    importer.SetRenderWindow(window)
    importer.Update()
    importer.EnableAnimation(0)
    for frame in (FIRST, FIRST + 7, LAST):
        importer.UpdateAtTimeValue(frame / 24)
        actors = importer.GetRenderer().GetActors()
        actors.InitTraversal()
        seen = []
        for _ in range(actors.GetNumberOfItems()):
            actor = actors.GetNextActor()
            polys, turn = actor.GetMapper().GetInput(), vtk.vtkTransform()
            turn.SetMatrix(actor.GetUserMatrix() or actor.GetMatrix())
            points = vtk_to_numpy(polys.GetPoints().GetData())
            seen.append(np.array([turn.TransformPoint(*p) for p in points.tolist()]))
        for name in ("body", "wheel", STILL):
            x, y, z = (meant(source, name, frame) / 100).T
            wanted = np.stack([x, z, -y], axis=1)  # Y up, metres
            nearest = min(np.abs(s - wanted).max() for s in seen if s.shape == wanted.shape)
            assert nearest < 2e-5, (name, frame)


def test_gltf_and_obj_say_what_they_cannot_hold(shot: Path, tmp_path: Path) -> None:
    archive = delivered(shot, tmp_path, "zup-lh-cm", options=ALL)
    sheet = archive.read("transfer_sheet.html").decode()
    assert "flag deforms: glTF holds no changing shape" in sheet and "glTF stores triangles" in sheet
    measured = json.loads(archive.read("manifest.json"))["cameras"][0]["set"]
    held = {
        file: [o["name"] for o in measured if o["file"] == f"set/set.{file}"] for file in ("usdc", "abc", "glb", "obj")
    }
    assert held == {
        "usdc": [*MOVING[:2], STILL, "flag"],
        "abc": [*MOVING[:2], STILL, "flag"],
        "glb": [*MOVING[:2], STILL],
        "obj": [STILL],
    }
    assert all(o["max_px"] is None or o["max_px"] < 0.01 for o in measured)


def test_a_file_for_each_object_and_an_obj_for_each_frame(shot: Path, tmp_path: Path) -> None:
    options = DeliveryOptions(set_formats="obj,abc", set_each=True, obj_frames=True, first=0)
    archive = delivered(shot, tmp_path, "zup-lh-cm", options=options)
    names = {n for n in archive.namelist() if n.startswith("set/")}
    frames = {f"set/frames/TW_070_{o}.{f:04d}.obj" for o in MOVING for f in range(LAST - FIRST + 1)}
    assert names == frames | {f"set/TW_070_{o}.abc" for o in (*MOVING, STILL)} | {"set/TW_070_shed.obj"}
    rows = archive.read("set/frames/TW_070_wheel.0005.obj").decode().splitlines()
    points = np.array([[float(v) for v in r.split()[1:]] for r in rows if r.startswith("v ")])
    wanted = meant(Usd.Stage.Open(str(shot)), "wheel", FIRST + 5) * [1, -1, 1]  # left-handed, Z up
    np.testing.assert_allclose(points, wanted, atol=1e-4)
    listed = json.loads(archive.read("manifest.json"))["files"]
    assert names <= set(listed), "with their checksums"


def test_no_set_where_none_is_wanted_and_an_unknown_format_is_named(shot: Path, tmp_path: Path) -> None:
    archive = delivered(shot, tmp_path, "zup-lh-cm", options=DeliveryOptions(set_formats="none"))
    assert not [n for n in archive.namelist() if n.startswith("set/")]
    with pytest.raises(BadInput, match="'dae' is not a set format: choose from usd, alembic, gltf, obj"):
        DeliveryOptions(set_formats="usd,dae")


def test_objects_are_left_out_renamed_grouped_hidden_and_marked(shot: Path, tmp_path: Path) -> None:
    choices = [
        {"path": "/set/cart/body", "name": "handcart", "group": "cart"}, {"path": "/set/cart/wheel", "group": "cart", "hidden": True},
        {"path": "/set/flag", "along": False}, {"path": "/set/shed", "guide": True},
    ]  # fmt: skip
    archive = delivered(shot, tmp_path, "zup-rh-cm", Operation("set_objects", {"objects": choices}), options=ALL)
    stage = stage_in(archive, "set.usdc", tmp_path)
    meshes = {str(p.GetPath()): p for p in stage.Traverse() if p.IsA(UsdGeom.Mesh)}
    assert list(meshes) == ["/set/cart/handcart", "/set/cart/wheel", "/set/shed"]
    assert UsdGeom.Imageable(meshes["/set/shed"]).ComputePurpose() == "guide"
    assert UsdGeom.Imageable(meshes["/set/cart/wheel"]).ComputeVisibility() == "invisible"
    assert (
        "glTF has no flags for hidden or not for render: hide wheel, shed there"
        in archive.read("transfer_sheet.html").decode()
    )
    again = {n.path: n for n in read_file(out_of(archive, "set/set.abc", tmp_path)).nodes if n.mesh is not None}
    assert sorted(n.rsplit("/", 2)[1] for n in again) == ["handcart", "shed", "wheel"]
    assert again["/set/cart/wheel/mesh"].invisible and not again["/set/cart/handcart/mesh"].invisible


def test_a_choice_of_an_object_that_is_not_there_is_said(shot: Path, tmp_path: Path) -> None:
    choice = Operation("set_objects", {"objects": [{"path": "/set/sheed", "along": False}]})
    archive = delivered(shot, tmp_path, "zup-rh-cm", choice)
    assert "The recipe names /set/sheed, which the set does not have" in archive.read("transfer_sheet.html").decode()
    with pytest.raises(BadInput, match="'Objects'"):
        delivered(shot, tmp_path, "zup-rh-cm", Operation("set_objects", {"objects": [{"pth": 3}]}))


@pytest.fixture(scope="module")
def dressed(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A camera before a box with normals by corner and texture coordinates, and a ramp with normals and coordinates by point."""
    path = tmp_path_factory.mktemp("set") / "TW_071.usda"
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, "Y")
    UsdGeom.SetStageMetersPerUnit(stage, 1)
    camera = UsdGeom.Camera.Define(stage, "/cam")
    UsdGeom.Xformable(camera).AddTranslateOp().Set(Gf.Vec3d(0, 1, 12))
    camera.CreateFocalLengthAttr(0.35)
    camera.CreateHorizontalApertureAttr(0.36)
    camera.CreateVerticalApertureAttr(0.2025)
    random = np.random.default_rng(5)

    def mesh(name: str, points: Array, counts: list[int], corners: list[int], by: str) -> None:
        made = UsdGeom.Mesh.Define(stage, f"/set/{name}")
        made.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(points.astype(np.float32)))
        made.CreateFaceVertexCountsAttr(counts)
        made.CreateFaceVertexIndicesAttr(corners)
        count = len(corners) if by == "faceVarying" else len(points)
        normals = random.normal(size=(count, 3))
        normals /= np.linalg.norm(normals, axis=1, keepdims=True)
        made.CreateNormalsAttr(Vt.Vec3fArray.FromNumpy(normals.astype(np.float32)))
        made.SetNormalsInterpolation(by)
        st = UsdGeom.PrimvarsAPI(made).CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, by)
        st.Set(Vt.Vec2fArray.FromNumpy(random.uniform(size=(count, 2)).astype(np.float32)))

    corners = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)], dtype=np.float64)
    mesh("box", corners, [4] * 6, BOX, "faceVarying")
    mesh("ramp", np.array([[0, 0, 0], [4, 0, 0], [4, 0, 4], [0, 2, 4.0]]), [3, 3], [0, 1, 2, 0, 2, 3], "vertex")
    stage.Save()
    return path


@pytest.mark.parametrize("suffix", ["usdc", "abc", "obj", "glb"])
def test_normals_and_texture_coordinates_come_along(dressed: Path, tmp_path: Path, suffix: str) -> None:
    archive = delivered(dressed, tmp_path, "yup-rh-m", options=ALL)
    before, after = (
        {n.path.removesuffix("/mesh").rsplit("/", 1)[-1]: n.mesh for n in read_file(p).nodes if n.mesh is not None}
        for p in (dressed, out_of(archive, f"set/set.{suffix}", tmp_path))
    )
    for name in ("box", "ramp") if suffix != "glb" else ("ramp",):
        one, other = before[name], after[name]
        assert np.array_equal(one.counts, other.counts) and one.points.shape == other.points.shape
        assert np.array_equal(
            np.sort(one.corners.reshape(len(one.counts), -1)), np.sort(other.corners.reshape(len(other.counts), -1))
        )
        for spread, again in ((one.normals, other.normals), (one.texture, other.texture)):
            assert spread is not None and again is not None
            np.testing.assert_allclose(by_place(one, spread), by_place(other, again), atol=3e-7)
    if suffix == "glb":
        assert after["box"].normals is None and "(box)" in archive.read("transfer_sheet.html").decode()


def by_place(mesh: Any, spread: Any) -> Array:
    """The values at each corner, in the order of face, point and nothing else."""
    values = spread.at_corners(mesh.corners)
    face = np.repeat(np.arange(len(mesh.counts)), mesh.counts)
    return np.asarray(values[np.lexsort((mesh.corners, face))])


def test_faces_look_the_same_way_in_every_format(dressed: Path, tmp_path: Path) -> None:
    """Alembic winds its faces the other way, and a USD mesh may say that it does."""
    from alembic3d import Abc, AbcGeom

    archive = delivered(dressed, tmp_path, "yup-rh-m", options=ALL)
    path = out_of(archive, "set/set.abc", tmp_path)
    sample = AbcGeom.IPolyMesh(AbcGeom.IXform(AbcGeom.IXform(Abc.IArchive(str(path)).getTop(), "set"), "ramp"), "mesh")
    assert list(sample.getSchema().getValue().getFaceIndices()) == [2, 1, 0, 3, 2, 0]
    turned = tmp_path / "turned.usda"
    stage = Usd.Stage.Open(str(dressed))
    stage.Export(str(turned))
    stage = Usd.Stage.Open(str(turned))
    UsdGeom.Mesh(stage.GetPrimAtPath("/set/ramp")).CreateOrientationAttr("leftHanded")
    stage.Save()
    (mesh,) = (n.mesh for n in read_file(turned).nodes if n.path == "/set/ramp")
    assert mesh is not None and mesh.corners.tolist() == [2, 1, 0, 3, 2, 0]


def test_a_sheared_object_stays_out_of_gltf_and_is_named(dressed: Path, tmp_path: Path) -> None:
    sheared = tmp_path / "sheared.usda"
    stage = Usd.Stage.Open(str(dressed))
    stage.Export(str(sheared))
    stage = Usd.Stage.Open(str(sheared))
    matrix = Gf.Matrix4d(1)
    matrix[1, 0] = 0.4
    UsdGeom.Xformable(stage.GetPrimAtPath("/set/ramp")).AddTransformOp().Set(matrix)
    stage.Save()
    archive = delivered(sheared, tmp_path, "yup-rh-m", options=ALL)
    assert "ramp is sheared: glTF holds no shear" in archive.read("transfer_sheet.html").decode()
    measured = json.loads(archive.read("manifest.json"))["cameras"][0]["set"]
    assert {o["file"] for o in measured if o["name"] == "ramp"} == {"set/set.usdc", "set/set.abc", "set/set.obj"}
    assert all(o["max_px"] is None or o["max_px"] < 0.01 for o in measured)
