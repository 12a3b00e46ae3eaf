"""Focus distances measured to landmarks and objects, and pulled from one to another."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from anaxis.core.camera.depth_of_field import require_circle, sharp_m
from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput
from anaxis.core.motion.focus import shares
from anaxis.core.motion.placement import similarity_of
from anaxis.core.motion.set_objects import PlacedSet
from anaxis.core.recipe.model import Operation, Work
from anaxis.core.recipe.operations import kind_of
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.mesh import Mesh
from anaxis.core.scene.nodes import Node, Scene
from anaxis.core.space.axes import Convention
from lanes import sized
from ordinary import Shot, held, jitter, moving_marks, primes, smooth, still, subframes, track_of, whip

SHOTS = {
    **{f.__name__: f() for f in (still, held, whip, primes, jitter, subframes, moving_marks)},
    "far out": smooth(out_m=5000.0), "frame 86400": smooth(first=86400), "frame -20": smooth(first=-20),
    "three frames": smooth(count=3), "long": smooth(count=sized(12_000, 2_000)),
}  # fmt: skip


def focused(work: Work, **params: object) -> Work:
    kind = kind_of("focus_on")
    return kind.apply(work, kind.read(kind.operation(dict(params)).params))


def work_of(shot: Shot) -> Work:
    """A shot with a still landmark ahead of the camera on every frame, and one that moves."""
    track = track_of(shot)
    ahead = track.position_m - 4.0 * track.rotation[:, :, 2]
    walking = ahead + 0.3 * np.sin(np.arange(len(track)) / 5)[:, None] * track.rotation[:, :, 0]
    marks = Landmarks(("ahead", "walking"), np.stack([ahead, walking], axis=1))
    return Work(None, "", track.frames, lambda sha: None, track=track, landmarks=marks)  # type: ignore[arg-type,return-value]


@pytest.mark.parametrize("shot", SHOTS.values(), ids=SHOTS.keys())
def test_the_focus_is_where_the_object_is_on_every_frame(shot: Shot) -> None:
    work = work_of(shot)
    for name, straight in (("walking", False), ("walking", True), ("ahead", False)):
        measured = "straight" if straight else "along the view axis"
        focus = focused(work, name=name, measured=measured, offset_m=0.25).done.lens.focus_m
        at = work.landmarks.index(name)
        for i in {0, len(work.done) // 2, len(work.done) - 1}:
            away = work.landmarks.position_m[i, at] - work.done.position_m[i]
            expected = np.sqrt(away @ away) if straight else away @ -work.done.rotation[i][:, 2]
            assert focus[i] == pytest.approx(expected + 0.25, rel=1e-9, abs=1e-7)


def test_a_pull_goes_from_one_object_to_the_next_and_eases() -> None:
    work = work_of(SHOTS["held"])
    first, last = work.done.frames[4], work.done.frames[-5]
    from_, to = (focused(work, name=n).done.lens.focus_m for n in ("ahead", "walking"))
    for easing in ("linear", "eased"):
        both = focused(focused(work, name="ahead"), name="walking", first=first, last=last, easing=easing)
        focus, frames = both.done.lens.focus_m, work.done.frames
        np.testing.assert_allclose(focus[frames <= first], from_[frames <= first], rtol=1e-12)
        np.testing.assert_allclose(focus[frames >= last], to[frames >= last], rtol=1e-12)
        middle = len(frames) // 2
        t = (frames[middle] - first) / (last - first)
        share = t if easing == "linear" else 3 * t**2 - 2 * t**3
        assert focus[middle] == pytest.approx((1 - share) * from_[middle] + share * to[middle], rel=1e-12)
    cut = focused(focused(work, name="ahead"), name="walking", first=first).done.lens.focus_m
    assert cut[3] == from_[3] and cut[4] == to[4], "without an end it is a cut in focus"


def test_focus_is_scaled_with_the_world_it_was_measured_in() -> None:
    work = focused(work_of(SHOTS["held"]), name="walking")
    place = similarity_of(
        {"scale": 2.5, "qx": 0.0, "qy": 0.6, "qz": 0.0, "qw": 0.8, "x_m": 1.0, "y_m": 2.0, "z_m": 3.0}
    )
    placed = work.placed(place)
    again = focused(placed, name="walking").done.lens.focus_m
    np.testing.assert_allclose(placed.done.lens.focus_m, again, rtol=1e-9)


def test_what_cannot_be_focused_on_is_said() -> None:
    work = work_of(SHOTS["held"])
    with pytest.raises(BadInput, match="no landmark 'nobody'"):
        focused(work, name="nobody")
    behind = replace(work, landmarks=replace(work.landmarks, position_m=work.landmarks.position_m[:, [1, 0]] * 1.0))
    turned = replace(behind, track=replace(work.done, rotation=-work.done.rotation))
    with pytest.raises(BadInput, match=r"'ahead' is not in front of the camera on \d+ frames, the first of them"):
        focused(turned, name="ahead")
    blind = replace(
        work, track=replace(work.done, lens=replace(work.done.lens, focus_m=np.full(len(work.done), np.nan)))
    )
    with pytest.raises(BadInput, match="no focus distance on frame"):
        focused(blind, name="ahead", first=work.done.frames[2], last=work.done.frames[6])
    with pytest.raises(BadInput, match="type both"):
        focused(work, name="ahead", last=5.0)
    assert kind_of("focus_on").says(Operation("focus_on", {"name": "car", "first": 10, "last": 20}).params) == (
        "car, pulled over frames 10 to 20, eased"
    )


def with_box(shot: Shot) -> tuple[Work, np.ndarray]:
    """A shot with a box that rides 6 m ahead of its camera; the box's corners on every frame in canonical metres, (n, 8, 3)."""
    track = track_of(shot)
    corners = np.array([[x, y, z] for x in (-1, 1) for y in (-2, 2) for z in (-0.5, 0.5)], dtype=np.float64)
    faces = np.array([0, 1, 3, 2, 4, 6, 7, 5, 0, 4, 5, 1, 2, 3, 7, 6, 0, 2, 6, 4, 1, 5, 7, 3])
    local = np.tile(np.eye(4), (len(track), 1, 1))
    turn = Rotation.from_euler("y", 30, degrees=True).as_matrix()
    local[:, :3, :3] = track.rotation @ turn
    local[:, :3, 3] = track.position_m - 6.0 * track.rotation[:, :, 2]
    mesh = Mesh(corners[None], np.full(6, 4), faces)
    node = Node("/box", None, "set", track.frames, local, track.frames, segments=np.zeros((0, 2, 3)), mesh=mesh)
    scene = Scene("box", "usd", Convention(), track.rate, track.frames[0], track.frames[-1], (node,))
    work = work_of(shot)
    return replace(work, around=(PlacedSet.of(scene, track.frames),)), corners @ np.swapaxes(
        local[:, :3, :3], 1, 2
    ) + local[:, None, :3, 3]


