"""``anaxis simulate``: what cannot be run is said in one sentence, and a scene can be made of a camera file."""

from __future__ import annotations

import json
import socket
import subprocess
from pathlib import Path

import httpx
import numpy as np
import pytest

from anaxis.core.checks.examine import take_camera
from anaxis.formats import read_file
from anaxis.program import anaxis_command
from anaxis.simulated.scene import SimulatedScene
from anaxis.store.local_postgres import free_port
from linked import pixels
from shell import run
from test_live_cut import wait


def said(*args: str) -> tuple[int, str]:
    done = run("simulate", *args)
    return done.returncode, done.stderr


@pytest.mark.parametrize(
    "args, sentence",
    [
        (("--profile", "no-such"), "no-such"),
        (("--profile", "zup-rh-m", "--habits", "[{]"), "no readable JSON"),
        (("--profile", "zup-rh-m", "--habits", '[{"code": "dances"}]'), "'dances' is not a habit"),
        (("--profile", "zup-rh-m", "--habits", "no-such.json"), "cannot be opened"),
        (("--profile", "zup-rh-m", "--from", "no-such.usd"), "There is no file"),
    ],
)
def test_what_makes_no_package_is_one_sentence(tmp_path: Path, args: tuple[str, ...], sentence: str) -> None:
    code, error = said("package", "--file", str(tmp_path / "a.json"), "--port", str(free_port()), *args)
    assert code == 2 and sentence in error and "Traceback" not in error and not (tmp_path / "a.json").exists()


def test_a_file_that_is_no_scene_and_a_port_that_is_taken(tmp_path: Path) -> None:
    for text in ("{", "[]", '{"cameras": []}'):
        (tmp_path / "a.json").write_text(text)
        code, error = said(
            "package", "--profile", "zup-rh-m", "--file", str(tmp_path / "a.json"), "--port", str(free_port())
        )
        assert code == 2 and "not a scene of a simulated package" in error and (tmp_path / "a.json").read_text() == text
    with socket.create_server(("127.0.0.1", 0)) as taken:
        code, error = said(
            "package",
            "--profile",
            "zup-rh-m",
            "--file",
            str(tmp_path / "b.json"),
            "--port",
            str(taken.getsockname()[1]),
        )
        assert code == 2 and "is taken" in error
    (tmp_path / "t.json").write_text("[")
    code, error = said("tracker", "--file", str(tmp_path / "t.json"), "--server", "http://127.0.0.1:1")
    assert code == 2 and "is not a file of a tracker" in error


def test_a_scene_of_a_camera_file(demo_files: dict[str, Path], tmp_path: Path) -> None:
    port, file = free_port(), tmp_path / "previs.json"
    args = (
        "simulate",
        "package",
        "--profile",
        "yup-lh-cm",
        "--file",
        str(file),
        "--from",
        str(demo_files["TW_010"]),
        "--port",
        str(port),
        "--server",
        "http://127.0.0.1:1",
    )
    process = subprocess.Popen(anaxis_command(*args), stderr=subprocess.DEVNULL)
    try:
        wait(lambda: httpx.get(f"http://127.0.0.1:{port}/state").status_code == 200)
        assert httpx.get(f"http://127.0.0.1:{port}/state").json()["state"] == "away", (
            "nobody is there to speak to, and it works"
        )
    finally:
        process.terminate()
        process.wait(15)
    scene = SimulatedScene.opened(file)
    camera, track = scene.cameras["cam1"], take_camera(read_file(demo_files["TW_010"]), None).done
    assert camera.frames.tolist() == track.frames.tolist() and scene.marks and json.loads(file.read_text())["lines"]
    points = (track.position_m - 8 * track.rotation[:, :, 2])[:, None, :]
    seen = pixels(scene.profile, camera.rows, points, camera.image)
    np.testing.assert_allclose(seen[:, 0], [[camera.width_px / 2, camera.height_px / 2]] * len(track), atol=1e-6)
