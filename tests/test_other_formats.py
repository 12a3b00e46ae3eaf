"""Readers of Alembic, glTF, COLLADA and OBJ against the shot written and each format's own library."""

from __future__ import annotations

import json
import zipfile
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path
from typing import Any

import imath
import numpy as np
import pytest
from alembic3d import Abc, AbcCoreAbstract, AbcGeom
from scipy.interpolate import BPoly, CubicHermiteSpline
from scipy.spatial.transform import Rotation, Slerp

from anaxis.core.bake import bake_camera, world_matrices
from anaxis.core.errors import BadInput
from anaxis.core.surroundings import landmarks_of, set_lines_m
from anaxis.flow import take_camera
from anaxis.formats import read_file
from conftest import random_rotations
from make_scenes import SHOTS
from other_formats import POINTER, world_of, write_in_every_format
from set_pieces import LANDMARKS

PRECISION = {".abc": 1e-12, ".dae": 1e-12, ".zip": 1e-12, ".glb": 2e-6, ".txt": 1e-10}


@pytest.mark.parametrize("number", range(4))
def test_every_format_comes_to_the_same_camera(tmp_path: Path, number: int) -> None:
    files, shot = write_in_every_format(tmp_path, number), SHOTS[number]()
    meant = world_of(shot)
    focal = np.broadcast_to(shot.focal_mm, (len(meant),))
    for suffix, limit in PRECISION.items():
        scene = read_file(files[suffix])
        track = take_camera(scene, None).done
        assert np.abs(track.position_m - meant[:, :3, 3]).max() < limit * 10, suffix
        assert np.abs(track.rotation - meant[:, :3, :3]).max() < limit, suffix
        assert (track.frames == shot.frames).all(), suffix
        if suffix == ".txt":
            assert np.allclose(track.lens.focal_mm, focal)
            continue
        assert scene.rate == Fraction(str(Fraction(shot.rate).limit_denominator(1001))), suffix
        seen = track.lens.focal_mm / (track.lens.film_width_mm * track.lens.squeeze)
        factor = 100.0 if shot.lens_as_millimetres and suffix == ".zip" else 1.0
        assert np.allclose(seen, focal / shot.film_mm[0] / shot.squeeze, rtol=1e-6), suffix
        if suffix in (".abc", ".zip"):
            assert np.allclose(track.lens.film_width_mm, shot.film_mm[0] * factor, rtol=1e-6)
            assert np.allclose(track.lens.offset_y_mm, shot.offset_mm[1] * factor, rtol=1e-6, atol=1e-9)
            assert np.allclose(track.lens.focus_m, shot.focus_m, rtol=1e-6)
        marks = landmarks_of(scene, track.frames).shown()
        for name, at in LANDMARKS.items():
            assert np.allclose(marks.position_m[0, marks.index(name)], at, atol=1e-5), (suffix, name)
        assert len(set_lines_m(scene, float(track.frames[0]))) > 250, suffix


def test_what_a_file_does_not_store_is_a_guess_with_its_reason(other_files: dict[str, Path]) -> None:
    alembic = read_file(other_files[".abc"])
    assert set(alembic.guesses) == {"rate", "up_axis", "metres_per_unit"}
    assert "at 25 all 240 sample times lie on whole frames" in alembic.guesses["rate"]
    assert "stands 158.1 high" in alembic.guesses["metres_per_unit"]
    assert set(read_file(other_files[".glb"]).guesses) == {"rate", "lens:/rail/dolly/head/shotcam"}
    assert "up_axis" not in read_file(other_files[".dae"]).guesses
    obj = read_file(other_files[".obj"])
    assert obj.cameras == [] and {n.kind for n in obj.nodes} == {"set", "landmark"}
    assert np.allclose(landmarks_of(obj, np.zeros(1)).shown().position_m[0, 0], LANDMARKS["tide_bell"])


# Alembic


