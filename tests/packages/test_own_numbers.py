"""A package's own numbers, from an oracle of its own, over every ordinary shot and packages nobody has shipped."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest

import ordinary
from anaxis.app.exchange.cells import EVERY, NOTHING, CameraState
from anaxis.app.exchange.sides import Side, sent_to
from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import kept_rate
from anaxis.packages import shipped_profiles
from anaxis.packages.model import Profile
from anaxis.packages.package_values import COLUMNS, SLICES, own_rows, track_of_rows
from anaxis.simulated import habits
from linked import apart_px, pixels, random_profile

PROFILES: dict[str, dict[str, Any]] = {
    **{k: p.model_dump(mode="json") for k, p in shipped_profiles().items()},
    **{f"random {k}": random_profile(np.random.default_rng(k), habits=k % 4) for k in range(8)},
}


@pytest.mark.parametrize("key", PROFILES)
@pytest.mark.parametrize("name", ordinary.SHOTS)
def test_what_arrives_in_a_package_is_what_was_meant(name: str, key: str) -> None:
    """Sent over the wire, done by the simulated package's own habits, seen by its own arithmetic: the shot's own pixels."""
    shot, profile = ordinary.SHOTS[name](), PROFILES[key]
    track, image = ordinary.track_of(shot), Image(shot.width_px, shot.height_px)
    to = Side(Profile.model_validate(profile), image, "24/1", "cam")
    sent = sent_to(track, image, "width", to, NOTHING, EVERY, offset=12.0)
    frames, rows = habits.arrived(profile, sent.wire.frames, sent.wire.rows, (image.width_px, image.height_px, 1.0))
    np.testing.assert_allclose(frames, shot.frames + 12.0, atol=1e-9)
    index = np.unique(np.linspace(0, len(frames) - 1, 60).astype(int))
    points = ordinary.points_ahead(shot, shot.frames[index])
    seen = pixels(profile, rows[index], points, (image.width_px, image.height_px, 1.0))
    wanted, _ = ordinary.pixels(shot, shot.frames[index], points)
    assert np.abs(seen - wanted).max() < 1e-5
    # and what it holds is read back as the camera that was meant
    back = track_of_rows("cam", frames, track.rate, rows, to.profile, image)
    np.testing.assert_allclose(back.position_m, track.position_m, atol=1e-8)
    np.testing.assert_allclose(back.rotation, track.rotation, atol=1e-9)
    np.testing.assert_allclose(back.lens.focus_m, track.lens.focus_m, rtol=1e-12)


def test_angles_stay_near_what_was_there() -> None:
    """Of all angles that mean the same, those nearest to what the package shows already are written: frame by frame."""
    rng = np.random.default_rng(4)
    for key in range(6):
        profile = Profile.model_validate(random_profile(rng))
        shot = ordinary.SHOTS["whip"]()
        track, image = ordinary.track_of(shot), Image(1920, 1080)
        rows = own_rows(track, profile, image)
        # Turned about by whole turns, and by the other solution of Euler's angles, it is the same camera.
        places = ["XYZ".index(a) for a in profile.rotation.order]
        other = rows.copy()
        angles = rows[:, SLICES["rotation"]] * np.array(profile.rotation.signs)
        angles[:, places] = angles[:, places] * [1, -1, 1] + 180.0
        angles += 360.0 * rng.integers(-2, 3, size=3)
        other[:, SLICES["rotation"]] = angles * np.array(profile.rotation.signs)
        assert apart_px(profile.model_dump(mode="json"), rows, profile.model_dump(mode="json"), other) < 1e-6, key
        again = own_rows(track, profile, image, near=other)
        np.testing.assert_allclose(again[:, SLICES["rotation"]], other[:, SLICES["rotation"]], atol=1e-6)


def test_numbers_that_are_no_camera_are_refused() -> None:
    side = Side(shipped_profiles()["yup-rh-m"], Image(1920, 1080), "24/1", "cam")  # shows a vertical field of view
    row = np.full((1, len(COLUMNS)), np.nan)
    row[:, SLICES["position"]] = row[:, SLICES["rotation"]] = 0.0
    row[:, SLICES["lens"]] = [190.0, 36.0, 24.0, 0.0, 0.0, 1.0]
    with pytest.raises(BadInput, match="between 0 and 180"):
        side.track(CameraState(np.array([1.0]), row))
    with pytest.raises(BadInput, match="is new"):
        NOTHING.with_cells(CameraState(np.array([1.0]), row).cells(groups=("position",)))


def test_a_rate_is_kept_exactly() -> None:
    held = CameraState(
        np.arange(3.0),
        own_rows(ordinary.track_of(ordinary.SHOTS["three"]()), shipped_profiles()["zup-rh-m"], Image(1920, 1080)),
    )
    track = Side(shipped_profiles()["zup-rh-m"], Image(1920, 1080), "24000/1001", "cam").track(held)
    assert track.rate == kept_rate("24000/1001") and track.rate.denominator == 1001


@pytest.mark.parametrize("seed", range(12))
def test_a_lens_with_offsets_is_seen_as_meant_and_read_back(seed: int) -> None:
    """A film back of another aspect and offsets both ways, in units and signs of packages nobody has shipped: against plain sums."""
    profile = random_profile(np.random.default_rng(seed), fit="width")
    held, image = Profile.model_validate(profile), Image(1920, 1080)
    shot = ordinary.SHOTS["whip"]()
    plain = ordinary.track_of(shot)
    x_mm, y_mm, wide, high = 1.25, -0.7, 30.0, 17.5
    lens = replace(
        plain.lens, film_width_mm=np.full(len(plain), wide), film_height_mm=np.full(len(plain), high), offset_x_mm=np.full(len(plain), x_mm),
        offset_y_mm=np.full(len(plain), y_mm),
    )  # fmt: skip
    track = replace(plain, lens=lens)
    rows = own_rows(track, held, image)
    points = ordinary.points_ahead(shot, shot.frames)
    right, up, back = np.moveaxis(
        np.einsum("nji,nmj->nmi", track.rotation, points - track.position_m[:, None, :]), 2, 0
    )
    on_film_x, on_film_y = (lens.focal_mm[:, None] * v / -back for v in (right, up))
    shown_high = wide * 1080 / 1920
    meant = np.stack([1920 * ((on_film_x - x_mm) / wide + 0.5), 1080 * (0.5 - (on_film_y - y_mm) / shown_high)], axis=2)
    assert np.abs(pixels(profile, rows, points) - meant).max() < 1e-5
    read = track_of_rows("cam", track.frames, track.rate, rows, held, image).lens
    for name in ("focal_mm", "film_width_mm", "film_height_mm", "offset_x_mm", "offset_y_mm"):
        np.testing.assert_allclose(getattr(read, name), getattr(lens, name), rtol=1e-9, err_msg=name)
