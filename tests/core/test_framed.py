"""Framed in a sphere: the smallest view, and maps there and back, against plain numpy that imports nothing of ours."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from scipy.optimize import minimize
from scipy.spatial.transform import Rotation

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.derive import KINDS
from anaxis.core.derive.derived import Derived, Input
from anaxis.core.derive.framed import plate_axes
from anaxis.core.derive.sphere_maps import Sphere, map_error_px
from anaxis.core.errors import BadInput
from anaxis.core.scene.picture import Picture
from anaxis.formats.plates.sphere import PAD, gone_round
from anaxis.formats.plates.warp import in_a_margin, map_for_warp, warped
from lanes import sized
from ordinary import SHOTS, track_of

BOX = np.array([[x, y, z] for x in (3.0, 4.5) for y in (0.5, 2.5) for z in (-6.0, -4.5)])


def standing(name: str = "held", points: np.ndarray = BOX) -> Input:
    shot = SHOTS[name]()
    return Input(
        shot.name, track_of(shot), Picture(Image(2048, 1024), "width", False, False), objects={"bell": points[None]}
    )


def framed(source: Input, **more: Any) -> Derived:
    return KINDS["framed"].derive({"plate camera": source}, {"objects": ["bell"], **more})


def sphere_of(made: Derived, source: Input, plate: Image, stabilised: bool = False) -> Sphere:
    return Sphere(made.track, made.image, made.fit, plate, plate_axes(source.track, stabilised))


# The oracle


def lon_lat(directions: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    x, y, z = np.moveaxis(directions / np.linalg.norm(directions, axis=-1, keepdims=True), -1, 0)
    return np.arctan2(x, -z), np.arcsin(np.clip(y, -1, 1))


def plate_px(directions: np.ndarray, w: int, h: int) -> np.ndarray:
    lon, lat = lon_lat(directions)
    return np.stack([w * (lon / (2 * np.pi) + 0.5), h * (0.5 - lat / np.pi)], axis=-1)


def half_of(rotation: Rotation, away: np.ndarray, aspect: float) -> float:
    """Half the picture's width, as a tangent, that holds the points under a rotation."""
    seen = away @ rotation.as_matrix()
    if (seen[:, 2] >= -1e-6).any():
        return 1e6
    return float(max(np.abs(seen[:, 0] / seen[:, 2]).max(), np.abs(seen[:, 1] / seen[:, 2]).max() * aspect))


