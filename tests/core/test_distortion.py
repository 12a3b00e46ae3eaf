"""Distortion models against OpenCV's own projection and plain numpy; there and back; folding."""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from anaxis.core.camera.distortion.distortion import Distortion, distortion_from_document
from anaxis.core.camera.distortion.fit import fit_model
from anaxis.core.camera.distortion.models import MODELS
from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.overscan import empty_pixels, overscan_of
from anaxis.core.camera.plate.st_map import distort_map, undistort_map
from anaxis.core.camera.plate.window import Window, window_of
from anaxis.core.errors import BadInput
from ordinary import SHOTS, track_of

RANDOM = np.random.default_rng(4)
POINTS = RANDOM.uniform(-0.6, 0.6, (1, 400, 2))


def made(model: str, **values: Any) -> Distortion:
    return distortion_from_document({"model": model, **values})


def opencv(points: np.ndarray, coefficients: list[float], fisheye: bool = False) -> np.ndarray:
    """OpenCV's pixels with focal length 1 and the centre at 0; its y runs down."""
    space = np.concatenate([points * [1, -1], np.ones((len(points), 1))], axis=1)[None]
    none, plain = np.zeros(3), np.eye(3)
    project = cv2.fisheye.projectPoints if fisheye else cv2.projectPoints
    seen = project(space, none, none, plain, np.array(coefficients))[0]
    return np.asarray(seen).reshape(-1, 2) * [1, -1]


@pytest.mark.parametrize("rational", [False, True])
def test_radial_and_tangential_as_opencv_projects(rational: bool) -> None:
    k = {"k1": -0.21, "k2": 0.06, "k3": -0.01, "p1": 0.004, "p2": -0.003}
    more = {"k4": 0.05, "k5": -0.02, "k6": 0.003} if rational else {}
    # With y downward the tangential coefficient of y changes its sign.
    order = [k["k1"], k["k2"], -k["p1"], k["p2"], k["k3"], *more.values()]
    found = made("radial-tangential", **k, **more).distort(POINTS)[0]
    assert np.allclose(found, opencv(POINTS[0], order), rtol=0, atol=1e-12)


def test_fisheye_as_opencv_projects() -> None:
    k = [0.08, -0.03, 0.011, -0.002]
    found = made("fisheye", **{f"k{i + 1}": v for i, v in enumerate(k)}).distort(POINTS * 2)[0]
    assert np.allclose(found, opencv(POINTS[0] * 2, k, fisheye=True), rtol=0, atol=1e-12)


def test_division_and_anamorphic_as_written() -> None:
    bent = made("division", k=-0.3).distort(POINTS)
    r2 = (bent**2).sum(axis=-1, keepdims=True)
    assert np.allclose(bent / (1 - 0.3 * r2), POINTS, rtol=0, atol=1e-13)
    a, b, turn = RANDOM.uniform(-0.1, 0.1, 5), RANDOM.uniform(-0.1, 0.1, 5), np.radians(3.0)
    values = {f"a{i + 1}": v for i, v in enumerate(a)} | {f"b{i + 1}": v for i, v in enumerate(b)}
    found = made("anamorphic", **values, rotation_deg=3.0, scale_x=1.02, scale_y=0.97, squeeze=2.0).distort(POINTS)[0]
    x, y = np.array([[np.cos(turn), np.sin(turn)], [-np.sin(turn), np.cos(turn)]]) @ (POINTS[0] / [2, 1]).T
    terms = np.array([x**2, y**2, x**4, x**2 * y**2, y**4])
    bent_xy = np.array([1.02 * x * (1 + a @ terms), 0.97 * y * (1 + b @ terms)])
    back = np.array([[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]]) @ bent_xy
    assert np.allclose(found, back.T * [2, 1], rtol=0, atol=1e-13)


SOME = {
    "radial-tangential": {"k1": -0.2, "k2": 0.05, "p1": 0.01, "p2": -0.008, "k4": 0.02},
    "division": {"k": -0.25},
    "anamorphic": {
        "a1": -0.1,
        "a4": 0.05,
        "b2": 0.07,
        "b5": -0.02,
        "rotation_deg": 2.0,
        "scale_x": 1.05,
        "squeeze": 1.8,
    },
    "fisheye": {"k1": -0.05, "k2": 0.02, "k3": -0.004, "k4": 0.001},
}