def test_an_alembic_lens_is_the_window_its_library_gives(tmp_path: Path) -> None:
    """Overscan, film-back ops, offsets and squeeze against getScreenWindow and getFieldOfView."""
    random = np.random.default_rng(5)
    for number in range(40):
        sample = AbcGeom.CameraSample()
        width, height = random.uniform(1, 5, 2)
        sample.setHorizontalAperture(width)
        sample.setVerticalAperture(height)
        sample.setFocalLength(random.uniform(10, 120))
        if number % 4 != 1:
            sample.setHorizontalFilmOffset(random.uniform(-0.5, 0.5))
            sample.setVerticalFilmOffset(random.uniform(-0.5, 0.5))
        if number % 2:
            for side in ("Left", "Right", "Top", "Bottom"):
                getattr(sample, f"setOverScan{side}")(random.uniform(0, 0.2))
        if number % 3 == 0:
            shift = AbcGeom.FilmBackXformOp(
                AbcGeom.FilmBackXformOperationType.kTranslateFilmBackOperation, "t"
            )
            shift.setTranslate(imath.V2d(*random.uniform(-0.3, 0.3, 2)))
            scale = AbcGeom.FilmBackXformOp(AbcGeom.FilmBackXformOperationType.kScaleFilmBackOperation, "s")
            scale.setScale(imath.V2d(*random.uniform(0.7, 1.4, 2)))
            sample.addOp(shift)
            sample.addOp(scale)
        path = tmp_path / f"{number}.abc"
        _alembic_camera(path, sample)
        lens = bake_camera(read_file(path)).track.lens
        window = sample.getScreenWindow()
        half = np.array([lens.film_width_mm[0] * lens.squeeze[0], lens.film_height_mm[0]]) / 2
        middle = np.array([lens.offset_x_mm[0], lens.offset_y_mm[0]])
        ours = np.concatenate([middle - half, middle + half]) / (width * 10 / 2)
        assert np.allclose(
            ours, [window["left"], window["bottom"], window["right"], window["top"]], atol=1e-12
        ), number
        # The library's field of view knows neither overscan nor film-back ops.
        if number % 2 == 0 and number % 3:
            view = 2 * np.degrees(np.arctan(half[0] / lens.focal_mm[0]))
            assert np.isclose(view, sample.getFieldOfView(), rtol=1e-12)


def _alembic_camera(path: Path, sample: Any) -> None:
    archive = Abc.OArchive(str(path))
    AbcGeom.OCamera(AbcGeom.OXform(archive.getTop(), "at"), "lens").getSchema().set(sample)


def test_alembic_op_stacks_inheritance_and_any_time_sampling(tmp_path: Path) -> None:
    """Stacks of ops against the library's own matrix; acyclic times; a child that shuts its parent out."""
    path, times = tmp_path / "rig.abc", [0.0, 0.05, 0.31, 0.5]
    archive = Abc.OArchive(str(path))
    vector = AbcCoreAbstract.TimeVector()
    for t in times:
        vector.append(t)
    kind = AbcCoreAbstract.TimeSamplingType(AbcCoreAbstract.AcyclicFlag.kAcyclic)
    uneven = archive.addTimeSampling(AbcCoreAbstract.TimeSampling(kind, vector))
    parent = AbcGeom.OXform(archive.getTop(), "parent")
    parent.getSchema().setTimeSampling(uneven)
    random, meant = np.random.default_rng(3), []
    for _ in times:
        sample = AbcGeom.XformSample()
        sample.setTranslation(imath.V3d(*random.normal(0, 3, 3)))
        sample.setRotation(imath.V3d(*random.normal(0, 1, 3)), float(random.uniform(-170, 170)))
        sample.setXRotation(float(random.uniform(-80, 80)))
        sample.setScale(imath.V3d(1.5, 1.5, 1.5))
        parent.getSchema().set(sample)
        meant.append([[sample.getMatrix()[i][j] for j in range(4)] for i in range(4)])
    child = AbcGeom.OXform(parent, "child")
    alone = AbcGeom.XformSample()
    alone.setTranslation(imath.V3d(1, 2, 3))
    alone.setInheritsXforms(False)
    child.getSchema().set(alone)
    for at, name in ((parent, "moving"), (child, "alone")):
        AbcGeom.OCamera(at, name).getSchema().set(AbcGeom.CameraSample())
    del archive, parent, child, at
    scene = read_file(path)
    node = scene.node("/parent")
    assert np.allclose(node.frames / float(scene.rate), times) and len(node.keys) == 4
    world = world_matrices(scene, "/parent/moving", node.frames)
    assert np.allclose(np.swapaxes(world, 1, 2), np.array(meant), atol=1e-12)
    assert np.allclose(world_matrices(scene, "/parent/child/alone", node.frames)[0, :3, 3], [1, 2, 3])


