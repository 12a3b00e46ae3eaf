"""The whole road for 240, 2,400 and 24,000 frames, split by step, beside what usd-core alone needs.

Run with ``make bench``. Seconds depend on the machine; the ratio in the last column does not: it is
the step's time over the time usd-core takes, in the same run, to hand over the same samples (every
local matrix and lens value of the chain at every frame).
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TypeVar

import numpy as np
from pxr import Gf, Usd, UsdGeom

from anaxis.core.camera.projection import projection_of
from anaxis.core.checks.examine import examine
from anaxis.core.proof.proof import prove
from anaxis.core.scene.bake import bake_camera
from anaxis.core.scene.picture import picture_of
from anaxis.core.scene.surroundings import landmarks_of
from anaxis.delivery.deliver import file_stem
from anaxis.delivery.ready import prepare
from anaxis.formats import read_file, write_files
from anaxis.packages import shipped_profiles
from anaxis.standin.package import open_as_package
from sizes import sized

T = TypeVar("T")
PARENTS = 5


def make_file(path: Path, frames: int) -> None:
    """A camera under five animated parents with an animated focal length, and ten landmarks."""
    random = np.random.default_rng(1)
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, "Y")
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    stage.SetTimeCodesPerSecond(24)
    where = ""
    for level in range(PARENTS + 1):
        where += f"/n{level}"
        prim = UsdGeom.Camera.Define(stage, where) if level == PARENTS else UsdGeom.Xform.Define(stage, where)
        move = prim.AddTranslateOp(UsdGeom.XformOp.PrecisionDouble)
        turn = prim.AddRotateXYZOp(UsdGeom.XformOp.PrecisionDouble)
        places, angles = random.normal(0, 50, (frames, 3)), random.normal(0, 2, (frames, 3))
        for f in range(frames):
            move.Set(Gf.Vec3d(*places[f]), f)
            turn.Set(Gf.Vec3d(*angles[f]), f)
    camera = UsdGeom.Camera(stage.GetPrimAtPath(where))
    camera.CreateHorizontalApertureAttr(25.6)
    camera.CreateVerticalApertureAttr(14.4)
    focal = camera.CreateFocalLengthAttr()
    for f in range(frames):
        focal.Set(float(30 + f / frames), f)
    for i in range(10):
        mark = UsdGeom.Xform.Define(stage, f"/marks/m{i}")
        mark.AddTranslateOp().Set(Gf.Vec3d(*random.normal(0, 300, 3)))
    stage.GetRootLayer().Save()


def library_alone(path: Path, frames: int) -> None:
    """usd-core handing over the same samples: open, six matrices and a focal length a frame."""
    stage = Usd.Stage.Open(str(path))
    where = ""
    for level in range(PARENTS + 1):
        where += f"/n{level}"
        xform = UsdGeom.Xformable(stage.GetPrimAtPath(where))
        for f in range(frames):
            xform.GetLocalTransformation(float(f))
    focal = Usd.AttributeQuery(UsdGeom.Camera(stage.GetPrimAtPath(where)).GetFocalLengthAttr())
    for f in range(frames):
        focal.Get(float(f))


def timed(what: Callable[[], T]) -> tuple[float, T]:
    began = time.perf_counter()
    value = what()
    return time.perf_counter() - began, value


def run(frames: int) -> None:
    with TemporaryDirectory() as folder:
        path = Path(folder) / "camera.usdc"
        make_file(path, frames)
        profile = shipped_profiles()["zup-lh-cm"]
        examine(read_file(path))  # warm: imports and file cache count for nobody
        library, _ = timed(lambda: library_alone(path, frames))
        steps: list[tuple[str, float]] = []

        def step(name: str, what: Callable[[], T]) -> T:
            seconds, value = timed(what)
            steps.append((name, seconds))
            return value

        scene = step("read", lambda: read_file(path))
        track = step("bake", lambda: bake_camera(scene)).track
        step("check", lambda: examine(scene))
        marks = landmarks_of(scene, track.frames)
        picture = picture_of(scene, None, None)
        outgoing = prepare(track, marks, picture, profile)
        step("convert", lambda: outgoing.numbers())
        files = step("write", lambda: write_files("usd", [outgoing], Path(folder), file_stem("c", profile.key)))
        seen = step("read back", lambda: open_as_package(files[0], profile, picture.image))
        proof = step(
            "measure",
            lambda: prove(track, projection_of(track, picture.image, picture.fit), seen.projection, marks.position_m),
        )
        print(f"\n{frames} frames, {proof.test_points} test points each, worst {proof.max_px:.2g} px")
        print(f"  {'usd-core alone':16}{library:9.3f} s   1.00")
        for name, seconds in steps:
            print(f"  {name:16}{seconds:9.3f} s {seconds / library:6.2f}")
        total = sum(s for _, s in steps)
        print(f"  {'all of it':16}{total:9.3f} s {total / library:6.2f}")


if __name__ == "__main__":
    for count in [int(a) for a in sys.argv[1:]] or sized([240, 2_400, 24_000], [24]):
        run(count)