@pytest.mark.parametrize("model", MODELS)
def test_the_derivatives_are_those_of_the_map(model: str) -> None:
    distortion, step = made(model, **SOME[model], centre_u=0.02, centre_v=-0.01), 1e-6
    u, v = POINTS[..., 0], POINTS[..., 1]
    s = distortion.bend(u, v).slopes
    by_u = (distortion.distort(np.add(POINTS, [step, 0])) - distortion.distort(POINTS - [step, 0])) / (2 * step)
    by_v = (distortion.distort(np.add(POINTS, [0, step])) - distortion.distort(POINTS - [0, step])) / (2 * step)
    for found, measured in ((s.uu, by_u[..., 0]), (s.vu, by_u[..., 1]), (s.uv, by_v[..., 0]), (s.vv, by_v[..., 1])):
        assert np.allclose(found, measured, rtol=0, atol=1e-8)
    near = distortion.bend(np.array([[0.02]]), np.array([[-0.01]]))
    assert (
        np.isfinite([near.u, near.v, *near.slopes]).all()
        and near.u == pytest.approx(0.02)
        and near.v == pytest.approx(-0.01)
    )


@given(
    model=st.sampled_from(sorted(MODELS)),
    size=st.floats(-1, 1),
    centre=st.tuples(st.floats(-0.1, 0.1), st.floats(-0.1, 0.1)),
    squeeze=st.floats(0.5, 2),
)
def test_there_and_back_is_where_it_began(model: str, size: float, centre: tuple[float, float], squeeze: float) -> None:
    values = {k: v * (size if k not in ("scale_x", "squeeze") else 1) for k, v in SOME[model].items()}
    distortion = made(model, **values | {"centre_u": centre[0], "centre_v": centre[1], "squeeze": squeeze})
    points = POINTS[:, :60] * 0.9
    seen = distortion.distort(points)
    shown = np.isfinite(seen).all(axis=-1)  # beyond its reach, a lens shows nothing
    back = distortion.undistort(seen)
    assert shown.any() and np.allclose(back[shown], points[shown], rtol=0, atol=1e-10) and np.isnan(back[~shown]).all()


def test_coefficients_follow_the_frames() -> None:
    moving = made("radial-tangential", k1=[-0.1, 0.0, 0.1], k2=0.01)
    assert moving.frames == 3
    for i, k1 in enumerate((-0.1, 0.0, 0.1)):
        alone = made("radial-tangential", k1=k1, k2=0.01)
        assert np.array_equal(moving.distort(POINTS)[i], alone.distort(POINTS)[0])
        assert np.array_equal(moving.select_frames(np.array([i])).distort(POINTS)[0], alone.distort(POINTS)[0])
        assert np.allclose(moving.undistort(POINTS)[i], alone.undistort(POINTS)[0], atol=1e-12)


def window(half_u: float, half_v: float, up: float = 0.0) -> Window:
    return Window(*(np.array([x]) for x in (-half_u, half_u, up - half_v, up + half_v)))


def unfolded(distortion: Distortion, plate: Window) -> None:
    overscan_of(distortion, plate, Image(64, 48))


def test_a_picture_that_folds_over_is_refused_with_the_radius() -> None:
    # r (1 - r^2) has its crest where 1 - 3 r^2 = 0: at r = 0.577, where it reaches 0.385.
    folding = made("radial-tangential", k1=-1.0)
    unfolded(folding, window(0.25, 0.2))
    with pytest.raises(BadInput, match=r"folds over at a radius of 0\.3[789]") as error:
        unfolded(folding, window(0.5, 0.4))
    assert error.value.code == "folds_over"
    assert np.isnan(folding.undistort(np.array([[[0.5, 0.4]]]))).all()
    with pytest.raises(BadInput, match="at its frame 2"):
        unfolded(made("radial-tangential", k1=[0.0, -1.0, -0.9]), window(0.5, 0.4))
    # One that rises again behind its crest looks right there, and is on another sheet.
    again = made("radial-tangential", k1=-1.0, k2=0.35)
    outer = np.array([[[1.6, 0.0]]])
    assert again.bend(outer[..., 0], outer[..., 1]).determinant[0, 0] > 0
    assert np.isnan(again.undistort(again.distort(outer))).all()
    with pytest.raises(BadInput, match="folds over"):
        unfolded(again, window(0.6, 0.4))
    # Behind the crest some points come back to where others lie; the one that the lens shows is the inner one.
    assert np.allclose(folding.undistort(folding.distort(np.array([[[0.3, 0.1]]]))), [[[0.3, 0.1]]], atol=1e-12)


