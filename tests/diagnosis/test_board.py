"""The distortion estimated from drawn boards: tilted, bent through a known lens, blurred a little."""

from __future__ import annotations

from functools import cache
from pathlib import Path

import cv2
import numpy as np
import pytest

from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.window import Window
from anaxis.core.errors import BadInput
from anaxis.diagnosis.board import Board, calibrated, find_board
from anaxis.sandbox.pictures import safe_board

K1, K2 = -0.16, 0.03
SIZE = (960, 540)
HALF = 0.6
PLATE = Window(*(np.array([v]) for v in (-HALF, HALF, -HALF * 540 / 960, HALF * 540 / 960)))
IMAGE = Image(*SIZE)


@cache
def on_the_board(turn: tuple[float, float], k1: float, k2: float) -> tuple[np.ndarray, np.ndarray]:
    """Where on a board of 9 x 6, on a plane one unit away and tilted, the lens sees each half pixel, in squares."""
    x, y = np.meshgrid(np.arange(SIZE[0] * 2) / 2 + 0.25, np.arange(SIZE[1] * 2) / 2 + 0.25)
    u_d, v_d = (x / SIZE[0] * 2 - 1) * HALF, (y / SIZE[1] * 2 - 1) * HALF * SIZE[1] / SIZE[0]
    u, v = u_d.copy(), v_d.copy()
    for _ in range(9):  # each brings it five times nearer: to a millionth
        r2 = u * u + v * v
        factor = 1 + k1 * r2 + k2 * r2 * r2
        u, v = u_d / factor, v_d / factor
    rays = np.stack([u, v, np.ones_like(u)], axis=-1)
    matrix, _ = cv2.Rodrigues(np.array([*turn, 0.03]))
    normal, origin = matrix[:, 2], np.array([0.0, 0.0, 1.0])
    away = (origin @ normal) / (rays @ normal)
    on_board = (rays * away[..., None] - origin) @ matrix
    return on_board[..., 0] / 0.085 + 5, on_board[..., 1] / 0.085 + 3.5


def drawn(turn: tuple[float, float], kind: str = "checkerboard", k1: float = K1, k2: float = K2) -> np.ndarray:
    """A board of 9 x 6 on a plane one unit away, tilted, seen through the lens: every pixel traced back to the board."""
    across, down = on_the_board(turn, k1, k2)
    if kind == "checkerboard":
        dark = (np.floor(across) + np.floor(down)) % 2 == 0
        inside = (across > 0) & (across < 10) & (down > 0) & (down < 7)
    else:
        dark = np.hypot(across - np.floor(across) - 0.5, down - np.floor(down) - 0.5) < 0.25
        inside = np.ones_like(across, dtype=bool)
        dark &= (np.floor(across) >= 0) & (np.floor(across) < 9) & (np.floor(down) >= 0) & (np.floor(down) < 6)
    picture = np.where(inside & dark, 30, 225).astype(np.uint8)
    return cv2.GaussianBlur(cv2.resize(picture, SIZE, interpolation=cv2.INTER_AREA), (0, 0), 0.7)


@pytest.mark.parametrize("kind", ["checkerboard", "dots"])
def test_known_coefficients_are_found_again(kind: str, tmp_path: Path) -> None:
    board = Board(kind, 9, 6)
    seen = []
    for i, turn in enumerate([(0.0, 0.0), (0.35, 0.1), (-0.2, 0.4), (0.15, -0.35)]):
        path = tmp_path / f"{i}.png"
        cv2.imwrite(str(path), drawn(turn, kind))
        seen.append(safe_board(path, board))
    found = calibrated(seen, board, PLATE, IMAGE)
    assert found.document["model"] == "radial-tangential" and found.off_px.max() < 1.0 and "px RMS" in found.said[0]
    r = np.linspace(0, 0.42, 20)  # as far as the boards reach
    k = [found.document.get(n, 0.0) for n in ("k1", "k2", "k3")]
    bent = r * (1 + k[0] * r**2 + k[1] * r**4 + k[2] * r**6)
    truth = r * (1 + K1 * r**2 + K2 * r**4)
    assert np.abs(bent - truth).max() * SIZE[0] / (2 * HALF) < (0.6 if kind == "checkerboard" else 1.5)


def test_what_is_no_board_is_said(tmp_path: Path) -> None:
    path = tmp_path / "flat.png"
    cv2.imwrite(str(path), np.full((540, 960), 128, np.uint8))
    with pytest.raises(BadInput, match=r"No checkerboard of 9 x 6 inner corners is visible in flat\.png"):
        safe_board(path, Board("checkerboard", 9, 6))
    with pytest.raises(BadInput, match="A board of 1"):
        Board("checkerboard", 1, 6)
    points = find_board(drawn((0, 0)), Board("checkerboard", 9, 6), "b.png")
    with pytest.raises(BadInput, match="like the plate"):
        calibrated([(points, (640, 480))], Board("checkerboard", 9, 6), PLATE, IMAGE)
