"""The picture of a shot on a list: lines cut where they pass the camera, against sums written out."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np
from lxml import etree

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
    drawn = etree.fromstring(thumbnail(track, marks, lines, picture))
    assert drawn.get("viewBox") == f"0 0 {WIDTH} {round(WIDTH * 16 / 9, 1)}"
    assert drawn[0].text == f"Frame {shot.frames[at]:g}"
    path, *crosses = [[_numbers(part) for part in d.split("M")[1:]] for d in drawn.xpath("//@d")]
    ends = np.array(path)
    assert len(ends) == 2  # the third lies behind
    meant = pixels(shot, shot.frames[at : at + 1], lines[0][None], WIDTH)[0][0]
    assert np.allclose(ends[0].reshape(2, 2), meant, atol=0.06)
    # The second is cut 5 cm in front of the camera, on the way from its first end to its second.
    share = (3 - 0.05) / 6
    cut = lines[1][0] + share * (lines[1][1] - lines[1][0])
    assert np.allclose(ends[1][2:], pixels(shot, shot.frames[at : at + 1], cut[None, None], WIDTH)[0][0, 0], atol=0.06)
    seen = pixels(shot, shot.frames[at : at + 1], marks.position_m[:, :1], WIDTH)[0][0]
    assert len(crosses) == 1 and np.allclose(np.add(crosses[0][0][:2], [3, 0]), seen[0], atol=0.06)
    bare = thumbnail(replace(track, name="x"), Landmarks((), np.zeros((1, 0, 3))), np.zeros((0, 2, 3)), picture)
    assert etree.fromstring(bare).xpath("//@d") == [""]


def _numbers(path: str) -> list[float]:
    return [float(v) for v in re.findall(r"-?[0-9.]+", path)]
