"""A cut written back: read again it is the same cut, as OpenTimelineIO and as an EDL, in the new numbering."""

from __future__ import annotations

import csv
import io
import json
from fractions import Fraction
from pathlib import Path
from typing import Any

import opentimelineio as otio
import pytest
from hypothesis import given
from hypothesis import strategies as st

from anaxis.core.derive.joined import Join, extended, placed
from anaxis.core.errors import BadInput
from anaxis.formats.editorial.cut_list import cut_list_from_dict, read_cut_list
from anaxis.formats.editorial.pieces import pieces_of
from anaxis.formats.editorial.timecodes import frame_of_timecode
from anaxis.formats.editorial.write import cut_edl, edit_files, edl_refused, shot_ranges


def settings(pieces: list[dict[str, Any]], **more: Any) -> Join:
    return Join.model_validate(
        {"pieces": pieces, "rate": "24", "width_px": 1920, "height_px": 1080, "name": "reel", **more}
    )


@st.composite
def laid(draw: st.DrawFn) -> list[dict[str, Any]]:
    at, pieces = 0, []
    for i in range(draw(st.integers(1, 8))):
        frames, speed = draw(st.integers(1, 60)), draw(st.sampled_from([1.0, 1.0, 2.0, 0.0, -1.0, 0.5]))
        pieces.append(
            {
                "name": f"TW_{i:03d}",
                "role": f"TW_{i:03d}",
                "first": draw(st.integers(200, 90_000)),
                "begins": at,
                "frames": frames,
                "speed": speed,
            }
        )
        at += frames + draw(st.sampled_from([0, 0, 7]))
    return pieces


@given(
    pieces=laid(), first=st.integers(0, 100_000), rate=st.sampled_from(["24", "25", "30000/1001"]), timecode=st.sampled_from(["drop", "non-drop"])
)  # fmt: skip
def test_what_is_written_reads_as_the_same_cut(
    pieces: list[dict[str, Any]], first: int, rate: str, timecode: str, tmp_path_factory: pytest.TempPathFactory
) -> None:
    p = settings(pieces, first=first, rate=rate, timecode=timecode)
    folder = tmp_path_factory.mktemp("edit")
    files = edit_files(p)
    for name in ("reel.otio", *(["reel.edl"] if "reel.edl" in files else [])):
        path = folder / name
        path.write_bytes(files[name])
        edit = read_cut_list(path, Fraction(rate))
        assert edit.drops == (name.endswith("edl") and timecode == "drop" and rate == "30000/1001")
        assert edit.rate == Fraction(rate)
        found = pieces_of(cut_list_from_dict(edit.as_dict()), lambda c: c.name).pieces
        low = found[0].begins
        for f, q in zip(found, pieces, strict=True):
            assert (f.name, f.first, f.begins - low, f.frames) == (
                q["name"],
                float(q["first"]),
                q["begins"],
                q["frames"],
            )
            # An EDL says a speed in frames a second with six decimals, and none for one frame.
            assert f.speed == pytest.approx(1.0 if name.endswith("edl") and q["frames"] == 1 else q["speed"], abs=1e-6)
    if "reel.edl" in files:  # it records at the joined camera's own frames
        recorded = [row.split()[-2:] for row in files["reel.edl"].decode().splitlines() if row[:3].isdigit()]
        for (begin, end), q in zip(recorded, pieces, strict=True):
            assert frame_of_timecode(begin, Fraction(rate)) == first + q["begins"]
            assert frame_of_timecode(end, Fraction(rate)) == first + q["begins"] + q["frames"]
    timeline = otio.adapters.read_from_string(files["reel.otio"].decode(), adapter_name="otio_json")
    assert timeline.global_start_time.value == first
    rows = list(csv.DictReader(io.StringIO(files["reel.shots.csv"].decode())))
    assert [(int(r["first"]), int(r["last"])) for r in rows] == [
        (first + q["begins"], first + q["begins"] + q["frames"] - 1) for q in pieces
    ]
    owed = json.loads(files["reel.render_range.json"])
    assert (owed["first_frame"], owed["frames"]) == (first, placed(p).count)
    if rate == "30000/1001":
        assert ";" in owed["timecode_drop"][0] and ";" not in owed["timecode"][0]


def test_a_covered_part_is_not_on_the_list_and_what_an_edl_cannot_say_is_said() -> None:
    pieces = [
        {"name": "a", "role": "a", "first": 1, "begins": 0, "frames": 30},
        {"name": "b", "role": "b", "first": 100, "begins": 10, "frames": 5},
    ]
    found = [(s.name, s.source_first, s.source_last, s.first, s.last) for s in shot_ranges(settings(pieces))]
    assert found == [("a", 1, 10, 1001, 1010), ("b", 100, 104, 1011, 1015), ("a", 16, 30, 1016, 1030)]
    below = settings(pieces, first=-20)
    assert (
        "below 0" in (edl_refused(below) or "")
        and "reel.edl" not in edit_files(below)
        and "reel.otio" in edit_files(below)
    )
    with pytest.raises(BadInput, match="no timecode"):
        cut_edl(settings(pieces, rate="23.5"))


