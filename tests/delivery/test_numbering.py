"""The matrix on the way back: what was delivered and is handed in as it is, is the same camera, and nothing is blamed on the package."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from anaxis.core.motion.edits import renumbered
from anaxis.delivery.deliver import deliver_all
from anaxis.delivery.numbering import nearest_sent, numberings, renumbered_back
from anaxis.delivery.options import USUAL, from_zero_up
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.diagnosis.returned import CameBack, compared, explain, is_own_table, of_scene, of_table
from anaxis.formats import read_file
from anaxis.packages import find_profile
from anaxis.packages.model import Profile
from lanes import pairs
from ordinary import SHOTS
from test_ordinary_shots import FORMATS, PACKAGES, leaving


def on_whole_frames(camera: ShotCamera) -> ShotCamera:
    """As a camera is kept: samples between frames stay in its source."""
    at = np.flatnonzero(camera.track.frames == np.round(camera.track.frames))
    return replace(camera, track=camera.track.select_frames(at), landmarks=camera.landmarks.at_frames(at))


def read_back(path: Path, profile: Profile, meant: ShotCamera) -> CameBack:
    if is_own_table(path, profile):
        return of_table(path, profile, meant.picture, meant.track)
    return of_scene(read_file(path), None, profile, meant.track)


@pytest.mark.parametrize(
    ("name", "format_key", "key"),
    [
        (name, format_key, PACKAGES[number % len(PACKAGES)])
        for number, (name, format_key) in enumerate(pairs(SHOTS, FORMATS))
        if name != "long" or format_key in ("usd", "gltf")  # the others have no clock of their own to run out of
    ],
)
def test_every_shot_in_every_format_handed_in_as_it_was_written(
    name: str, format_key: str, key: str, tmp_path: Path
) -> None:
    sent = leaving(SHOTS[name]())
    meant = on_whole_frames(sent)
    profile = find_profile(key)
    (done,) = deliver_all([sent], profile, format_key, tmp_path, stem=key)
    back = read_back(done.files[0], profile, meant)
    among = numberings(meant.track, profile, [(format_key, done.options)])
    _, numbering = nearest_sent([meant], among, back, profile)
    proof = compared(
        meant.track, meant.landmarks, meant.picture, renumbered_back(back, numbering, meant.track), profile
    ).proof
    # glTF holds positions in single precision: 5 km out that is seen.
    enough = 0.2 if (format_key, name) == ("gltf", "far_out") else 0.01
    assert proof.within(enough) and not len(proof.missing), (key, proof.max_px, proof.differences)
    assert [d for d in proof.differences if d.matters] == []
    found = explain(renumbered(meant.track, numbering.first), meant.picture, back, profile)
    assert found.explained and found.explanations[0].causes == (), found.explanations[0].sentence
    # What the file's format or the delivery renumbered is said, and is not the package's doing.
    from_0_s = format_key == "gltf" and name in ("frame_86400", "long")  # beyond 256 s
    assert bool(numbering.sentence) is (numbering.first == 0) is (name == "frame_minus_20" or from_0_s)
    assert numbering.wanted is not from_0_s


@pytest.mark.parametrize(
    ("by", "cause"),
    [(1, ("frame_offset", {"frames": 1})), (-1, ("frame_offset", {"frames": -1})), (20, ("own_first", {"first": 20}))],
)
def test_a_package_that_counts_otherwise_is_told_in_its_own_numbers(by: int, cause: Any) -> None:
    meant, profile = leaving(SHOTS["frame_minus_20"]()), find_profile("zup-lh-cm")
    options = from_zero_up(USUAL, [meant], profile)
    assert options.first == 0
    arrived = CameBack(replace(meant.track, frames=meant.track.frames + 20 + by))
    _, numbering = nearest_sent([meant], numberings(meant.track, profile, [("usd", options)]), arrived, profile)
    here = renumbered_back(arrived, numbering, meant.track)
    assert numbering.first == 0 and not compared(
        meant.track, meant.landmarks, meant.picture, here, profile
    ).proof.within(1)
    first = explain(renumbered(meant.track, 0), meant.picture, arrived, profile).explanations[0]
    assert first.causes == (cause,), first.sentence


def test_a_camera_put_back_to_the_shots_own_numbers_is_the_same_too() -> None:
    meant, profile = leaving(SHOTS["frame_minus_20"]()), find_profile("zup-lh-cm")
    among = numberings(meant.track, profile, [("usd", from_zero_up(USUAL, [meant], profile))])
    _, numbering = nearest_sent([meant], among, CameBack(meant.track), profile)
    assert numbering.first == -20 and numbering.sentence == ""


def test_a_still_camera_has_the_numbers_that_leave_no_frame_out() -> None:
    meant, profile = leaving(SHOTS["still"]()), find_profile("zup-lh-cm")
    meant = replace(meant, track=renumbered(meant.track, -20))
    among = numberings(meant.track, profile, [("usd", from_zero_up(USUAL, [meant], profile))])
    _, numbering = nearest_sent([meant], among, CameBack(renumbered(meant.track, 0)), profile)
    assert numbering.first == 0
