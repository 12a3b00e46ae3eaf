"""The ordinary shots on distorted plates: the render of the camera that arrives, fetched through the written map, lies on
the plate as shot. The oracle is :mod:`ordinary`'s own pixels and the models written out in plain numpy."""

from __future__ import annotations

from dataclasses import replace
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
import OpenEXR
import pytest
from pxr import Gf, Usd, UsdGeom
from scipy.ndimage import map_coordinates, spline_filter

from anaxis.core.camera.distortion.distortion import distortion_from_document
from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.overscan import no_overscan, overscan_of
from anaxis.core.camera.plate.window import window_of
from anaxis.core.camera.projection import projection_as_shot
from anaxis.core.errors import BadInput
from anaxis.core.motion.resample import at_rate
from anaxis.core.proof.compare import compare
from anaxis.core.recipe.operations.distortion import distorted
from anaxis.delivery.deliver import deliver_all
from anaxis.delivery.options import DeliveryOptions
from anaxis.delivery.overscan import with_overscan
from anaxis.delivery.plate_maps import maps_of
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.packages import find_profile
from lanes import pairs
from ordinary import SHOTS, Shot, pixels, points_ahead, smooth
from test_ordinary_shots import FORMATS, PACKAGES, leaving

K1, K2, P1 = -0.14, 0.02, 0.003


def bent(u: Any, v: Any, k1: Any = K1) -> tuple[Any, Any]:
    """Brown's model as printed."""
    r2 = u * u + v * v
    radial = 1 + k1 * r2 + K2 * r2 * r2
    return u * radial + 2 * P1 * u * v, v * radial + P1 * (r2 + 2 * v * v)


def as_shot(shot: Shot, frames: np.ndarray, points: np.ndarray, k1: Any = K1) -> np.ndarray:
    """Where the plate shows points, by plain sums: pinhole pixels to tangents, bent, and back."""
    plain, _ = pixels(shot, frames, points)
    per_tangent = (shot.width_px * shot.at(frames)[2] / shot.film_mm[0])[:, None]
    middle = np.array([shot.width_px, shot.height_px]) / 2
    u, v = (plain[..., 0] - middle[0]) / per_tangent, -(plain[..., 1] - middle[1]) / per_tangent
    u, v = bent(u, v, k1)
    return np.stack([middle[0] + u * per_tangent, middle[1] - v * per_tangent], axis=-1)


def on_a_distorted_plate(shot: Shot) -> tuple[ShotCamera, Any]:
    """A shot with a distortion that breathes over its frames."""
    camera = leaving(shot)
    k1 = K1 + 0.03 * np.linspace(0, 1, len(shot.frames))
    document = {"model": "radial-tangential", "k1": k1.tolist(), "k2": K2, "p1": P1}
    return replace(camera, track=distorted(camera.track, document)), k1[:, None]


@pytest.mark.parametrize("name", SHOTS)
def test_the_plate_is_seen_as_plain_sums_see_it(name: str) -> None:
    shot = SHOTS[name]()
    some = np.unique(np.linspace(0, len(shot.frames) - 1, 40).astype(int))
    camera, k1 = on_a_distorted_plate(shot)
    seen = projection_as_shot(camera.track, camera.picture.image, "width").select_frames(some)
    points = points_ahead(shot, shot.frames[some])
    found, depths = seen.project(points)
    assert np.abs(found - as_shot(shot, shot.frames[some], points, k1[some])).max() < 1e-6
    grid = np.stack(np.meshgrid(np.linspace(0, shot.width_px, 5), np.linspace(0, shot.height_px, 4)), -1).reshape(-1, 2)
    back, _ = seen.project(seen.unproject(grid, np.full((len(some), len(grid)), 7.0)))
    assert np.abs(back - grid).max() < 1e-6 and (depths > 0).all()


@cache
def said_of(name: str) -> str:
    """What is said of a shot's overscan, whatever the format."""
    return with_overscan(on_a_distorted_plate(SHOTS[name]())[0], DeliveryOptions(overscan="auto"))[1][0]


