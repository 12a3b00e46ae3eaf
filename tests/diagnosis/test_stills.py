"""Stills: a picture moved by a known amount is measured, whatever it is written as; others are said to be no match."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
import pytest

from anaxis.core.errors import BadInput
from anaxis.diagnosis.stills import measure, read_picture, to_png


def drawn(seed: int = 3, size: tuple[int, int] = (960, 540)) -> np.ndarray:
    """A made picture with enough in it: blocks and lines on a sloping ground."""
    random = np.random.default_rng(seed)
    w, h = size
    picture = np.full((h, w, 3), 60, np.uint8) + np.linspace(0, 80, w).astype(np.uint8)[None, :, None]
    for _ in range(60):
        a, b = random.integers(0, [w, h], (2, 2))
        colour = tuple(int(c) for c in random.integers(0, 255, 3))
        if random.random() < 0.5:
            cv2.rectangle(picture, tuple(map(int, a)), tuple(map(int, a + random.integers(10, 80, 2))), colour, -1)
        else:
            cv2.line(picture, tuple(map(int, a)), tuple(map(int, b)), colour, 3)
    return cv2.GaussianBlur(picture, (0, 0), 1.0)


def moved(picture: np.ndarray, x: float, y: float, scale: float, turn_deg: float) -> np.ndarray:
    """Each point of the picture turned and scaled about the middle, then shifted."""
    h, w = picture.shape[:2]
    middle = np.array([(w - 1) / 2, (h - 1) / 2])
    c, s = np.cos(np.radians(turn_deg)), np.sin(np.radians(turn_deg))
    linear = scale * np.array([[c, -s], [s, c]])
    warp = np.hstack([linear, (middle + np.array([x, y]) - linear @ middle)[:, None]])
    return cv2.warpAffine(picture, warp, (w, h), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)


@pytest.mark.parametrize(
    ("x", "y", "scale", "turn"),
    [
        (0, 0, 1, 0),
        (12.3, -7.6, 1, 0),
        (0, 0, 1.0444, 0),
        (0, 0, 1, 3.5),
        (-25, 14, 0.93, -6.0),
        (0.4, 0.2, 1.002, 0.1),
        (40, 0, 1, 0),
    ],
)
def test_a_known_move_is_measured(x: float, y: float, scale: float, turn: float) -> None:
    ours = drawn()
    found = measure(ours, moved(ours, x, y, scale, turn))
    assert (found.shift_x_px, found.shift_y_px) == pytest.approx((x, y), abs=0.1)
    assert found.scale == pytest.approx(scale, abs=5e-4) and found.turn_deg == pytest.approx(turn, abs=0.05)
    assert found.alike > 0.8
    said = found.sentence
    assert ("right" in said) == (x > 0.05) and ("left" in said) == (x < -0.05)
    assert (scale == 1 and turn == 0 and x == 0) == (said == "Both stills match.")


def test_other_sizes_and_formats_and_what_is_no_match(tmp_path: Path) -> None:
    ours = drawn()
    half = cv2.resize(ours, (480, 270), interpolation=cv2.INTER_AREA)
    found = measure(ours, half)  # type: ignore[arg-type]
    assert abs(found.shift_x_px) < 0.6 and found.scale == pytest.approx(1, abs=2e-3)
    (tmp_path / "a.png").write_bytes(to_png(ours))
    cv2.imwrite(str(tmp_path / "a.jpg"), ours, [cv2.IMWRITE_JPEG_QUALITY, 95])
    assert np.array_equal(read_picture(tmp_path / "a.png"), ours)
    assert np.abs(read_picture(tmp_path / "a.jpg").astype(int) - ours).mean() < 4
    import OpenEXR

    linear = (ours[:, :, ::-1].astype(np.float32) / 255) ** 2.2
    OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}, {"RGB": linear}).write(
        str(tmp_path / "a.exr")
    )
    shown = read_picture(tmp_path / "a.exr")
    assert shown.shape == ours.shape and np.abs(shown.astype(int) - ours).mean() < 4
    assert "too different" in measure(ours, drawn(seed=99)).sentence
    for name, data in (("x.png", b"no picture"), ("x.exr", b"no picture"), ("x.tiff", b"II")):
        (tmp_path / name).write_bytes(data)
        with pytest.raises(BadInput):
            read_picture(tmp_path / name)
