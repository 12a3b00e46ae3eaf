"""Lens data from a table: units, headings, timecodes, and what it replaces; against sums written out."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest

import ordinary
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Work
from anaxis.core.recipe.operations import kind_of
from anaxis.formats.tables.lens_data import LensTableOptions, read_lens_data
from anaxis.library.changes import lens_table_operation
from shell import run, said

RATE = Fraction(24)
PLAIN = LensTableOptions({})


def test_units_are_those_of_the_headings() -> None:
    text = "Frame,Focal Length (mm),focusDistance_ft,T-Stop\n1001,35,10,2.8\n1002,36,20,2.8\n"
    found = read_lens_data("lens.csv", text, RATE, 1001, PLAIN)
    assert found.frames.tolist() == [1001, 1002] and found.values["focal_mm"].tolist() == [35, 36]
    np.testing.assert_allclose(found.values["focus_m"], [3.048, 6.096])
    assert found.values["fstop"].tolist() == [2.8, 2.8] and "T-stop" in " ".join(found.notes)


@pytest.mark.parametrize(
    ("text", "options", "frames"),
    [
        ("tc;focus m\n00:00:41:17;2\n00:00:41:18;3\n", PLAIN, [1001, 1002]),
        (
            "timecode,focus cm\n10:00:00:00,200\n10:00:00:01,300\n",
            LensTableOptions({}, timecode_of_first="10:00:00:00"),
            [1001, 1002],
        ),
        ("frame\tfocus m\n1\t2\n2\t3\n", LensTableOptions({}, "first row on first frame"), [1001, 1002]),
        ("focus m, stop\n2,4\n3,4\n", LensTableOptions({}, "first row on first frame"), [1001, 1002]),
        ("frame,focus m\n1002,3\n1001,2\n", PLAIN, [1001, 1002]),
    ],
)
def test_rows_are_joined_by_number_timecode_or_first_frame(
    text: str, options: LensTableOptions, frames: list[float]
) -> None:
    found = read_lens_data("lens.csv", text, RATE, 1001, options)
    assert found.frames.tolist() == frames and found.values["focus_m"].tolist() == [2, 3]


@pytest.mark.parametrize(
    ("text", "code", "words"),
    [
        ("frame,focus\n1,2\n", "unit_missing", "does not say the unit of 'focus'"),
        ("1,2\n2,3\n", "", "no headings"),
        ("frame,speed\n1,2\n", "", "no column of focal length, focus or stop"),
        ("focus m,stop\n1,2\n", "", "no column of frames or timecodes"),
        ("frame,stop\n1,2\n1,3\n", "", "two rows for frame 1"),
        ("frame,stop\n1,2\n2,open\n", "", "row 3: 'open' is not a number for 'stop'"),
        ("tc,stop\n00:00:00:99,2\n", "", "row 2"),
    ],
)
def test_what_is_wrong_is_said_with_its_place(text: str, code: str, words: str) -> None:
    with pytest.raises(BadInput, match=words) as error:
        read_lens_data("lens.csv", text, RATE, 1001, PLAIN)
    assert not code or error.value.code == code


@pytest.mark.parametrize("name", ["still", "held", "whip", "primes", "jitter"])
def test_values_lie_on_their_frames_and_the_file_s_stay_outside(name: str) -> None:
    track = ordinary.track_of(getattr(ordinary, name)())
    first = float(track.frames[3])
    data = f"frame,focal mm,focus m\n{first},50,4\n{first + 2},60,8\n".encode()
    params, words = lens_table_operation("l.csv", data, track, PLAIN)
    work = Work(None, "", track.frames, lambda sha: None, track=track)  # type: ignore[arg-type,return-value]
    kind = kind_of("lens_table")
    done = kind.apply(work, kind.read(params)).done
    at = np.searchsorted(track.frames, [first, first + 1, first + 2])
    assert done.lens.focal_mm[at].tolist() == [50, 55, 60] and done.lens.focus_m[at].tolist() == [4, 6, 8]
    outside = np.ones(len(track), dtype=np.bool_)
    outside[at[0] : at[-1] + 1] = False
    assert (done.lens.focal_mm[outside] == track.lens.focal_mm[outside]).all()
    assert "focal length, focus distance from l.csv instead of that of the file" in words
    with pytest.raises(BadInput, match="no common frames"):
        kind.apply(work, kind.read(params | {"frames": [f + 1e6 for f in params["frames"]]}))
    with pytest.raises(BadInput, match="must increase"):
        kind.apply(work, kind.read(params | {"frames": params["frames"][::-1]}))
    with pytest.raises(BadInput, match="above zero"):
        kind.apply(work, kind.read(params | {"focus_m": [0.0, 1.0]}))


def test_on_the_command_line(tmp_path: Path, demo_files: dict[str, Path]) -> None:
    table = tmp_path / "lens.csv"
    table.write_text("focus,stop\n2,4\n3,5.6\n4,8\n")
    words = ("values", demo_files["TW_010"], "--to", "yup-rh-m", "--frames", "1001-1003", "--lens-table", table)
    assert "does not say the unit of 'focus'" in said(*words, "--lens-from", "first", code=2)["said"]
    found = said(*words, "--lens-from", "first", "--lens-units", "focus=m")
    assert [f["focus"] for f in found["frames"]] == [2, 3, 4] and [f["fstop"] for f in found["frames"]] == [4, 5.6, 8]
    told = run(*words, "--lens-from", "first", "--lens-units", "focus=m")
    assert "instead of that of the file, frames 1001 to 1003" in told.stderr
