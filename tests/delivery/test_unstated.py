"""Numbers that a camera does not state: no format makes some up, and what a format cannot leave out is said."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from alembic3d import Abc, AbcGeom

from anaxis.delivery.deliver import deliver_all
from anaxis.formats import read_file
from anaxis.packages import find_profile
from ordinary import SHOTS
from test_ordinary_shots import FORMATS, leaving

BESIDE = ("focus_m", "fstop", "near_m", "far_m")
# What the format asks of every camera, as its own standard says.
REQUIRED = {"gltf": {"near_m"}, "collada": {"near_m", "far_m"}}


@pytest.mark.parametrize("stated", ["nowhere", "at first"])
@pytest.mark.parametrize("format_key", FORMATS)
def test_what_is_not_stated_comes_back_as_none(format_key: str, stated: str, tmp_path: Path) -> None:
    camera = leaving(SHOTS["held"]())
    half = np.arange(len(camera.track)) < (len(camera.track) // 2 if stated == "at first" else 0)
    values = {name: np.where(half, value, np.nan) for name, value in zip(BESIDE, (4.0, 2.8, 0.1, 400.0), strict=True)}
    camera = replace(camera, track=replace(camera.track, lens=replace(camera.track.lens, **values)))
    (done,) = deliver_all([camera], find_profile("zup-lh-cm"), format_key, tmp_path)
    assert not [d for d in done.proof.differences if d.matters]
    scene = read_file(done.files[0])
    (node,) = (n for n in scene.nodes if n.kind == "camera")
    assert node.lens is not None
    notes = " ".join(done.outgoing.notes)
    for name in BESIDE:
        back = getattr(node.lens, name)
        last = np.nan if stated == "nowhere" else 4.0 if name == "focus_m" else None
        if stated == "nowhere" and name not in REQUIRED.get(format_key, ()):
            assert np.isnan(back).all(), (name, back)
        elif stated == "nowhere":
            assert "The camera states no near clip" in notes
        elif name in ("focus_m", "fstop") and format_key in ("usd", "alembic", "json"):
            assert np.isnan(back[-1]) and back[0] == pytest.approx(values[name][0], rel=1e-6), (name, last)
        elif name in ("near_m", "far_m") and format_key in ("usd", "alembic"):
            assert back == pytest.approx(values[name][0], rel=1e-6), "held, for no clip plane lies at 0"


def test_another_reader_of_alembic_finds_no_depth_of_field_that_nobody_asked_for(tmp_path: Path) -> None:
    camera = leaving(SHOTS["whip"]())
    nothing = np.full(len(camera.track), np.nan)
    lens = replace(camera.track.lens, focus_m=nothing, fstop=nothing)
    camera = replace(camera, track=replace(camera.track, lens=lens))
    (done,) = deliver_all([camera], find_profile("zup-lh-cm"), "alembic", tmp_path)
    here = Abc.IArchive(str(done.files[0])).getTop()
    while not AbcGeom.ICamera.matches(here.getMetaData()):
        here = next(here.getChild(i) for i in range(here.getNumChildren()) if here.getChild(i).getNumChildren()
                    or AbcGeom.ICamera.matches(here.getChild(i).getMetaData()))  # fmt: skip
    schema = AbcGeom.ICamera(here.getParent(), here.getName()).getSchema()
    for i in (0, schema.getNumSamples() - 1):
        sample = schema.getValue(Abc.ISampleSelector(i))
        assert sample.getFocusDistance() == 0 and sample.getFStop() == 0
    assert any("no focus distance and no stop" in n and "no depth of field" in n for n in done.outgoing.notes)
