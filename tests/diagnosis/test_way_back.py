"""Cameras that came back: no verdict kinder than the facts. What a person would see is worked out here in plain numpy."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from typing import Any

import numpy as np
import pytest

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track, make_lens
from anaxis.core.scene.landmarks import NO_LANDMARKS
from anaxis.core.scene.picture import Picture
from anaxis.diagnosis.returned import CameBack, Compared, compared, explain
from anaxis.packages import find_profile
from anaxis.packages.model import Profile
from ordinary import SHOTS
from test_ordinary_shots import leaving

PICTURE = Picture(Image(1920, 1080), "width", False, False)
FITS = {"width": "zup-rh-m", "height": "zup-lh-cm"}


def package(fit: str) -> Profile:
    found = find_profile("zup-rh-m")
    return found.model_copy(update={"lens": found.lens.model_copy(update={"fit": fit})})


def said_back(track: Track, **more: Any) -> CameBack:
    return CameBack(track, **{"image": PICTURE.image, "rate": track.rate, **more})


def measured(meant: Track, back: CameBack, fit: str = "width", between: int = 1) -> Compared:
    return compared(meant, NO_LANDMARKS, PICTURE, back, package(fit), between)


def moving(name: str = "held") -> Track:
    return leaving(SHOTS[name]()).track


CHANGED: dict[str, Any] = {
    "frame rate": lambda t: said_back(t, rate=Fraction(30)),
    "image size": lambda t: said_back(t, image=Image(2048, 1080)),
    "pixel aspect": lambda t: said_back(t, image=Image(1920, 1080, 1.5)),
    "focus distance": lambda t: said_back(replace(t, lens=replace(t.lens, focus_m=np.full(len(t), 0.3)))),
    "near clip": lambda t: said_back(replace(t, lens=replace(t.lens, near_m=np.full(len(t), 50.0)))),
    "far clip": lambda t: said_back(replace(t, lens=replace(t.lens, far_m=np.full(len(t), 60.0)))),
    "stop": lambda t: said_back(replace(t, lens=replace(t.lens, fstop=np.full(len(t), 22.0)))),
}


@pytest.mark.parametrize("name", ["still", "held", "whip", "frame_86400", "far_out"])
def test_the_same_camera_is_the_same(name: str) -> None:
    track = moving(name)
    found = measured(track, said_back(track)).proof
    assert found.within(0.01) and found.differences == () and not len(found.missing)


@pytest.mark.parametrize("what", CHANGED)
def test_what_is_another_beside_the_picture_is_no_match(what: str) -> None:
    track = moving()
    full = make_lens(len(track), focus_m=6.0, fstop=4.0, near_m=0.1, far_m=1000.0)
    track = replace(
        track, lens=replace(track.lens, **{k: getattr(full, k) for k in ("focus_m", "fstop", "near_m", "far_m")})
    )
    assert measured(track, said_back(track)).proof.within(0.01)
    found = measured(track, CHANGED[what](track)).proof
    assert found.max_px <= 0.01 and not found.within(0.01)
    assert [d.what for d in found.differences if d.matters] == [what]


def test_what_a_file_does_not_say_is_said_to_be_missing_and_no_other_camera() -> None:
    track = moving()
    silent = replace(track, lens=replace(track.lens, focus_m=np.full(len(track), np.nan)))
    found = measured(track, CameBack(silent)).proof
    assert found.within(0.01) and [(d.what, d.matters) for d in found.differences] == [("focus distance", False)]


def fov_deg(lens: Any, fit: str) -> float:
    """The horizontal field of view that a package shows that inscribes the image by a fit."""
    width = lens.film_width_mm[0] if fit == "width" else lens.film_height_mm[0] * 1920 / 1080
    return float(np.degrees(2 * np.arctan(width / 2 / lens.focal_mm[0])))


@pytest.mark.parametrize(("fit", "channel", "value", "same"), [("height", "film_height_mm", 30.0, False), ("height", "film_width_mm", 24.0, True),
                                                                 ("width", "film_height_mm", 30.0, True), ("width", "film_width_mm", 24.0, False)])  # fmt: skip
def test_a_film_back_is_seen_as_its_package_shows_it(fit: str, channel: str, value: float, same: bool) -> None:
    track = moving("still")
    changed = replace(track.lens, **{channel: np.full(len(track), value)})
    assert (abs(fov_deg(changed, fit) - fov_deg(track.lens, fit)) < 1e-9) is same
    back = said_back(replace(track, lens=changed))
    assert measured(track, back, fit).proof.within(0.01) is same
    found = explain(track, PICTURE, back, package(fit))
    assert (found.explained and found.explanations[0].causes == ()) is same


def test_a_zoom_that_arrives_frozen_and_renumbered_is_not_only_renumbered() -> None:
    track = moving("held")
    zoom = replace(track, lens=replace(track.lens, focal_mm=np.linspace(30, 60, len(track))))
    frozen = replace(
        zoom, frames=zoom.frames - zoom.frames[0], lens=zoom.lens.select_frames(np.zeros(len(zoom), dtype=int))
    )
    found = explain(zoom, PICTURE, said_back(frozen), package("width"))
    codes = {c for c, _ in found.explanations[0].causes}
    assert found.explained and codes == {"own_first", "no_lens_animation"}, found.explanations[0].sentence
    # where the file says nothing of the lens, that it was frozen cannot be told, and is not claimed
    unsaid = explain(zoom, PICTURE, said_back(frozen, lens_said=False), package("width"))
    assert unsaid.explained and {c for c, _ in unsaid.explanations[0].causes} == {"own_first"}


@pytest.mark.parametrize(
    ("channel", "decimals", "words"),
    [("position", 2, "rounded to 2 decimals"), ("focal", 0, "rounded to whole numbers")],
)
def test_what_was_rounded_is_the_same_camera_and_not_as_it_was(channel: str, decimals: int, words: str) -> None:
    track = moving("held")
    zoom = replace(track, lens=replace(track.lens, focal_mm=np.linspace(30.1, 61.7, len(track))))
    if channel == "position":
        back = replace(zoom, position_m=np.round(zoom.position_m, decimals))
    else:
        back = replace(zoom, lens=replace(zoom.lens, focal_mm=np.round(zoom.lens.focal_mm, decimals)))
    proof = measured(zoom, said_back(back)).proof
    assert proof.max_px > 0.05 and not proof.within(0.01)
    first = explain(zoom, PICTURE, said_back(back), package("width")).explanations[0]
    assert (
        first.causes == ()
        and "match the expected camera" not in first.sentence
        and words in first.sentence
        and "px" in first.sentence
    ), first.sentence


def test_a_still_camera_that_comes_back_as_one_sample_is_still() -> None:
    track = moving("still")
    one = track.select_frames(np.array([0]))
    for frame in (track.frames[0], track.frames[0] - 1, 0.0):
        back = said_back(replace(one, frames=np.array([frame])))
        assert measured(track, back).proof.within(0.01), "it stands for every frame"
        first = explain(track, PICTURE, back, package("width")).explanations[0]
        assert first.causes == () and "early" not in first.sentence and "one frame" not in first.sentence, (
            first.sentence
        )


def test_two_still_cameras_that_have_nothing_to_do_with_each_other_are_not_explained() -> None:
    rng = np.random.default_rng(7)
    explained = []
    for _ in range(8):
        track = moving("still")
        turn, _ = np.linalg.qr(rng.normal(size=(3, 3)))
        turn = turn if np.linalg.det(turn) > 0 else -turn
        other = replace(
            track,
            rotation=turn @ track.rotation,
            position_m=track.position_m * rng.uniform(0.3, 2) + rng.normal(size=3),
        )
        found = explain(track, PICTURE, said_back(other), package("width"))
        if found.explained:
            explained.append(found.explanations[0].sentence)
    assert explained == []


def test_between_frames_is_looked_at_where_that_is_asked() -> None:
    track = moving("held")
    swings = replace(track, position_m=track.position_m.copy())
    found = measured(track, said_back(swings), between=4).proof
    assert found.between_px is not None and found.between_px < 0.01
    finer = np.sort(np.concatenate([track.frames, track.frames[:-1] + 0.5]))
    at = np.searchsorted(track.frames, finer, side="right") - 1
    off = track.select_frames(at)
    off = replace(off, frames=finer, position_m=off.position_m + np.where(finer % 1, 0.2, 0.0)[:, None])
    found = measured(track, said_back(off), between=2).proof
    assert found.max_px <= 0.01 and found.between_px is not None and found.between_px > 1