@pytest.mark.parametrize("seed", range(8))
def test_overscan_leaves_no_pixel_empty_and_is_not_larger_than_needed(seed: int) -> None:
    random = np.random.default_rng(seed)
    model = sorted(SOME)[seed % len(SOME)]
    values = {k: v * random.uniform(-1, 1) if k not in ("scale_x", "squeeze") else v for k, v in SOME[model].items()}
    values |= {"centre_u": random.uniform(-0.05, 0.05), "centre_v": random.uniform(-0.05, 0.05)}
    distortion, image = made(model, **values), Image(512, 288)
    plate = window(0.45, 0.45 * 288 / 512, up=random.uniform(-0.03, 0.03))
    found = overscan_of(distortion, plate, image)
    rendered = found.overscan.window(plate)
    st = distort_map(distortion, plate, image, rendered, found.image)
    assert st.min() >= 0 and st.max() <= 1
    # Every pixel, by plain numpy: what the render shows where the map fetches is what the lens bends to this pixel.
    rows, columns = np.mgrid[0:288, 0:512] + 0.5
    u = rendered.left + st[..., 0] * (rendered.right - rendered.left)
    v = rendered.bottom + st[..., 1] * (rendered.top - rendered.bottom)
    bent = distortion.distort(np.stack([u, v], axis=-1).reshape(1, -1, 2))[0].reshape(288, 512, 2)
    assert np.allclose((bent[..., 0] - plate.left) / (plate.right - plate.left) * 512, columns, rtol=0, atol=1e-6)
    assert np.allclose((plate.top - bent[..., 1]) / (plate.top - plate.bottom) * 288, rows, rtol=0, atol=1e-6)
    for k, size, of in zip(found.factor, (found.image.width_px, found.image.height_px), (512, 288), strict=True):
        assert size % 2 == 0 and size >= k * of - 1e-6 and (size - 2 < k * of or size == of)
    missing = (u < plate.left) | (u > plate.right) | (v < plate.bottom) | (v > plate.top)
    assert np.array_equal(empty_pixels(distortion, plate, image, found.worst), missing)
    assert not empty_pixels(distortion, plate, image, found.worst, found.overscan, filter_px=3.0).any()
    # A filter of three pixels on each side, of the plate's or of the render's, finds all of its picture, at the border too.
    for fetched, size in ((st[..., 0], found.image.width_px), (st[..., 1], found.image.height_px)):
        steps = np.abs(np.gradient(fetched * size))
        reach = (
            3 * np.maximum(1, steps[0] + steps[1]) * 0.98
        )  # differences of neighbours are no derivative at the border
        assert (fetched * size >= reach).all() and (fetched * size <= size - reach).all()
    # Pixel density and middle stay.
    assert float((rendered.right - rendered.left)[0]) / found.image.width_px == pytest.approx(0.9 / 512, rel=1e-12)
    assert float((rendered.bottom + rendered.top - plate.bottom - plate.top)[0]) == pytest.approx(0, abs=1e-12)


def test_the_undistort_map_is_opencvs() -> None:
    k, image = [-0.18, 0.04, 0.0, 0.0, 0.0], Image(320, 180)
    plate = window(0.4, 0.4 * 180 / 320)
    st = undistort_map(made("radial-tangential", k1=k[0], k2=k[1]), plate, image, plate, image)
    focal = 320 / 0.8
    matrix = np.array(
        [[focal, 0, 160 - 0.5], [0, focal, 90 - 0.5], [0, 0, 1]]
    )  # its pixels are counted from their middles
    x, y = cv2.initUndistortRectifyMap(matrix, np.array(k), np.eye(3), matrix, (320, 180), cv2.CV_32FC1)
    assert np.allclose(st[..., 0] * 320 - 0.5, x, rtol=0, atol=1e-4)
    assert np.allclose((1 - st[..., 1]) * 180 - 0.5, y, rtol=0, atol=1e-4)


