"""The picture of a shot on a list: lines cut where they pass the camera, against sums written out."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.picture import Picture
from anaxis.web.drawings.thumbnail import WIDTH, thumbnail
from ordinary import SHOTS, pixels, track_of


def test_what_is_drawn_is_what_the_camera_sees_and_nothing_of_what_lies_behind() -> None:
    shot = SHOTS["portrait"]()
    track = track_of(shot)
    at = len(shot.frames) // 2
    place, turned, _ = (v[at] for v in shot.samples)
    ahead, aside = -turned[:, 2], turned[:, 0]
    lines = np.array(
        [
            [place + 5 * ahead, place + 5 * ahead + aside],
            [place + 3 * ahead, place - 3 * ahead + aside],
            [place - ahead, place - 2 * ahead],
        ]
    )
    marks = Landmarks(("post", "behind"), np.array([[place + 4 * ahead, place - 4 * ahead]]))
    picture = Picture(Image(shot.width_px, shot.height_px), "width", False, False)
    drawn = thumbnail(track, marks, lines, picture)
    assert drawn["height"] == round(WIDTH * 16 / 9, 1) and drawn["frame"] == shot.frames[at]
    ends = np.array([[float(v) for v in re.findall(r"-?[0-9.]+", part)] for part in drawn["path"].split("M")[1:]])
    assert len(ends) == 2  # the third lies behind
    meant = pixels(shot, shot.frames[at : at + 1], lines[0][None], WIDTH)[0][0]
    assert np.allclose(ends[0].reshape(2, 2), meant, atol=0.06)
    # The second is cut 5 cm in front of the camera, on the way from its first end to its second.
    share = (3 - 0.05) / 6
    cut = lines[1][0] + share * (lines[1][1] - lines[1][0])
    assert np.allclose(ends[1][2:], pixels(shot, shot.frames[at : at + 1], cut[None, None], WIDTH)[0][0, 0], atol=0.06)
    assert np.allclose(
        drawn["crosses"], pixels(shot, shot.frames[at : at + 1], marks.position_m[:, :1], WIDTH)[0][0], atol=0.06
    )
    bare = thumbnail(replace(track, name="x"), Landmarks((), np.zeros((1, 0, 3))), np.zeros((0, 2, 3)), picture)
    assert bare["path"] == "" and bare["crosses"] == []
