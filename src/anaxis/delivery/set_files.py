"""The set that goes along with a camera: objects with their faces, in the receiver's axes and unit, read back and measured.

What a package does to files on arrival is compensated as in the camera's own file, but for OBJ, which is written in the
receiver's own axes and unit. The proof opens each file as the package would, habits included, and looks through the camera
that arrived.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any, Literal, NamedTuple

import numpy as np

from anaxis.core.camera.projection import Projection, projection_of
from anaxis.core.errors import BadInput
from anaxis.core.motion.set_objects import SetObject
from anaxis.core.names import listed
from anaxis.core.scene.landmarks import Landmarks, legal_name, node_name
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import format_frame, plain_frame
from anaxis.core.typing import Floats, Ints
from anaxis.delivery.options import USUAL, DeliveryOptions
from anaxis.delivery.ready import compensate, prepare
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.formats import set_formats_of
from anaxis.formats.file_axes import FileAxes, file_axes
from anaxis.formats.file_time import zero_frame_of
from anaxis.formats.format import Format
from anaxis.formats.set_piece import SetPiece, SetTimes
from anaxis.packages.habits import HABITS
from anaxis.packages.habits.tree import TWICE
from anaxis.packages.model import Profile
from anaxis.standin.set_arrival import FileOfSet, set_in_package

# Points that are projected on all frames together, over all objects.
_MOST_PROJECTED = 4_000_000
# Points written over all OBJ files of one frame each.
_MOST_IN_FRAMES = 20_000_000
_NEAR_M = 1e-3
_SHEAR = 1e-6


State = Literal["measured", "not in the picture", "not found", "behind"]


class ObjectProof(NamedTuple):
    """By how many pixels the points of an object that was read back are off at most, and at which frame; both None but where it was
    ``measured``: else the camera never sees it, it is not in the file, or it arrives behind the camera that should see it."""

    name: str
    file: str
    faces: int
    points: int
    moves: bool
    max_px: float | None
    worst_frame: float | None
    state: State = "measured"

    def document(self) -> dict[str, Any]:
        worst = None if self.worst_frame is None else plain_frame(self.worst_frame)
        return {**self._asdict(), "worst_frame": worst}


@dataclass(frozen=True)
class SetFiles:
    """The files of a set by name, what was measured of each object in each file, and sentences about both."""

    entries: dict[str, bytes] = field(default_factory=dict)
    proofs: tuple[ObjectProof, ...] = ()
    notes: tuple[str, ...] = ()

    @property
    def worst(self) -> ObjectProof | None:
        """The object that is furthest off: one that does not arrive before all others; None where the camera sees none."""
        return next((p for p in self.by_deviation if p.state != "not in the picture"), None)

    @property
    def by_deviation(self) -> list[ObjectProof]:
        """The object that is furthest off first: those that do not arrive before all others, those that are not in the picture last."""
        return sorted(
            self.proofs, key=lambda p: (p.state == "not in the picture", p.max_px is not None, -(p.max_px or 0.0))
        )


@dataclass(frozen=True)
class _Written:
    """What one format holds: the objects by file, and their matrices (1 or n, 4, 4) in the file's axes and unit; ``intended`` (n,) are
    the frames that the package is to show."""

    files: dict[str, list[SetPiece]]
    times: SetTimes
    axes: FileAxes
    intended: Floats
    left: tuple[str, ...]


def set_files(
    camera: ShotCamera,
    profile: Profile,
    first: float,
    options: DeliveryOptions = USUAL,
    shot: str = "",
    arrived: Projection | None = None,
) -> SetFiles:
    """The files for one package, whose camera begins at frame ``first`` there. ``arrived`` is how the camera sees that arrived, on
    the frames of the one meant; where None, the proof looks through the camera meant. Raises BadInput where the files would be
    too many."""
    formats = set_formats_of(options.set_formats)
    about = () if camera.along is None else camera.along.notes
    if not camera.objects or not formats:
        return SetFiles(notes=about)
    names, groups = _legal(camera.objects)
    entries: dict[str, bytes] = {}
    proofs: list[ObjectProof] = []
    left: list[str] = []
    for of in formats:
        written = _of_format(of, camera, profile, first, options, _Names(names, groups, shot))
        left += written.left
        with TemporaryDirectory(prefix="anaxis-set-") as folder:
            for name, pieces in written.files.items():
                path = Path(folder) / Path(name).name
                of.set_writer()(path, pieces, written.times, written.axes)
                entries[f"set/{name}"] = path.read_bytes()
                proofs += _proved(camera, arrived, profile, f"set/{name}", path, pieces, written)
        if of.key == "obj" and options.obj_frames:
            entries |= _obj_frames(of, camera, profile, first, _Names(names, groups, shot))
    return SetFiles(entries, tuple(proofs), tuple(_notes(camera.objects, entries, proofs, [*about, *left])))


class _Names(NamedTuple):
    """Of each object its name in the files and that of its group; and the shot's name."""

    names: list[str]
    groups: list[str]
    shot: str

    def file_of(self, piece: SetPiece) -> str:
        """The stem of a file for one object."""
        return f"{legal_name(self.shot, set())}_{piece.name}" if self.shot else piece.name