# glTF


@pytest.fixture
def gltf(tmp_path: Path) -> Callable[..., Path]:
    """Writes a .gltf of one camera node with its data inline; ``change`` may alter the document."""
    import base64

    def write(
        arrays: list[tuple[np.ndarray, str, int]], samplers: list[dict[str, Any]], channels: list[dict[str, Any]],
        change: Callable[[dict[str, Any]], None] = lambda d: None,
    ) -> Path:  # fmt: skip
        data, views, accessors = b"", [], []
        for array, kind, component in arrays:
            raw = array.tobytes()
            views.append({"buffer": 0, "byteOffset": len(data), "byteLength": len(raw)})
            width = {"SCALAR": 1, "VEC3": 3, "VEC4": 4}[kind]
            accessors.append(
                {
                    "bufferView": len(views) - 1,
                    "componentType": component,
                    "count": array.size // width,
                    "type": kind,
                }
            )
            data += raw + b"\0" * (-len(raw) % 4)
        document = {
            "asset": {"version": "2.0"}, "scenes": [{"nodes": [0]}], "nodes": [{"name": "cam", "camera": 0}],
            "cameras": [{"type": "perspective", "perspective": {"yfov": 0.7, "aspectRatio": 1.5, "znear": 0.1}}],
            "animations": [{"samplers": samplers, "channels": channels}], "accessors": accessors, "bufferViews": views,
            "buffers": [{"byteLength": len(data), "uri": "data:;base64," + base64.b64encode(data).decode()}],
        }  # fmt: skip
        change(document)
        path = tmp_path / "c.gltf"
        path.write_text(json.dumps(document))
        return path

    return write


F4 = np.float32
TIMES = np.array([0.0, 0.25, 1.0], F4)


def test_gltf_samplers_against_their_formulas(gltf: Callable[..., Path]) -> None:
    random = np.random.default_rng(1)
    spline = random.normal(size=(3, 3, 3)).astype(F4)  # in-tangent, value, out-tangent
    turns = Rotation.from_matrix(random_rotations(3, 4)).as_quat().astype(F4)
    steps = random.uniform(0.5, 2, (3, 3)).astype(F4)
    path = gltf(
        [(TIMES, "SCALAR", 5126), (spline, "VEC3", 5126), (turns, "VEC4", 5126), (steps, "VEC3", 5126)],
        [{"input": 0, "output": 1, "interpolation": "CUBICSPLINE"}, {"input": 0, "output": 2},
         {"input": 0, "output": 3, "interpolation": "STEP"}],
        [{"sampler": i, "target": {"node": 0, "path": p}} for i, p in enumerate(("translation", "rotation", "scale"))],
    )  # fmt: skip
    scene = read_file(path)
    frames = np.arange(0.0, 25.0)
    local = scene.node("/cam").local[np.searchsorted(scene.node("/cam").frames, frames)]
    assert scene.rate == 24
    seconds = frames / 24
    curve = CubicHermiteSpline(TIMES, spline[:, 1].astype(float), spline[:, 2].astype(float))
    # scipy has one slope a key; the format has two, so each span is checked with its own.
    for a, b in ((0, 1), (1, 2)):
        inside = (seconds >= TIMES[a]) & (seconds <= TIMES[b])
        curve = CubicHermiteSpline(
            TIMES[[a, b]],
            spline[[a, b], 1].astype(float),
            np.stack([spline[a, 2], spline[b, 0]]).astype(float),
        )
        assert np.allclose(local[inside, :3, 3], curve(seconds[inside]), atol=1e-6)
    turn = Slerp(TIMES, Rotation.from_quat(turns))(seconds).as_matrix()
    held = steps[np.searchsorted(TIMES, seconds + 1e-9, side="right") - 1]
    assert np.allclose(local[:, :3, :3], turn * held[:, None, :], atol=1e-6)


