"""Guides over the picture: safe areas, masks, the field chart and the film back, by sums written out."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

import ordinary
from anaxis.core.camera.guides import GUIDES, Guides, mask_of, shapes_of
from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.seen import may_be_seen
from anaxis.core.errors import BadInput

HD = Image(1920, 1080)


def test_a_mask_leaves_its_aspect_and_safe_areas_their_share() -> None:
    (mask, action) = shapes_of(Guides(("action",), 2.39), HD)
    assert (mask.x0, mask.x1) == (0.0, 1.0)
    assert 1920 / ((mask.y1 - mask.y0) * 1080) == pytest.approx(2.39)
    assert (action.x0, action.y0) == pytest.approx((0.035, 0.035)) and "EBU R 95" in action.label
    (tall,) = shapes_of(Guides((), 9 / 16), HD)
    assert (tall.y0, tall.y1) == (0.0, 1.0) and (tall.x1 - tall.x0) * 1920 / 1080 == pytest.approx(9 / 16)
    squeezed = Image(1920, 1080, 2.0)
    (wide,) = shapes_of(Guides((), 2.39), squeezed)
    assert (wide.x1 - wide.x0) * 3840 / 1080 == pytest.approx(2.39), "as it is seen, pixels and all"


def test_every_guide_has_shapes_within_reach_of_the_picture() -> None:
    shot = ordinary.smooth()
    track = ordinary.track_of(shot)
    for name in GUIDES:
        shapes = shapes_of(Guides((name,)), HD, track, "width")
        assert shapes and all(-1 < v < 2 for s in shapes for v in s[1:5])
    chart = shapes_of(Guides(("fields",)), HD)
    assert [s.label for s in chart if s.kind == "text"] == [str(i) for i in range(1, 13)]


def test_the_film_back_is_where_its_corners_are_seen() -> None:
    """A point seen at a corner of the film back lies at that corner of the shape, under every fit and with an offset."""
    track = ordinary.track_of(ordinary.smooth(count=3))
    lens = replace(track.lens, offset_x_mm=np.full(3, 1.5), offset_y_mm=np.full(3, -0.7))
    track = replace(track, lens=lens)
    for fit in ("width", "height", "inside", "outside"):
        (shape,) = shapes_of(Guides(("film-back",)), HD, track, fit, 1)
        for sx, sy, x, y in ((-1, 1, shape.x0, shape.y0), (1, -1, shape.x1, shape.y1)):
            # A film back's corner is the direction (X/f, Y/f) of an unoffset film back.
            right = sx * lens.squeeze[1] * lens.film_width_mm[1] / 2 / lens.focal_mm[1]
            up = sy * lens.film_height_mm[1] / 2 / lens.focal_mm[1]
            point = track.position_m[1] + track.rotation[1] @ np.array([right, up, -1.0]) * 7.0
            px, _ = projection_of(track, HD, fit).project(point[None])
            np.testing.assert_allclose(px[1, 0] / [1920, 1080], [x, y], atol=1e-12)


def test_typed_masks() -> None:
    assert mask_of("") is None and mask_of("none") is None
    assert (
        mask_of("16:9") == pytest.approx(16 / 9) and mask_of("2.39") == 2.39 and mask_of("4:3") == pytest.approx(4 / 3)
    )
    for wrong in ("wide", "1:0"):
        with pytest.raises(BadInput, match="not an aspect"):
            mask_of(wrong)
    with pytest.raises(BadInput, match="cannot be a mask"):
        Guides((), 40.0)


@pytest.mark.parametrize("name", ["whip", "held", "smooth"])
def test_a_box_is_never_called_unseen_while_a_point_of_it_is_seen(name: str) -> None:
    track = ordinary.track_of(getattr(ordinary, name)())
    random = np.random.default_rng(3)
    projection = projection_of(track, HD, "width")
    seen_ever = 0
    for _ in range(40):
        middle = track.position_m.mean(axis=0) + random.normal(scale=12, size=3)
        size = random.uniform(0.1, 6, size=3)
        pick = np.array([[i >> 2 & 1, i >> 1 & 1, i & 1] for i in range(8)]) - 0.5
        corners = (middle + pick * size)[None]
        inner = middle + random.uniform(-0.5, 0.5, size=(200, 3)) * size
        px, depth = projection.project(inner)
        inside = ((px >= 0) & (px <= [1920, 1080])).all(axis=2) & (depth > 0)
        calls = may_be_seen(track, HD, "width", corners)
        assert calls[inside.any(axis=1)].all()
        seen_ever += int(inside.any())
    assert seen_ever, "some of the boxes are seen"
