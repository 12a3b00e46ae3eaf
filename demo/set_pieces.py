"""The set of The Tidewright: a tidal mill on a salt marsh, in metres, X right, Y up, Z towards us.

Each piece is a mesh (points, faces) or a curve (points, closed), kept simple enough to draw as lines.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

LANDMARKS = {
    "tide_bell": (6.0, 3.4, -9.0),
    "sluice_post_left": (-2.0, 2.6, 0.0),
    "sluice_post_right": (2.0, 2.6, 0.0),
    "wheel_hub": (-6.2, 1.8, -5.0),
    "jetty_lamp": (9.0, 3.2, 2.0),
    "mooring_stone_near": (4.5, 0.5, 4.0),
    "mooring_stone_far": (12.0, 0.5, -6.0),
}


@dataclass
class Piece:
    """``faces`` lists vertex indices for a mesh, and is empty for a curve."""

    name: str
    points: np.ndarray
    faces: list[list[int]]


def box(name: str, low: tuple[float, float, float], high: tuple[float, float, float]) -> Piece:
    (x0, y0, z0), (x1, y1, z1) = low, high
    points = np.array(
        [(x0, y0, z0), (x1, y0, z0), (x1, y1, z0), (x0, y1, z0), (x0, y0, z1), (x1, y0, z1), (x1, y1, z1), (x0, y1, z1)]
    )
    return Piece(name, points, [[0, 3, 2, 1], [4, 5, 6, 7], [0, 1, 5, 4], [2, 3, 7, 6], [1, 2, 6, 5], [0, 4, 7, 3]])


def house(name: str, low: tuple[float, float, float], high: tuple[float, float, float], ridge: float) -> Piece:
    """A box with a pitched roof, its ridge along z."""
    body = box(name, low, high)
    middle = (low[0] + high[0]) / 2
    points = np.vstack([body.points, [(middle, ridge, low[2]), (middle, ridge, high[2])]])
    faces = [f for f in body.faces if f != [2, 3, 7, 6]]
    return Piece(name, points, [*faces, [3, 7, 9, 8], [2, 8, 9, 6], [2, 3, 8], [6, 9, 7]])


def ring(name: str, centre: tuple[float, float, float], radius: float, sides: int = 32) -> Piece:
    """A circle in a plane across x, as a closed line."""
    a = np.linspace(0, 2 * np.pi, sides + 1)
    points = np.stack([np.zeros_like(a), radius * np.cos(a), radius * np.sin(a)], axis=1) + centre
    return Piece(name, points, [])


def wheel(centre: tuple[float, float, float], radius: float, width: float, paddles: int) -> list[Piece]:
    x, y, z = centre
    rims = [ring(f"wheel_rim_{i}", (x + o, y, z), radius) for i, o in enumerate((-width / 2, width / 2))]
    turns = np.arange(paddles) * 2 * np.pi / paddles
    boards = []
    for i, a in enumerate(turns):
        out = np.array([0.0, np.cos(a), np.sin(a)])
        inner, outer = np.array(centre) + out * radius * 0.25, np.array(centre) + out * radius * 1.12
        side = np.array([width / 2, 0.0, 0.0])
        points = np.array([inner - side, inner + side, outer + side, outer - side])
        boards.append(Piece(f"wheel_paddle_{i:02d}", points, [[0, 1, 2, 3]]))
    return [*rims, *boards]


def bell(centre: tuple[float, float, float]) -> Piece:
    """The tide bell: a turned profile with eight sides."""
    profile = np.array([(0.12, 0.0), (0.3, -0.15), (0.38, -0.6), (0.6, -1.0)])
    a = np.arange(8) * np.pi / 4
    points = np.concatenate([np.stack([r * np.cos(a), np.full(8, y), r * np.sin(a)], axis=1) for r, y in profile])
    faces = [
        [k * 8 + i, k * 8 + (i + 1) % 8, k * 8 + 8 + (i + 1) % 8, k * 8 + 8 + i] for k in range(3) for i in range(8)
    ]
    return Piece("tide_bell_body", points + centre, faces)


def marsh_lines() -> list[Piece]:
    """The water's edge and the channel, as lines on the ground."""
    x = np.linspace(-14.0, 16.0, 40)
    shore = [
        Piece(f"tide_line_{i}", np.stack([x, np.zeros_like(x), z + 0.9 * np.sin(x / 2.3 + i)], axis=1), [])
        for i, z in enumerate((-14.0, 7.0, 10.0))
    ]
    race = [
        Piece(
            f"race_wall_{side}",
            np.array([(x0, 0.0, 6.0), (x0, 0.0, -12.0), (x0, 0.6, -12.0), (x0, 0.6, 6.0)]),
            [[0, 1, 2, 3]],
        )
        for side, x0 in (("left", -7.6), ("right", -4.8))
    ]
    return shore + race


def pieces() -> list[Piece]:
    """The whole set."""
    jetty = [box(f"jetty_plank_{i}", (7.0 + i * 0.55, 0.7, 1.0), (7.4 + i * 0.55, 0.78, 3.0)) for i in range(5)]
    return [
        box("sluice_post_l", (-2.2, 0, -0.2), (-1.8, 2.6, 0.2)),
        box("sluice_post_r", (1.8, 0, -0.2), (2.2, 2.6, 0.2)),
        box("sluice_beam", (-2.6, 2.6, -0.15), (2.6, 2.9, 0.15)),
        box("sluice_board", (-1.8, 0.2, -0.05), (1.8, 1.7, 0.05)),
        house("mill_house", (-13.0, 0, -8.5), (-8.0, 3.6, -1.5), 5.6),
        *wheel((-6.2, 1.8, -5.0), 1.9, 1.6, 10),
        box("bell_frame_l", (5.0, 0, -9.1), (5.2, 3.6, -8.9)),
        box("bell_frame_r", (6.8, 0, -9.1), (7.0, 3.6, -8.9)),
        box("bell_yoke", (4.9, 3.6, -9.1), (7.1, 3.8, -8.9)),
        bell((6.0, 3.4, -9.0)),
        *jetty,
        box("jetty_post", (8.95, 0, 1.95), (9.05, 3.1, 2.05)),
        box("jetty_lantern", (8.85, 3.0, 1.85), (9.15, 3.4, 2.15)),
        box("mooring_near", (4.2, 0, 3.7), (4.8, 0.5, 4.3)),
        box("mooring_far", (11.7, 0, -6.3), (12.3, 0.5, -5.7)),
        *marsh_lines(),
    ]
