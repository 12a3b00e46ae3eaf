"""Reading Alembic into a scene: xform stacks, film backs, any time sampling.

Facts (docs/formats.md): right-handed, cameras look along local -Z, focal length in mm, apertures
and offsets in cm, times in seconds. No unit, up axis or frame rate is stored: those are guesses.
A sample's index and its time are different selectors, and the library's Python side takes an int
for a time; here a sample is always asked for by its own stored time.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import imath
import numpy as np
from alembic3d import Abc, AbcGeom

from anaxis.core.bounds import MAX_FRAMES
from anaxis.core.camera.track import Lens, make_lens
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.scene.guesses import guess_rate, with_guesses
from anaxis.core.scene.nodes import Node, Scene, corrected
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import nearest_rate
from anaxis.core.typing import Floats
from anaxis.formats.alembic.surface import surface_of
from anaxis.formats.set_lines import MAX_MARKS, Shape, line_shape, marks_of_points, mesh_shape, over_time, within_budget
from anaxis.formats.unstated import CLIPS, UNSTATED

_NEAR = Abc.ISampleSelector.TimeIndexType.kNearIndex
_MAX_OBJECTS = 50_000
# The library's numbering of a camera sample's core values.
_CORE = ("focal", "width", "offset_x", "height", "offset_y", "squeeze", "over_left", "over_right",
         "over_top", "over_bottom", "fstop", "focus", "open", "close", "near", "far")  # fmt: skip
_FPS_KEYS = ("DCC FPS", "FPS", "fps")  # the library's own key first


def read_alembic(path: Path, within: Path | None = None) -> Scene:
    """Read a .abc; raises BadInput where it cannot be read."""
    try:
        archive = Abc.IArchive(str(path))
    except RuntimeError as error:
        raise BadInput(
            f"{path.name} is not an Alembic archive, or damaged: export it again in the Ogawa layout."
        ) from error
    return _AlembicReader(archive, path.name).scene()


class _AlembicReader:
    def __init__(self, archive: Any, name: str) -> None:
        self.archive, self.name = archive, name
        self.nodes: list[Node] = []
        self.seconds: list[Floats] = []
        self.findings: list[Finding] = []
        self.marks = 0

    def scene(self) -> Scene:
        objects = list(_objects(self.archive.getTop(), None))
        if len(objects) >= _MAX_OBJECTS:
            raise BadInput(f"{self.name} holds over {_MAX_OBJECTS} objects: export only the camera and its set.")
        for entry, parent in objects:
            self._add(entry, parent)
        # Everything was read at one frame a second; the rate then moves it to frames.
        times = np.unique(np.concatenate([np.zeros(0), *self.seconds]))
        first, last = (float(times[0]), float(times[-1])) if len(times) else (0.0, 0.0)
        scene = Scene(
            name=self.name,
            format="alembic",
            convention=Convention(metres_per_unit=1.0),
            rate=Fraction(1),
            first_frame=first,
            last_frame=last,
            nodes=tuple(within_budget(self._only_used())),
            in_seconds=True,
            findings=tuple(self.findings),
        )
        stated = self._stated_rate()
        rate, why = (stated, "") if stated else guess_rate(times)
        scene = corrected(scene, rate=rate)
        if why:
            scene.guesses["rate"] = why
        if not np.isfinite([scene.first_frame, scene.last_frame]).all() or (
            scene.last_frame - scene.first_frame >= MAX_FRAMES
        ):
            raise BadInput(
                f"{self.name} has samples from {first:g} s to {last:g} s; at most {MAX_FRAMES} frames are possible: export only the range of the shot."
                ""
            )
        return with_guesses(scene, up_axis=True, metres_per_unit=True)

    def _stated_rate(self) -> Fraction | None:
        """The rate some writers leave in the archive's metadata; None where there is none."""
        metadata = self.archive.getTop().getMetaData()
        for key in _FPS_KEYS:
            text = metadata.get(key)
            try:
                if text and float(text) > 0:
                    return nearest_rate(float(text))
            except (ValueError, BadInput):
                continue
        return None

    def _only_used(self) -> list[Node]:
        """Cameras, places and geometry with what moves them; transforms that hold nothing of it go."""
        parents = {n.path: n.parent for n in self.nodes}
        used: set[str] = set()
        for node in self.nodes:
            here: str | None = node.path if node.kind != "transform" else None
            while here is not None and here not in used:
                used.add(here)
                here = parents.get(here)
        return [n for n in self.nodes if n.path in used]

    def _add(self, entry: Any, parent: str | None) -> None:
        metadata, path = entry.getMetaData(), entry.getFullName()
        owner = entry.getParent()
        if AbcGeom.IXform.matches(metadata):
            self._add_xform(AbcGeom.IXform(owner, entry.getName()).getSchema(), entry, path, parent)
        elif AbcGeom.ICamera.matches(metadata):
            schema = AbcGeom.ICamera(owner, entry.getName()).getSchema()
            times, lens = self._lens(schema)
            keys = times if len(times) > 1 else np.zeros(0)
            self.nodes.append(
                Node(path, parent, "camera", np.zeros(1), np.eye(4)[None], lens=lens, lens_frames=keys, lens_keys=keys)
            )
        elif AbcGeom.IPolyMesh.matches(metadata):
            self._add_mesh(AbcGeom.IPolyMesh(owner, entry.getName()).getSchema(), entry, path, parent)
        elif AbcGeom.ISubD.matches(metadata):
            self._add_mesh(AbcGeom.ISubD(owner, entry.getName()).getSchema(), entry, path, parent)
        elif AbcGeom.ICurves.matches(metadata):
            sample = AbcGeom.ICurves(owner, entry.getName()).getSchema().getValue()
            points, counts = _points(sample.getPositions()), _ints(sample.getCurvesNumVertices())
            self._add_shape(path, parent, line_shape(points, counts))
        elif AbcGeom.IPoints.matches(metadata):
            sample = AbcGeom.IPoints(owner, entry.getName()).getSchema().getValue()
            self.nodes += marks_of_points(str(parent), _points(sample.getPositions()))
        elif self.marks < MAX_MARKS and not entry.getNumChildren():
            self.marks += 1
            self.nodes.append(Node(path, parent, "landmark", np.zeros(1), np.eye(4)[None]))

    def _add_xform(self, schema: Any, entry: Any, path: str, parent: str | None) -> None:
        times = self._times(schema)
        moves = len(times) > 1
        # Whether parents move it may itself be sampled; the first sample's word counts.
        resets = len(times) > 0 and not schema.getValue().getInheritsXforms()
        local = _matrices(schema, times)
        kind = "transform"
        if not entry.getNumChildren() and self.marks < MAX_MARKS:
            kind, self.marks = "landmark", self.marks + 1
        keys = times if moves else np.zeros(0)
        self.nodes.append(
            Node(path, parent, kind, keys if moves else np.zeros(1), local, keys, resets)  # type: ignore[arg-type]
        )
        if moves:
            self.seconds.append(times)

    def _times(self, schema: Any) -> Floats:
        """The seconds of a schema's samples, (k,); one where it does not change."""
        count = 1 if schema.isConstant() else schema.getNumSamples()
        if count > 50 * MAX_FRAMES:
            raise BadInput(f"{self.name} holds {count} samples of one object: export only the range of the shot.")
        sampling = schema.getTimeSampling()
        return np.array([sampling.getSampleTime(i) for i in range(count)], dtype=np.float64)

    def _lens(self, schema: Any) -> tuple[Floats, Lens]:
        times = self._times(schema)
        if len(times) > 1:
            self.seconds.append(times)
        samples = [schema.getValue(Abc.ISampleSelector(t, _NEAR)) for t in times.tolist()]
        unstated = _unstated(schema)
        return times, replace(_lens_of(samples), **{name: np.full(len(samples), np.nan) for name in unstated})

    def _add_mesh(self, schema: Any, entry: Any, path: str, parent: str | None) -> None:
        sample = schema.getValue() if schema.getNumSamples() else None
        if sample is None:
            return
        counts, corners = _ints(sample.getFaceCounts()), _ints(sample.getFaceIndices())
        shape = mesh_shape(_points(sample.getPositions()), counts, corners, *surface_of(schema))
        if shape is not None and shape.mesh is not None:
            shape = shape._replace(mesh=shape.mesh.turned_over())  # Alembic winds its faces clockwise
        times = self._times(schema)
        moving = (_points(schema.getValue(Abc.ISampleSelector(t, _NEAR)).getPositions()) for t in times.tolist())
        shape, said = over_time(shape, times, moving, path)
        self.findings += [] if said is None else [said]
        if shape is not None and shape.mesh is not None and shape.mesh.deforms:
            self.seconds.append(times)
        self._add_shape(path, parent, shape, invisible=bool(AbcGeom.IsAncestorInvisible(entry)))

    def _add_shape(self, path: str, parent: str | None, shape: Shape | None, invisible: bool = False) -> None:
        if shape is not None and len(shape.lines):
            at = np.eye(4)[None]
            self.nodes.append(
                Node(
                    path,
                    parent,
                    "set",
                    np.zeros(1),
                    at,
                    segments=shape.lines,
                    triangles=shape.triangles,
                    mesh=shape.mesh,
                    invisible=invisible,
                )
            )


