"""TW_050: a jib past the water wheel, anamorphic, with a plate drawn through its true lens: ``python demo/solve.py FOLDER``.

What a solver hands over lies in one folder: the shot camera, a second camera that stands for the undistorted picture,
the set, the plate as shot, and maps both ways. Everything is worked out here in plain numpy: nothing of the application
is asked, so that what it makes of these files can be held against them. Deterministic.
"""

from __future__ import annotations

import json
import sys
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from multiprocessing import get_context
from pathlib import Path

import cv2
import numpy as np
import OpenImageIO as oiio
from pxr import UsdGeom, UsdRender

from make_scenes import Shot, Writer, ease, head_for, matrices, shake, turn
from set_pieces import pieces

# The lens: on tangents of the squeezed picture, x divided by the squeeze (see docs/conventions.md, Distortion).
SQUEEZE = 2.0
A = (-0.19, -0.06, 0.03, 0.0, 0.01)
B = (-0.10, -0.12, 0.01, 0.02, 0.015)
ROTATION_DEG = 0.4
DISTORTION = {
    "model": "anamorphic",
    "squeeze": SQUEEZE,
    "rotation_deg": ROTATION_DEG,
    **{f"a{i}": v for i, v in enumerate(A, 1)},
    **{f"b{i}": v for i, v in enumerate(B, 1)},
}
PLATE = (768, 644)
FRAMES = np.arange(1001, 1097)
_WIDER, _LIGHT_TURNS = 1.3, 0.6
_GROUND = np.array([0.16, 0.19, 0.12])
_NEAR_M = 0.08


def jib() -> Shot:
    """Held for 16 frames, then down and past the wheel. Y up, centimetres, 2x squeeze, pixels twice as wide as high."""
    t = np.clip((FRAMES - 1017) / 79.0, 0, 1)
    n = len(FRAMES)
    base = matrices(np.stack([1.8 - 3.4 * ease(t), 0 * t, 5.6 - 2.6 * ease(t)], 1), turn("y", 0.15 - 0.3 * ease(t)))
    arm = matrices(np.stack([0 * t, 2.9 - 1.5 * ease(t), 0 * t], 1), np.tile(np.eye(3), (n, 1, 1)))
    target = np.stack([-4.4 - 1.2 * ease(t), 1.9 - 0.2 * ease(t), -4.6 + 0 * t], 1)
    head = head_for([base, arm], target)
    moving = t[:, None] > 0
    camera = matrices(shake(t * 4, 50, 0.008) * moving, turn("z", 0.004 * np.sin(t * 8)))
    return Shot(
        "TW_050", False, 0.01, 24.0, FRAMES,
        [("jib_base", base), ("jib_arm", arm), ("head", head), ("shotcam", camera)],
        np.array([40.0]), (21.0, 17.6), PLATE, 9.0 - 3.0 * ease(t), squeeze=SQUEEZE,
    )  # fmt: skip


