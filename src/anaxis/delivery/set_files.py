"""The set that goes along with a camera: objects with their faces, in the receiver's axes and unit, read back and measured.

USD holds every object and its motion; OBJ holds what stands still. What a package does to files on arrival is compensated in
USD as in the camera's own file.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any, NamedTuple

import numpy as np

from anaxis.core.camera.projection import projection_of
from anaxis.core.motion.set_objects import SetObject
from anaxis.core.names import listed
from anaxis.core.outgoing import Outgoing
from anaxis.core.scene.landmarks import Landmarks, node_name
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import format_frame, plain_frame
from anaxis.core.typing import Floats, Ints
from anaxis.delivery.ready import compensate, prepare
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.formats.file_axes import FileAxes, file_axes
from anaxis.packages.model import Profile
from anaxis.standin.set_usd import set_points

# Points that are projected on all frames together, over all objects.
_MOST_PROJECTED = 4_000_000
_NEAR_M = 1e-3


class ObjectProof(NamedTuple):
    """By how many pixels the points of an object that was read back are off at most, and at which frame; None where the camera
    never sees one of them."""

    name: str
    file: str
    faces: int
    points: int
    moves: bool
    max_px: float | None
    worst_frame: float | None

    def document(self) -> dict[str, Any]:
        worst = None if self.worst_frame is None else plain_frame(self.worst_frame)
        return {**self._asdict(), "worst_frame": worst}


@dataclass(frozen=True)
class SetFiles:
    """The files of a set by name, what was measured of each object, and sentences about both."""

    entries: dict[str, bytes] = field(default_factory=dict)
    proofs: tuple[ObjectProof, ...] = ()
    notes: tuple[str, ...] = ()


def set_files(camera: ShotCamera, profile: Profile, first: float) -> SetFiles:
    """The files for one package, whose camera begins at frame ``first`` there."""
    objects = camera.objects
    if not objects:
        return SetFiles()
    taken: set[str] = set()
    names = [node_name(o.name, taken) for o in objects]
    axes = file_axes("usd", profile.convention)
    matrices, frames = _posed(camera, profile, first, axes.convention)
    rate = float(camera.track.rate)
    with TemporaryDirectory(prefix="anaxis-set-") as folder:
        path = Path(folder) / "set.usdc"
        _write_usd(path, list(zip(names, objects, matrices, strict=True)), frames, rate, axes)
        layer, back = path.read_bytes(), set_points(path, frames)
    proofs = _proved(camera, names, matrices, axes.convention, back)
    still = [(n, o) for n, o in zip(names, objects, strict=True) if not o.moves]
    entries = {"set/set.usdc": layer}
    if still:
        entries["set/set.obj"] = _obj(still, profile.convention)
    return SetFiles(entries, proofs, tuple(_notes(names, objects, proofs)))


def _posed(camera: ShotCamera, profile: Profile, first: float, there: Convention) -> tuple[list[Floats], Floats]:
    """Each object's matrix (1 or n, 4, 4) in a file's axes and unit, and the frames in the file.

    The origin and the three arms of an object go the way of landmarks, so that what is done to these for the package is done
    to the object.
    """
    cross = np.concatenate([np.zeros((1, 3)), np.eye(3)])
    posed: dict[int, Floats] = {}
    frames = camera.track.frames
    for moving in (False, True):
        which = [i for i, o in enumerate(camera.objects) if (len(o.matrix_m) > 1) is moving]
        if not which:
            continue
        arms = [
            cross @ np.swapaxes(m[:, :3, :3], 1, 2) + m[:, None, :3, 3]
            for m in (camera.objects[i].matrix_m for i in which)
        ]
        named = tuple(f"{i}.{k}" for i in which for k in range(4))
        outgoing = prepare(camera.track, Landmarks(named, np.concatenate(arms, axis=1)), camera.picture, profile, first)
        sent: Outgoing = compensate(outgoing, profile, "usd")[0]
        frames = sent.track.frames
        places = there.position_from_canonical(sent.landmarks.position_m).reshape(-1, len(which), 4, 3)
        for k, i in enumerate(which):
            matrix = np.zeros((len(places), 4, 4))
            matrix[:, :3, :3] = np.swapaxes(places[:, k, 1:] - places[:, k, :1], 1, 2)
            matrix[:, :3, 3], matrix[:, 3, 3] = places[:, k, 0], 1.0
            posed[i] = matrix
    return [posed[i] for i in range(len(camera.objects))], frames


def _write_usd(
    path: Path, objects: Sequence[tuple[str, SetObject, Floats]], frames: Floats, rate: float, axes: FileAxes
) -> None:
    """All objects below /set, meshes with their faces, in one layer."""
    from pxr import Gf, Usd, UsdGeom, Vt  # takes longer to load than most pages take

    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, axes.up or "Y")
    UsdGeom.SetStageMetersPerUnit(stage, axes.convention.metres_per_unit)
    stage.SetTimeCodesPerSecond(rate)
    stage.SetFramesPerSecond(rate)
    stage.SetStartTimeCode(float(frames[0]))
    stage.SetEndTimeCode(float(frames[-1]))
    stage.SetDefaultPrim(UsdGeom.Xform.Define(stage, "/set").GetPrim())
    for name, one, matrix in objects:
        mesh = UsdGeom.Mesh.Define(stage, f"/set/{name}")
        mesh.CreateSubdivisionSchemeAttr("none")
        mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(one.counts.astype(np.int32)))
        mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(one.corners.astype(np.int32)))
        points, moved = mesh.CreatePointsAttr(), mesh.AddTransformOp(UsdGeom.XformOp.PrecisionDouble)
        for at, held in enumerate(one.points):
            when = Usd.TimeCode(float(frames[at])) if one.deforms else Usd.TimeCode.Default()
            points.Set(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(held, dtype=np.float32)), when)
        for at, local in enumerate(np.swapaxes(matrix, 1, 2)):
            when = Usd.TimeCode(float(frames[at])) if len(matrix) > 1 else Usd.TimeCode.Default()
            moved.Set(Gf.Matrix4d(local.tolist()), when)
    stage.Save()


def _obj(objects: Sequence[tuple[str, SetObject]], convention: Convention) -> bytes:
    """Objects that stand still, with their faces, in the receiver's own axes and unit."""
    rows, count = ["# the set, in the receiving package's own axes and unit; objects that move are in set.usdc"], 0
    for name, one in objects:
        places = convention.position_from_canonical(one.points_m(0))
        rows.append(f"o {name}")
        rows += [f"v {x!r} {y!r} {z!r}" for x, y, z in places.tolist()]
        for face in np.split(one.corners + count + 1, np.cumsum(one.counts)[:-1]):
            rows.append("f " + " ".join(map(str, face)))
        count += len(places)
    return ("\n".join(rows) + "\n").encode()