@pytest.mark.parametrize(("name", "format_key"), pairs(sorted(set(SHOTS) - {"long"}), FORMATS))
def test_a_camera_with_overscan_arrives_at_its_size_and_in_the_plate(
    name: str, format_key: str, tmp_path: Path
) -> None:
    shot = SHOTS[name]()
    camera, _ = on_a_distorted_plate(shot)
    key = PACKAGES[sum(map(ord, name)) % len(PACKAGES)]
    (done,) = deliver_all([camera], find_profile(key), format_key, tmp_path, DeliveryOptions(overscan="auto"))
    assert done.proof.plate_px is not None and said_of(name) in done.outgoing.notes
    # glTF and COLLADA hold no lens that moves, columns none that the layout has no column for: said elsewhere.
    if format_key in ("usd", "alembic", "json"):
        assert max(done.proof.max_px, done.proof.plate_px) <= 0.01, (done.proof.max_px, done.proof.plate_px)
    assert done.outgoing.image.width_px > shot.width_px and done.outgoing.image.height_px > shot.height_px


def test_the_render_of_the_usd_that_arrives_lies_on_the_plate_through_the_written_map(tmp_path: Path) -> None:
    """The whole way with nothing of ours: USD's own frustum renders points, the EXR's own numbers put them in the plate."""
    shot = replace(SHOTS["jitter"](), width_px=960, height_px=540)
    camera = leaving(shot)
    document = {"model": "radial-tangential", "k1": K1, "k2": K2, "p1": P1}
    camera = replace(camera, track=distorted(camera.track, document))
    for options in (
        DeliveryOptions(overscan="auto"),
        DeliveryOptions(overscan="auto", tight=True),
        DeliveryOptions(overscan="20%"),
    ):
        folder = tmp_path / f"{options.overscan}{options.tight}"
        folder.mkdir()
        (done,) = deliver_all([camera], find_profile("yup-rh-cm"), "usd", folder, options)
        larger, _ = with_overscan(camera, options)
        assert larger.render is not None
        path = maps_of(larger, folder)["distort"]
        with OpenEXR.File(str(path), separate_channels=True) as held:
            s, t = (spline_filter(held.channels()[c].pixels.astype(np.float64), order=3) for c in "RG")
        stage = Usd.Stage.Open(str(done.files[0]))
        found = next(p for p in stage.Traverse() if p.IsA(UsdGeom.Camera))
        width, height = larger.render.image.width_px, larger.render.image.height_px
        at = np.array([0, 40, 119])
        points = points_ahead(shot, shot.frames[at])
        meant = as_shot(shot, shot.frames[at], points)
        for i, frame in enumerate(shot.frames[at]):
            frustum = UsdGeom.Camera(found).GetCamera(float(frame)).frustum
            view = np.array(frustum.ComputeViewMatrix() * frustum.ComputeProjectionMatrix())
            world = np.concatenate([points[i] * 100, np.ones((len(points[i]), 1))], axis=1)  # centimetres
            clip = world @ view
            ndc = clip[:, :2] / clip[:, 3:]
            rendered = np.stack([(ndc[:, 0] + 1) / 2 * width, (1 - ndc[:, 1]) / 2 * height], axis=-1)
            inside = (meant[i] > 2).all(axis=1) & (meant[i] < [shot.width_px - 2, shot.height_px - 2]).all(axis=1)
            assert inside.sum() > 10
            x, y = (meant[i][inside] - 0.5).T
            fetched = np.stack(
                [map_coordinates(s, [y, x], order=3, prefilter=False) * width,
                 (1 - map_coordinates(t, [y, x], order=3, prefilter=False)) * height], axis=-1,
            )  # fmt: skip
            assert np.abs(fetched - rendered[inside]).max() < 0.02
        assert isinstance(frustum, Gf.Frustum)


def test_tight_overscan_holds_the_plate_with_fewer_pixels_and_moves_the_offsets() -> None:
    shot = SHOTS["still"]()
    camera = leaving(shot)
    image = camera.picture.image
    bend = distortion_from_document({"model": "radial-tangential", "k1": -0.2, "p1": 0.02, "p2": 0.03})
    window = window_of(camera.track.lens, image, "width").simplest()
    about, tight = (overscan_of(bend, window, image, tight=t).overscan for t in (False, True))
    assert tight.image.width_px < about.image.width_px and not tight.centred and about.centred
    lens = tight.lens(camera.track.lens, "width")
    assert np.ptp(lens.focal_mm) == 0 and lens.offset_x_mm[0] != 0
    # The window of the lens that renders it is the window it says.
    said, is_ = tight.window(window), window_of(lens, tight.image, "width")
    assert all(np.allclose(a, b[:1], rtol=0, atol=1e-12) for a, b in zip(said, is_, strict=True))
    back = tight.plate_within(said)
    assert all(np.allclose(a, b, rtol=0, atol=1e-12) for a, b in zip(back, window, strict=True))