def test_gltf_sparse_and_normalised_accessors(gltf: Callable[..., Path]) -> None:
    turns = np.round(
        Rotation.from_rotvec(np.radians([[0, 0, 0], [0, 40, 0], [0, 90, 0]])).as_quat() * 32767
    ).astype(np.int16)
    places = np.zeros((3, 3), F4)
    sparse_at, sparse_values = np.array([1], np.uint16), np.array([[5, 6, 7]], F4)

    def change(document: dict[str, Any]) -> None:
        document["accessors"][2]["normalized"] = True
        document["accessors"][1]["sparse"] = {
            "count": 1, "indices": {"bufferView": 3, "componentType": 5123}, "values": {"bufferView": 4},
        }  # fmt: skip
        del document["accessors"][3:], document["accessors"][1]["bufferView"]

    path = gltf(
        [(TIMES, "SCALAR", 5126), (places, "VEC3", 5126), (turns, "VEC4", 5122), (sparse_at, "SCALAR", 5123), (sparse_values, "VEC3", 5126)],
        [{"input": 0, "output": 1}, {"input": 0, "output": 2}],
        [{"sampler": i, "target": {"node": 0, "path": p}} for i, p in enumerate(("translation", "rotation"))],
        change,
    )  # fmt: skip
    node = read_file(path).node("/cam")
    assert np.allclose(node.local[:, :3, 3], [[0, 0, 0], [5, 6, 7], [0, 0, 0]])
    assert np.allclose(
        node.local[1, :3, :3], Rotation.from_euler("y", 40, degrees=True).as_matrix(), atol=1e-4
    )


def test_gltf_lens_animation_comes_by_the_pointer_extension(gltf: Callable[..., Path]) -> None:
    fov = np.array([0.5, 0.6, 0.9], F4)
    target = {"path": "pointer", "extensions": {POINTER: {"pointer": "/cameras/0/perspective/yfov"}}}
    path = gltf(
        [(TIMES, "SCALAR", 5126), (fov, "SCALAR", 5126)],
        [{"input": 0, "output": 1}],
        [{"sampler": 0, "target": target}],
    )
    lens = bake_camera(read_file(path), frames=np.array([0.0, 6.0, 24.0])).track.lens
    assert np.allclose(2 * np.arctan(lens.film_height_mm / 2 / lens.focal_mm), fov, atol=1e-7)
    assert np.allclose(lens.film_width_mm / lens.film_height_mm, 1.5)


@pytest.mark.parametrize(
    ("change", "said"),
    (
        (lambda d: d["buffers"][0].update(uri="../secret.bin"), "not part of the upload"),
        (lambda d: d["buffers"][0].update(uri="file:///etc/passwd"), "not part of the upload"),
        (lambda d: d["accessors"][0].update(count=10**9), "does not fit the file's buffers"),
        (lambda d: d["accessors"][0].update(bufferView=77), "does not fit the file's buffers"),
        (lambda d: d["nodes"][0].update(children=[0]), "their own parents"),
        (lambda d: d["asset"].update(version="1.0"), "another version"),
        (lambda d: d["cameras"][0].update(type="orthographic"), "orthographic"),
    ),
)  # fmt: skip
def test_a_bad_gltf_is_one_sentence(
    gltf: Callable[..., Path], change: Callable[[dict[str, Any]], None], said: str
) -> None:
    places = np.zeros((3, 3), F4)
    path = gltf(
        [(TIMES, "SCALAR", 5126), (places, "VEC3", 5126)], [{"input": 0, "output": 1}],
        [{"sampler": 0, "target": {"node": 0, "path": "translation"}}], change,
    )  # fmt: skip
    with pytest.raises(BadInput, match=said):
        take_camera(read_file(path), None)


# COLLADA

DEFAULT_ASSET = "<unit meter='1'/><up_axis>Y_UP</up_axis>"