@pytest.mark.parametrize("name", ["held", "whip", "frame_minus_20", "far_out", "three"])
def test_the_object_lies_in_the_middle_of_the_smallest_view_that_holds_it(name: str) -> None:
    shot = SHOTS[name]()
    points = BOX + np.array([5000.0 if name == "far_out" else 0.0, 0, 0])
    source = standing(name, points)
    made = framed(source, border=12.5, width_px=1600, height_px=900)
    seen, depth = projection_of(made.track, made.image, "width").project(points)
    assert (depth > 0).all()
    inside = (seen >= [200 - 1e-6, 112.5 - 1e-6]).all() and (seen <= [1400 + 1e-6, 787.5 + 1e-6]).all()
    assert inside, "a border of an eighth on each side"
    assert np.abs((seen.max(axis=1) + seen.min(axis=1)) / 2 - [800, 450]).max() < 1e-6
    touches = np.minimum((seen - [200, 112.5]).min(axis=(1, 2)), ([1400, 787.5] - seen).min(axis=(1, 2)))
    assert np.abs(touches).max() < 1e-5, "and no more than that"
    for i in (0, len(made.track) // 2, len(made.track) - 1):
        away = points - made.track.position_m[i]
        turn = Rotation.from_matrix(made.track.rotation[i])
        held = half_of(turn, away, 16 / 9)
        # Aimed elsewhere, levelled likewise, no view is smaller by more than a part in a thousand.
        found = minimize(lambda a, t=turn, p=away: half_of(t * Rotation.from_euler("yx", a), p, 16 / 9), [0.0, 0.0], method="Nelder-Mead",  # type: ignore[call-overload]
                         options={"xatol": 1e-7, "fatol": 1e-9})  # fmt: skip
        assert held <= found.fun * 1.02
    up = shot.at(shot.frames)[1][:, :, 1]
    assert np.abs(np.sum(made.track.rotation[:, :, 0] * up, axis=1)).max() < 1e-12, "level to the plate's up"


def test_a_constant_view_holds_all_of_the_shot_and_a_border_in_pixels_is_one() -> None:
    made = framed(standing(), view="constant", border=40, border_in="px", width_px=1280, height_px=720)
    assert np.ptp(made.track.lens.focal_mm) == 0
    seen, _ = projection_of(made.track, made.image, "width").project(BOX)
    assert seen.min() >= 40 - 1e-6 and (seen <= [1240 + 1e-6, 680 + 1e-6]).all()
    free = min(float((seen - 40).min()), float(([1240, 680] - seen).min()))
    assert free < 1e-5, "on one frame it is full"


def test_limits_are_said() -> None:
    around = BOX - [3.75, 0, -11.25]
    with pytest.raises(BadInput, match="object surrounds the camera on frame 1001"):
        framed(standing("held", around))
    with pytest.raises(BadInput, match="leaves no picture"):
        framed(standing(), border=50)
    with pytest.raises(BadInput, match="There is no landmark 'clapper'"):
        framed(standing(), objects=["clapper"])
    with pytest.raises(BadInput, match="not equirectangular"):
        from anaxis.core.derive.sphere import require_equirectangular

        require_equirectangular(Image(1920, 1080))
    shot = SHOTS["still"]()
    over = shot.at(shot.frames)[0][0] + np.array([[0.02, 5, 0], [-0.02, 5, 0.02]])
    found = {f.code for f in framed(standing("still", over)).findings}
    assert "framed_over" in found
    near = shot.at(shot.frames)[0][0] + np.array([[0.5, 0, -1], [-0.5, 0, -1], [0, 0.9, -1], [0, -0.9, -1.0]])
    assert "framed_near" in {f.code for f in framed(standing("still", near)).findings}


@pytest.mark.parametrize("stabilised", [False, True])
def test_both_maps_are_what_the_definition_says(stabilised: bool) -> None:
    """Every pixel of both maps, by the definition of the picture alone."""
    source, plate = standing("whip"), Image(256, 128)
    made = framed(source, width_px=96, height_px=54, plate="stabilised" if stabilised else "as shot")
    sphere = sphere_of(made, source, plate, stabilised)
    shot = SHOTS["whip"]()
    axes = np.eye(3) if stabilised else shot.at(shot.frames)[1][48]
    turn, focal = made.track.rotation[48], float(made.track.lens.focal_mm[48])
    x, y = np.meshgrid(np.arange(96) + 0.5, np.arange(54) + 0.5)
    rays = np.stack([(x / 96 - 0.5) * 36 / focal, (0.5 - y / 54) * 20.25 / focal, -np.ones_like(x)], axis=-1)
    meant = plate_px(rays @ turn.T @ axes, 256, 128) / [256, 128]
    out = sphere.map("out", 48)
    assert np.abs(out[..., 0] - meant[..., 0]).max() < 1e-12 and np.abs(out[..., 1] - (1 - meant[..., 1])).max() < 1e-12
    into = sphere.map("into", 48)
    px, py = np.meshgrid(np.arange(256) + 0.5, np.arange(128) + 0.5)
    lon, lat = (px / 256 - 0.5) * 2 * np.pi, (0.5 - py / 128) * np.pi
    directions = np.stack([np.cos(lat) * np.sin(lon), np.sin(lat), -np.cos(lat) * np.cos(lon)], axis=-1)
    seen = directions @ axes.T @ turn
    ahead = seen[..., 2] < 0
    s = 0.5 + seen[..., 0] / -seen[..., 2] * focal / 36
    t = 0.5 + seen[..., 1] / -seen[..., 2] * focal / 20.25
    inside = ahead & (s > 0) & (s < 1) & (t > 0) & (t < 1)
    assert inside.sum() > 20
    assert np.abs(into[inside] - np.stack([s, t], axis=-1)[inside]).max() < 1e-9
    assert not ((into[~inside] > 0) & (into[~inside] < 1)).all(axis=-1).any(), "outside the render it fetches nowhere"


@pytest.mark.parametrize("name", ["held", "whip", "jitter"])
def test_points_and_a_picture_come_back_within_a_tenth_of_a_pixel(name: str) -> None:
    """A picture of coordinates, cut out of the plate by one map and put back by the other, on a sphere of 2048 pixels or half as many."""
    across, wide, high = sized((2048, 1280, 720), (1024, 640, 360))
    down = across // 2
    source, plate = standing(name), Image(across, down)
    made = framed(source, border=20, width_px=wide, height_px=high)
    sphere = sphere_of(made, source, plate)
    for at in (len(made.track) // 2,):
        into = sphere.map("into", at).astype(np.float32).astype(np.float64)
        assert map_error_px(sphere, into, at) < 0.01
        # Directions as colours: smooth over the seam and the poles.
        x, y = np.meshgrid(np.arange(across) + 0.5, np.arange(down) + 0.5)
        lon, lat = (x / across - 0.5) * 2 * np.pi, (0.5 - y / down) * np.pi
        colours = np.stack([np.cos(lat) * np.sin(lon), np.sin(lat), -np.cos(lat) * np.cos(lon)], axis=-1).astype(
            np.float32
        )
        out = map_for_warp(in_a_margin(sphere.map("out", at), (across, down), PAD), (across + 2 * PAD, down + 2 * PAD))
        cut = warped(gone_round(colours), out)
        assert cut.shape == (high, wide, 3)
        back = warped(
            np.concatenate([cut, np.ones((high, wide, 1), dtype=np.float32)], axis=2), map_for_warp(into, (wide, high))
        )
        # What is outside the render is nowhere in the map, and has no alpha; up to the render's edge it is whole.
        place = into * [wide, high]
        nowhere = (into == -1).all(axis=-1)
        assert ((into[~nowhere] >= -1e-6) & (into[~nowhere] <= 1 + 1e-6)).all()
        assert (back[..., 3][nowhere] == 0).all() and np.abs(
            back[..., 3][((place > 0.01) & (place < [wide - 0.01, high - 0.01])).all(axis=-1)] - 1
        ).max() < 1e-5
        whole = ((place > 3) & (place < [wide - 3, high - 3])).all(axis=-1)
        assert whole.sum() > 500
        off = np.linalg.norm(
            plate_px(back[whole][:, :3].astype(np.float64), across, down) - np.stack([x, y], axis=-1)[whole], axis=1
        )
        off = np.minimum(off, across - off) * np.cos(lat[whole])
        assert off.max() < 0.1, off.max()


def test_the_seam_and_the_poles_are_no_edge() -> None:
    picture = np.arange(64 * 32 * 3, dtype=np.float32).reshape(32, 64, 3)
    wide = gone_round(picture)
    assert wide.shape == (32 + 2 * PAD, 64 + 2 * PAD, 3)
    assert (wide[PAD:-PAD, :PAD] == picture[:, -PAD:]).all() and (wide[PAD:-PAD, -PAD:] == picture[:, :PAD]).all()
    # Over the top the picture goes on on the other side of the sphere.
    assert (wide[PAD - 1, PAD:-PAD] == np.roll(picture[0], 32, axis=0)).all()


def test_the_outline_is_the_render_s_border() -> None:
    source, plate = standing("whip"), Image(1024, 512)
    made = framed(source)
    outline = sphere_of(made, source, plate).outline_px(8)
    shot = SHOTS["whip"]()
    for i in (0, 50):
        focal = float(made.track.lens.focal_mm[i])
        corner = np.array([-18 / focal, 10.125 / focal, -1.0]) @ made.track.rotation[i].T @ shot.at(shot.frames)[1][i]
        assert np.abs(outline[i, 0] - plate_px(corner, 1024, 512)).max() < 1e-9
