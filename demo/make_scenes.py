"""Makes the demo files with usd-core and numpy alone: ``python demo/make_scenes.py FOLDER``.

Four shots of The Tidewright, a made-up short film about a tidal mill. The same set stands in every
file, in that file's axes and unit; each shot has one thing about it that a camera can go wrong on.
Deterministic: the same files every time.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, UsdRender

from set_pieces import LANDMARKS, Piece, pieces

# Canonical axes (Y up) to Z up: right stays, up becomes +Z, back becomes -Y.
Z_UP = np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]])


@dataclass
class Shot:
    """``rig`` lists (name, (n, 4, 4) local matrices), outermost first, the camera last."""

    name: str
    z_up: bool
    metres_per_unit: float
    rate: float
    frames: np.ndarray
    rig: list[tuple[str, np.ndarray]]
    focal_mm: np.ndarray
    film_mm: tuple[float, float]
    resolution: tuple[int, int]
    focus_m: np.ndarray
    squeeze: float = 1.0
    offset_mm: tuple[float, float] = (0.0, 0.0)
    lens_as_millimetres: bool = False


def matrices(position: np.ndarray, rotation: np.ndarray) -> np.ndarray:
    n = max(len(position), len(rotation))
    out = np.tile(np.eye(4), (n, 1, 1))
    out[:, :3, :3], out[:, :3, 3] = rotation, position
    return out


def turn(axis: str, angle: np.ndarray) -> np.ndarray:
    u, v = {"x": (1, 2), "y": (2, 0), "z": (0, 1)}[axis]
    out = np.tile(np.eye(3), (len(angle), 1, 1))
    out[:, u, u] = out[:, v, v] = np.cos(angle)
    out[:, v, u], out[:, u, v] = np.sin(angle), -np.sin(angle)
    return out


def look_at(position: np.ndarray, target: np.ndarray) -> np.ndarray:
    """Rotations whose -Z looks from ``position`` to ``target``, +Y up."""
    back = position - target
    back /= np.linalg.norm(back, axis=1, keepdims=True)
    right = np.cross([0.0, 1.0, 0.0], back)
    right /= np.linalg.norm(right, axis=1, keepdims=True)
    return np.stack([right, np.cross(back, right), back], axis=2)


def ease(t: np.ndarray) -> np.ndarray:
    return t * t * (3 - 2 * t)


def shake(t: np.ndarray, seed: int, size: float, waves: int = 9) -> np.ndarray:
    """A smooth unsteady motion (n, 3): sines of unrelated speeds."""
    random = np.random.default_rng(seed)
    speed, phase = random.uniform(1.5, 11, (waves, 3)), random.uniform(0, 2 * np.pi, (waves, 3))
    return size * np.mean(np.sin(t[:, None, None] * speed + phase) * 3 / speed, axis=1)


def head_for(outer: list[np.ndarray], target: np.ndarray) -> np.ndarray:
    """The head's local matrix that makes it look at ``target``, given the parents above it."""
    world = outer[0]
    for m in outer[1:]:
        world = world @ m
    wanted = matrices(world[:, :3, 3], look_at(world[:, :3, 3], target))
    return np.linalg.inv(world) @ wanted


def crane() -> Shot:
    """TW_010: a crane rises over the sluice gate. Y up, centimetres, three animated parents."""
    frames = np.arange(1001, 1121)
    t = (frames - frames[0]) / 119.0
    base = matrices(np.stack([np.linspace(1.5, -0.5, 120), 0 * t, 12.5 + 0 * t], 1), turn("y", 0.35 - 0.6 * ease(t)))
    arm = matrices(np.stack([0 * t, 1.2 + 0 * t, 0 * t], 1), turn("x", 0.05 + 0.75 * ease(t)))
    reach = matrices(np.stack([0 * t, 0.3 + 0 * t, -4.0 - 1.2 * ease(t)], 1), np.tile(np.eye(3), (120, 1, 1)))
    target = np.stack([0.8 * t, 1.6 - 0.9 * ease(t), -0.5 - 2 * t], 1)
    head = head_for([base, arm, reach], target)
    camera = matrices(shake(t * 5, 10, 0.01), turn("z", 0.01 * np.sin(t * 9)))
    return Shot(
        "TW_010", False, 0.01, 24.0, frames,
        [("crane_base", base), ("crane_arm", arm), ("crane_reach", reach), ("head", head), ("shotcam", camera)],
        np.array([32.0]), (25.6, 14.4), (1920, 1080), np.linspace(7.5, 11.0, 120),
    )  # fmt: skip


