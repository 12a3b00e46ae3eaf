"""Writing Alembic: one transform a camera with a matrix a frame, at the top or below a root, and the camera below it.

The archive states neither axes nor unit; it is written with the up axis and unit the receiver has itself.
Focal length in mm, apertures and offsets in cm, distances in the receiver's unit (docs/formats.md).
"""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any

import imath
import numpy as np
from alembic3d import Abc, AbcCoreAbstract, AbcGeom

from anaxis.core.camera.track import Track
from anaxis.core.image_plane import CORNERS, ImagePlane
from anaxis.core.motion.keys import KeyRule
from anaxis.core.outgoing import Outgoing, pose_matrices, root_matrix
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import seconds_of
from anaxis.core.typing import Floats
from anaxis.formats.file_axes import file_axes, is_still
from anaxis.formats.nodes import SampledNode, nodes_of, places
from anaxis.formats.unstated import CLIPS, UNSTATED, held_where_unstated, zero_where_unstated


def key_rule(receiver: Convention) -> KeyRule:
    """Samples on the keys; what lies between is drawn straight, by most readers."""
    return KeyRule(file_axes("alembic", receiver).convention, "linear", "quaternions")


def write_alembic(cameras: Sequence[Outgoing], folder: Path, stem: str) -> list[Path]:
    """Write ``stem.abc``; returns the files written."""
    convention = file_axes("alembic", cameras[0].convention).convention
    target = folder / f"{stem}.abc"
    archive = Abc.OArchive(str(target))
    for node in nodes_of(cameras):
        _write_node(archive, node, convention)
    del archive  # the file is complete when the library lets go of it
    return [target]


def _write_node(archive: Any, node: SampledNode, convention: Convention) -> None:
    above, outgoing = archive.getTop(), node.outgoing
    if node.root is not None:
        above = AbcGeom.OXform(above, node.root.name)
        above.getSchema().set(matrix_sample(root_matrix(node.root.placement, convention)))
    track = outgoing.track.select_frames(outgoing.written)
    index = archive.addTimeSampling(time_sampling(track.frames, track.rate))
    place = AbcGeom.OXform(above, node.name)
    place.getSchema().setTimeSampling(index)
    for matrix in pose_matrices(track, convention):
        place.getSchema().set(matrix_sample(matrix))
    _write_lens(AbcGeom.OCamera(place, "lens"), track, index, convention.metres_per_unit)
    if outgoing.plane is not None:
        _write_plane(place, archive, outgoing, outgoing.plane, convention.metres_per_unit)
    every = (
        index
        if outgoing.keys is None
        else archive.addTimeSampling(time_sampling(outgoing.track.frames, outgoing.track.rate))
    )
    for name, at in places(node, convention):
        mark = AbcGeom.OXform(above, name).getSchema()
        if not is_still(at):
            mark.setTimeSampling(every)
        for point in (at[:1] if is_still(at) else at).tolist():
            sample = AbcGeom.XformSample()
            sample.setTranslation(imath.V3d(*point))
            mark.set(sample)


def _write_plane(camera: Any, archive: Any, outgoing: Outgoing, plane: ImagePlane, unit: float) -> None:
    """The quad below the camera's transform; the archive has no textures."""
    local = plane.in_units(unit)
    place = AbcGeom.OXform(camera, "image_plane")
    if is_still(local):
        local = local[:1]
    else:
        place.getSchema().setTimeSampling(
            archive.addTimeSampling(time_sampling(outgoing.track.frames, outgoing.track.rate))
        )
    for matrix in local:
        place.getSchema().set(matrix_sample(matrix))
    points = imath.V3fArray(4)
    for i, corner in enumerate(CORNERS.tolist()):
        points[i] = imath.V3f(*corner)
    corners, counts = imath.IntArray(4), imath.IntArray(1)
    # Alembic's faces are wound clockwise.
    for i, k in enumerate((3, 2, 1, 0)):
        corners[i] = k
    counts[0] = 4
    AbcGeom.OPolyMesh(place, "quad").getSchema().set(AbcGeom.OPolyMeshSchemaSample(points, corners, counts))


def matrix_sample(matrix: Floats) -> Any:
    """A transform's sample that is a matrix (4, 4) for column vectors."""
    sample = AbcGeom.XformSample()
    sample.setMatrix(imath.M44d(*matrix.T.reshape(-1).tolist()))
    return sample


def time_sampling(frames: Floats, rate: Fraction) -> Any:
    """The times of samples on frames (n,): a first one and a step where they are even, else each by itself."""
    seconds = seconds_of(frames, rate)
    even = len(seconds) < 3 or np.allclose(np.diff(frames), frames[1] - frames[0], rtol=0, atol=1e-9)
    step = float(seconds[1] - seconds[0]) if len(seconds) > 1 else 1.0 / float(rate)
    if even:
        return AbcCoreAbstract.TimeSampling(step, float(seconds[0]))
    times = AbcCoreAbstract.TimeVector()
    times.extend(seconds.tolist())
    return AbcCoreAbstract.TimeSampling(AbcCoreAbstract.TimeSamplingType(AbcCoreAbstract.AcyclicFlag.kAcyclic), times)


def _write_lens(camera: AbcGeom.OCamera, track: Track, sampling: int, unit: float) -> None:
    lens = track.lens
    focus, stop = zero_where_unstated(lens.focus_m) / unit, zero_where_unstated(lens.fstop)
    clips = {name: v for name in CLIPS if np.isfinite(v := getattr(lens, name)).any()}
    near, far = (held_where_unstated(clips[name]) / unit if name in clips else None for name in CLIPS)
    camera.getSchema().setTimeSampling(sampling)
    unstated = [name for name in CLIPS if name not in clips]
    if unstated:  # the library writes planes of its own
        Abc.OStringProperty(camera.getSchema().getUserProperties(), UNSTATED).setValue(" ".join(unstated))
    for i in range(len(track)):
        sample = AbcGeom.CameraSample()
        sample.setFocalLength(float(lens.focal_mm[i]))
        sample.setHorizontalAperture(float(lens.film_width_mm[i]) / 10)
        sample.setVerticalAperture(float(lens.film_height_mm[i]) / 10)
        sample.setHorizontalFilmOffset(float(lens.offset_x_mm[i]) / 10)
        sample.setVerticalFilmOffset(float(lens.offset_y_mm[i]) / 10)
        sample.setLensSqueezeRatio(float(lens.squeeze[i]))
        sample.setFocusDistance(float(focus[i]))
        sample.setFStop(float(stop[i]))
        if near is not None:
            sample.setNearClippingPlane(float(near[i]))
        if far is not None:
            sample.setFarClippingPlane(float(far[i]))
        camera.getSchema().set(sample)
