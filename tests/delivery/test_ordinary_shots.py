"""The matrix: every ordinary shot in every format, as it is, retimed, with few keys, for three packages.

What arrives is measured by plain sums of the tests' own (:mod:`ordinary`), never by the product's own projection.
"""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from anaxis.core.camera.lens import Image
from anaxis.core.motion.resample import at_rate
from anaxis.core.proof.precision import single_precision_bound_px
from anaxis.core.scene.picture import Picture
from anaxis.delivery.deliver import deliver_all
from anaxis.delivery.options import DeliveryOptions
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.packages import find_profile
from lanes import pairs
from ordinary import SHOTS, Shot, landmarks_of_shot, pixels, points_ahead, track_of, zoomless

FORMATS = ("usd", "alembic", "gltf", "collada", "json", "columns")
PACKAGES = ("zup-lh-cm", "yup-rh-m", "ydown-px")
WIDTH_PX = 4096


def leaving(shot: Shot) -> ShotCamera:
    image = Image(shot.width_px, shot.height_px)
    return ShotCamera(track_of(shot), landmarks_of_shot(shot), Picture(image, "width", False, False))


def off_px(
    shot: Shot, done: Any, at: np.ndarray | None = None, depths_m: tuple[float, ...] = (2.0, 6.0, 60.0)
) -> float:
    """The largest distance between where the shot sees points ahead of it and where the camera that arrived does.

    ``at`` (n,) are the moments in the shot's own frames, where they are not its frames.
    """
    frames = shot.frames if at is None else at
    worst = 0.0
    for some in np.array_split(np.arange(len(frames)), max(1, len(frames) // 2000)):
        points = points_ahead(shot, frames[some], depths_m)
        meant, _ = pixels(shot, frames[some], points)
        seen = (
            np.einsum("nij,nmj->nmi", done.seen.projection.matrices[some][:, :, :3], points)
            + done.seen.projection.matrices[some][:, None, :, 3]
        )
        there = seen[..., :2] / seen[..., 2:]
        worst = max(worst, float(np.abs(there - meant).max() * WIDTH_PX / shot.width_px))
    return worst


def bound_px(shot: Shot, format_key: str, done: Any) -> float:
    """What the format's own precision may cost at 4096 px: nothing to speak of, but for glTF's single precision."""
    if format_key != "gltf":
        return 0.01
    track, out = track_of(shot), done.outgoing
    scale = WIDTH_PX / shot.width_px
    nearest = replace(track, lens=replace(track.lens, focus_m=np.full(len(track), 1.9)))
    marks = np.zeros((1, 0, 3))
    single = single_precision_bound_px(nearest, Image(shot.width_px, shot.height_px), "width", marks, out.zero_frame)
    return 0.01 + 2 * float(single.max()) * scale


@pytest.mark.parametrize(("name", "format_key"), pairs(SHOTS, FORMATS))
def test_every_shot_in_every_format_as_it_is(name: str, format_key: str, tmp_path: Path) -> None:
    shot = SHOTS[name]()
    packages = PACKAGES if len(shot.frames) < 1000 else PACKAGES[:1]
    for key in packages:
        (done,) = deliver_all([leaving(shot)], find_profile(key), format_key, tmp_path)
        zoom_lost = format_key == "gltf" and name == "primes"
        assert done.proof.compared == done.proof.owed == len(shot.frames)
        assert not any(d.matters for d in done.proof.differences), done.proof.differences
        off = off_px(shot, done)
        if zoom_lost:  # few readers take it, so it counts as not arriving, and the note says so
            assert (
                off > 100
                and not done.proof.within(0.01)
                and any("hardly any package reads" in n for n in done.outgoing.notes)
            )
        else:
            assert off <= bound_px(shot, format_key, done), (key, off)
            if format_key != "gltf":
                assert done.proof.within(0.01)
        zero = format_key == "gltf" and name in ("frame_86400", "long")
        if name == "frame_minus_20":  # one rule for pages and command line: said, and never below 0
            first = find_profile(key).time.first_frame
            assert done.outgoing.track.frames[0] == first and any(
                "lies before frame 0" in n.replace("drop what ", "") for n in done.outgoing.notes
            )
        assert (done.outgoing.zero_frame != 0) == zero and any("is at 0 s" in n for n in done.outgoing.notes) == zero


@pytest.mark.parametrize(
    ("name", "format_key"), pairs([n for n in SHOTS if n not in ("long", "jitter", "subframes")], FORMATS)
)
def test_every_shot_in_every_format_retimed(name: str, format_key: str, tmp_path: Path) -> None:
    """24 to 30 frames a second at the same time: what arrives is what the camera did at those moments."""
    shot = SHOTS[name]()
    made = at_rate(track_of(shot), Fraction(30), "time")
    at = shot.frames[0] + 0.8 * np.arange(len(made))
    # Behind the last sample nothing is known for certain; a whip pan is drawn to within a degree or two.
    known = np.flatnonzero(at <= shot.frames[-1])
    gone = replace(leaving(shot), track=made, landmarks=landmarks_of_shot(replace_frames(shot, at)))
    (done,) = deliver_all([gone], find_profile("zup-lh-cm"), format_key, tmp_path)
    part = replace(done, seen=replace(done.seen, projection=done.seen.projection.select_frames(known)))
    if not (format_key == "gltf" and name == "primes"):
        drawn = {"whip": 140.0, "held": 8.0, "three": 3.0}.get(name, 0.5)
        assert off_px(shot, part, at[known]) <= drawn + bound_px(shot, format_key, done)
        assert done.proof.within(0.01 if format_key != "gltf" else bound_px(shot, format_key, done))


def replace_frames(shot: Shot, frames: np.ndarray) -> Shot:
    return Shot(**{**shot.__dict__, "frames": frames})


@pytest.mark.parametrize(
    ("name", "format_key"),
    pairs([n for n in SHOTS if n not in ("long", "subframes", "far_out", "focus_far", "portrait")], FORMATS),
)
def test_every_shot_in_every_format_with_few_keys(name: str, format_key: str, tmp_path: Path) -> None:
    """The tolerance holds in the file as written, on every frame."""
    shot = SHOTS[name]()
    for tolerance in (0.5, 0.05):
        (done,) = deliver_all(
            [leaving(shot)], find_profile("yup-rh-cm"), format_key, tmp_path, DeliveryOptions(reduce_px=tolerance)
        )
        assert done.proof.compared == done.proof.owed
        if format_key == "gltf" and name == "primes":
            continue
        assert done.proof.within(tolerance), (done.proof.max_px, done.proof.differences)
        # Few keys are kept for what the proof looks at: not nearer than the focus and the move are large.
        assert off_px(shot, done, depths_m=(12.0, 60.0)) <= tolerance * WIDTH_PX / shot.width_px + 0.01
        if name == "still":
            assert done.reduced is not None and len(done.reduced.keys) == 2
        if name == "held" and tolerance == 0.5 and format_key not in ("usd", "alembic", "columns"):
            assert done.reduced is not None and len(done.reduced.keys) <= 8


@pytest.mark.parametrize("format_key", ["gltf", "collada"])
def test_frames_asked_for_below_0_lie_at_0_s_where_a_format_has_no_time_before(format_key: str, tmp_path: Path) -> None:
    shot = SHOTS["frame_minus_20"]()
    (done,) = deliver_all([leaving(shot)], find_profile("zup-rh-m"), format_key, tmp_path, DeliveryOptions(first=-20.0))
    assert done.outgoing.zero_frame == -20 and off_px(shot, done) <= bound_px(shot, format_key, done)
    assert any("Frame -20 is at 0 s" in n and "no time before 0" in n for n in done.outgoing.notes)


@pytest.mark.parametrize("format_key", ["usd", "alembic", "gltf", "collada"])
def test_landmarks_that_move_arrive_moving(format_key: str, tmp_path: Path) -> None:
    """Read back by the product's own reader: the ferry is where it was on every frame."""
    from anaxis.core.scene.bake import node_positions_m
    from anaxis.core.scene.nodes import corrected
    from anaxis.formats import read_file

    shot = SHOTS["moving_marks"]()
    (done,) = deliver_all([leaving(shot)], find_profile("yup-rh-m"), format_key, tmp_path)
    scene = read_file(done.files[0])
    scene = corrected(scene, "Y", 1.0, Fraction(24))
    path = next(n.path for n in scene.nodes if n.name == "ferry")
    frames = shot.frames - done.outgoing.zero_frame
    assert np.abs(node_positions_m(scene, path, frames) - shot.marks["ferry"](shot.frames)).max() < 1e-5


def test_samples_between_frames_are_handed_over_and_said_where_they_are_not(tmp_path: Path) -> None:
    """A pan of 60 degrees a frame: whole frames draw it a degree off between them, samples from the shutter do not."""
    from ordinary import _of, line, turns

    def pose(f: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        return line(f, 0.0 * f), turns(60 * (f - 1001) + 6 * np.sin(1.5 * (f - 1001)), -20, 0)

    shot = Shot("pan", 1001.0 + np.arange(12), _of(pose))
    plain = deliver_all([leaving(shot)], find_profile("yup-rh-m"), "usd", tmp_path, DeliveryOptions(between=4))[0]
    fine = Shot(**{**shot.__dict__, "frames": 1001 + np.arange(45) / 4})
    source = replace(leaving(shot), finer=track_of(fine), has_finer=True)
    ways = DeliveryOptions(samples=5, shutter_open=-0.5, shutter_close=0.5, between=4)
    for key in FORMATS:
        (done,) = deliver_all([source], find_profile("yup-rh-m"), key, tmp_path, ways)
        assert any("5 samples for each frame" in n and "from the source" in n for n in done.outgoing.notes)
        assert len(done.proof.frames) == 12 and done.proof.compared == 12
        # Times in single precision, at a thousand pixels a frame.
        assert done.proof.max_px <= (0.01 if key != "gltf" else 0.1)
        assert len(done.seen.own_frames) == 45
    assert plain.proof.between_px is not None and done.proof.between_px is not None
    assert plain.proof.max_px <= 0.01 and plain.proof.between_px > 10 * done.proof.between_px
    silent = deliver_all([replace(source, finer=None)], find_profile("yup-rh-m"), "usd", tmp_path)[0]
    assert any("whole frames only" in n for n in silent.outgoing.notes)
    assert any(
        "interpolated between" in n
        for n in deliver_all([leaving(zoomless())], find_profile("yup-rh-m"), "usd", tmp_path, ways)[0].outgoing.notes
    )
