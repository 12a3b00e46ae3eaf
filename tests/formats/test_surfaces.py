"""Meshes keep their surfaces in every format that has some: the same area and place, whatever is drawn of them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from anaxis.core.scene.hull import hull_points, pieces_m
from anaxis.core.scene.surroundings import set_triangles_m
from anaxis.formats import read_file, set_lines
from anaxis.formats.set_lines import mesh_shape
from anaxis.library.archive import scene_from_bytes, scene_to_bytes
from lanes import sized


def area(triangles: np.ndarray) -> float:
    return float(
        np.linalg.norm(np.cross(triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0]), axis=1).sum() / 2
    )


@pytest.fixture(scope="session")
def scenes(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    import other_formats

    folder = tmp_path_factory.mktemp("surfaces")
    return other_formats.write_in_every_format(folder)


def test_the_demo_s_set_has_the_same_surface_in_every_format(
    scenes: dict[str, Path], demo_files: dict[str, Path]
) -> None:
    from set_pieces import pieces

    meant = 0.0
    for piece in pieces():
        for face in piece.faces:
            p = piece.points[face]
            fan = np.stack([np.broadcast_to(p[0], p[1:-1].shape), p[1:-1], p[2:]], axis=1)
            meant += area(fan)
    found = {}
    for name, path in {**scenes, **demo_files}.items():
        if path.suffix == ".gltf":  # in two files, which no upload has
            continue
        scene = scene_from_bytes(scene_to_bytes(read_file(path)))
        triangles = set_triangles_m(scene, scene.first_frame)
        if len(triangles):
            found[name] = area(triangles)
    assert len(found) >= 5, found
    assert all(v == pytest.approx(meant, rel=1e-4) for v in found.values()), (meant, found)


def test_faces_become_fans_and_what_does_not_fit_is_left_out() -> None:
    square = np.array([[0, 0, 0], [2, 0, 0], [2, 2, 0], [1, 3, 0], [0, 2, 0.0]])
    shape = mesh_shape(square, np.array([5]), np.arange(5))
    assert shape is not None and shape.triangles is not None and shape.triangles.shape == (3, 3, 3)
    assert area(shape.triangles) == pytest.approx(5.0)
    assert mesh_shape(square, np.array([5]), np.array([0, 1, 2, 3, 9])) is None


def test_a_mesh_beyond_all_bounds_has_lines_and_no_surface(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(set_lines, "MAX_TRIANGLES", sized(set_lines.MAX_TRIANGLES, 3_000))
    side = int(np.ceil(np.sqrt(set_lines.MAX_TRIANGLES / 2))) + 2
    x, z = np.meshgrid(np.arange(side + 1), np.arange(side + 1))
    rows = [f"v {a} 0 {b}" for a, b in zip(x.ravel().tolist(), z.ravel().tolist(), strict=True)]
    at = (np.arange(side)[:, None] * (side + 1) + np.arange(side)[None] + 1).ravel()
    rows += [f"f {i} {i + 1} {i + side + 2} {i + side + 1}" for i in at.tolist()]
    path = tmp_path / "field.obj"
    path.write_text("o field\n" + "\n".join(rows))
    (node,) = [n for n in read_file(path).nodes if n.kind == "set"]
    assert node.segments is not None and len(node.segments) and node.triangles is not None and len(node.triangles) == 0


def test_the_hull_is_what_a_camera_must_hold() -> None:
    cloud = np.random.default_rng(4).normal(size=(3000, 3))
    hull = hull_points(cloud)
    for direction in np.random.default_rng(5).normal(size=(50, 3)):
        assert (cloud @ direction).max() <= (hull @ direction).max() + 1e-12
    flat = cloud * [1, 1, 0]
    assert (flat @ [1, 2, 0]).max() <= (hull_points(flat) @ [1, 2, 0]).max() + 1e-12


def test_a_piece_that_moves_is_held_frame_by_frame(usda: object) -> None:
    body = """def Xform "boat" {
      double3 xformOp:translate.timeSamples = { 1: (0, 0, 0), 10: (90, 0, 0) }
      uniform token[] xformOpOrder = ["xformOp:translate"]
      def Mesh "hull" {
        point3f[] points = [(0,0,0),(100,0,0),(0,100,0),(0,0,100)]
        int[] faceVertexCounts = [3,3,3,3]
        int[] faceVertexIndices = [0,1,2, 0,1,3, 0,2,3, 1,2,3]
      }
    }
      CAMERA"""
    path: Path = usda(body=body)  # type: ignore[operator]
    moved = pieces_m(read_file(path), ("hull",), np.array([1.0, 10.0]))["hull"]
    assert moved.shape == (2, 4, 3) and np.abs(moved[1] - moved[0] - [0.9, 0, 0]).max() < 1e-12
