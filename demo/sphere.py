"""TW_060: a 360-degree plate from a raft on the tide, with the camera that stands in it: ``python demo/sphere.py FOLDER``.

Drawn in plain numpy and OpenCV, nothing of the application asked: every pixel's direction is worked out here by the
definition (longitude to the right, latitude up, the middle along the camera's -Z). Deterministic.
"""

from __future__ import annotations

import sys
from pathlib import Path

import cv2
import numpy as np

from make_scenes import Shot, Writer, matrices, turn
from set_pieces import pieces
from solve import camera_matrices

SIZE = (1024, 512)
FRAMES = np.arange(1001, 1049)
_STEPS = 10


def raft() -> Shot:
    """Adrift below the tide bell, turning, rocking. Y up, metres."""
    t = (FRAMES - FRAMES[0]) / (len(FRAMES) - 1)
    path = np.stack([2.4 + 2.6 * t, 1.5 + 0.06 * np.sin(t * 9), -3.5 - 2.2 * t], 1)
    body = matrices(path, turn("y", -0.5 - 0.9 * t))
    rock = matrices(np.zeros((len(t), 3)), turn("z", 0.07 * np.sin(t * 8)) @ turn("x", 0.05 * np.cos(t * 11)))
    return Shot(
        "TW_060", False, 1.0, 24.0, FRAMES, [("raft", body), ("shotcam", rock)], np.array([18.0]), (36.0, 18.0), SIZE,
        np.linalg.norm(np.array([6.0, 3.4, -9.0]) - path, axis=1),
    )  # fmt: skip


def draw(world: np.ndarray) -> np.ndarray:
    """A picture (h, w, 3) of a frame, 8 bits, red first; ``world`` (4, 4) is the camera's."""
    w, h = SIZE
    lon = ((np.arange(w) + 0.5) / w - 0.5) * 2 * np.pi
    lat = (0.5 - (np.arange(h) + 0.5) / h) * np.pi
    flat = np.cos(lat)[:, None]
    rays = np.stack(np.broadcast_arrays(flat * np.sin(lon), np.sin(lat)[:, None], -flat * np.cos(lon)), axis=-1)
    rays = rays @ world[:3, :3].T
    down = rays[..., 1] < -1e-3
    with np.errstate(divide="ignore", invalid="ignore"):
        away = np.where(down, -world[1, 3] / rays[..., 1], 0.0)
    x, z = world[0, 3] + rays[..., 0] * away, world[2, 3] + rays[..., 2] * away
    tiles = ((np.floor(x) + np.floor(z)) % 2) * np.exp(-away / 20)
    haze = np.exp(-away / 50)[..., None]
    water = np.array([0.30, 0.36, 0.33]) * (1 + 0.22 * tiles[..., None])
    sky = np.array([0.66, 0.72, 0.78]) * (0.82 + 0.18 * np.clip(rays[..., 1:2], 0, 1))
    picture = np.where(down[..., None], water * haze + np.array([0.6, 0.66, 0.71]) * (1 - haze), sky).astype(np.float32)
    random, light, seen = np.random.default_rng(60), np.array([0.5, 0.8, 0.33]), []
    for piece in pieces():
        albedo = random.uniform(0.3, 0.62) * np.array([1.0, random.uniform(0.8, 0.95), random.uniform(0.6, 0.85)])
        for face in piece.faces:
            points = piece.points[face]
            normal = np.cross(points[1] - points[0], points[2] - points[0])
            normal /= np.linalg.norm(normal)
            towards = normal if normal @ (world[:3, 3] - points[0]) > 0 else -normal
            local = (_along_edges(points) - world[:3, 3]) @ world[:3, :3]
            seen.append(
                (
                    float(np.linalg.norm(local.mean(axis=0))),
                    local,
                    albedo * (0.3 + 0.75 * max(0.0, float(towards @ light))),
                )
            )
    for _, local, colour in sorted(seen, key=lambda s: -s[0]):
        _fill(picture, local, colour)
    return np.round(np.clip(picture, 0, 1) * 255).astype(np.uint8)


def _along_edges(points: np.ndarray) -> np.ndarray:
    """A face's border in steps: straight edges are curves in this picture."""
    share = np.arange(_STEPS)[:, None] / _STEPS
    return np.concatenate([a + share * (b - a) for a, b in zip(points, np.roll(points, -1, axis=0), strict=True)])


def _fill(picture: np.ndarray, local: np.ndarray, colour: np.ndarray) -> None:
    """A face, and once more a picture's width to either side where it runs over the seam."""
    w, h = SIZE
    lon = np.unwrap(np.arctan2(local[:, 0], -local[:, 2]))
    if abs(lon[-1] - lon[0]) > np.pi:  # round a pole: not drawn
        return
    lat = np.arctan2(local[:, 1], np.hypot(local[:, 0], local[:, 2]))
    for round_ in (-1, 0, 1):
        at = np.stack([(lon / (2 * np.pi) + 0.5 + round_) * w - 0.5, (0.5 - lat / np.pi) * h - 0.5], axis=1)
        if at[:, 0].max() >= -1 and at[:, 0].min() <= w:
            cv2.fillPoly(picture, [np.round(at * 16).astype(np.int32)], colour.tolist(), cv2.LINE_AA, 4)


def make_sphere(folder: Path, frames: np.ndarray | None = None) -> Path:
    """The camera's file and the plate below ``folder``; returns the file. ``frames`` are places, all where left out."""
    shot = raft()
    (folder / "plate").mkdir(parents=True, exist_ok=True)
    path = folder / "TW_060_camera_v001.usda"
    path.unlink(missing_ok=True)
    Writer(shot, path).write()
    world = camera_matrices(shot)
    for i in range(len(FRAMES)) if frames is None else frames.tolist():
        cv2.imwrite(str(folder / "plate" / f"TW_060_sphere.{FRAMES[i]}.png"), draw(world[i])[..., ::-1])
    return path


if __name__ == "__main__":
    print(make_sphere(Path(sys.argv[1] if len(sys.argv) > 1 else "demo/files/TW_060")))
