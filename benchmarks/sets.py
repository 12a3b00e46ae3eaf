"""A set of many objects, read, written and proved: Anaxis beside the USD library's own reading and writing of the same arrays.

Run with ``make bench``. Seconds depend on the machine; the ratios do not. Half of the objects are as many again of those that
move on every frame.
"""

from __future__ import annotations

import resource
import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, Vt

from anaxis.core.scene.picture import picture_of
from anaxis.delivery.set_files import set_files
from anaxis.formats import read_file
from anaxis.library.sending import going_out
from anaxis.packages import find_profile
from sizes import sized

SIDE = sized(40, 4)  # quads along the side of an object
OBJECTS, MOVING, FRAMES = sized((500, 200, 240), (6, 2, 5))


def write_source(path: Path) -> None:
    """Objects that are grids of quads before a camera, written with the library alone."""
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, "Y")
    UsdGeom.SetStageMetersPerUnit(stage, 1)
    stage.SetTimeCodesPerSecond(24)
    stage.SetStartTimeCode(1)
    stage.SetEndTimeCode(FRAMES)
    camera = UsdGeom.Camera.Define(stage, "/cam")
    moved = UsdGeom.Xformable(camera).AddTranslateOp()
    for f in range(1, FRAMES + 1):
        moved.Set(Gf.Vec3d(f / 50, 1, 30), f)
    grid = np.stack(np.meshgrid(np.arange(SIDE + 1), np.arange(SIDE + 1)), axis=-1).reshape(-1, 2) / SIDE
    points = np.column_stack([grid, 0.1 * np.sin(grid.sum(axis=1) * 9)]).astype(np.float32)
    first = (np.arange(SIDE)[:, None] * (SIDE + 1) + np.arange(SIDE)).reshape(-1)
    corners = np.stack([first, first + 1, first + SIDE + 2, first + SIDE + 1], axis=1).astype(np.int32)
    for i in range(OBJECTS):
        mesh = UsdGeom.Mesh.Define(stage, f"/set/piece_{i:03}")
        mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(points))
        mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(SIDE * SIDE, 4, dtype=np.int32)))
        mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(corners.reshape(-1)))
        place = UsdGeom.Xformable(mesh).AddTranslateOp()
        where = Gf.Vec3d(i % 20 - 10, i // 20 - 5, 0)
        if i < MOVING:
            for f in range(1, FRAMES + 1):
                place.Set(where + Gf.Vec3d(0.01 * f, 0, 0), f)
        else:
            place.Set(where)
    stage.Save()


def library_reads(path: Path) -> dict[str, tuple[np.ndarray, np.ndarray, np.ndarray]]:
    """Points, corners and every frame's place of each mesh, as the library hands them over."""
    stage, out = Usd.Stage.Open(Sdf.Layer.OpenAsAnonymous(str(path))), {}
    cache = UsdGeom.XformCache()
    meshes = [p for p in stage.Traverse() if p.IsA(UsdGeom.Mesh)]
    places: dict[str, list[np.ndarray]] = {p.GetName(): [] for p in meshes}
    for frame in range(1, FRAMES + 1):
        cache.SetTime(frame)
        for prim in meshes:
            if frame == 1 or UsdGeom.Xformable(prim).GetTimeSamples():
                places[prim.GetName()].append(np.array(cache.GetLocalToWorldTransform(prim)))
    for prim in meshes:
        mesh = UsdGeom.Mesh(prim)
        held = (mesh.GetPointsAttr().Get(1), mesh.GetFaceVertexIndicesAttr().Get())
        out[prim.GetName()] = (
            np.asarray(held[0], dtype=np.float64),
            np.asarray(held[1]),
            np.stack(places[prim.GetName()]),
        )
    return out


def library_writes(path: Path, held: dict[str, tuple[np.ndarray, np.ndarray, np.ndarray]]) -> None:
    stage = Usd.Stage.CreateNew(str(path))
    for name, (points, corners, places) in held.items():
        mesh = UsdGeom.Mesh.Define(stage, f"/set/{name}")
        mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(points.astype(np.float32)))
        mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(corners))
        mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(len(corners) // 4, 4, dtype=np.int32)))
        moved = mesh.AddTransformOp()
        for i, place in enumerate(places):
            moved.Set(Gf.Matrix4d(place.tolist()), Usd.TimeCode(i + 1) if len(places) > 1 else Usd.TimeCode.Default())
    stage.Save()


def timed(function: object, *args: object) -> tuple[float, object]:
    begun = time.perf_counter()
    value = function(*args)  # type: ignore[operator]
    return time.perf_counter() - begun, value


def main() -> int:
    with TemporaryDirectory(prefix="anaxis-bench-") as folder:
        path = Path(folder) / "set.usdc"
        write_source(path)
        faces = OBJECTS * SIDE * SIDE
        alone, held = timed(library_reads, path)
        ours, scene = timed(read_file, path)
        print(f"a set of {OBJECTS} objects, {MOVING} moving on {FRAMES} frames, {faces:,} faces")
        print(f"  read:    library {alone:.2f} s, Anaxis {ours:.2f} s, x {ours / alone:.1f}")
        wrote, _ = timed(library_writes, Path(folder) / "alone.usdc", held)
        baked, going = timed(going_out, scene, None, (), picture_of(scene, None, None))  # type: ignore[arg-type]
        profile = find_profile("zup-lh-cm")
        again, made = timed(set_files, going.leaving, profile, 1.0)  # type: ignore[attr-defined]
        print(f"  placed:  {baked:.2f} s")
        print(
            f"  written in two formats, read back and proved: {again:.2f} s, x {again / (wrote + alone):.1f} of the library's writing and reading"
        )
        worst = max(p.max_px for p in made.proofs if p.max_px is not None)  # type: ignore[attr-defined]
        peak_mb = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(f"  at most {worst:.6f} px off; memory at most {peak_mb:.0f} MB")
    return 0


if __name__ == "__main__":
    sys.exit(main())
