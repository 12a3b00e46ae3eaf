"""What is kept of a set that is too much: the longest lines, whole surfaces, every so many points."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.motion.cuts import with_mark
from anaxis.core.outgoing import make_outgoing
from anaxis.core.scene.landmarks import NO_LANDMARKS
from anaxis.core.scene.mesh import Mesh
from anaxis.core.scene.nodes import Node
from anaxis.core.space.axes import Convention
from anaxis.formats import read_file, write_files
from anaxis.formats.set_lines import MAX_CORNERS, MAX_MARKS, MAX_SEGMENTS, marks_of_points, within_budget
from ordinary import held, track_of


def piece(name: str, lengths: np.ndarray) -> Node:
    """A piece of the set with a line of each length."""
    segments = np.zeros((len(lengths), 2, 3))
    segments[:, 1, 0] = lengths
    return Node(f"/{name}", None, "set", np.zeros(1), np.eye(4)[None], segments=segments)


def test_the_longest_lines_of_all_pieces_stay_in_their_piece() -> None:
    count = MAX_SEGMENTS // 2
    lengths = [np.arange(count) + 0.1, np.arange(count) + 0.2, np.arange(count) + 0.3]
    kept = within_budget([piece(n, x) for n, x in zip("abc", lengths, strict=True)])
    expected = np.sort(np.concatenate(lengths))[-MAX_SEGMENTS]
    for node, given in zip(kept, lengths, strict=True):
        assert node.segments is not None
        np.testing.assert_array_equal(node.segments[:, 1, 0], given[given >= expected])
    few = [piece("a", np.ones(5)), piece("b", np.ones(7))]
    assert [len(n.segments) for n in within_budget(few)] == [5, 7]  # type: ignore[arg-type]


def test_points_are_landmarks_evenly_thinned_out() -> None:
    points = np.random.default_rng(2).normal(size=(3 * MAX_MARKS, 3))
    marks = marks_of_points("/cloud", points)
    assert len(marks) == MAX_MARKS
    for mark in marks:
        at = int(mark.name.removeprefix("point_")) - 1
        expected = np.eye(4)
        expected[:3, 3] = points[at]
        np.testing.assert_array_equal(mark.local, expected[None])


def test_faces_beyond_the_budget_stay_behind_as_whole_meshes() -> None:
    half = MAX_CORNERS // 2 // 3 * 3
    mesh = Mesh(np.zeros((1, 3, 3)), np.full(half // 3, 3), np.tile([0, 1, 2], half // 3))
    nodes = [Node(f"/{n}", None, "set", np.zeros(1), np.eye(4)[None], mesh=mesh) for n in "abc"]
    assert [n.mesh is not None for n in within_budget(nodes)] == [True, True, False]


def test_cuts_that_a_person_marked_and_denied_come_back(tmp_path: Path) -> None:
    track = track_of(held())
    frames = track.frames
    marked = with_mark(with_mark(track, float(frames[20]), True), float(frames[40]), False)
    image = make_outgoing(marked, Convention(), Image(1920, 1080), "width", "width", NO_LANDMARKS)
    (path,) = write_files("json", [image], tmp_path, "held")
    node = read_file(path).cameras[0]
    assert node.marked is not None
    assert np.flatnonzero(node.marked > 0).tolist() == [20] and np.flatnonzero(node.marked < 0).tolist() == [40]