def test_transitions_other_rates_and_what_begins_between_frames_are_named(tmp_path: Path) -> None:
    def clip(name: str, first: float, count: float, rate: float) -> otio.schema.Clip:
        span = otio.opentime.TimeRange(otio.opentime.RationalTime(first, rate), otio.opentime.RationalTime(count, rate))
        return otio.schema.Clip(name, otio.schema.MissingReference(), span)

    timeline = otio.schema.Timeline("reel", global_start_time=otio.opentime.RationalTime(0, 25))
    track = otio.schema.Track("V1", kind="Video")
    timeline.tracks.append(track)
    six = otio.opentime.RationalTime(6, 25)
    track.extend(
        [
            clip("a", 1, 50, 25),
            otio.schema.Transition(in_offset=six, out_offset=six),
            clip("b", 10, 25, 25),
            clip("c", 1, 49, 24),
            clip("d", 1, 25, 25),
        ]
    )
    path = tmp_path / "reel.otio"
    otio.adapters.write_to_file(timeline, str(path))
    laid = pieces_of(read_cut_list(path, Fraction(25)), lambda c: "" if c.name == "d" else c.name)
    by_name = {p.name: p for p in laid.pieces}
    assert (by_name["a"].mixed_out, by_name["b"].mixed_in) == (12, 12)
    assert by_name["c"].speed == pytest.approx(24 / 25) and laid.without == ("d",)
    said = " ".join(laid.notes)
    assert (
        "counts 24 frames a second and the edit 25" in said
        and "between frames" in said
        and "Without a camera; left as gaps: d" in said
    )
    from anaxis.core.derive.joined import checked

    told = [f for f in checked({}, settings([p.model_dump() for p in laid.pieces])) if f.code == "join_transition"]
    assert "12 frames is around frame 1051" in told[0].message and "handles of 6" in told[0].remedy
    edl = "TITLE: R\n\n001  A    V     C        00:00:41:20 00:00:43:20 01:00:00:00 01:00:02:00\n* FROM CLIP NAME: a\n002  B    V     D    012 00:00:02:00 00:00:04:00 01:00:02:00 01:00:04:00\n* FROM CLIP NAME: a\n* TO CLIP NAME: b\n"
    (tmp_path / "one.edl").write_text(edl)
    assert "event 002 over 12 frames" in " ".join(read_cut_list(tmp_path / "one.edl", Fraction(24)).notes)
    with pytest.raises(BadInput, match="No clip of reel has a camera"):
        pieces_of(read_cut_list(path, Fraction(25)), lambda c: "")


@given(pieces=laid(), before=st.integers(0, 40), after=st.integers(0, 40))
def test_extra_frames_lengthen_the_first_and_last_shot_and_renumber_none(
    pieces: list[dict[str, Any]], before: int, after: int
) -> None:
    p = settings(pieces, first=1001)
    longer = extended(p, before, after)
    one, other = placed(p), placed(longer)
    assert other.count == one.count + before + after and longer.first == 1001 - before
    inside = slice(before, before + one.count)
    assert (other.which[inside] == one.which).all() and (other.frames[inside] == one.frames).all()
    speeds = [c.speed for c in p.pieces]
    head = other.frames[:before] - other.frames[0]
    assert (abs(head - [i * speeds[0] for i in range(before)]) < 1e-9).all()
    if after:
        assert (other.which[-after:] == one.which[-1]).all()
    with pytest.raises(BadInput, match="are not possible"):
        extended(p, 100_000, 0)


def test_a_list_that_counts_drop_frame_timecode_is_written_so_again(tmp_path: Path) -> None:
    rate = Fraction(30000, 1001)
    edl = (
        "TITLE: R\nFCM: DROP FRAME\n\n001  A        V     C        00:01:00;02 00:01:02;00 01:00:00;00 01:00:01;28\n* FROM CLIP NAME: a\n"
        "002  B        V     C        00:10:00;00 00:10:01;00 01:00:01;28 01:00:02;28\n* FROM CLIP NAME: b\n"
    )
    (tmp_path / "r.edl").write_text(edl)
    edit = read_cut_list(tmp_path / "r.edl", rate)
    assert edit.drops and [(c.first, c.last) for c in edit.clips] == [(1800, 1857), (17982, 18011)]
    assert cut_list_from_dict(edit.as_dict()) == edit
    pieces = [q.model_dump() for q in pieces_of(edit, lambda c: c.name).pieces]
    written = cut_edl(
        settings(pieces, first=frame_of_timecode("01:00:00;00", rate), rate="30000/1001", timecode="drop")
    ).decode()
    assert "FCM: DROP FRAME" in written
    assert [r.split()[4:] for r in written.splitlines() if r[:3].isdigit()] == [
        r.split()[4:] for r in edl.splitlines() if r[:3].isdigit()
    ]