def collada(
    tmp_path: Path,
    node: str,
    animations: str = "",
    asset: str = "",
    lens: str = "<xfov>50</xfov>",
    head: str = "",
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
)  # fmt: skip


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
    assert np.allclose(local[:3, :3] @ [1, 0, 0], [1, 1, 0]) and np.allclose(
        local[:3, :3] @ [0, 1, 0], [0, 1, 0]
    )


@pytest.mark.parametrize(
    ("node", "target", "values", "element", "expected"),
    (
        ('<translate sid="t">1 2 3</translate>', "n/t.Y", [0, 10], (1, 3), [0, 5, 10]),
        ('<translate sid="t">1 2 3</translate>', "n/t(2)", [0, 10], (2, 3), [0, 5, 10]),
        ('<translate sid="t">1 2 3</translate>', "n/t", [0, 0, 0, 4, 5, 6], (2, 3), [0, 3, 6]),
        ('<matrix sid="m">1 0 0 0 0 1 0 0 0 0 1 0 0 0 0 1</matrix>', "n/m(0)(3)", [0, 8], (0, 3), [0, 4, 8]),
        ('<rotate sid="r">0 1 0 0</rotate>', "n/r.ANGLE", [0, 60], (0, 2), np.sin(np.radians([0, 30, 60]))),
    ),
)  # fmt: skip
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
        ("<yfov>30</yfov><aspect_ratio>1.5</aspect_ratio>", 2 * np.degrees(np.arctan(np.tan(np.radians(15)) * 1.5)), 30.0),
        ("<xfov>50</xfov><yfov>30</yfov>", 50.0, 30.0),
    ),
)  # fmt: skip
def test_collada_any_two_of_xfov_yfov_and_aspect(tmp_path: Path, lens: str, hfov: float, vfov: float) -> None:
    got = bake_camera(read_file(collada(tmp_path, "", lens=lens))).track.lens
    assert np.isclose(2 * np.degrees(np.arctan(got.film_width_mm / 2 / got.focal_mm))[0], hfov)
    assert np.isclose(2 * np.degrees(np.arctan(got.film_height_mm / 2 / got.focal_mm))[0], vfov)


def test_collada_up_axes_and_unit(tmp_path: Path) -> None:
    """The direction that is up in the file is up in canonical space, and right stays where the standard has it."""
    for letter, up, right in (
        ("X", [1, 0, 0], [0, -1, 0]),
        ("Y", [0, 1, 0], [1, 0, 0]),
        ("Z", [0, 0, 1], [1, 0, 0]),
    ):
        asset = f'<unit meter="0.0254"/><up_axis>{letter}_UP</up_axis>'
        for axis, canonical in ((up, [0, 1, 0]), (right, [1, 0, 0])):
            at = " ".join(str(v) for v in axis)
            track = bake_camera(
                read_file(collada(tmp_path, f"<translate>{at}</translate>", asset=asset))
            ).track
            assert np.allclose(track.position_m[0], np.array(canonical) * 0.0254), letter


@pytest.mark.parametrize(
    ("make", "said"),
    (
        (lambda p: collada(p, "", head='<!DOCTYPE x [<!ENTITY e SYSTEM "file:///etc/passwd">]>'), "declares a document type"),
        (lambda p: collada(p, "<translate>1 2</translate>"), "'translate' has 2 numbers instead of 3"),
        (lambda p: collada(p, "<translate>1 2 far</translate>"), "holds something that is no number"),
        (lambda p: collada(p, "", asset="<unit meter='0'/>"), "must be a number above zero"),
        (lambda p: collada(p, "<translate sid='t'>1 2 3</translate>", curve_xml("n/t.X", [1.0, 0.0], [1, 2], "LINEAR")), "do not rise"),
    ),
)  # fmt: skip
def test_a_bad_collada_is_one_sentence(tmp_path: Path, make: Callable[[Path], Path], said: str) -> None:
    with pytest.raises(BadInput, match=said):
        read_file(make(tmp_path))


# Bundles and OBJ


def bundle(tmp_path: Path, entries: dict[str, bytes], link: bool = False) -> Path:
    path = tmp_path / "b.zip"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as out:
        for name, data in entries.items():
            info = zipfile.ZipInfo(name)
            if link:
                info.external_attr = 0o120777 << 16
            out.writestr(info, data)
    return path


