"""The glTF reader: samplers, accessors, the pointer extension, files that cannot be read."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.interpolate import CubicHermiteSpline
from scipy.spatial.transform import Rotation, Slerp

from anaxis.core.checks.examine import take_camera
from anaxis.core.errors import BadInput
from anaxis.core.scene.bake import bake_camera
from anaxis.formats import read_file
from conftest import random_rotations
from other_formats import POINTER

F4 = np.float32
TIMES = np.array([0.0, 0.25, 1.0], F4)


def test_gltf_samplers_against_their_formulas(gltf: Callable[..., Path]) -> None:
    random = np.random.default_rng(1)
    spline = random.normal(size=(3, 3, 3)).astype(F4)  # in-tangent, value, out-tangent
    turns = Rotation.from_matrix(random_rotations(3, 4)).as_quat().astype(F4)
    steps = random.uniform(0.5, 2, (3, 3)).astype(F4)
    path = gltf(
        [(TIMES, "SCALAR", 5126), (spline, "VEC3", 5126), (turns, "VEC4", 5126), (steps, "VEC3", 5126)],
        [
            {"input": 0, "output": 1, "interpolation": "CUBICSPLINE"},
            {"input": 0, "output": 2},
            {"input": 0, "output": 3, "interpolation": "STEP"},
        ],
        [{"sampler": i, "target": {"node": 0, "path": p}} for i, p in enumerate(("translation", "rotation", "scale"))],
    )
    scene = read_file(path)
    frames = np.arange(0.0, 25.0)
    local = scene.node("/cam").local[np.searchsorted(scene.node("/cam").frames, frames)]
    assert scene.rate == 24
    seconds = frames / 24
    curve = CubicHermiteSpline(TIMES, spline[:, 1].astype(float), spline[:, 2].astype(float))
    # scipy has one slope a key; the format has two, so each span is checked with its own.
    for a, b in ((0, 1), (1, 2)):
        inside = (seconds >= TIMES[a]) & (seconds <= TIMES[b])
        curve = CubicHermiteSpline(
            TIMES[[a, b]], spline[[a, b], 1].astype(float), np.stack([spline[a, 2], spline[b, 0]]).astype(float)
        )
        assert np.allclose(local[inside, :3, 3], curve(seconds[inside]), atol=1e-6)
    turn = Slerp(TIMES, Rotation.from_quat(turns))(seconds).as_matrix()
    held = steps[np.searchsorted(TIMES, seconds + 1e-9, side="right") - 1]
    assert np.allclose(local[:, :3, :3], turn * held[:, None, :], atol=1e-6)


def test_gltf_sparse_and_normalised_accessors(gltf: Callable[..., Path]) -> None:
    turns = np.round(Rotation.from_rotvec(np.radians([[0, 0, 0], [0, 40, 0], [0, 90, 0]])).as_quat() * 32767).astype(
        np.int16
    )
    places = np.zeros((3, 3), F4)
    sparse_at, sparse_values = np.array([1], np.uint16), np.array([[5, 6, 7]], F4)

    def change(document: dict[str, Any]) -> None:
        document["accessors"][2]["normalized"] = True
        document["accessors"][1]["sparse"] = {
            "count": 1,
            "indices": {"bufferView": 3, "componentType": 5123},
            "values": {"bufferView": 4},
        }
        del document["accessors"][3:], document["accessors"][1]["bufferView"]

    path = gltf(
        [(TIMES, "SCALAR", 5126), (places, "VEC3", 5126), (turns, "VEC4", 5122), (sparse_at, "SCALAR", 5123), (sparse_values, "VEC3", 5126)],
        [{"input": 0, "output": 1}, {"input": 0, "output": 2}],
        [{"sampler": i, "target": {"node": 0, "path": p}} for i, p in enumerate(("translation", "rotation"))],
        change,
    )  # fmt: skip
    node = read_file(path).node("/cam")
    assert np.allclose(node.local[:, :3, 3], [[0, 0, 0], [5, 6, 7], [0, 0, 0]])
    assert np.allclose(node.local[1, :3, :3], Rotation.from_euler("y", 40, degrees=True).as_matrix(), atol=1e-4)


def test_gltf_lens_animation_comes_by_the_pointer_extension(gltf: Callable[..., Path]) -> None:
    fov = np.array([0.5, 0.6, 0.9], F4)
    target = {"path": "pointer", "extensions": {POINTER: {"pointer": "/cameras/0/perspective/yfov"}}}
    path = gltf(
        [(TIMES, "SCALAR", 5126), (fov, "SCALAR", 5126)],
        [{"input": 0, "output": 1}],
        [{"sampler": 0, "target": target}],
    )
    lens = bake_camera(read_file(path), frames=np.array([0.0, 6.0, 24.0])).track.lens
    assert np.allclose(2 * np.arctan(lens.film_height_mm / 2 / lens.focal_mm), fov, atol=1e-7)
    assert np.allclose(lens.film_width_mm / lens.film_height_mm, 1.5)


@pytest.mark.parametrize(
    ("change", "said"),
    (
        (lambda d: d["buffers"][0].update(uri="../secret.bin"), "not part of the upload"),
        (lambda d: d["buffers"][0].update(uri="file:///etc/passwd"), "not part of the upload"),
        (lambda d: d["accessors"][0].update(count=10**9), "does not fit the file's buffers"),
        (lambda d: d["accessors"][0].update(bufferView=77), "does not fit the file's buffers"),
        (lambda d: d["nodes"][0].update(children=[0]), "their own parents"),
        (lambda d: d["asset"].update(version="1.0"), "another version"),
        (lambda d: d["cameras"][0].update(type="orthographic"), "orthographic"),
    ),
)
def test_a_bad_gltf_is_one_sentence(
    gltf: Callable[..., Path], change: Callable[[dict[str, Any]], None], said: str
) -> None:
    places = np.zeros((3, 3), F4)
    path = gltf(
        [(TIMES, "SCALAR", 5126), (places, "VEC3", 5126)],
        [{"input": 0, "output": 1}],
        [{"sampler": 0, "target": {"node": 0, "path": "translation"}}],
        change,
    )
    with pytest.raises(BadInput, match=said):
        take_camera(read_file(path), None)
