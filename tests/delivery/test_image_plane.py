"""The image plane fills the picture exactly on every frame, as the file's own library evaluates it."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from pxr import Usd, UsdGeom, UsdShade

from anaxis.core.camera.projection import projection_of
from anaxis.core.checks.examine import take_camera
from anaxis.core.errors import BadInput
from anaxis.core.image_plane import Pictures, image_plane, said_of_distance
from anaxis.core.scene.landmarks import NO_LANDMARKS
from anaxis.core.scene.tree import world_matrices
from anaxis.delivery.deliver import deliver_all
from anaxis.delivery.options import DeliveryOptions
from anaxis.delivery.overscan import with_overscan
from anaxis.formats import read_file
from anaxis.packages import find_profile
from ordinary import SHOTS, smooth
from test_ordinary_shots import leaving

SHOTS_HERE = {**{k: SHOTS[k] for k in ("still", "primes", "jitter", "frame_minus_20", "portrait")}, "smooth": smooth}


@pytest.mark.parametrize("name", SHOTS_HERE)
def test_the_quad_fills_the_picture_of_usds_own_frustum(name: str, tmp_path: Path) -> None:
    shot = SHOTS_HERE[name]()
    frames = {int(f): f"plate/bg.{int(f):04}.exr" for f in shot.frames}
    camera = replace(leaving(shot), pictures=Pictures("bg", frames, b""))
    (done,) = deliver_all(
        [camera],
        find_profile("zup-rh-cm"),
        "usd",
        tmp_path,
        DeliveryOptions(plane_m=12.0, plane_opacity=0.4, overscan="8%"),
    )
    stage = Usd.Stage.Open(str(done.files[0]))
    prim = next(p for p in stage.Traverse() if p.IsA(UsdGeom.Camera))
    quad = UsdGeom.Mesh(stage.GetPrimAtPath(prim.GetPath().AppendChild("image_plane")))
    assert np.allclose(quad.GetDisplayOpacityAttr().Get(), 0.4)
    points = np.array(quad.GetPointsAttr().Get())
    for frame in done.outgoing.track.frames[:: max(1, len(shot.frames) // 7)]:
        frustum = UsdGeom.Camera(prim).GetCamera(float(frame)).frustum
        view = np.array(frustum.ComputeViewMatrix() * frustum.ComputeProjectionMatrix())
        world = np.concatenate([points, np.ones((4, 1))], axis=1) @ np.array(
            UsdGeom.Xformable(quad).ComputeLocalToWorldTransform(float(frame))
        )
        clip = world @ view
        assert np.allclose(clip[:, :2] / clip[:, 3:], [[-1, -1], [1, -1], [1, 1], [-1, 1]], rtol=0, atol=2e-6)
    texture = next(
        UsdShade.Shader(p)
        for p in stage.Traverse()
        if UsdShade.Shader(p) and UsdShade.Shader(p).GetIdAttr().Get() == "UsdUVTexture"
    )
    last = int(done.outgoing.track.frames[-1])
    offset = last - int(shot.frames[-1])
    assert texture.GetInput("file").Get(float(last)).path == frames[last - offset]


@pytest.mark.parametrize("format_key", ["usd", "alembic", "gltf", "collada"])
def test_every_format_with_nodes_carries_it(format_key: str, tmp_path: Path) -> None:
    """Read again, the quad's corners lie on the picture's corners through the file's own camera."""
    shot = SHOTS["still"]() if format_key == "gltf" else smooth()  # glTF's own zoom is read by few
    camera = replace(leaving(shot), pictures=Pictures("bg", {}, b"\xff\xd8\xff\xd9"))
    (done,) = deliver_all([camera], find_profile("yup-rh-m"), format_key, tmp_path, DeliveryOptions(plane_m=4.0))
    scene = read_file(done.files[0])
    track = take_camera(scene, scene.cameras[0].path).done
    if format_key in ("gltf", "collada"):
        track = replace(track, frames=done.outgoing.track.frames) if len(track) == len(shot.frames) else track
    node = next(n for n in scene.nodes if n.segments is not None and len(n.segments))
    world = np.broadcast_to(world_matrices(scene, node.path, track.frames), (len(track), 4, 4))
    corners = np.unique(np.round(node.segments.reshape(-1, 3), 9), axis=0)  # type: ignore[union-attr]
    assert len(corners) == 4
    points = scene.convention.position_to_canonical(
        np.einsum("nij,kj->nki", world[:, :3, :3], corners) + world[:, None, :3, 3]
    )
    seen, _ = projection_of(
        track, camera.picture.image, "height" if format_key in ("gltf", "collada") else "width"
    ).project(points)
    image = camera.picture.image
    off = np.minimum(np.abs(seen), np.abs(seen - [image.width_px, image.height_px]))
    assert off.max() < 0.02, off.max()
    assert any("image plane is 4 m" in n for n in done.outgoing.notes)


def test_formats_without_nodes_say_that_there_is_none(tmp_path: Path) -> None:
    camera = leaving(SHOTS["still"]())
    (done,) = deliver_all([camera], find_profile("yup-rh-m"), "json", tmp_path, DeliveryOptions(plane_m=4.0))
    assert any("no image plane, since" in n for n in done.outgoing.notes)


def test_too_near_and_too_far_are_said_with_what_to_do() -> None:
    camera = leaving(SHOTS["still"]())
    near = np.full(len(camera.track), 0.5)
    track = replace(camera.track, lens=replace(camera.track.lens, near_m=near, far_m=near * 100))
    ahead = track.position_m[0] - track.rotation[0][:, 2] * np.array([[5.0], [9.0]])
    lines = np.stack([ahead, ahead + 0.01])
    image = camera.picture.image

    def said(distance: float) -> str:
        return " ".join(said_of_distance(image_plane(track, image, "width", distance), track, NO_LANDMARKS, lines))

    assert "nearer than the near clip" in said(0.4) and "in front of all of the set" in said(3.0)
    assert "within the set" in said(7.0) and "behind the far clip" in said(60.0) and said(20.0) == ""
    for distance, opacity in ((0.0, 1.0), (-1.0, 1.0), (float("nan"), 1.0), (2.0, 1.5)):
        with pytest.raises(BadInput):
            DeliveryOptions(plane_m=distance, plane_opacity=opacity)


def test_with_overscan_it_fills_the_larger_picture() -> None:
    camera = leaving(SHOTS["still"]())
    larger, _ = with_overscan(camera, DeliveryOptions(overscan="10%"))
    small, large = (image_plane(c.track, c.picture.image, c.picture.fit, 3.0).size_m[0] for c in (camera, larger))
    assert np.allclose(large / small, [larger.render.wider, larger.render.higher], rtol=1e-12)  # type: ignore[union-attr]
