"""Taking in, format by format: 10,000 frames of a camera under five animated parents.

Run with ``make bench``. Seconds depend on the machine; the ratios do not. "library" is the time the
format's own library takes, in the same run, to hand over the same samples: every local transform and
lens value, as Python or numpy values. "reader" is what Anaxis's reader takes over it, "bake" the
share of the reading that flattening takes. The last lines compare the guarded parser with reading in
this process.
"""

from __future__ import annotations

import csv
import sys
import time
from collections.abc import Callable
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT / "demo"))

from anaxis.core.scene.bake import bake_camera  # noqa: E402
from anaxis.formats import read_file  # noqa: E402
from anaxis.formats.gltf.data import _TYPES, _WIDTHS  # noqa: E402
from anaxis.sandbox.guard import ParserPool  # noqa: E402
from make_scenes import Shot, Writer, matrices  # noqa: E402
from other_formats import write_alembic, write_collada, write_columns, write_gltf  # noqa: E402
from sizes import sized  # noqa: E402

PARENTS = 5


def make_shot(frames: int) -> Shot:
    """Five animated parents and a camera, with a zoom."""
    from scipy.spatial.transform import Rotation

    random = np.random.default_rng(1)
    t = np.arange(frames) / 24.0
    rig = []
    for level in range(PARENTS + 1):
        speed, size = random.uniform(0.2, 2, (2, 3)), random.uniform(0.5, 2, 3)
        places = np.sin(t[:, None] * speed[0]) * size
        turns = Rotation.from_euler("XYZ", 10 * np.sin(t[:, None] * speed[1]), degrees=True).as_matrix()
        rig.append((f"level{level}" if level < PARENTS else "shotcam", matrices(places, turns)))
    return Shot(
        "BENCH", False, 0.01, 24.0, np.arange(1, frames + 1), rig, 30 + 5 * np.sin(t), (25.6, 14.4), (1920, 1080),
        5 + np.sin(t),
    )  # fmt: skip


def usd_alone(path: Path) -> None:
    from pxr import Usd, UsdGeom

    stage = Usd.Stage.Open(str(path))
    for prim in stage.Traverse():
        if not prim.IsA(UsdGeom.Xformable) or not UsdGeom.Xformable(prim).GetTimeSamples():
            continue
        xform = UsdGeom.Xformable(prim)
        for code in xform.GetTimeSamples():
            xform.GetLocalTransformation(code)
        if prim.IsA(UsdGeom.Camera):
            camera = UsdGeom.Camera(prim)
            for attr in (camera.GetFocalLengthAttr(), camera.GetFocusDistanceAttr()):
                query = Usd.AttributeQuery(attr)
                for code in query.GetTimeSamples():
                    query.Get(code)


def alembic_alone(path: Path) -> None:
    from alembic3d import Abc, AbcGeom

    def walk(entry: object) -> None:
        for i in range(entry.getNumChildren()):  # type: ignore[attr-defined]
            child = entry.getChild(i)  # type: ignore[attr-defined]
            metadata = child.getMetaData()
            if AbcGeom.IXform.matches(metadata):
                schema = AbcGeom.IXform(entry, child.getName()).getSchema()
                for k in range(schema.getNumSamples()):
                    matrix = schema.getValue(Abc.ISampleSelector(schema.getTimeSampling().getSampleTime(k))).getMatrix()
                    [matrix[r] for r in range(4)]
            elif AbcGeom.ICamera.matches(metadata):
                schema = AbcGeom.ICamera(entry, child.getName()).getSchema()
                for k in range(schema.getNumSamples()):
                    sample = schema.getValue(Abc.ISampleSelector(schema.getTimeSampling().getSampleTime(k)))
                    [sample.getCoreValue(c) for c in range(16)]
            walk(child)

    walk(Abc.IArchive(str(path)).getTop())


def gltf_alone(path: Path) -> None:
    """pygltflib opens the file; it has no decoder, so numpy reads the accessors as it shows how to."""
    from pygltflib import GLTF2
    from scipy.spatial.transform import Rotation

    document = GLTF2.load(str(path))
    blob = document.binary_blob()
    arrays = []
    for accessor in document.accessors:
        view = document.bufferViews[accessor.bufferView]
        kind = np.dtype(_TYPES[accessor.componentType])
        count = accessor.count * _WIDTHS[accessor.type]
        arrays.append(np.frombuffer(blob, kind, count, view.byteOffset + (accessor.byteOffset or 0)).astype(np.float64))
    for animation in document.animations:
        for channel in animation.channels:
            if channel.target.path == "rotation":
                Rotation.from_quat(arrays[animation.samplers[channel.sampler].output].reshape(-1, 4)).as_matrix()


def collada_alone(path: Path) -> None:
    from collada import Collada

    for animation in Collada(str(path)).animations:
        for source in animation.sourceById.values():
            getattr(source, "data", None)


def columns_alone(path: Path) -> None:
    with path.open(newline="") as source:
        np.array([[float(c) for c in row] for row in csv.reader(source, delimiter=" ")])


def timed(what: Callable[[], object], times: int = 5) -> float:
    """The best of a few runs, in seconds."""
    best = np.inf
    for _ in range(times):
        began = time.perf_counter()
        what()
        best = min(best, time.perf_counter() - began)
    return float(best)


def main() -> None:
    frames = int(sys.argv[1]) if len(sys.argv) > 1 else sized(10_000, 24)
    shot = make_shot(frames)
    print(f"\n{frames} frames, {PARENTS} animated parents\n")
    print(f"  {'format':10}{'library':>10}{'reader':>10}{'ratio':>8}{'bake':>10}{'of reading':>12}")
    with TemporaryDirectory() as name:
        folder = Path(name)
        made: list[tuple[str, Path, Callable[[Path], None], Callable[[Shot, Path], None]]] = [
            ("USD", folder / "c.usdc", usd_alone, lambda s, p: Writer(s, p).write()),
            ("Alembic", folder / "c.abc", alembic_alone, write_alembic),
            ("glTF", folder / "c.glb", gltf_alone, write_gltf),
            ("COLLADA", folder / "c.dae", collada_alone, write_collada),
            ("columns", folder / "c.txt", columns_alone, write_columns),
        ]
        for label, path, alone, write in made:
            write(shot, path)
            read_file(path)  # warm: imports and file cache count for nobody
            library = timed(lambda p=path, a=alone: a(p))  # type: ignore[misc]
            reader = timed(lambda p=path: read_file(p))  # type: ignore[misc]
            scene = read_file(path)
            bake = timed(lambda s=scene: bake_camera(s))  # type: ignore[misc]
            print(
                f"  {label:10}{library:9.3f} s{reader:9.3f} s{reader / library:8.2f}{bake:9.3f} s{bake / reader:12.1%}"
            )
        guarded(folder)


def guarded(folder: Path) -> None:
    """A small file read here, and in a process apart: its readers loaded before, and loaded for it."""
    path = folder / "small.usda"
    Writer(make_shot(24), path).write()
    here = timed(lambda: read_file(path), 10)
    pool = ParserPool()
    pool.read(path)  # until it has its libraries
    warm = timed(lambda: pool.read(path), 10)
    pool.close()
    cold = timed(lambda: ParserPool(ready=False).read(path), 2)
    print(
        f"\n  a small file: {here * 1000:.0f} ms here, {(warm - here) * 1000:+.0f} ms apart, {(cold - here) * 1000:+.0f} ms apart with all readers to load"
    )


if __name__ == "__main__":
    main()
