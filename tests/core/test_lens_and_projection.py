"""Fits, hand-over, projection and proof, against USD's own frustum and by properties."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pxr import Gf

from anaxis.core.camera.lens import FITS, Image, field_of_view_deg, hand_over, parse_image, same_used, used_rectangle
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Track, make_lens
from anaxis.core.errors import BadInput
from anaxis.core.outgoing import make_outgoing
from anaxis.core.proof.proof import grade_of, prove
from anaxis.core.scene.landmarks import NO_LANDMARKS
from anaxis.packages import shipped_profiles
from conftest import random_rotations


def track(n: int = 12, seed: int = 1, **lens: object) -> Track:
    random = np.random.default_rng(seed)
    return Track(
        "cam",
        np.arange(1.0, n + 1),
        Fraction(24),
        random.uniform(-50, 50, (n, 3)),
        random_rotations(n, seed),
        make_lens(n, **{"focal_mm": random.uniform(18, 90, n), "focus_m": 6.0, **lens}),
    )


def test_used_rectangle_by_hand() -> None:
    """A 36 x 24 film back and a 16:9 image: the five fits worked out on paper."""
    image = Image(1920, 1080)
    worked = {
        "width": (36, 20.25),
        "height": (24 * 16 / 9, 24),
        "inside": (36, 20.25),
        "outside": (24 * 16 / 9, 24),
        "stretch": (36, 24),
    }
    for fit in FITS:
        assert np.allclose(used_rectangle(36, 24, 1, image, fit), worked[fit]), fit
    # A tall image on the same film back: inside and outside change places.
    tall = Image(1080, 1920)
    assert np.allclose(used_rectangle(36, 24, 1, tall, "inside"), (13.5, 24))
    assert np.allclose(used_rectangle(36, 24, 1, tall, "outside"), (36, 64))
    assert np.allclose(used_rectangle(18, 24, 2, image, "width"), (36, 20.25))
    assert np.isclose(field_of_view_deg(36, 18), 90)


def test_projection_agrees_with_the_format_librarys_frustum() -> None:
    random = np.random.default_rng(7)
    for _ in range(40):
        # Gf.Camera holds its lens in single precision: eighths over a power of two lose nothing in it.
        width, height = random.integers(80, 480, 2) / 8
        ox, oy = random.integers(-32, 32, 2) / 8
        focal = 2.0 ** random.integers(4, 7)
        cam = track(
            1,
            int(random.integers(1e6)),  # type: ignore[call-overload]
            film_width_mm=width,
            film_height_mm=height,
            offset_x_mm=ox,
            offset_y_mm=oy,
            focal_mm=focal,
        )
        image = Image(4096, round(4096 * height / width))
        library = Gf.Camera(
            Gf.Matrix4d(*np.block([[cam.rotation[0].T, np.zeros((3, 1))], [cam.position_m[0], 1]]).ravel()),
            Gf.Camera.Perspective,
            width,
            height,
            ox,
            oy,
            float(cam.lens.focal_mm[0]),
        )
        both = library.frustum.ComputeViewMatrix() * library.frustum.ComputeProjectionMatrix()
        points = projection_of(cam, image, "stretch").unproject(
            random.uniform(0, 1000, (9, 2)), random.uniform(1, 90, (1, 9))
        )[0]
        ndc = np.array([both.Transform(Gf.Vec3d(*p)) for p in points])
        theirs = (ndc[:, :2] * [1, -1] + 1) / 2 * [image.width_px, image.height_px]
        ours, depth = projection_of(cam, image, "stretch").project(points)
        assert (depth > 0).all()
        assert np.allclose(ours[0], theirs, rtol=1e-9, atol=1e-7)


@given(
    st.floats(5, 70),
    st.floats(5, 70),
    st.sampled_from((1.0, 1.5, 2.0)),
    st.sampled_from(FITS),
    st.sampled_from(FITS),
    st.sampled_from((Image(1920, 1080), Image(2048, 858), Image(1000, 1400), Image(1440, 1080, 1.333))),
)
def test_handing_over_keeps_the_picture_across_all_fits(
    width: float, height: float, squeeze: float, source: str, receiver: str, image: Image
) -> None:
    wide, high, q = (np.array([v]) for v in (width, height, squeeze))
    handed = hand_over(wide, high, q, image, source, receiver)
    before = used_rectangle(wide, high, q, image, source)
    after = used_rectangle(handed.film_width_mm, handed.film_height_mm, q, handed.image, receiver)
    assert np.allclose(after.width_mm, before.width_mm, rtol=1e-6)
    assert np.allclose(after.height_mm, before.height_mm, rtol=1e-6)
    assert handed.unchanged == same_used(before, used_rectangle(wide, high, q, image, receiver))
    assert bool(handed.note) != handed.unchanged


def test_a_picture_that_changes_its_stretch_cannot_be_handed_over() -> None:
    with pytest.raises(BadInput, match="animated"):
        hand_over(np.array([30.0, 40]), np.array([20.0, 20]), np.ones(2), Image(1920, 1080), "stretch", "width")


@pytest.mark.parametrize("key", list(shipped_profiles()))
def test_the_projection_does_not_depend_on_the_convention(key: str) -> None:
    """Seen from within a package's own space, every point falls on the pixel it falls on in ours."""
    convention, cam, image = shipped_profiles()[key].convention, track(), Image(1920, 1080)
    points = np.random.default_rng(2).uniform(-60, 60, (12, 30, 3))
    ours, depth = projection_of(cam, image, "width").project(points)
    rotation = convention.rotation_from_canonical(cam.rotation)
    offset = convention.position_from_canonical(points) - convention.position_from_canonical(cam.position_m)[:, None]
    right, up, back = (np.einsum("nmi,nij,j->nm", offset, rotation, convention.camera[:, k]) for k in range(3))
    f, w = cam.lens.focal_mm[:, None], cam.lens.film_width_mm[:, None]
    x = image.width_px * (0.5 + f * right / -back / w)
    y = image.height_px * (0.5 - f * up / -back / (w / image.aspect))
    ahead = depth > 0.1
    assert ahead.sum() > 50
    assert np.allclose(np.stack([x, y], 2)[ahead], ours[ahead], rtol=1e-9, atol=1e-9)