def test_a_bundle_opens_what_its_layer_refers_to_and_nothing_else(
    tmp_path: Path, usda: Callable[..., Path], gltf: Callable[..., Path]
) -> None:
    rig = usda(name="rig.usda").read_bytes()
    (tmp_path / "secret.usda").write_bytes(rig)
    layer = b'#usda 1.0\ndef "shot" (references = %s) {}\n'
    inside = layer % b"@./parts/rig.usda@</cam>"
    scene = read_file(bundle(tmp_path, {"shot.usda": inside, "parts/rig.usda": rig}))
    assert scene.name == "b.zip: shot.usda" and len(scene.cameras) == 1
    for outside in (b"@../secret.usda@</cam>", b"@" + str(tmp_path / "secret.usda").encode() + b"@</cam>"):
        scene = read_file(bundle(tmp_path, {"shot.usda": layer % outside}))
        assert scene.cameras == [] and scene.findings[0].code == "outside_reference"
    places = np.arange(9, dtype=F4).reshape(3, 3)
    alone = gltf(
        [(TIMES, "SCALAR", 5126), (places, "VEC3", 5126)], [{"input": 0, "output": 1}],
        [{"sampler": 0, "target": {"node": 0, "path": "translation"}}],
        lambda d: d["buffers"][0].update(uri="parts/c%20data.bin"),
    )  # fmt: skip
    data = TIMES.tobytes() + places.tobytes()
    packed = bundle(tmp_path, {"c.gltf": alone.read_bytes(), "parts/c data.bin": data})
    assert np.allclose(read_file(packed).cameras[0].local[:, :3, 3], places)


@pytest.mark.parametrize(
    ("entries", "link", "said"),
    (
        ({"../out.usda": b"x"}, False, "leads out of the package"),
        ({"/etc/out.usda": b"x"}, False, "leads out of the package"),
        ({"a\\..\\..\\out.usda": b"x"}, False, "leads out of the package"),
        ({"shot.usda": b"/etc/passwd"}, True, "holds the link 'shot.usda'"),
        ({f"{i}.usda": b"x" for i in range(2001)}, False, "unpacks to 2001 files"),
        ({"notes.md": b"x"}, False, "holds no camera file"),
        ({"shot.usda": b"tide tables"}, False, "cannot be read as USD"),
    ),
)  # fmt: skip
def test_a_hostile_bundle_is_one_sentence(
    tmp_path: Path, entries: dict[str, bytes], link: bool, said: str
) -> None:
    with pytest.raises(BadInput, match=said):
        read_file(bundle(tmp_path, entries, link))


def test_a_bundle_that_lies_about_its_size_is_refused(tmp_path: Path) -> None:
    path = bundle(tmp_path, {"shot.usda": b"\0" * 5_000_000})
    data = bytearray(path.read_bytes())
    for at in (data.find(b"PK\x03\x04") + 22, data.find(b"PK\x01\x02") + 24):
        data[at : at + 4] = (100).to_bytes(4, "little")
    path.write_bytes(bytes(data))
    with pytest.raises(BadInput, match=r"b\.zip"):
        read_file(path)


def test_obj_indices_groups_and_bad_lines(tmp_path: Path) -> None:
    path = tmp_path / "set.obj"
    path.write_text(
        "v 0 0 0\nv 2 0 0\nv 2 0 4\nv 0 0 4\no slab\nf 1/1/1 2//2 3 4\no rope\nl -2 -1\no post\np 2\n"
    )
    nodes = {n.path: n for n in read_file(path).nodes}
    assert nodes["/slab"].kind == "set" and len(nodes["/slab"].segments) == 4  # type: ignore[arg-type]
    assert nodes["/slab"].local[0, :3, 3].tolist() == [1, 0, 2] and len(nodes["/rope"].segments) == 1  # type: ignore[arg-type]
    assert nodes["/post"].kind == "landmark" and nodes["/post"].local[0, :3, 3].tolist() == [2, 0, 0]
    path.write_text("v 0 0 0\nf 1 2 3\n")
    with pytest.raises(BadInput, match=r"set.obj, line 2: 'f 1 2 3' cannot be read"):
        read_file(path)