def rail() -> Shot:
    """TW_020: along the mill race on a rail, zooming. Z up, metres."""
    frames = np.arange(1, 241)
    t = (frames - 1) / 239.0
    track = matrices(np.stack([1.5 + 0 * t, 0 * t, 5.0 - 9 * ease(t)], 1), np.tile(np.eye(3), (240, 1, 1)))
    dolly = matrices(np.stack([0 * t, 1.5 + 0.15 * np.sin(t * 4), 0 * t], 1), turn("y", 0.2 * np.sin(t * 3)))
    target = np.stack([-6.2 + 0 * t, 1.8 + 0 * t, -5.0 + 0 * t], 1)
    head = head_for([track, dolly], target + shake(t * 4, 20, 0.05))
    camera = matrices(np.zeros((1, 3)), np.eye(3)[None])
    return Shot(
        "TW_020", True, 1.0, 25.0, frames,
        [("rail", track), ("dolly", dolly), ("head", head), ("shotcam", camera)],
        24.0 + 26.0 * ease(t), (24.89, 14.0), (1920, 1080), np.linalg.norm([7.7, 0.3, 6.0]) + 0 * t,
        offset_mm=(0.0, 0.6),
    )  # fmt: skip


def kite() -> Shot:
    """TW_030: a kite carries the camera round the tide bell. Z up, centimetres, 2x squeeze."""
    frames = np.arange(1001, 1401)
    t = (frames - frames[0]) / 399.0
    a = 2 * np.pi * 1.25 * t
    bell = np.array(LANDMARKS["tide_bell"])
    anchor = matrices(bell[None] - [[0, 1.0, 0]], np.eye(3)[None])
    line = matrices(np.zeros((1, 3)), turn("y", a))
    kite_ = matrices(
        np.stack([0 * t, 2.5 + 2.2 * np.sin(a * 0.6), 7.5 + 1.5 * np.cos(a * 0.8)], 1) + shake(t * 16, 30, 0.12),
        turn("z", 0.12 * np.sin(a * 2)),
    )
    target = bell + shake(t * 8, 31, 0.2)
    anchor, line = (np.broadcast_to(m, (400, 4, 4)).copy() for m in (anchor, line))
    head = head_for([anchor, line, kite_], target)
    camera = matrices(np.zeros((1, 3)), turn("z", 0.1 * np.sin(a * 1.5)))
    return Shot(
        "TW_030", True, 0.01, 24.0, frames,
        [("anchor", anchor[:1]), ("line", line), ("kite", kite_), ("head", head), ("shotcam", camera)],
        np.array([50.0]), (21.95, 18.6), (2048, 858), 7.9 + 0 * t, squeeze=2.0,
    )  # fmt: skip


def walk(newer: bool = False) -> Shot:
    """TW_040: hand-held through the wheel house. Y up, metres, lens lengths wrongly in millimetres.

    The ``newer`` export is 12 frames longer and looks round at the end.
    """
    frames = np.arange(1, 173 if newer else 161)
    t = (frames - 1) / 159.0
    path = np.stack([-2.5 - 4.0 * t, 0 * t, 3.5 - 4.5 * t + 0.4 * np.sin(t * 5)], 1)
    body = matrices(path, turn("y", 0.3 * np.sin(t * 4)))
    step = matrices(
        np.stack([0.03 * np.sin(t * 40), 1.62 + 0.035 * np.abs(np.sin(t * 40)), 0 * t], 1),
        np.tile(np.eye(3), (len(t), 1, 1)),
    )
    target = np.stack([-7.5 + 1.5 * t, 1.9 - 0.2 * t, -5.5 + 0 * t], 1)
    if newer:
        target[:, 0] += 0.8 * ease(np.clip((t - 0.6) / 0.4, 0, 1))
    hand = head_for([body, step], target + shake(t * 7, 40, 0.25))
    camera = matrices(shake(t * 14, 41, 0.015), turn("z", 0.04 * np.sin(t * 11)))
    return Shot(
        "TW_040", False, 1.0, 24000 / 1001, frames,
        [("body", body), ("step", step), ("hand", hand), ("shotcam", camera)],
        np.array([27.0]), (36.0, 20.25), (1920, 1080), 4.0 + 2 * np.sin(t * 3), lens_as_millimetres=True,
    )  # fmt: skip


SHOTS: tuple[Callable[[], Shot], ...] = (crane, rail, kite, walk)


