"""assimp and VTK on the shots: pose on every key, and the view where the reader has one."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from lanes import pairs
from readers import CAMERAS, bound_px, off_px, seconds_of, written


def assimp_scene(path: Path) -> Any:
    """The library's own scene: the Python wrapper cannot take one without a mesh."""
    from pyassimp.core import _assimp_lib

    found = _assimp_lib.load(str(path).encode(), 0)
    assert found, f"assimp does not read {path.name}"
    return found.contents


def local_of(node: Any) -> np.ndarray:
    m = node.mTransformation
    return np.array([[getattr(m, f"{r}{c}") for c in "1234"] for r in "abcd"])


def animated(scene: Any, name: str) -> tuple[np.ndarray, np.ndarray, np.ndarray] | None:
    """Seconds, places and rotations of a node's channel; None where nothing animates it."""
    for i in range(scene.mNumAnimations):
        animation = scene.mAnimations[i].contents
        for k in range(animation.mNumChannels):
            channel = animation.mChannels[k].contents
            if channel.mNodeName.data.decode() == name:
                places = [channel.mPositionKeys[j] for j in range(channel.mNumPositionKeys)]
                turns = [channel.mRotationKeys[j].mValue for j in range(channel.mNumRotationKeys)]
                ticks = animation.mTicksPerSecond or 1.0
                return (
                    np.array([p.mTime / ticks for p in places]),
                    np.array([[p.mValue.x, p.mValue.y, p.mValue.z] for p in places]),
                    Rotation.from_quat([[q.x, q.y, q.z, q.w] for q in turns]).as_matrix(),
                )
    return None


@pytest.mark.parametrize(("name", "format_key"), pairs(CAMERAS, ["collada", "gltf"], 2))
def test_assimp_sees_the_camera(name: str, format_key: str, tmp_path: Path) -> None:
    shot, done = written(name, format_key, tmp_path)
    scene = assimp_scene(done.files[0])
    assert scene.mNumCameras == 1
    camera, root = scene.mCameras[0].contents, scene.mRootNode.contents
    found = animated(scene, done.node)
    if found is None:  # the node's own rest pose stands for every frame
        below = [root.mChildren[i].contents for i in range(root.mNumChildren)]
        # A file of one node has it for its root.
        node = next(n for n in (root, *below) if n.mName.data.decode() == done.node)
        local = local_of(node)
        places, turns = (np.repeat(v[None], len(shot.frames), axis=0) for v in (local[:3, 3], local[:3, :3]))
    else:
        seconds, places, turns = found
        every = seconds_of(shot, done)
        if name == "still":  # its range, and one pose: that of its node where there is no key of it
            seconds, places = (
                np.interp(np.linspace(0, 1, len(every)), [0, 1], seconds),
                np.repeat(places[:1], len(every), axis=0),
            )
            turns = np.repeat(turns[:1], len(every), axis=0)
        assert np.allclose(seconds, every, atol=2e-3)
    # Where the camera stands and looks in its node, as this reader has it: it adds a translation of the node's own to it.
    at, ahead, up = (np.array([v.x, v.y, v.z]) for v in (camera.mPosition, camera.mLookAt, camera.mUp))
    ahead, up = (v / np.linalg.norm(v) for v in (ahead, up))
    places, turns = places + turns @ at, turns @ np.stack([np.cross(ahead, up), up, -ahead], axis=1)
    _, _, focal = shot.samples
    tan_x = shot.film_mm[0] / 2 / focal
    assert off_px(shot, places, turns, tan_x, shot.width_px / shot.height_px) <= bound_px(name, format_key)
    if format_key == "collada":
        # mHorizontalFOV is the whole angle here.
        assert np.tan(camera.mHorizontalFOV / 2) == pytest.approx(tan_x[0], rel=1e-5)
        assert camera.mAspect == pytest.approx(shot.width_px / shot.height_px, rel=1e-5)


@pytest.mark.parametrize("name", [*CAMERAS, "zoom"])
def test_vtk_sees_the_camera(name: str, tmp_path: Path) -> None:
    """Its glTF importer on a few frames: the rest pose where nothing moves, and the pose beside an animated lens."""
    from vtkmodules.vtkIOImport import vtkGLTFImporter

    shot, done = written(name, "gltf", tmp_path)
    reader = vtkGLTFImporter()
    reader.SetFileName(str(done.files[0]))
    reader.Update()
    assert reader.GetNumberOfCameras() == 1
    for i in range(reader.GetNumberOfAnimations()):
        reader.EnableAnimation(i)
    reader.SetCamera(0)
    at = np.unique([0, len(shot.frames) // 3, len(shot.frames) // 2, len(shot.frames) - 1])
    places, turns, tan_y = [], [], []
    for seconds in seconds_of(shot, done)[at].tolist():
        reader.UpdateAtTimeValue(seconds)
        camera = reader.GetRenderer().GetActiveCamera()
        eye, goal, up = (np.array(v) for v in (camera.GetPosition(), camera.GetFocalPoint(), camera.GetViewUp()))
        back = (eye - goal) / np.linalg.norm(eye - goal)
        right = np.cross(up, back)
        right /= np.linalg.norm(right)
        places.append(eye)
        turns.append(np.stack([right, np.cross(back, right), back], axis=1))
        tan_y.append(np.tan(np.radians(camera.GetViewAngle()) / 2))
    aspect = shot.width_px / shot.height_px
    # A lens that moves is not taken by it: then the pose is held against the view that was meant.
    moves = name in ("primes", "zoom")
    focal = shot.at(shot.frames[at])[2]
    tan_x = shot.film_mm[0] / 2 / focal if moves else np.array(tan_y) * aspect
    # Its focal point lies one unit ahead, in single precision: a direction from two places 5 km out is rough.
    rough = {"far_out": 40.0, "frame_86400": 0.6, "whip": 0.6}.get(name, 0.3)
    assert off_px(shot, np.array(places), np.array(turns), tan_x, aspect, at) <= rough