@pytest.mark.parametrize("shot", SHOTS.values(), ids=SHOTS.keys())
def test_the_nearest_surface_and_a_point_of_an_object(shot: Shot) -> None:
    work, corners_m = with_box(shot)
    track = work.done
    depth = -np.einsum("nki,ni->nk", corners_m - track.position_m[:, None], track.rotation[:, :, 2])
    near = focused(work, name="box", where="nearest surface").done.lens.focus_m
    np.testing.assert_allclose(near, depth.min(axis=1), atol=1e-8)
    corner = focused(work, name="/box", where="point in it", x=1.0, y=2.0, z=0.5, measured="straight").done.lens.focus_m
    np.testing.assert_allclose(corner, np.linalg.norm(corners_m[:, 7] - track.position_m, axis=1), atol=1e-8)


def test_a_place_in_an_object_that_there_is_not_is_said() -> None:
    work, _ = with_box(smooth(count=5))
    for params, words in (
        ({"name": "cart", "where": "nearest surface"}, "no object 'cart'"), ({"name": "box", "where": "point in it", "x": 1.0}, "type all three"),
        ({"name": "box", "where": "nearest surface", "measured": "straight"}, "along the view axis"),
    ):  # fmt: skip
        with pytest.raises(BadInput, match=words):
            focused(work, **params)


def test_what_is_sharp_goes_by_the_circle_of_confusion() -> None:
    track = track_of(smooth(count=3))
    lens = replace(track.lens, focus_m=np.full(3, 4.0), fstop=np.full(3, 2.8), focal_mm=np.full(3, 50.0))
    track = replace(track, lens=lens)
    near, far = sharp_m(track, lens.used(Image(1920, 1080), "width"), 0.03)[1]
    hyperfocal = 0.05**2 / (2.8 * 0.03e-3) + 0.05
    assert near == pytest.approx(4 * (hyperfocal - 0.05) / (hyperfocal + 4 - 0.1)) and far == pytest.approx(
        4 * (hyperfocal - 0.05) / (hyperfocal - 4)
    )
    with pytest.raises(BadInput, match="circle of confusion"):
        require_circle(0)


def test_how_much_of_a_pull_is_done() -> None:
    """Straight, or eased: half of it half way, little at either end, the same from both sides; outside nothing, or all."""
    frames = np.arange(8.0, 23.0)
    straight, eased = shares(frames, 10.0, 20.0, False), shares(frames, 10.0, 20.0, True)
    assert (
        straight[2:13] == pytest.approx(np.linspace(0, 1, 11))
        and (straight[:2] == 0).all()
        and (straight[13:] == 1).all()
    )
    assert eased[7] == 0.5 and eased[3] == pytest.approx(0.028) and eased[4] == pytest.approx(0.104)
    assert eased[2:13] + eased[12:1:-1] == pytest.approx(np.ones(11))
    assert shares(frames, None, 20.0, True).tolist() == [1.0] * 15
    assert shares(frames, 15.0, None, True).tolist() == [0.0] * 7 + [1.0] * 8