def test_proof_measures_a_known_shift() -> None:
    cam, image = track(), Image(1920, 1080)
    # The window moved right by d millimetres moves every point left by w d / used_w pixels.
    moved = replace(cam, lens=replace(cam.lens, offset_x_mm=cam.lens.offset_x_mm + np.linspace(0, 0.11, 12)))
    proof = prove(
        cam, projection_of(cam, image, "width"), projection_of(moved, image, "width"), NO_LANDMARKS.position_m
    )
    assert np.allclose(proof.deviation_px, 1920 * np.linspace(0, 0.11, 12) / 36, atol=1e-9)
    assert proof.worst_frame == 12 and proof.grade == "off" and proof.test_points == 180
    assert (
        prove(cam, projection_of(cam, image, "width"), projection_of(cam, image, "width"), np.zeros((1, 0, 3))).grade
        == "exact"
    )


def test_a_camera_that_looks_away_loses_every_point() -> None:
    cam, image = track(), Image(1920, 1080)
    away = replace(cam, rotation=cam.rotation * [-1, 1, -1])
    proof = prove(cam, projection_of(cam, image, "width"), projection_of(away, image, "width"), NO_LANDMARKS.position_m)
    assert np.allclose(proof.deviation_px, np.hypot(1920, 1080)) and proof.grade == "off"


def test_grades_at_their_limits() -> None:
    assert [grade_of(v) for v in (0.01, 0.0101, 0.1, 0.11, 1.0, 1.01)] == [
        "exact",
        "tight",
        "tight",
        "visible",
        "visible",
        "off",
    ]


def test_film_back_survives_a_receiver_with_the_same_view() -> None:
    """16:9 in single precision is the same film back for every fit, and is handed over untouched."""
    cam = track(film_width_mm=float(np.float32(25.6)), film_height_mm=float(np.float32(14.4)))
    for profile in shipped_profiles().values():
        out = make_outgoing(cam, profile.convention, Image(1920, 1080), "width", profile.lens.fit, NO_LANDMARKS)
        assert out.notes == () and np.array_equal(out.track.lens.film_height_mm, cam.lens.film_height_mm)


@pytest.mark.parametrize("text", ("1920", "1920x", "0x1080", "a x b", "1920x1080x3", "99999x10"))
def test_bad_resolutions_are_refused(text: str) -> None:
    with pytest.raises(BadInput, match="resolution"):
        parse_image(text)