def _proved(
    camera: ShotCamera, names: Sequence[str], matrices: Sequence[Floats], there: Convention, back: dict[str, Floats]
) -> tuple[ObjectProof, ...]:
    """Corners of the bounds and a part of the points of each object, as they were read back and as they were meant, both
    projected through the camera on every frame."""
    projection = projection_of(camera.track, camera.picture.image, camera.picture.fit)
    each = max(8, _MOST_PROJECTED // (len(camera.objects) * len(camera.track)))
    proofs = []
    for name, one, matrix in zip(names, camera.objects, matrices, strict=True):
        at = _some(one.points[0], each)
        meant = one.places_m(at)
        # The file's points, taken from where the file has the object to where it was meant to stand: the way there is undone.
        way = _meant_from(matrix, one.matrix_m, there)
        seen = there.position_to_canonical(back[name][:, at])
        seen = np.einsum("nij,nkj->nki", way[:, :3, :3], seen) + way[:, None, :3, 3]
        one_px, one_depth = projection.project(np.broadcast_to(meant, (len(camera.track), *meant.shape[1:])))
        other_px, other_depth = projection.project(np.broadcast_to(seen, (len(camera.track), *seen.shape[1:])))
        ahead = (one_depth > _NEAR_M) & (other_depth > _NEAR_M)
        off = np.where(ahead, np.linalg.norm(one_px - other_px, axis=2), -1.0).max(axis=1)
        worst = int(off.argmax())
        known = off[worst] >= 0
        proofs.append(
            ObjectProof(
                name, "set/set.usdc", len(one.counts), one.points.shape[1], one.moves, float(off[worst]) if known else None,
                float(camera.track.frames[worst]) if known else None,
            )
        )  # fmt: skip
    return tuple(proofs)


def _meant_from(matrix: Floats, meant_m: Floats, there: Convention) -> Floats:
    """What takes an object from where a file has it, in canonical metres, to where it was meant: the identity but for what was
    done to make up for the package's habits, (1 or n, 4, 4)."""
    file_m = matrix.copy()
    file_m[:, :3, :3] = there.metres_per_unit * (there.world.T @ matrix[:, :3, :3])
    file_m[:, :3, 3] = there.position_to_canonical(matrix[:, :3, 3])
    return np.asarray(meant_m @ np.linalg.inv(file_m))


def _some(points: Floats, most: int) -> Ints:
    """The index of the points that are furthest out along the axes, and of others evenly over the rest."""
    outer = np.concatenate([points.argmin(axis=0), points.argmax(axis=0)])
    evenly = np.linspace(0, len(points) - 1, min(len(points), most)).astype(np.int64)
    return np.unique(np.concatenate([outer, evenly]))


def _notes(names: Sequence[str], objects: Sequence[SetObject], proofs: Sequence[ObjectProof]) -> list[str]:
    moving = [n for n, o in zip(names, objects, strict=True) if o.moves]
    faces = sum(p.faces for p in proofs)
    said = [
        f"The set goes along in set/set.usdc: {len(objects)} object{'s' * (len(objects) != 1)}, {faces} faces, without materials."
    ]
    said += [o.note for o in objects if o.note]
    if moving:
        said.append(
            f"{listed(moving)} move{'s' * (len(moving) == 1)}: OBJ holds no motion, so set/set.obj is without {'it' if len(moving) == 1 else 'them'}."
        )
    seen = [p for p in proofs if p.max_px is not None]
    if seen:
        worst = max(seen, key=lambda p: p.max_px or 0.0)
        frame = "" if worst.worst_frame is None else f", at frame {format_frame(worst.worst_frame)}"
        said.append(f"The set, read back: at most {worst.max_px:.4f} px off ('{worst.name}'{frame}).")
    if len(seen) < len(proofs):
        unseen = [p.name for p in proofs if p.max_px is None]
        said.append(f"The camera never sees {listed(unseen)}: nothing to measure.")
    return said
