"""``anaxis recording``: jumps, gaps and noise of a tracker's file, and a camera on the show's frames."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from anaxis.simulated.tracker import Device
from shell import run, said
from tracker_files import write_phone_log

STATED = (
    "--up-axis",
    "Y",
    "--metres-per-unit",
    "1",
    "--resolution",
    "1440x1920",
    "--allow",
    "default_lens,guessed_columns",
)


def test_a_recording_is_cleaned_and_delivered(tmp_path: Path) -> None:
    log = write_phone_log(tmp_path / "walk.csv", Device(seed=2))
    done = run("recording", log, *STATED, "--to", "zup-lh-cm", "--format", "usd", "--out", tmp_path / "out", "--json")
    assert done.returncode == 0, done.stderr
    told = done.document
    assert (told["first_frame"], told["last_frame"]) == (1001, 1324) and told["samples_per_s"] == pytest.approx(
        60, abs=0.3
    )
    (jump,) = told["jumps"]
    assert (
        jump["removed"] and jump["at_s"] == pytest.approx(7.25, abs=0.05) and jump["degrees"] == pytest.approx(6, abs=2)
    )
    assert max(g["missing"] for g in told["gaps"]) >= 29 and told["smoothed_px"] <= 1.0
    (least,) = told["smallest_jumps"]
    assert least["gap_s"] == pytest.approx(0.5, abs=0.05) and 0 < least["degrees"] < jump["degrees"]
    assert [p.suffix for p in (tmp_path / "out").iterdir()] == [".usd"]


def test_a_jump_that_stays_is_a_warning_and_guesses_are(tmp_path: Path) -> None:
    log = write_phone_log(tmp_path / "walk.csv", Device(seed=2))
    left = run("recording", log, *STATED, "--heal", "none")
    assert left.returncode == 4 and "stays in the camera" in left.stderr
    assert run("recording", log, *STATED, "--heal", "none", "--allow", "recorded_jump_left").returncode == 0
    unstated = run("recording", log)
    assert unstated.returncode == 4 and "guessed_up_axis" in unstated.stderr


def test_what_cannot_be_is_said(tmp_path: Path, demo_files: dict[str, Path]) -> None:
    log = write_phone_log(tmp_path / "walk.csv", Device(seed=2), seconds=3.0, gap_s=(9.0, 9.0))
    for words, sentence in (
        (("--heal", "2"), "the recording has 0"),
        (("--stand", "1,2"), "'1,2' is not a place"),
        (("--aspect", "wide"), "'wide' is not an aspect"),
        (("--show-rate", "0"), "rate"),
        (("--stand", "0,1,0", "--stand-at", "9000"), "The take has no frame 9000"),
    ):
        done = run("recording", log, *STATED, *words)
        assert done.returncode == 2 and sentence in done.stderr, done.stderr
    (tmp_path / "one.csv").write_text("t,x,y,z\n0.0,1,2,3\n")
    assert "one sample" in run("recording", tmp_path / "one.csv").stderr
    # a camera file on whole frames is a recording too: nothing is missing, nothing jumps
    plain = said("recording", demo_files["TW_010"], "--camera", "shotcam", "--smooth-px", "0")
    assert plain["jumps"] == [] and plain["gaps"] == [] and json.dumps(plain)