def distorted(u: np.ndarray, v: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Tangents of the pinhole picture to those of the picture as shot."""
    c, s = np.cos(np.radians(ROTATION_DEG)), np.sin(np.radians(ROTATION_DEG))
    w = u / SQUEEZE
    x, y = c * w + s * v, c * v - s * w
    x2, y2 = x * x, y * y
    xd = x * (1 + A[0] * x2 + A[1] * y2 + A[2] * x2 * x2 + A[3] * x2 * y2 + A[4] * y2 * y2)
    yd = y * (1 + B[0] * x2 + B[1] * y2 + B[2] * x2 * x2 + B[3] * x2 * y2 + B[4] * y2 * y2)
    return SQUEEZE * (c * xd - s * yd), s * xd + c * yd


def undistorted(u: np.ndarray, v: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The inverse, by taking off what is too much until nothing is."""
    a, b = u.copy(), v.copy()
    for _ in range(60):
        x, y = distorted(a, b)
        a, b = a + (u - x), b + (v - y)
        if max(np.abs(u - x).max(), np.abs(v - y).max()) < 1e-12:
            break
    return a, b


def half_tangents(shot: Shot) -> tuple[float, float]:
    """Of the plate's pinhole picture, to the right and upward; the image takes the film back's width."""
    right = shot.film_mm[0] * shot.squeeze / 2 / float(shot.focal_mm[0])
    aspect = PLATE[0] * SQUEEZE / PLATE[1]
    return right, right / aspect


def camera_matrices(shot: Shot) -> np.ndarray:
    """Camera to world on every frame, (n, 4, 4), metres."""
    out = np.broadcast_to(np.eye(4), (len(shot.frames), 4, 4))
    for _, local in shot.rig:
        out = out @ local
    return out


class Painter:
    """The set's faces with a flat shade each, furthest first, as a pinhole camera sees them."""

    def __init__(self, shot: Shot) -> None:
        self.size = (round(PLATE[0] * _WIDER / 2) * 2, round(PLATE[1] * _WIDER / 2) * 2)
        right, up = half_tangents(shot)
        self.half = (right * self.size[0] / PLATE[0], up * self.size[1] / PLATE[1])
        random = np.random.default_rng(50)
        self.faces, self.shades = [], []
        for piece in pieces():
            albedo = random.uniform(0.25, 0.6) * np.array([1.0, random.uniform(0.75, 0.95), random.uniform(0.55, 0.85)])
            for face in piece.faces:
                self.faces.append(piece.points[face])
                self.shades.append(albedo)

    def draw(self, world: np.ndarray, share: float) -> np.ndarray:
        """A picture (h, w, 3) of linear light on one frame; the light goes round the set over the shot."""
        a = 2 * np.pi * _LIGHT_TURNS * share
        light = np.array([np.cos(a), 1.1, np.sin(a)])
        light /= np.linalg.norm(light)
        picture = np.empty((self.size[1], self.size[0], 3), dtype=np.float32)
        self._sky_and_ground(picture, world, light)
        seen = []
        for points, albedo in zip(self.faces, self.shades, strict=True):
            local = (points - world[:3, 3]) @ world[:3, :3]
            clipped = clip_near(local)
            if len(clipped) < 3:
                continue
            normal = np.cross(points[1] - points[0], points[2] - points[0])
            normal /= np.linalg.norm(normal)
            towards = normal if normal @ (world[:3, 3] - points[0]) > 0 else -normal
            lit = 0.18 + 0.9 * max(0.0, float(towards @ light))
            seen.append((float(np.linalg.norm(local.mean(axis=0))), clipped, albedo * lit))
        for _, local, colour in sorted(seen, key=lambda s: -s[0]):
            cv2.fillPoly(picture, [self._pixels(local)], colour.tolist(), cv2.LINE_AA, 4)
        return picture

    def _pixels(self, local: np.ndarray) -> np.ndarray:
        x = (local[:, 0] / -local[:, 2] / self.half[0] + 1) / 2 * self.size[0] - 0.5
        y = (1 - local[:, 1] / -local[:, 2] / self.half[1]) / 2 * self.size[1] - 0.5
        return np.round(np.clip(np.stack([x, y], axis=1), -30_000, 30_000) * 16).astype(np.int32)

    def _sky_and_ground(self, picture: np.ndarray, world: np.ndarray, light: np.ndarray) -> None:
        """Where the ground is seen: tiles of a metre, so that its motion shows; above it the sky."""
        wide, high = self.size[0] // 2, self.size[1] // 2
        u = ((np.arange(wide, dtype=np.float32) + 0.5) / wide * 2 - 1) * self.half[0]
        v = (1 - (np.arange(high, dtype=np.float32) + 0.5) / high * 2) * self.half[1]
        rays = np.stack(np.broadcast_arrays(u[None], v[:, None], -1.0), axis=-1).astype(np.float32)
        rays = rays @ world[:3, :3].T.astype(np.float32)
        down = rays[..., 1] < -1e-3
        with np.errstate(divide="ignore", invalid="ignore"):
            away = np.where(down, -world[1, 3] / rays[..., 1], 0)
        x, z = world[0, 3] + rays[..., 0] * away, world[2, 3] + rays[..., 2] * away
        tiles = ((np.floor(x) + np.floor(z)) % 2) * np.exp(-away / 25)
        haze = np.exp(-away / 60)[..., None]
        ground = (_GROUND * (0.4 + 0.6 * light[1])) * (1 + 0.35 * tiles[..., None])
        sky = np.array([0.45, 0.55, 0.7]) * (0.7 + 0.3 * np.clip(rays[..., 1:2], 0, 1))
        whole = np.where(down[..., None], ground * haze + np.array([0.4, 0.48, 0.58]) * (1 - haze), sky)
        picture[:] = cv2.resize(whole.astype(np.float32), self.size, interpolation=cv2.INTER_LINEAR)


def clip_near(local: np.ndarray) -> np.ndarray:
    """A face cut at a plane just before the camera."""
    out = []
    for a, b in zip(local, np.roll(local, -1, axis=0), strict=True):
        da, db = -a[2] - _NEAR_M, -b[2] - _NEAR_M
        if da >= 0:
            out.append(a)
        if da * db < 0:
            out.append(a + (b - a) * (da / (da - db)))
    return np.array(out)


def fetch_pixels(shot: Shot, painter: Painter) -> np.ndarray:
    """For every pixel of the plate, where it fetches in the painter's picture, (h, w, 2) from pixel middles."""
    right, up = half_tangents(shot)
    x, y = np.meshgrid(np.arange(PLATE[0]) + 0.5, np.arange(PLATE[1]) + 0.5)
    u, v = undistorted((x / PLATE[0] * 2 - 1) * right, (1 - y / PLATE[1] * 2) * up)
    return np.stack(
        [(u / painter.half[0] + 1) / 2 * painter.size[0] - 0.5, (1 - v / painter.half[1]) / 2 * painter.size[1] - 0.5], axis=-1
    ).astype(np.float32)  # fmt: skip


def make_plate(folder: Path, shot: Shot) -> list[Path]:
    """The plate as shot: the painter's pictures through the lens, with grain, as linear EXR."""
    folder.mkdir(parents=True, exist_ok=True)
    halves = np.array_split(np.arange(len(shot.frames)), 2)
    with ProcessPoolExecutor(2, mp_context=get_context("spawn")) as pool:
        made = pool.map(partial(draw_frames, folder, shot), halves)
        return [path for paths in made for path in paths]


def draw_frames(folder: Path, shot: Shot, some: np.ndarray) -> list[Path]:
    """Some of the frames, by their places in the shot."""
    cv2.setNumThreads(1)
    painter, world = Painter(shot), camera_matrices(shot)
    fetch = fetch_pixels(shot, painter)
    grain = np.random.default_rng(51).normal(0, 1, (PLATE[1] + 64, PLATE[0] + 64, 3)).astype(np.float32)
    starts = np.random.default_rng(52).integers(0, 64, (len(shot.frames), 2)).tolist()
    out = []
    for i in some.tolist():
        picture = painter.draw(world[i], i / (len(shot.frames) - 1))
        plate = cv2.remap(picture, fetch[..., 0], fetch[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        y, x = starts[i]
        plate += 0.01 * np.sqrt(np.clip(plate, 0.01, None)) * grain[y : y + PLATE[1], x : x + PLATE[0]]  # type: ignore[arg-type]
        path = folder / f"TW_050_plate.{shot.frames[i]}.exr"
        write_exr(path, plate, oiio.HALF, "dwaa:60")
        out.append(path)
    return out


def write_exr(path: Path, pixels: np.ndarray, depth: object, compression: str) -> None:
    spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], 3, depth)  # type: ignore[call-overload]
    spec.attribute("compression", compression)
    spec.attribute("PixelAspectRatio", SQUEEZE)
    spec.attribute("DateTime", "2000:01:01 00:00:00")
    out = oiio.ImageOutput.create(str(path))
    out.open(str(path), spec)  # type: ignore[union-attr]
    out.write_image(np.ascontiguousarray(pixels, dtype=np.float32))  # type: ignore[union-attr]
    out.close()  # type: ignore[union-attr]


def make_maps(folder: Path, shot: Shot, size: tuple[int, int]) -> list[Path]:
    """ST maps both ways between the plate and an undistorted picture of ``size`` about its middle."""
    folder.mkdir(parents=True, exist_ok=True)
    right, up = half_tangents(shot)
    wide, high = right * size[0] / PLATE[0], up * size[1] / PLATE[1]
    x, y = np.meshgrid((np.arange(size[0]) + 0.5) / size[0] * 2 - 1, 1 - (np.arange(size[1]) + 0.5) / size[1] * 2)
    u, v = distorted(x * wide, y * high)
    undistort = np.stack([(u / right + 1) / 2, (v / up + 1) / 2, 0 * u], axis=-1)
    x, y = np.meshgrid((np.arange(PLATE[0]) + 0.5) / PLATE[0] * 2 - 1, 1 - (np.arange(PLATE[1]) + 0.5) / PLATE[1] * 2)
    u, v = undistorted(x * right, y * up)
    distort = np.stack([(u / wide + 1) / 2, (v / high + 1) / 2, 0 * u], axis=-1)
    out = []
    for name, st in (("undistort", undistort), ("distort", distort)):
        out.append(folder / f"TW_050_{name}.exr")
        write_exr(out[-1], st, oiio.FLOAT, "zip")
    return out


# The undistorted picture of the bundle: what the plate needs, and a little more.
RENDER = (828, 692)


def make_scene(folder: Path, shot: Shot) -> Path:
    """The solver's file: the shot camera, and the second one that sees the undistorted picture with its overscan."""
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / "TW_050_camera_v001.usda"
    path.unlink(missing_ok=True)
    writer = Writer(shot, path)
    writer.write()
    stage = writer.stage
    parent = "/".join([writer.root, *(name for name, _ in shot.rig[:-1])])
    second = UsdGeom.Camera.Define(stage, f"{parent}/shotcam_undistort")
    local = shot.rig[-1][1]
    writer._ops(second, local[:, :3, 3], local[:, :3, :3])
    writer._lens(second)
    second.GetHorizontalApertureAttr().Set(shot.film_mm[0] * shot.squeeze * RENDER[0] / PLATE[0])
    second.GetVerticalApertureAttr().Set(shot.film_mm[1] * RENDER[1] / PLATE[1])
    UsdRender.Settings.Get(stage, f"{writer.root}/render/settings").CreatePixelAspectRatioAttr(SQUEEZE)
    stage.GetRootLayer().Save()
    return path


def make_solve(folder: Path, with_plate: bool = True) -> Path:
    """The whole bundle below ``folder``; returns the camera's file."""
    shot = jib()
    scene = make_scene(folder, shot)
    (folder / "TW_050_lens.json").write_text(json.dumps(DISTORTION, indent=1))
    make_maps(folder / "maps", shot, RENDER)
    if with_plate:
        make_plate(folder / "plate", shot)
    return scene


if __name__ == "__main__":
    print(make_solve(Path(sys.argv[1] if len(sys.argv) > 1 else "demo/files/TW_050")))
