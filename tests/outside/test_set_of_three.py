"""A set that three's own exporter wrote, through packages and back: every object where three itself has it, within 0.01 px."""

from __future__ import annotations

import io
import json
import subprocess
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from pxr import Gf, Usd, UsdGeom

from anaxis.core.recipe.model import Operation
from anaxis.core.scene.picture import picture_of
from anaxis.delivery.handover import handover_zip
from anaxis.delivery.options import DeliveryOptions
from anaxis.delivery.transfer_sheet import CameraOrigin, handed_of
from anaxis.formats import read_file
from anaxis.library.sending import deliver_in_formats, going_out
from anaxis.packages import find_profile

HERE = Path(__file__).resolve().parent
Array = np.ndarray[Any, Any]


@pytest.fixture(scope="module")
def written(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, dict[str, Any]]:
    """three's file, and where three has every point and the camera on every frame."""
    path = tmp_path_factory.mktemp("three") / "TW_072.glb"
    done = subprocess.run(
        ["node", str(HERE / "export_set.mjs"), str(path)], capture_output=True, text=True, check=True, cwd=HERE
    )
    return path, json.loads(done.stdout)


def pixels(points: Array, view: Array, fov_deg: float) -> Array:
    """Where points (p, 3) lie in a 1920 x 1080 picture of three's camera, by the pinhole's own sum."""
    seen = np.linalg.inv(view) @ np.vstack([points.T, np.ones(len(points))])
    focal = 540 / np.tan(np.radians(fov_deg) / 2)
    return np.stack([960 + focal * seen[0] / -seen[2], 540 - focal * seen[1] / -seen[2]], axis=1)


@pytest.mark.parametrize("to", ["zup-lh-cm", "zup-rh-m", "yup-rh-cm"])
def test_what_three_wrote_is_seen_where_three_has_it(
    written: tuple[Path, dict[str, Any]], to: str, tmp_path: Path
) -> None:
    path, meant = written
    scene = read_file(path)
    assert scene.nodes and not [f for f in scene.findings if f.code == "set_shape_stays"], "morph targets are followed"
    going = going_out(scene, None, (Operation("renumber", {"first": 0}),), picture_of(scene, None, None))
    options = DeliveryOptions(set_formats="usd,alembic,gltf")
    done, refused = deliver_in_formats([going.leaving], find_profile(to), ["usd"], tmp_path, options, "", shot="TW_072")
    origin = CameraOrigin(path.name, "0" * 64, "/shotcam", [])
    archive = zipfile.ZipFile(
        io.BytesIO(handover_zip([handed_of(going.leaving, find_profile(to), done[0], origin, refused)]))
    )
    camera, objects = (stage_in(archive, n, tmp_path) for n in (f"{to}.usd", "set.usdc"))
    for frame in range(meant["frames"]):
        for name in ("body", "wheel", "shed"):
            want = pixels(
                np.array(meant["points"][name][frame]), np.array(meant["views"][frame]).reshape(4, 4).T, meant["fov"]
            )
            off = np.abs(want - seen_px(camera, objects, name, frame))
            assert off.max() < 0.01, (name, frame)
    measured = json.loads(archive.read("manifest.json"))["cameras"][0]["set"]
    assert {o["name"]: o["moves"] for o in measured} == {"body": True, "wheel": True, "shed": False, "flag": True}
    assert all(o["max_px"] is None or o["max_px"] < 0.01 for o in measured)
    waving = [p.GetAttribute("points").GetNumTimeSamples() for p in objects.Traverse() if p.GetName() == "flag"]
    assert waving == [meant["frames"]]


def stage_in(archive: zipfile.ZipFile, ending: str, folder: Path) -> Any:
    name = next(n for n in archive.namelist() if n.endswith(ending))
    (folder / Path(name).name).write_bytes(archive.read(name))
    return Usd.Stage.Open(str(folder / Path(name).name))


def seen_px(cameras: Any, objects: Any, name: str, time: float) -> Array:
    """Where a delivered object's points lie in the delivered camera's picture, by the USD library's frustum alone."""
    camera = next(p for p in cameras.Traverse() if p.IsA(UsdGeom.Camera))
    frustum = UsdGeom.Camera(camera).GetCamera(time).frustum
    to_screen = frustum.ComputeViewMatrix() * frustum.ComputeProjectionMatrix()
    prim = next(p for p in objects.Traverse() if p.GetName() == name)
    world = UsdGeom.Xformable(prim).ComputeLocalToWorldTransform(time)
    points = [to_screen.Transform(world.Transform(Gf.Vec3d(p))) for p in UsdGeom.Mesh(prim).GetPointsAttr().Get(time)]
    return np.array([[960 + p[0] * 960, 540 - p[1] * 540] for p in points])