class Writer:
    def __init__(self, shot: Shot, path: Path) -> None:
        self.shot, self.path = shot, path
        self.axes = Z_UP if shot.z_up else np.eye(3)
        self.stage = Usd.Stage.CreateNew(str(path))
        self.root = f"/{shot.name}"

    def write(self) -> None:
        stage, shot = self.stage, self.shot
        UsdGeom.SetStageUpAxis(stage, "Z" if shot.z_up else "Y")
        UsdGeom.SetStageMetersPerUnit(stage, shot.metres_per_unit)
        stage.SetTimeCodesPerSecond(shot.rate)
        stage.SetFramesPerSecond(shot.rate)
        stage.SetStartTimeCode(float(shot.frames[0]))
        stage.SetEndTimeCode(float(shot.frames[-1]))
        stage.SetDefaultPrim(UsdGeom.Xform.Define(stage, self.root).GetPrim())
        self._rig()
        for name, at in LANDMARKS.items():
            mark = UsdGeom.Xform.Define(stage, f"{self.root}/landmarks/{name}")
            mark.AddTranslateOp(UsdGeom.XformOp.PrecisionDouble).Set(Gf.Vec3d(*self._place(np.array(at))))
        for piece in pieces():
            self._piece(piece)
        settings = UsdRender.Settings.Define(stage, f"{self.root}/render/settings")
        settings.CreateResolutionAttr(Gf.Vec2i(*shot.resolution))
        stage.SetMetadata("renderSettingsPrimPath", f"{self.root}/render/settings")
        stage.GetRootLayer().Save()

    def _place(self, points: np.ndarray) -> list:
        return (points @ self.axes.T / self.shot.metres_per_unit).tolist()

    def _rig(self) -> None:
        path = self.root
        for name, local in self.shot.rig:
            path += f"/{name}"
            if name == "shotcam":
                camera = UsdGeom.Camera.Define(self.stage, path)
                # The camera's own axes are the standard's, whatever the world's are.
                self._ops(camera, local[:, :3, 3], self.axes @ local[:, :3, :3])
                self._lens(camera)
            else:
                rotation = self.axes @ local[:, :3, :3] @ self.axes.T
                self._ops(UsdGeom.Xform.Define(self.stage, path), local[:, :3, 3], rotation)

    def _ops(self, xform: UsdGeom.Xformable, position: np.ndarray, rotation: np.ndarray) -> None:
        angles = np.degrees(np.unwrap(np.stack([
            np.arctan2(rotation[:, 2, 1], rotation[:, 2, 2]),
            np.arcsin(np.clip(-rotation[:, 2, 0], -1, 1)),
            np.arctan2(rotation[:, 1, 0], rotation[:, 0, 0]),
        ], axis=1), axis=0))  # fmt: skip
        double = UsdGeom.XformOp.PrecisionDouble
        self._samples(xform.AddTranslateOp(double).GetAttr(), [Gf.Vec3d(*p) for p in self._place(position)])
        self._samples(xform.AddRotateXYZOp(double).GetAttr(), [Gf.Vec3d(*a) for a in angles.tolist()])

    def _samples(self, attr: Usd.Attribute, values: list) -> None:
        if all(v == values[0] for v in values):
            attr.Set(values[0])
            return
        for frame, value in zip(self.shot.frames.tolist(), values, strict=True):
            attr.Set(value, float(frame))

    def _lens(self, camera: UsdGeom.Camera) -> None:
        shot = self.shot
        tenths = 1.0 if shot.lens_as_millimetres else 0.01 / shot.metres_per_unit
        self._samples(camera.CreateFocalLengthAttr(), [float(f * tenths) for f in shot.focal_mm])
        camera.CreateHorizontalApertureAttr(shot.film_mm[0] * shot.squeeze * tenths)
        camera.CreateVerticalApertureAttr(shot.film_mm[1] * tenths)
        camera.CreateHorizontalApertureOffsetAttr(shot.offset_mm[0] * tenths)
        camera.CreateVerticalApertureOffsetAttr(shot.offset_mm[1] * tenths)
        self._samples(camera.CreateFocusDistanceAttr(), [float(f / shot.metres_per_unit) for f in shot.focus_m])
        camera.CreateFStopAttr(4.0)
        camera.CreateClippingRangeAttr(Gf.Vec2f(0.1 / shot.metres_per_unit, 500.0 / shot.metres_per_unit))
        if shot.squeeze != 1:
            attr = camera.GetPrim().CreateAttribute("anaxis:squeeze", Sdf.ValueTypeNames.Double, custom=True)
            attr.Set(shot.squeeze)

    def _piece(self, piece: Piece) -> None:
        path = f"{self.root}/set/{piece.name}"
        points = [Gf.Vec3f(*p) for p in self._place(piece.points)]
        if piece.faces:
            mesh = UsdGeom.Mesh.Define(self.stage, path)
            mesh.CreatePointsAttr(points)
            mesh.CreateFaceVertexCountsAttr([len(f) for f in piece.faces])
            mesh.CreateFaceVertexIndicesAttr([i for f in piece.faces for i in f])
            mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
        else:
            curve = UsdGeom.BasisCurves.Define(self.stage, path)
            curve.CreateTypeAttr(UsdGeom.Tokens.linear)
            curve.CreatePointsAttr(points)
            curve.CreateCurveVertexCountsAttr([len(points)])


def make_all(folder: Path) -> list[Path]:
    """Write the four files into ``folder``; returns their paths in shot order."""
    folder.mkdir(parents=True, exist_ok=True)
    out = []
    for make in SHOTS:
        shot = make()
        path = folder / f"{shot.name}_camera_v001.usda"
        path.unlink(missing_ok=True)
        Writer(shot, path).write()
        out.append(path)
    return out


def make_newer(folder: Path) -> Path:
    """The newer export of TW_040, as version 2."""
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / "TW_040_camera_v002.usda"
    path.unlink(missing_ok=True)
    Writer(walk(newer=True), path).write()
    return path


if __name__ == "__main__":
    for written in make_all(Path(sys.argv[1] if len(sys.argv) > 1 else "demo/files")):
        print(written)