def _legal(objects: Sequence[SetObject]) -> tuple[list[str], list[str]]:
    """The objects' names and groups as every format allows them, each name once."""
    taken: set[str] = set()
    group_of = {g: node_name(g, taken) for g in dict.fromkeys(o.group for o in objects if o.group)}
    return [node_name(o.name, taken) for o in objects], [group_of.get(o.group, "") for o in objects]


def _of_format(
    of: Format, camera: ShotCamera, profile: Profile, first: float, options: DeliveryOptions, names: _Names
) -> _Written:
    """The objects that a format holds, in its files, and sentences about those that it does not."""
    axes = FileAxes(profile.convention, None, None) if of.key == "obj" else file_axes(of.key, profile.convention)
    posed = _posed(camera, profile, first, of.key, axes.convention)
    zero, said = zero_frame_of(of, posed.frames, posed.rate, profile.time.clips_from_zero)
    pieces = [SetPiece(*named) for named in zip(names.names, names.groups, camera.objects, posed.matrices, strict=True)]
    held = [p for p in pieces if not _why_not(of, p)]
    left = [_left_out(of, [p for p in pieces if _why_not(of, p) == why], why, options) for why in _REASONS]
    hidden = [p.name for p in held if p.shown.hidden or p.shown.guide]
    if hidden and of.key in ("gltf", "obj"):
        left.append(f"{of.unversioned} has no flags for hidden or not for render: hide {listed(hidden)} there.")
    if said and any(len(p.matrix) > 1 for p in held):
        left.append(said.replace("file", "file of the set", 1))
    if of.key == "gltf":
        left.append(_seams(held))
    if of.key == "obj" and held and any(HABITS[code].on_objects for code, _ in profile.active_habits):
        left.append(
            "The habits of the package are known for camera formats only: Anaxis writes the OBJ in the axes and unit of the package. Check it with axis_check.obj."
        )
    if options.set_each:
        files = {f"{names.file_of(p)}{of.set_suffix}": [p] for p in held}
    else:
        files = {f"set{of.set_suffix}": held} if held else {}
    times = SetTimes(posed.frames, posed.rate, zero)
    return _Written(files, times, axes, posed.intended, tuple(said for said in left if said))


_REASONS = ("deforms", "moves", "is sheared")


def _why_not(of: Format, piece: SetPiece) -> str:
    """Why a format cannot hold an object, of :data:`_REASONS`; "" where it can."""
    if piece.shown.deforms and of.set_holds != "deforming":
        return "deforms"
    if piece.shown.moves and of.set_holds == "still":
        return "moves"
    return "is sheared" if of.key == "gltf" and _is_sheared(piece.matrix) else ""


def _left_out(of: Format, pieces: Sequence[SetPiece], why: str, options: DeliveryOptions) -> str:
    if not pieces:
        return ""
    named, one = listed([p.name for p in pieces]), len(pieces) == 1
    verb = {"deforms": "deforms" if one else "deform", "moves": "moves" if one else "move"}.get(why, "is sheared" if one else "are sheared")  # fmt: skip
    if of.key == "obj" and options.obj_frames:
        return f"{named} {verb}: set/frames holds one OBJ for each frame."
    holds = {"deforms": "no changing shape", "moves": "no motion", "is sheared": "no shear"}[why]
    return f"{named} {verb}: {of.unversioned} holds {holds}, so its set file omits {'it' if one else 'them'}."