def _objects(top: Any, parent: str | None) -> Iterator[tuple[Any, str | None]]:
    """Every object below ``top`` with the path of its parent, parents first; bounded."""
    waiting = deque((top.getChild(i), parent) for i in range(top.getNumChildren()))
    count = 0
    while waiting and count < _MAX_OBJECTS:
        entry, above = waiting.popleft()
        count += 1
        yield entry, above
        path = entry.getFullName()
        waiting += [(entry.getChild(i), path) for i in range(entry.getNumChildren())]


def _unstated(schema: Any) -> list[str]:
    """The clip planes that a camera of our own does not state, and that the library wrote all the same."""
    properties = schema.getUserProperties()
    if not (properties.valid() and properties.getPropertyHeader(UNSTATED)):
        return []
    named = Abc.IStringProperty(properties, UNSTATED).getValue().split()
    return [name for name in CLIPS if name in named]


def _lens_of(samples: list[Any]) -> Lens:
    """Camera samples as a lens, film window and all.

    In units of half the horizontal aperture the library's screen window is, without squeeze,
    ``left = -(1 + overscan_left) s_x + 2 offset_x / width + t_x`` and so on for the other sides,
    with scale s and translation t of the film-back ops. The squeeze widens it horizontally.
    """
    cores: list[Callable[[int], float]] = [s.getCoreValue for s in samples]
    # Written out: this line runs once a sample, and a loop over the indices costs three times as much.
    table = np.array(
        [(g(0), g(1), g(2), g(3), g(4), g(5), g(6), g(7), g(8), g(9), g(10), g(11), g(14), g(15)) for g in cores],
        dtype=np.float64,
    ).reshape(len(samples), 14)
    c = dict(zip([n for n in _CORE if n not in ("open", "close")], table.T, strict=True))
    film = np.tile(np.eye(3), (len(samples), 1, 1))
    if any(s.getNumOps() for s in samples):
        film = np.array([[list(s.getFilmBackMatrix()[i]) for i in range(3)] for s in samples])
    half = c["width"] * 10 / 2  # cm to mm
    tall = np.divide(c["height"], c["width"], out=np.ones_like(half), where=c["width"] != 0)
    right = (1 + c["over_right"]) * film[:, 0, 0]
    left = -(1 + c["over_left"]) * film[:, 0, 0]
    top = (1 + c["over_top"]) * film[:, 1, 1] * tall
    bottom = -(1 + c["over_bottom"]) * film[:, 1, 1] * tall
    plain = not film[:, :2, :2][:, [0, 1], [1, 0]].any() and (film[:, :2, :2] == np.eye(2)).all()
    plain = bool(plain and not film[:, 2, :2].any()) and not any(c[k].any() for k in _CORE[6:10])
    squeeze = np.where(c["squeeze"] > 0, c["squeeze"], 1.0)
    # With squeeze, our horizontal offset is measured on the desqueezed image.
    offset_x, offset_y = c["offset_x"] * 10 * squeeze, c["offset_y"] * 10
    width, height = c["width"] * 10, c["height"] * 10
    if not plain:
        width, height = (right - left) * half, (top - bottom) * half
        offset_x = offset_x + ((right + left) / 2 * squeeze + film[:, 2, 0]) * half
        offset_y = offset_y + ((top + bottom) / 2 + film[:, 2, 1]) * half
    return make_lens(
        len(samples), focal_mm=c["focal"], film_width_mm=width, film_height_mm=height,
        offset_x_mm=offset_x, offset_y_mm=offset_y, squeeze=squeeze,
        focus_m=np.where(c["focus"] > 0, c["focus"], np.nan), fstop=np.where(c["fstop"] > 0, c["fstop"], np.nan),
        near_m=c["near"], far_m=c["far"],
    )  # fmt: skip


