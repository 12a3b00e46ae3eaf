"""Formats that state an aspect and no size: the picture has that aspect, and the size is said to be a guess."""

from __future__ import annotations

import json
import math
from pathlib import Path

import numpy as np
import pytest

from anaxis.core.checks import Expected
from anaxis.core.checks.examine import checked_camera
from anaxis.core.scene.picture import picture_of, stated_aspect
from anaxis.formats import read_file

_DAE = """<?xml version="1.0"?><COLLADA xmlns="http://www.collada.org/2005/11/COLLADASchema" version="1.4.1"><asset><created>2026-01-01T00:00:00Z</created>
<modified>2026-01-01T00:00:00Z</modified><unit meter="1" name="meter"/><up_axis>Y_UP</up_axis></asset><library_cameras><camera id="c"><optics>
<technique_common><perspective>{lens}<znear>0.1</znear><zfar>100</zfar></perspective></technique_common></optics></camera></library_cameras>
<library_visual_scenes><visual_scene id="s"><node id="n" name="cam"><matrix>1 0 0 0 0 1 0 1 0 0 1 5 0 0 0 1</matrix><instance_camera url="#c"/></node>
</visual_scene></library_visual_scenes><scene><instance_visual_scene url="#s"/></scene></COLLADA>"""


def gltf(path: Path, *aspects: float | None) -> Path:
    views = [{"yfov": 0.6, "znear": 0.1, **({} if a is None else {"aspectRatio": a})} for a in aspects]
    document = {
        "asset": {"version": "2.0"},
        "cameras": [{"type": "perspective", "perspective": v} for v in views],
        "nodes": [{"camera": i, "name": f"cam{i}", "translation": [0, 1, 5]} for i in range(len(views))],
        "scenes": [{"nodes": list(range(len(views)))}],
    }
    path.write_text(json.dumps(document))
    return path


@pytest.mark.parametrize("aspect", [2.387, 2.0, 4 / 3, 1.0, 9 / 16])
def test_the_field_of_view_is_the_files_own(aspect: float, tmp_path: Path) -> None:
    (tmp_path / "a.dae").write_text(
        _DAE.format(lens=f"<yfov>{math.degrees(0.6)}</yfov><aspect_ratio>{aspect}</aspect_ratio>")
    )
    for path in (gltf(tmp_path / "a.gltf", aspect), tmp_path / "a.dae"):
        scene = read_file(path)
        picture = picture_of(scene, None, None)
        assert picture.image_guessed and picture.image.aspect == pytest.approx(aspect, rel=5e-4)
        assert max(picture.image.width_px, picture.image.height_px) == 1920
        work, findings = checked_camera(scene, None, (), Expected(), picture)
        lens = work.done.lens
        used = lens.used(picture.image, picture.fit)
        hfov = 2 * np.degrees(np.arctan(used.width_mm / 2 / lens.focal_mm))
        assert hfov == pytest.approx(2 * math.degrees(math.atan(aspect * math.tan(0.3))), rel=1e-3)
        (said,) = (f for f in findings if f.code == "image_from_aspect")
        assert f"{picture.image.width_px} x {picture.image.height_px} px" in said.message and said.severity == "note"


def test_a_size_that_is_known_and_cameras_that_disagree_say_nothing(tmp_path: Path) -> None:
    assert stated_aspect(read_file(gltf(tmp_path / "two.gltf", 2.0, 1.5))) is None
    scene = read_file(gltf(tmp_path / "none.gltf", None))
    assert stated_aspect(scene) is None and picture_of(scene, None, None).image.width_px == 1920
    both = tmp_path / "both.dae"
    both.write_text(_DAE.format(lens="<xfov>50</xfov><yfov>30</yfov>"))
    wide = math.tan(math.radians(25)) / math.tan(math.radians(15))
    assert stated_aspect(read_file(both)) == pytest.approx(wide)
    alone = tmp_path / "alone.dae"
    alone.write_text(_DAE.format(lens="<yfov>30</yfov>"))
    assert stated_aspect(read_file(alone)) is None
