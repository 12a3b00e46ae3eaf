"""The map itself as a model: that of a lens no formula here describes, there and back, and what is wrong with one."""

from __future__ import annotations

import json
import pickle
from typing import Any

import numpy as np
import pytest

from anaxis.core.camera.distortion.distortion import distortion_from_document
from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.overscan import overscan_of
from anaxis.core.camera.plate.st_map import distort_map, undistort_map
from anaxis.core.camera.plate.window import Window
from anaxis.core.errors import BadInput
from anaxis.formats.st_map.fitted import Given, fit_maps

PLATE = Window(*(np.array([v]) for v in (-0.5, 0.5, -0.28, 0.28)))
IMAGE = Image(480, 270)


def bent(u: Any, v: Any) -> tuple[Any, Any]:
    """A wavy lens."""
    return u * (1 - 0.12 * u * u) + 0.006 * np.sin(7 * v), v * (1 - 0.1 * v * v) + 0.004 * np.cos(6 * u)


def document(n: int = 60) -> dict[str, Any]:
    across, up = np.linspace(-0.7, 0.7, n), np.linspace(-0.45, 0.45, n)
    u, v = bent(*np.meshgrid(across, up))
    return {"model": "map", "across": across.tolist(), "up": up.tolist(), "u": u.tolist(), "v": v.tolist()}


def test_it_is_the_lens_between_its_samples_and_back() -> None:
    lens = distortion_from_document(json.loads(json.dumps(document())))
    points = np.random.default_rng(5).uniform(-0.4, 0.4, (1, 500, 2)) * [1, 0.6]
    found = lens.distort(points)
    assert np.abs(found - np.stack(bent(points[..., 0], points[..., 1]), axis=-1)).max() < 2e-7
    assert np.abs(lens.undistort(found) - points).max() < 1e-10
    assert lens.document() == document() and lens.select_frames(np.array([0])).frames == 1
    assert np.array_equal(pickle.loads(pickle.dumps(lens)).distort(points), found)
    # Beyond its samples it goes on straight, without a break.
    edge, beyond = (
        lens.distort(np.array([[[0.7, 0.1], [0.7001, 0.1], [0.8, 0.1]]]))[0][[0, 1]],
        lens.distort(np.array([[[0.8, 0.1]]])),
    )
    assert np.abs(np.diff(edge, axis=0)).max() < 2e-4 and np.isfinite(beyond).all()


def given(lens: Any, kind: str, overscan: bool) -> Given:
    render = overscan_of(lens, PLATE, IMAGE).overscan
    window, size = (render.window(PLATE), render.image) if overscan else (PLATE, IMAGE)
    st = (undistort_map if kind == "undistort" else distort_map)(lens, PLATE, IMAGE, window, size)
    rows, columns = (
        np.unique(np.linspace(0, n - 1, m).astype(int)) for n, m in zip(st.shape[:2], (45, 80), strict=True)
    )
    read = {
        "st": st[np.ix_(rows, columns)].tolist(), "rows": rows.tolist(), "columns": columns.tolist(), "guesses": {},
        "resolution": [st.shape[1], st.shape[0]], "origin": "lower left", "direction": kind,
    }  # fmt: skip
    return Given.of(f"{kind}.exr", read)


@pytest.mark.parametrize(
    ("kinds", "overscan"), [(("undistort",), True), (("distort",), False), (("distort", "undistort"), False)]
)
def test_it_is_made_from_one_map_or_a_pair(kinds: tuple[str, ...], overscan: bool) -> None:
    lens = distortion_from_document(document())
    found = fit_maps([given(lens, k, overscan) for k in kinds], "map", PLATE, IMAGE)
    assert found.off_px.max() < 0.02
    again = distortion_from_document(found.document)
    grid = np.stack(np.meshgrid(np.linspace(-0.48, 0.48, 40), np.linspace(-0.26, 0.26, 30)), axis=-1).reshape(1, -1, 2)
    assert np.abs(again.distort(grid) - lens.distort(grid)).max() * 480 < 0.02
    assert overscan_of(again, PLATE, IMAGE).image == overscan_of(lens, PLATE, IMAGE).image
    other = fit_maps([given(lens, k, overscan) for k in kinds], "radial-tangential", PLATE, IMAGE)
    assert other.off_px.max() > 1  # no formula comes near this lens, and that is said


@pytest.mark.parametrize("model", ["map", "radial-tangential"])
def test_a_map_that_distorts_alone_leaves_the_renders_size_a_guess_that_is_said(model: str) -> None:
    """It was made for a render larger than the plate, which it does not say: without its size it is another lens."""
    lens = distortion_from_document({"model": "radial-tangential", "k1": -0.2})
    larger = overscan_of(lens, PLATE, IMAGE).image
    one = given(lens, "distort", True)
    guessed = fit_maps([one], model, PLATE, IMAGE)
    assert any("The size of the render is guessed as that of" in s for s in guessed.said)
    known = fit_maps([one], model, PLATE, IMAGE, render=(larger.width_px, larger.height_px))
    assert not any("the render's size" in s for s in known.said)
    assert overscan_of(distortion_from_document(known.document), PLATE, IMAGE).image == larger
    pair = fit_maps([one, given(lens, "undistort", True)], model, PLATE, IMAGE)
    assert not any("the render's size" in s for s in pair.said)


def test_a_map_that_ends_before_the_plate_is_refused() -> None:
    lens = distortion_from_document(document())
    with pytest.raises(BadInput, match="is smaller than the plate: add"):
        fit_maps([given(lens, "undistort", False)], "map", PLATE, IMAGE)


@pytest.mark.parametrize(
    ("changed", "said"),
    [
        ({"u": [[1]]}, "grid must be"), ({"across": None}, "grid must be"), ({"up": ["x"]}, "needs across"), ({"k1": 1}, "no 'k1'"), ({"up": [4, 3, 2, 1]}, "grid must be"),
        ({"across": list(range(60))[::-1]}, "must rise"), ({"v": [[float("nan")] * 60] * 60}, "with a number"),
    ],
)  # fmt: skip
def test_what_is_wrong_with_one_is_said(changed: dict[str, Any], said: str) -> None:
    with pytest.raises(BadInput, match=said):
        distortion_from_document(document() | changed)