@pytest.mark.parametrize("fit", ["width", "height", "inside", "outside", "stretch"])
def test_overscan_keeps_pixel_density_under_every_fit(fit: str) -> None:
    camera = leaving(SHOTS["still"]())
    image = Image(1000, 800, 1.2)
    render = overscan_of(
        distortion_from_document({"model": "division", "k": -0.1}),
        window_of(camera.track.lens, image, fit).simplest(),
        image,
    ).overscan
    plate, larger = (
        window_of(track.lens, i, fit)
        for track, i in (
            (camera.track, image),
            (replace(camera.track, lens=render.lens(camera.track.lens, fit)), render.image),
        )
    )
    assert np.allclose(
        (larger.right - larger.left) / render.image.width_px, (plate.right - plate.left) / 1000, rtol=1e-12
    )
    assert np.allclose(
        (larger.top - larger.bottom) / render.image.height_px, (plate.top - plate.bottom) / 800, rtol=1e-12
    )


def test_a_typed_overscan_needs_no_distortion_and_auto_does() -> None:
    camera = leaving(SHOTS["still"]())
    larger, said = with_overscan(camera, DeliveryOptions(overscan="10%", multiple=16))
    assert larger.render is not None and larger.render.image.width_px % 16 == 0 and said
    assert larger.render.image.width_px >= 1.1 * camera.picture.image.width_px
    for text in ("auto", "5x5", "often", "-3%"):
        with pytest.raises(BadInput):
            with_overscan(camera, DeliveryOptions(overscan=text))
    assert with_overscan(camera, DeliveryOptions())[0].render is None and no_overscan(Image(4, 4)).centred


def test_a_changing_distortion_follows_cuts_frames_and_a_new_rate() -> None:
    shot = smooth()
    camera, k1 = on_a_distorted_plate(shot)
    part = camera.track.between(shot.frames[10], shot.frames[20])
    assert part.distortion is not None and np.array_equal(part.distortion.values["k1"], k1[10:21])
    retimed = at_rate(camera.track, camera.track.rate * 2, "time")
    assert retimed.distortion is not None
    assert np.array_equal(retimed.distortion.values["k1"][: 2 * len(k1) - 1 : 2], k1)
    document = {"model": "division", "k": [0.1, 0.2]}
    with pytest.raises(BadInput, match="2 frames"):
        distorted(camera.track, document)
    with pytest.raises(BadInput, match="not for frame"):
        distorted(camera.track, document, [shot.frames[0], shot.frames[0] + 1])


def test_samples_between_frames_keep_a_changing_distortion(tmp_path: Path) -> None:
    shot = SHOTS["subframes"]()
    camera, _ = on_a_distorted_plate(shot)
    finer = replace(camera.track, distortion=None)
    options = DeliveryOptions(samples=3, overscan="auto")
    whole = camera.track.select_frames(np.flatnonzero(camera.track.frames == np.round(camera.track.frames)))
    (done,) = deliver_all(
        [replace(camera, track=whole, finer=finer, landmarks=camera.landmarks)],
        find_profile("yup-rh-cm"),
        "usd",
        tmp_path,
        options,
    )
    assert done.proof.plate_px is not None and done.proof.plate_px <= 0.01 and done.proof.max_px <= 0.01


def test_a_change_of_the_distortion_alone_is_a_change_of_the_picture() -> None:
    camera = leaving(SHOTS["held"]())
    a = distorted(camera.track, {"model": "division", "k": -0.05})
    b = distorted(camera.track, {"model": "division", "k": -0.06})
    images, fits = (camera.picture.image,) * 2, ("width", "width")
    same = compare(a, a, images, fits, camera.landmarks)
    assert not same.changes and same.proof is not None and same.proof.max_px < 1e-6
    other = compare(a, b, images, fits, camera.landmarks)
    assert [c.label for c in other.changes] == ["distortion"] and other.proof is not None and other.proof.max_px > 1
    none = compare(camera.track, b, images, fits, camera.landmarks)
    assert none.changes[0].label == "distortion" and none.proof is not None and none.proof.max_px > 5
    twice = compare(a, a, (images[0], Image(3840, 2160)), fits, camera.landmarks)
    assert twice.proof is not None and twice.proof.max_px < 1e-6
