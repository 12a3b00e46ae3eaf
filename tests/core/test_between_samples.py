"""Levels switched off, samples between frames, and the picture that a file's aspect asks for."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from anaxis.core.checks.examine import between_samples, take_camera
from anaxis.core.recipe.model import Operation
from anaxis.core.scene.picture import picture_of
from anaxis.core.scene.tree import level_off
from anaxis.formats import read_file


@pytest.mark.parametrize(("step", "count"), [(0.25, 37), (0.5, 19), (1 / 3, 28)])
def test_a_camera_between_frames_has_the_files_own_samples(usda: Callable[..., Path], step: float, count: int) -> None:
    at = np.round(np.arange(count) * step + 1, 6)
    samples = ", ".join(f"{t}: ({t}, {np.sin(t)}, 300)" for t in at.tolist())
    ops = f'double3 xformOp:translate.timeSamples = {{ {samples} }}\n uniform token[] xformOpOrder = ["xformOp:translate"]'
    scene = read_file(usda(ops=ops))
    work = take_camera(scene, None)
    assert between_samples(scene, work, (), wanted=False) == (True, None)
    has, finer = between_samples(scene, work, (), wanted=True)
    assert has and finer is not None
    np.testing.assert_allclose(finer.frames, 1 + np.arange(count) * step, atol=1e-5)
    np.testing.assert_allclose(finer.position_m[:, 0], at / 100, atol=1e-5)
    moved = (Operation("rate", {"rate": "30", "keep": "time"}),)
    assert between_samples(scene, take_camera(scene, None, recipe=moved), moved, wanted=True) == (True, None)
    whole = read_file(usda(name="whole.usda"))
    assert between_samples(whole, take_camera(whole, None), (), wanted=True) == (False, None)


def test_a_level_is_held_as_it_was_or_taken_out(usda: Callable[..., Path]) -> None:
    body = """def Xform "rig" {
 double3 xformOp:translate.timeSamples = { 1: (5, 0, 0), 10: (50, 0, 0) }
 uniform token[] xformOpOrder = ["xformOp:translate"]
 CAMERA
}
"""
    scene = read_file(usda(body=body))
    moves = take_camera(scene, None).done.position_m[:, 0]
    still = take_camera(level_off(scene, "/rig", "still", 4.0), None).done.position_m[:, 0]
    out = take_camera(level_off(scene, "/rig", "out", 4.0), None).done.position_m[:, 0]
    np.testing.assert_allclose(still - out, 0.20, atol=1e-9)  # as it stood on frame 4: 20 cm
    np.testing.assert_allclose(moves - out, np.linspace(0.05, 0.50, 10), atol=1e-9)


def test_the_picture_has_the_aspect_that_a_file_states(gltf: Callable[..., Path]) -> None:
    scene = read_file(gltf([], [], [], lambda d: d.pop("animations")))
    assert (picture_of(scene, None, None).image.width_px, picture_of(scene, None, None).image.height_px) == (1920, 1280)
    camera = scene.cameras[0]
    assert camera.lens is not None
    upright = replace(camera, lens=replace(camera.lens, film_height_mm=camera.lens.film_width_mm * 2))
    image = picture_of(scene.replaced(upright), None, None).image
    assert (image.width_px, image.height_px) == (960, 1920)