def test_the_most_that_is_needed_over_the_frames_is_taken() -> None:
    image, n = Image(200, 100), 2000
    strength = -0.2 * np.exp(-(((np.arange(n) - 1234) / 15) ** 2))  # needed on a few frames alone
    moving = made("radial-tangential", k1=strength.tolist())
    plate = Window(*(np.full(n, x) for x in (-0.4, 0.4, -0.2, 0.2)))
    found = overscan_of(moving, plate, image)
    alone = overscan_of(made("radial-tangential", k1=-0.2), window(0.4, 0.2), image)
    assert found.worst == 1234 and found.factor == pytest.approx(alone.factor, rel=1e-12)
    assert found.image == alone.image
    assert empty_pixels(moving, plate, image, found.worst).sum() > 100
    with pytest.raises(BadInput, match="given for 2000 frames and the camera has 3"):
        overscan_of(moving, plate.select_frames(slice(0, 3)), image)
    # A zoom: the wider the lens, the more of the bend is seen.
    zoom = overscan_of(
        made("radial-tangential", k1=-0.2),
        Window(*(np.linspace(0.5, 1, 50) * x for x in (-0.4, 0.4, -0.2, 0.2))),
        image,
    )
    assert zoom.worst == 49 and zoom.factor == pytest.approx(alone.factor, rel=1e-12)
    with pytest.raises(BadInput, match="The render would be"):
        overscan_of(made("division", k=-1.9), window(0.5, 0.12), Image(60_000, 200))


@pytest.mark.parametrize(
    ("document", "says"),
    [
        ({}, "names no model"),
        ({"model": "swirl"}, "'swirl' is not a distortion model: choose one of radial-tangential"),
        ({"model": "division", "k1": 0.1}, "has no coefficient 'k1': choose one of k"),
        ({"model": "division", "k": "x"}, "'k' must be a number"),
        ({"model": "division", "k": True}, "'k' must be a number"),
        ({"model": "division", "k": float("nan")}, "'k' must be a number"),
        ({"model": "division", "k": []}, "'k' must be a number"),
        ({"model": "fisheye", "k1": [0, 1], "k2": [0, 1, 2]}, "lists have 2, 3 numbers"),
        ({"model": "fisheye", "squeeze": 0}, "squeeze must be above zero"),
        ([], "names no model"),
    ],
)
def test_what_is_no_distortion_is_said_so(document: Any, says: str) -> None:
    with pytest.raises(BadInput, match=says):
        distortion_from_document(document)


@pytest.mark.parametrize("model", MODELS)
def test_a_model_is_found_again_from_its_own_points(model: str) -> None:
    meant = made(model, **{k: v for k, v in SOME[model].items() if k not in ("squeeze", "k4")})
    pinhole = POINTS[0] * 0.8
    fitted = fit_model(model, pinhole, meant.distort(pinhole[None])[0], 1000.0)
    assert fitted.off_px.max() < 1e-5
    elsewhere = np.random.default_rng(9).uniform(-0.4, 0.4, (1, 200, 2))
    assert np.allclose(fitted.distortion.distort(elsewhere), meant.distort(elsewhere), rtol=0, atol=1e-7)


def test_what_cannot_be_fitted_is_said() -> None:
    pinhole = POINTS[0] * 0.8
    far = fit_model("division", pinhole, made("fisheye", k1=0.1).distort(pinhole[None])[0], 1000.0)
    assert 0.01 < far.rms_px <= far.off_px.max()  # the nearest there is, and how near that is
    with pytest.raises(BadInput, match="30 points of the map or more; 12"):
        fit_model("division", pinhole[:12], pinhole[:12], 1000.0)
    with pytest.raises(BadInput, match="'swirl' is not a distortion model"):
        fit_model("swirl", pinhole, pinhole, 1000.0)


@pytest.mark.parametrize("name", SHOTS)
def test_every_ordinary_shot_gets_the_overscan_of_its_widest_frame(name: str) -> None:
    """Held, whipped, numbered from 86400, of 3 frames or 12,000, with primes swapped: the lens alone matters."""
    shot = SHOTS[name]()
    track, image = track_of(shot), Image(shot.width_px, shot.height_px)
    plate, bent = window_of(track.lens, image, "width"), made("radial-tangential", k1=-0.08, k2=0.01)
    found = overscan_of(bent, plate, image, filter_px=0)
    # Plain numpy: the corner of the widest frame, its radius found by bisection on r (1 + k1 r^2 + k2 r^4).
    half = shot.film_mm[0] / 2 / shot.samples[2].min()
    corner = np.hypot(half, half * shot.height_px / shot.width_px)
    low, high = corner, corner * 1.5
    for _ in range(80):
        middle = (low + high) / 2
        low, high = (middle, high) if middle * (1 - 0.08 * middle**2 + 0.01 * middle**4) < corner else (low, middle)
    assert found.factor == pytest.approx([low / corner] * 2, rel=1e-9)
    assert shot.samples[2][found.worst] == shot.samples[2].min()
    assert found.image.width_px == 2 * int(np.ceil(low / corner * shot.width_px / 2 - 1e-9))