def _seams(pieces: Sequence[SetPiece]) -> str:
    """What of normals and texture coordinates does not fit on points, where a format knows those alone."""
    split = [
        p.name for p in pieces for spread in (p.shown.normals, p.shown.texture)
        if spread is not None and spread.at_points(p.shown.corners, p.shown.points.shape[1]) is None
    ]  # fmt: skip
    triangles = any((p.shown.counts > 3).any() for p in pieces)
    said = ["glTF stores triangles: faces with more corners are split; the points stay."] if triangles else []
    if split:
        said.append(
            f"glTF stores one normal and one texture coordinate for each point: those that differ between faces are not delivered ({listed(list(dict.fromkeys(split)))})."
        )
    return " ".join(said)


def _is_sheared(matrix: Floats) -> bool:
    """Whether a matrix (n, 4, 4) is more than a translation, a rotation and a scale along the object's own axes."""
    arms = matrix[:, :3, :3]
    size = np.linalg.norm(arms, axis=1)
    turn = arms / np.where(size == 0, 1.0, size)[:, None, :]
    return bool(np.abs(np.swapaxes(turn, 1, 2) @ turn - np.eye(3)).max() > _SHEAR)


def _obj_frames(of: Format, camera: ShotCamera, profile: Profile, first: float, names: _Names) -> dict[str, bytes]:
    """Objects that move, as one OBJ for each of the receiver's frames. Raises BadInput where those would be too many."""
    moving = [i for i, o in enumerate(camera.objects) if o.moves]
    count = len(camera.track) * sum(camera.objects[i].points.shape[1] for i in moving)
    if count > _MOST_IN_FRAMES:
        raise BadInput(
            f"One OBJ for each frame would have {count} points over {len(camera.track)} frames; {_MOST_IN_FRAMES} are possible: remove objects on Place, or choose OpenUSD or Alembic."
            "",
            "set_too_large",
        )
    axes = FileAxes(profile.convention, None, None)
    frames = camera.track.frames + (first - camera.track.frames[0])
    times, entries = SetTimes(frames, camera.track.rate), dict[str, bytes]()
    with TemporaryDirectory(prefix="anaxis-set-") as folder:
        path = Path(folder) / "frame.obj"
        for at, frame in enumerate(frames):
            for i in moving:
                still = camera.objects[i].at_frames(np.array([at]))
                matrix = _in_axes(still.matrix_m, axes.convention)
                piece = SetPiece(names.names[i], names.groups[i], still, matrix)
                of.set_writer()(path, [piece], times, axes)
                entries[f"set/frames/{names.file_of(piece)}.{format_frame(float(frame)).zfill(4)}.obj"] = (
                    path.read_bytes()
                )
    return entries


def _in_axes(matrix_m: Floats, there: Convention) -> Floats:
    """What takes an object's own points to a convention's axes and unit, (n, 4, 4), for one that takes them to canonical metres."""
    matrix = matrix_m.copy()
    matrix[:, :3, :3] = there.world @ matrix_m[:, :3, :3] / there.metres_per_unit
    matrix[:, :3, 3] = there.position_from_canonical(matrix_m[:, :3, 3])
    return matrix


class _Posed(NamedTuple):
    """Each object's matrix (1 or n, 4, 4) in a file's axes and unit, the file's frames and rate, and the frames that the package is
    to show."""

    matrices: list[Floats]
    frames: Floats
    rate: Fraction
    intended: Floats


def _posed(camera: ShotCamera, profile: Profile, first: float, format_key: str, there: Convention) -> _Posed:
    """The objects as they stand in a file.

    The origin and the three arms of an object go the way of landmarks, so that what is done to these for the package is done
    to the object.
    """
    if format_key == "obj":
        frames = np.asarray(camera.track.frames + (first - camera.track.frames[0]))
        return _Posed([_in_axes(o.matrix_m, there) for o in camera.objects], frames, camera.track.rate, frames)
    # The topmost node of a set does not move: applied twice it does nothing.
    habits = [h for h in profile.habits if h.code != TWICE.code]
    profile = profile.model_copy(update={"habits": habits})
    cross = np.concatenate([np.zeros((1, 3)), np.eye(3)])
    posed: dict[int, Floats] = {}
    frames, rate, intended = camera.track.frames, camera.track.rate, camera.track.frames
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
        sent, intended = compensate(outgoing, profile, format_key)
        frames, rate = sent.track.frames, sent.track.rate
        places = there.position_from_canonical(sent.landmarks.position_m).reshape(-1, len(which), 4, 3)
        for k, i in enumerate(which):
            matrix = np.zeros((len(places), 4, 4))
            matrix[:, :3, :3] = np.swapaxes(places[:, k, 1:] - places[:, k, :1], 1, 2)
            matrix[:, :3, 3], matrix[:, 3, 3] = places[:, k, 0], 1.0
            posed[i] = matrix
    return _Posed([posed[i] for i in range(len(camera.objects))], frames, rate, intended)