def _matrices(schema: Any, times: Floats) -> Floats:
    """An xform's samples at ``times`` (n,) as (n, 4, 4) for column vectors; the library's are for rows.

    Item by item each costs ten times what reading it cost; multiplying arrays of unit vectors by the
    array of matrices gives rows exactly, since a product with 0 and 1 rounds nothing.
    """
    n = len(times)
    if not n:
        return np.eye(4)[None]
    packed, sample_at, selector = imath.M44dArray(n), schema.getValue, Abc.ISampleSelector
    for i, t in enumerate(times.tolist()):
        packed[i] = sample_at(selector(t, _NEAR)).getMatrix()
    out = np.tile(np.eye(4), (n, 1, 1))
    for row, unit in enumerate(np.eye(3).tolist()):
        out[:, :3, row] = _vectors(packed.multDirMatrix(imath.V3dArray(imath.V3d(*unit), n)))
    out[:, :3, 3] = _vectors(packed.multVecMatrix(imath.V3dArray(imath.V3d(0, 0, 0), n)))
    return out


def _vectors(array: Any) -> Floats:
    return np.stack([np.fromiter(getattr(array, k), np.float64, len(array)) for k in "xyz"], axis=1)


def _points(array: Any) -> Floats:
    return _vectors(array) if array is not None and len(array) else np.zeros((0, 3))


def _ints(array: Any) -> np.ndarray:
    return np.array(array, dtype=np.int64) if array is not None else np.zeros(0, dtype=np.int64)
