"""Every other format against the shot written; Alembic against its library; bundles and OBJ."""

from __future__ import annotations

import zipfile
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path
from typing import Any

import imath
import numpy as np
import pytest
from alembic3d import Abc, AbcCoreAbstract, AbcGeom

from anaxis.core.checks.examine import examine, take_camera
from anaxis.core.errors import BadInput
from anaxis.core.scene.bake import bake_camera, world_matrices
from anaxis.core.scene.surroundings import landmarks_of, set_lines_m
from anaxis.formats import read_file
from make_scenes import SHOTS
from other_formats import world_of, write_in_every_format
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
    assert "at 25 all 240 sample times are whole frames" in alembic.guesses["rate"]
    assert "is 158.1 high" in alembic.guesses["metres_per_unit"]
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
        if number % 5 > 1:
            sample.setLensSqueezeRatio(random.uniform(0.5, 2.2))
        if number % 4 != 1:
            sample.setHorizontalFilmOffset(random.uniform(-0.5, 0.5))
            sample.setVerticalFilmOffset(random.uniform(-0.5, 0.5))
        if number % 2:
            for side in ("Left", "Right", "Top", "Bottom"):
                getattr(sample, f"setOverScan{side}")(random.uniform(0, 0.2))
        if number % 3 == 0:
            shift = AbcGeom.FilmBackXformOp(AbcGeom.FilmBackXformOperationType.kTranslateFilmBackOperation, "t")
            shift.setTranslate(imath.V2d(*random.uniform(-0.3, 0.3, 2)))
            scale = AbcGeom.FilmBackXformOp(AbcGeom.FilmBackXformOperationType.kScaleFilmBackOperation, "s")
            scale.setScale(imath.V2d(*random.uniform(0.7, 1.4, 2)))
            sample.addOp(shift)
            sample.addOp(scale)
        path = tmp_path / f"{number}.abc"
        _alembic_camera(path, sample)
        lens = bake_camera(read_file(path)).track.lens
        window = sample.getScreenWindow()
        # The library multiplies the window's height by the squeeze as well, which its own documentation ("the amount
        # the lens compresses the image horizontally") does not: up and down are held against the window without it.
        sample.setLensSqueezeRatio(1.0)
        window |= {k: v for k, v in sample.getScreenWindow().items() if k in ("bottom", "top")}
        half = np.array([lens.film_width_mm[0] * lens.squeeze[0], lens.film_height_mm[0]]) / 2
        middle = np.array([lens.offset_x_mm[0], lens.offset_y_mm[0]])
        ours = np.concatenate([middle - half, middle + half]) / (width * 10 / 2)
        assert np.allclose(ours, [window["left"], window["bottom"], window["right"], window["top"]], atol=1e-12), number
        # The library's field of view knows neither overscan nor film-back ops nor squeeze.
        if number % 2 == 0 and number % 3:
            view = 2 * np.degrees(np.arctan(half[0] / lens.squeeze[0] / lens.focal_mm[0]))
            assert np.isclose(view, sample.getFieldOfView(), rtol=1e-12)


def test_the_librarys_own_focus_and_stop_are_said_to_be_defaults(tmp_path: Path) -> None:
    def codes(change: Callable[[Any], None]) -> set[str]:
        sample = AbcGeom.CameraSample()
        change(sample)
        _alembic_camera(tmp_path / "focus.abc", sample)
        return {f.code for f in examine(read_file(tmp_path / "focus.abc"))[0].findings}

    assert "library_focus" in codes(lambda sample: None)
    assert "library_focus" not in codes(lambda sample: sample.setFocusDistance(310.0))
    assert "library_focus" not in codes(lambda sample: sample.setFStop(2.8))


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


F4 = np.float32
TIMES = np.array([0.0, 0.25, 1.0], F4)


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
        [(TIMES, "SCALAR", 5126), (places, "VEC3", 5126)],
        [{"input": 0, "output": 1}],
        [{"sampler": 0, "target": {"node": 0, "path": "translation"}}],
        lambda d: d["buffers"][0].update(uri="parts/c%20data.bin"),
    )
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
)
def test_a_hostile_bundle_is_one_sentence(tmp_path: Path, entries: dict[str, bytes], link: bool, said: str) -> None:
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
    path.write_text("v 0 0 0\nv 2 0 0\nv 2 0 4\nv 0 0 4\no slab\nf 1/1/1 2//2 3 4\no rope\nl -2 -1\no post\np 2\n")
    nodes = {n.path: n for n in read_file(path).nodes}
    assert nodes["/slab"].kind == "set" and len(nodes["/slab"].segments) == 4  # type: ignore[arg-type]
    assert nodes["/slab"].local[0, :3, 3].tolist() == [1, 0, 2] and len(nodes["/rope"].segments) == 1  # type: ignore[arg-type]
    assert nodes["/post"].kind == "landmark" and nodes["/post"].local[0, :3, 3].tolist() == [2, 0, 0]
    path.write_text("v 0 0 0\nf 1 2 3\n")
    with pytest.raises(BadInput, match=r"set.obj, line 2: 'f 1 2 3' cannot be read"):
        read_file(path)
