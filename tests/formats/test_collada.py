"""The COLLADA reader: transform elements, animation, lenses, axes, files that cannot be read."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.interpolate import BPoly

from anaxis.core.checks.examine import take_camera
from anaxis.core.errors import BadInput
from anaxis.core.scene.bake import bake_camera, world_matrices
from anaxis.formats import read_file

DEFAULT_ASSET = "<unit meter='1'/><up_axis>Y_UP</up_axis>"


def collada(
    tmp_path: Path, node: str, animations: str = "", asset: str = "", lens: str = "<xfov>50</xfov>", head: str = ""
) -> Path:
    path = tmp_path / "c.dae"
    path.write_text(
        f'<?xml version="1.0"?>{head}<COLLADA xmlns="http://www.collada.org/2005/11/COLLADASchema" version="1.4.1">'
        f"<asset><created>2026-01-01T00:00:00</created><modified>2026-01-01T00:00:00</modified>{asset or DEFAULT_ASSET}</asset>"
        f'<library_cameras><camera id="lens"><optics><technique_common><perspective>{lens}<znear>0.1</znear><zfar>100</zfar>'
        f"</perspective></technique_common></optics></camera></library_cameras><library_animations>{animations}</library_animations>"
        f'<library_visual_scenes><visual_scene id="s"><node id="n" name="cam">{node}<instance_camera url="#lens"/></node></visual_scene>'
        '</library_visual_scenes><scene><instance_visual_scene url="#s"/></scene></COLLADA>'
    )
    return path


def curve_xml(
    target: str, seconds: list[float], values: list[float], kind: str, tangents: tuple[str, str] = ("", "")
) -> str:
    n = len(seconds)

    def source(key: str, numbers: str, count: int, stride: int) -> str:
        return (
            f'<source id="{key}"><float_array id="{key}a" count="{count}">{numbers}</float_array><technique_common>'
            f'<accessor source="#{key}a" count="{n}" stride="{stride}"/></technique_common></source>'
        )

    words = " ".join(str(v) for v in values)
    stride = len(values) // n
    out = source("i", " ".join(str(s) for s in seconds), n, 1) + source("o", words, len(values), stride)
    inputs = '<input semantic="INPUT" source="#i"/><input semantic="OUTPUT" source="#o"/><input semantic="INTERPOLATION" source="#k"/>'
    for side, text in zip(("IN", "OUT"), tangents, strict=True):
        if text:
            out += source(f"t{side}", text, 2 * n, 2)
            inputs += f'<input semantic="{side}_TANGENT" source="#t{side}"/>'
    names = " ".join([kind] * n)
    return (
        f'<animation>{out}<source id="k"><Name_array id="ka" count="{n}">{names}</Name_array></source>'
        f'<sampler id="s1">{inputs}</sampler><channel source="#s1" target="{target}"/></animation>'
    )


STACK = (
    "<translate>1 2 3</translate><rotate>0.6 0 0.8 40</rotate><scale>1 2 3</scale>",
    "<matrix>1 0 0 4 0 0 -1 5 0 1 0 6 0 0 0 1</matrix><rotate>1 0 0 -20</rotate>",
    "<rotate>0 0 1 10</rotate><translate>-1 0 2</translate><lookat>0 0 0 0 0 -1 0 1 0</lookat>",
)


@pytest.mark.parametrize("stack", STACK)
def test_collada_transform_elements_against_pycollada(tmp_path: Path, stack: str) -> None:
    from collada import Collada

    path = collada(tmp_path, stack)
    theirs = Collada(str(path)).scenes[0].nodes[0].matrix
    assert np.allclose(read_file(path).cameras[0].local[0], theirs, atol=1e-6)


def test_collada_lookat_looks_from_the_eye_at_its_interest(tmp_path: Path) -> None:
    """pycollada writes its axes as rows, so this is held against what the standard says in words."""
    eye, interest, up = np.array([3.0, 4, 5]), np.array([1.0, 0, -2]), np.array([0, 1, 0.2])
    words = " ".join(str(v) for v in (*eye, *interest, *up))
    local = read_file(collada(tmp_path, f"<lookat>{words}</lookat>")).cameras[0].local[0]
    ahead = (interest - eye) / np.linalg.norm(interest - eye)
    assert np.allclose(local[:3, 3], eye) and np.allclose(-local[:3, 2], ahead)
    assert np.isclose(local[:3, 0] @ up, 0) and local[:3, 1] @ up > 0 and np.isclose(np.linalg.det(local), 1)


def test_collada_skew_tilts_the_first_axis_towards_the_second(tmp_path: Path) -> None:
    local = read_file(collada(tmp_path, "<skew>45 1 0 0 0 1 0</skew>")).cameras[0].local[0]
    assert np.allclose(local[:3, :3] @ [1, 0, 0], [1, 1, 0]) and np.allclose(local[:3, :3] @ [0, 1, 0], [0, 1, 0])


@pytest.mark.parametrize(
    ("node", "target", "values", "element", "expected"),
    (
        ('<translate sid="t">1 2 3</translate>', "n/t.Y", [0, 10], (1, 3), [0, 5, 10]),
        ('<translate sid="t">1 2 3</translate>', "n/t(2)", [0, 10], (2, 3), [0, 5, 10]),
        ('<translate sid="t">1 2 3</translate>', "n/t", [0, 0, 0, 4, 5, 6], (2, 3), [0, 3, 6]),
        ('<matrix sid="m">1 0 0 0 0 1 0 0 0 0 1 0 0 0 0 1</matrix>', "n/m(0)(3)", [0, 8], (0, 3), [0, 4, 8]),
        ('<rotate sid="r">0 1 0 0</rotate>', "n/r.ANGLE", [0, 60], (0, 2), np.sin(np.radians([0, 30, 60]))),
    ),
)
def test_collada_animation_targets(
    tmp_path: Path, node: str, target: str, values: list[float], element: tuple[int, int], expected: Any
) -> None:
    scene = read_file(collada(tmp_path, node, curve_xml(target, [0.0, 1.0], values, "LINEAR")))
    got = world_matrices(scene, "/cam", np.array([0.0, 12.0, 24.0]))[:, element[0], element[1]]
    assert scene.rate == 24 and np.allclose(got, expected)


def test_collada_step_and_bezier(tmp_path: Path) -> None:
    node = '<translate sid="t">0 0 0</translate>'
    stepped = read_file(collada(tmp_path, node, curve_xml("n/t.X", [0.0, 0.5, 1.0], [1, 7, 3], "STEP")))
    got = world_matrices(stepped, "/cam", np.array([0.0, 11.0, 12.0, 23.0, 24.0]))[:, 0, 3]
    assert got.tolist() == [1, 1, 7, 7, 3]
    tangents = ("-0.2 1 0.7 9", "0.4 5 1.2 2")  # in of both keys, out of both keys
    bent = read_file(collada(tmp_path, node, curve_xml("n/t.X", [0.0, 1.0], [1, 3], "BEZIER", tangents)))
    frames = np.arange(0.0, 25.0)
    got = world_matrices(bent, "/cam", frames)[:, 0, 3]
    s = np.linspace(0, 1, 200_001)
    control = np.array([[0.0, 1.0], [0.4, 5.0], [0.7, 9.0], [1.0, 3.0]])
    drawn = BPoly(control[:, None, :], [0, 1])(s)
    assert np.allclose(got, np.interp(frames / 24, drawn[:, 0], drawn[:, 1]), atol=1e-7)


@pytest.mark.parametrize(
    ("lens", "hfov", "vfov"),
    (
        ("<xfov>50</xfov><aspect_ratio>2</aspect_ratio>", 50.0, 2 * np.degrees(np.arctan(np.tan(np.radians(25)) / 2))),
        (
            "<yfov>30</yfov><aspect_ratio>1.5</aspect_ratio>",
            2 * np.degrees(np.arctan(np.tan(np.radians(15)) * 1.5)),
            30.0,
        ),
        ("<xfov>50</xfov><yfov>30</yfov>", 50.0, 30.0),
    ),
)
def test_collada_any_two_of_xfov_yfov_and_aspect(tmp_path: Path, lens: str, hfov: float, vfov: float) -> None:
    got = bake_camera(read_file(collada(tmp_path, "", lens=lens))).track.lens
    assert np.isclose(2 * np.degrees(np.arctan(got.film_width_mm / 2 / got.focal_mm))[0], hfov)
    assert np.isclose(2 * np.degrees(np.arctan(got.film_height_mm / 2 / got.focal_mm))[0], vfov)


def test_collada_up_axes_and_unit(tmp_path: Path) -> None:
    """The direction that is up in the file is up in canonical space, and right stays where the standard has it."""
    for letter, up, right in (("X", [1, 0, 0], [0, -1, 0]), ("Y", [0, 1, 0], [1, 0, 0]), ("Z", [0, 0, 1], [1, 0, 0])):
        asset = f'<unit meter="0.0254"/><up_axis>{letter}_UP</up_axis>'
        for axis, canonical in ((up, [0, 1, 0]), (right, [1, 0, 0])):
            at = " ".join(str(v) for v in axis)
            track = bake_camera(read_file(collada(tmp_path, f"<translate>{at}</translate>", asset=asset))).track
            assert np.allclose(track.position_m[0], np.array(canonical) * 0.0254), letter


@pytest.mark.parametrize(
    ("make", "said"),
    (
        (lambda p: collada(p, "", head='<!DOCTYPE x [<!ENTITY e SYSTEM "file:///etc/passwd">]>'), "declares a document type"),
        (lambda p: collada(p, "<translate>1 2</translate>"), "'translate' has 2 numbers instead of 3"),
        (lambda p: collada(p, "<translate>1 2 far</translate>"), "has a value that is not a number"),
        (lambda p: collada(p, "", asset="<unit meter='0'/>"), "must be a number above zero"),
        (lambda p: collada(p, "<translate sid='t'>1 2 3</translate>", curve_xml("n/t.X", [1.0, 0.0], [1, 2], "LINEAR")), "do not rise"),
    ),
)  # fmt: skip
def test_a_bad_collada_is_one_sentence(tmp_path: Path, make: Callable[[Path], Path], said: str) -> None:
    with pytest.raises(BadInput, match=said):
        read_file(make(tmp_path))


@pytest.mark.parametrize("stack", ["<rotate>NaN 0 1 90</rotate>", "<rotate>0 0 1 NaN</rotate>", "<translate>0 NaN 0</translate>", "<matrix>NaN 0 0 0 0 1 0 0 0 0 1 0 0 0 0 1</matrix>"])  # fmt: skip
def test_a_transform_that_is_no_number_is_not_taken_for_none(tmp_path: Path, stack: str) -> None:
    with pytest.raises(BadInput, match="not a number at frame"):
        take_camera(read_file(collada(tmp_path, stack)), None)
