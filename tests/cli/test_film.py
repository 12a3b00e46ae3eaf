"""A film of a shot, read back with the movie library: every frame, the exact rate, landmarks where they are seen, nothing hidden drawn."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import cv2
import numpy as np
import pytest
from pxr import Gf, Usd, UsdGeom, Vt

from shell import run, said

INK = (48, 37, 28)


def box(stage: Any, path: str, size: float, at: tuple[float, float, float]) -> None:
    made = UsdGeom.Mesh.Define(stage, path)
    corners = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)], dtype=np.float32) * size
    made.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(corners))
    made.CreateFaceVertexCountsAttr([4] * 6)
    made.CreateFaceVertexIndicesAttr([0, 1, 3, 2, 4, 6, 7, 5, 0, 4, 5, 1, 2, 3, 7, 6, 0, 2, 6, 4, 1, 5, 7, 3])
    UsdGeom.Xformable(made).AddTranslateOp().Set(Gf.Vec3d(*at))


def shot(path: Path, hidden: bool = True, frames: int = 8, rate: float = 24000 / 1001, shift: float = 0.0) -> Path:
    """A camera that moves before a wall; a small box stands behind the wall where ``hidden``, and a lamp beside it."""
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, "Y")
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    stage.SetTimeCodesPerSecond(rate)
    stage.SetStartTimeCode(1001)
    stage.SetEndTimeCode(1000 + frames)
    camera = UsdGeom.Camera.Define(stage, "/cam")
    camera.CreateFocalLengthAttr(0.35)  # tenths of a metre: 35 mm
    camera.CreateHorizontalApertureAttr(0.36)
    camera.CreateVerticalApertureAttr(0.2025)
    moved = UsdGeom.Xform(camera).AddTranslateOp()
    for i in range(frames):
        moved.Set(Gf.Vec3d(0.05 * i + shift, 0, 10), 1001 + i)
    box(stage, "/wall", 1.0, (0, 0, 0))
    if hidden:
        box(stage, "/behind", 0.3, (0, 0, -4))
    stage.Save()
    return path


def read(path: str) -> np.ndarray[Any, Any]:
    picture = cv2.imread(path)
    assert picture is not None
    return picture


def frames_of(path: Path) -> tuple[Any, list[np.ndarray[Any, Any]]]:
    with av.open(str(path)) as movie:
        stream = movie.streams.video[0]
        return stream.average_rate, [f.to_ndarray(format="bgr24") for f in movie.decode(stream)]


def test_a_movie_has_every_frame_at_the_exact_rate_and_shows_the_wall_where_it_is(tmp_path: Path) -> None:
    file, out = shot(tmp_path / "TW_080.usda"), tmp_path / "out" / "TW_080.mp4"
    told = said("film", file, "--out", out, "--width", 641, "--no-burn-in", "--resolution", "1920x1080")
    rate, pictures = frames_of(out)
    assert rate == Fraction(24000, 1001) and len(pictures) == told["frames"] == 8
    assert pictures[0].shape == (360, 640, 3) and told["resolution"] == [640, 360]
    for i in (0, 7):  # the wall's left and right edge, by the pinhole's own sum
        ahead, focal_px = 10 - 1, 640 * 35 / 36
        row = pictures[i][180, :, :].astype(int)
        inside = np.flatnonzero(np.abs(row - [232, 244, 247]).sum(axis=1) > 40)
        left, right = (320 + focal_px * (x - 0.05 * i) / ahead for x in (-1, 1))
        assert abs(inside.min() - left) < 4 and abs(inside.max() - right) < 4


def test_what_a_surface_hides_is_not_drawn_and_lines_show_it(tmp_path: Path) -> None:
    pictures = {}
    for name, hidden in (("with", True), ("without", False)):
        file = shot(tmp_path / f"{name}.usda", hidden, frames=2)
        for style in ("shaded", "lines"):
            out = tmp_path / f"{name}.{style}.####.png"
            told = said(
                "film",
                file,
                "--out",
                out,
                "--width",
                480,
                "--style",
                style,
                "--no-burn-in",
                "--resolution",
                "1920x1080",
            )
            assert [Path(f).name for f in told["files"]] == [f"{name}.{style}.1001.png", f"{name}.{style}.1002.png"]
            pictures[name, style] = read(told["files"][0])
    middle = (slice(115, 155), slice(215, 265))  # the box behind, well inside of the wall; its landmark apart
    assert np.abs(pictures["with", "lines"][middle].astype(int) - pictures["without", "lines"][middle]).max() > 60
    edge = (slice(118, 152), slice(218, 225))
    assert np.abs(pictures["with", "shaded"][edge].astype(int) - pictures["without", "shaded"][edge]).max() < 12


def test_a_camera_that_came_back_is_drawn_over_it_with_its_deviation(tmp_path: Path) -> None:
    file, back = shot(tmp_path / "a.usda"), shot(tmp_path / "b.usda", shift=0.1)
    out = tmp_path / "both.mp4"
    done = run("film", file, "--out", out, "--width", 480, "--against", back, "--resolution", "1920x1080")
    assert done.returncode == 3 and "deviates by up to" in done.stdout
    cool = np.abs(frames_of(out)[1][0].astype(int) - [130, 94, 18]).sum(axis=2) < 90
    assert cool.sum() > 100, "the one that came back has an ink of its own"
    same = said(
        "film", file, "--out", tmp_path / "same.mp4", "--width", 480, "--against", file, "--resolution", "1920x1080"
    )
    assert same["max_px"] < 1e-9


def test_overlays_lie_where_they_are_asked_for(tmp_path: Path) -> None:
    file = shot(tmp_path / "a.usda", frames=1)
    told = said(
        "film",
        file,
        "--out",
        tmp_path / "f.png",
        "--width",
        640,
        "--mask",
        "2.39",
        "--guide",
        "action",
        "--resolution",
        "1920x1080",
    )
    picture = cv2.imread(told["files"][0])
    assert (
        picture is not None and picture[20, 320].sum() < 300 < picture[60, 10].sum()
    )  # the mask begins at (360 - 640 / 2.39) / 2 = 46
    assert picture[300, 2].sum() > 0 and picture[-4, 320].sum() < 250  # the burn-in is dark


@pytest.mark.parametrize(
    ("words", "sentence"),
    [
        (("--out", "shot.gif"), "not a possible film file"),
        (("--out", "shot.mp4", "--guide", "left"), "not a guide"),
        (("--out", "shot.mp4", "--mask", "wide"), "not an aspect"),
        (("--out", "taken.mp4"), "already exists"),
    ],
)
def test_what_cannot_be_a_film_is_said(
    words: tuple[str, ...], sentence: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    (tmp_path / "taken.mp4").write_bytes(b"x")
    assert sentence in said("film", shot(tmp_path / "a.usda", frames=1), *words, code=2)["said"]
    assert not list(tmp_path.glob(".*part*"))