def _proved(
    camera: ShotCamera, arrived: Projection | None, profile: Profile, name: str, path: Path, pieces: Sequence[SetPiece], written: _Written,
) -> Iterable[ObjectProof]:  # fmt: skip
    """Corners of the bounds and a part of the points of each object of a file on every frame: as they are meant, through the camera
    meant, and as the package has them, through the camera that arrived; in the plate's pixels."""
    meant = projection_of(camera.track, camera.picture.image, camera.picture.fit)
    if camera.render is not None:
        meant = meant.in_plate(camera.render)
    each = max(8, _MOST_PROJECTED // (len(camera.objects) * len(camera.track)))
    some = {p.name: _some(p.shown.points[0], each) for p in pieces}
    times, axes = written.times, written.axes
    file = FileOfSet(
        path, times.frames, times.seconds, times.rate, axes.convention, axes.up, axes.unit_m, axes.up is None
    )
    there = set_in_package(file, profile, written.intended, some)
    for piece in pieces:
        yield _proof_of(camera, meant, arrived or meant, name, piece, some[piece.name], there.get(piece.name))


def _proof_of(
    camera: ShotCamera, meant: Projection, arrived: Projection, file: str, piece: SetPiece, at: Ints, there_m: Floats | None,
) -> ObjectProof:  # fmt: skip
    one = piece.shown
    named = (piece.name, file, len(one.counts), one.points.shape[1], one.moves)
    if there_m is None:
        return ObjectProof(*named, None, None, "not found")
    (one_px, one_depth), (other_px, other_depth) = (
        p.project(np.broadcast_to(m, (len(camera.track), *m.shape[1:])))
        for p, m in ((meant, one.places_m(at)), (arrived, there_m))
    )
    ahead = one_depth > _NEAR_M
    if not ahead.any():
        return ObjectProof(*named, None, None, "not in the picture")
    behind = (ahead & (other_depth < _NEAR_M / 2)).any(axis=1)
    if behind.any():
        return ObjectProof(*named, None, float(camera.track.frames[int(behind.argmax())]), "behind")
    off = np.where(ahead, np.linalg.norm(one_px - other_px, axis=2), -1.0).max(axis=1)
    worst = int(off.argmax())
    return ObjectProof(*named, float(off[worst]), float(camera.track.frames[worst]))


def _some(points: Floats, most: int) -> Ints:
    """The index of the points that are furthest out along the axes, and of others evenly over the rest."""
    outer = np.concatenate([points.argmin(axis=0), points.argmax(axis=0)])
    evenly = np.linspace(0, len(points) - 1, min(len(points), most)).astype(np.int64)
    return np.unique(np.concatenate([outer, evenly]))


def _notes(
    objects: Sequence[SetObject], entries: dict[str, bytes], proofs: Sequence[ObjectProof], left: Sequence[str]
) -> list[str]:
    faces, count = sum(len(o.counts) for o in objects), len(objects)
    files = listed(sorted(e for e in entries if not e.startswith("set/frames/"))[:4])
    more = len(entries) - 4
    said = [
        f"The set is delivered: {count} object{'s' * (count != 1)}, {faces} faces, without materials, in "
        f"{files}{f' and {more} more files' if more > 0 else ''}."
    ]
    said += [o.note for o in objects if o.note] + list(dict.fromkeys(left))
    for state, words in (
        ("not found", "Not found when the set was read back"),
        ("behind", "Behind the camera in the package"),
    ):
        lost = [f"{p.name} in {p.file}" for p in proofs if p.state == state]
        if lost:
            said.append(f"{words}: {listed(lost)}. Do not use these files.")
    seen = [p for p in proofs if p.max_px is not None]
    if seen:
        worst = max(seen, key=lambda p: p.max_px or 0.0)
        frame = "" if worst.worst_frame is None else f", at frame {format_frame(worst.worst_frame)}"
        said.append(
            f"The set, read back: deviation up to {worst.max_px:.4f} px ('{worst.name}' in {worst.file}{frame})."
        )
    states: dict[str, set[State]] = {}
    for p in proofs:
        states.setdefault(p.name, set()).add(p.state)
    unseen = [name for name, found in states.items() if found == {"not in the picture"}]
    if unseen:
        said.append(f"Never in the picture: {listed(unseen)}. Nothing to measure.")
    return said
