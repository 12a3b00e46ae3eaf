"""Alembic: xform samples stacked by the library's own matrices, the lens from its camera samples."""

from __future__ import annotations

from collections import deque
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from anaxis.core.time.rates import nearest_rate
from anaxis.core.typing import Floats
from anaxis.standin.views import Y_UP, Z_UP, FileViews, ReadRequest, chosen, posed, sampled_views


def alembic_views(path: Path, asked: ReadRequest) -> FileViews:
    """Xform samples stacked by the library's own matrices, the lens from its camera samples. The archive has no
    unit and no axes: it is taken to be in the package's unit with the standard's axes of its up axis."""
    from alembic3d import Abc, AbcGeom

    archive = Abc.IArchive(str(path))
    chains: list[list[Any]] = []
    top = archive.getTop()
    waiting: deque[tuple[Any, list[Any]]] = deque((top.getChild(i), []) for i in range(top.getNumChildren()))
    while waiting:
        entry, above = waiting.popleft()
        here = (
            [*above, AbcGeom.IXform(entry.getParent(), entry.getName())]
            if AbcGeom.IXform.matches(entry.getMetaData())
            else above
        )
        if AbcGeom.ICamera.matches(entry.getMetaData()):
            chains.append([*here, AbcGeom.ICamera(entry.getParent(), entry.getName())])
        waiting += [(entry.getChild(i), here) for i in range(entry.getNumChildren())]
    # A camera goes by the name of its transform: it has none of itself.
    chain = chosen(path.name, [(c[-2 if len(c) > 1 else -1].getName(), c) for c in chains], asked.camera)
    profile, image, at = asked.profile, asked.image, asked.at
    camera = chain[-1].getSchema()
    counts = [c.getSchema().getNumSamples() for c in chain]
    sampling = chain[int(np.argmax(counts))].getSchema().getTimeSampling()
    times = np.array([sampling.getSampleTime(i) for i in range(max(1, *counts))])
    guessed = nearest_rate(1 / float(np.min(np.diff(times)))) if len(times) > 1 else Fraction(24)
    rate = asked.rate or guessed  # the archive states none
    frames = np.round(times * float(rate), 6)
    pick = Abc.ISampleSelector
    near = pick.TimeIndexType.kNearIndex
    locals_ = [
        np.array([np.array(x.getSchema().getValue(pick(t, near)).getMatrix()).reshape(4, 4).T for t in times.tolist()])
        for x in chain[:-1]
    ] or [np.tile(np.eye(4), (len(times), 1, 1))]
    samples = [camera.getValue(pick(t, near)) for t in times.tolist()]

    def channel(name: str, factor: float = 1.0) -> Floats:
        return np.array([getattr(s, name)() for s in samples]) * factor

    unit = profile.metres_per_unit
    lens = {
        "focal_mm": channel("getFocalLength"), "film_width_mm": channel("getHorizontalAperture", 10), "film_height_mm": channel("getVerticalAperture", 10),
        "offset_x_mm": channel("getHorizontalFilmOffset", 10), "offset_y_mm": channel("getVerticalFilmOffset", 10),
        "squeeze": channel("getLensSqueezeRatio"), "focus_m": channel("getFocusDistance", unit), "fstop": channel("getFStop"),
        "near_m": channel("getNearClippingPlane", unit), "far_m": channel("getFarClippingPlane", unit),
    }  # fmt: skip
    z_up = "Z" in profile.world.up
    # The last transform is the camera's own: an Alembic camera has none of itself.
    return sampled_views(posed(
        chain[-1].getName(), frames, rate, locals_, lens, Z_UP if z_up else Y_UP, unit, image, "Z" if z_up else "Y", unit
    ), at)  # fmt: skip
