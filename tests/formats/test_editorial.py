"""Edits: read from both formats, laid on shots and on a camera that runs through several of them."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import opentimelineio as otio
import pytest

from anaxis.core.errors import BadInput
from anaxis.formats.editorial.cut_list import Clip, CutList, cut_operations, read_cut_list, shots_in
from anaxis.sandbox.pictures import safe_cut_list
from test_cli_packages import run, said
from test_writers import shot

EDL = """TITLE: TIDEWRIGHT_REEL
FCM: NON-DROP FRAME

001  TW010    V     C        00:00:41:17 00:00:46:16 01:00:00:00 01:00:04:23
* FROM CLIP NAME: TW_010_comp_v003
002  TW020    V     C        00:00:00:01 00:00:10:01 01:00:04:23 01:00:14:23
* FROM CLIP NAME: tw_020
003  TW010    V     C        00:00:46:20 00:00:47:02 01:00:14:23 01:00:15:05
* FROM CLIP NAME: TW_010_comp_v003
004  TW0101   V     C        00:00:00:00 00:00:01:00 01:00:15:05 01:00:16:05
* FROM CLIP NAME: TW_0101
"""


@pytest.fixture
def edl(tmp_path: Path) -> Path:
    path = tmp_path / "reel.edl"
    path.write_text(EDL)
    return path


def test_an_edl_and_a_timeline_say_the_same(edl: Path, tmp_path: Path) -> None:
    """Frames by hand: 00:00:41:17 at 24 is 1001, and an EDL's out is one past the last frame shown."""
    edit = read_cut_list(edl, Fraction(24))
    assert edit.clips[0] == Clip("TW_010_comp_v003", 1001.0, 1119.0, 0.0)
    assert edit.clips[1] == Clip("tw_020", 1.0, 240.0, 119.0)
    assert edit.cuts == [119.0, 359.0, 365.0] and edit.rate == 24
    other = tmp_path / "reel.otio"
    otio.adapters.write_to_file(otio.adapters.read_from_file(str(edl), adapter_name="cmx_3600", rate=24), str(other))
    assert read_cut_list(other, Fraction(25)).clips == edit.clips
    assert safe_cut_list(other, Fraction(24)) == read_cut_list(other, Fraction(24))


def test_clips_of_an_edl_without_names_go_by_their_reel(edl: Path, tmp_path: Path) -> None:
    path = tmp_path / "reels.edl"
    path.write_text("\n".join(x for x in EDL.splitlines() if "FROM CLIP" not in x) + "\n")
    edit = read_cut_list(path, Fraction(24))
    assert [c.name for c in edit.clips] == ["TW010", "TW020", "TW010", "TW0101"]
    assert [(c.first, c.last) for c in edit.clips] == [
        (c.first, c.last) for c in read_cut_list(edl, Fraction(24)).clips
    ]


def test_clips_belong_to_the_shot_they_are_named_after(edl: Path) -> None:
    found = shots_in(read_cut_list(edl, Fraction(24)), ["TW_010", "TW_020", "TW_030", "TW"])
    assert {k: len(v) for k, v in found.items()} == {"TW_010": 2, "TW_020": 1, "TW": 1}  # TW_0101 is not TW_010


def test_gaps_between_clips_count(tmp_path: Path) -> None:
    rate = 25
    track = otio.schema.Track(kind=otio.schema.TrackKind.Video)

    def span(first: int, frames: int) -> otio.opentime.TimeRange:
        return otio.opentime.TimeRange(
            otio.opentime.RationalTime(first, rate), otio.opentime.RationalTime(frames, rate)
        )

    track.extend(
        [
            otio.schema.Clip("a", source_range=span(7, 10)),
            otio.schema.Gap(source_range=span(0, 5)),
            otio.schema.Clip("b", source_range=span(100, 20)),
        ]
    )
    timeline = otio.schema.Timeline("gapped")
    timeline.tracks.append(track)
    path = tmp_path / "g.otio"
    otio.adapters.write_to_file(timeline, str(path))
    edit = read_cut_list(path, Fraction(24))
    assert edit.clips == (Clip("a", 7, 16, 0), Clip("b", 100, 119, 15)) and edit.rate == 25


def test_cuts_become_marks_of_the_camera() -> None:
    track = shot()  # 1001 to 1060
    edit = CutList(
        "reel", track.rate, (Clip("a", 1, 20, 0), Clip("b", 1, 20, 20), Clip("c", 1, 90, 40), Clip("d", 1, 9, 130))
    )
    assert [o.params["frame"] for o in cut_operations(edit, track, 1001.0)] == [1021.0, 1041.0]
    with pytest.raises(BadInput, match="No cut of the edit 'reel' is within the camera frames 1001 to 1060"):
        cut_operations(edit, track, 5000.0)
    with pytest.raises(BadInput, match="runs at 30 frames a second and the camera at 24"):
        cut_operations(CutList("reel", Fraction(30), edit.clips), track, 1001.0)


@pytest.mark.parametrize(
    ("name", "text", "words"),
    [
        ("torn.otio", '{"OTIO_SCHEMA": "Timeline.1", "tracks"', "cannot be read as an edit"),
        ("list.otio", '{"OTIO_SCHEMA": "Gap.1"}', "has no timeline"),
        ("none.edl", "TITLE: NOTHING\n", "has no clip"),
        ("reel.xml", "<xmeml/>", "is not an edit Anaxis reads: use one"),
        ("bad.edl", "001  A  V  C  99:99:99:99 x y z\n", "cannot be read as an edit"),
    ],
)
def test_what_is_no_edit_is_one_sentence(name: str, text: str, words: str, tmp_path: Path) -> None:
    path = tmp_path / name
    path.write_text(text)
    with pytest.raises(BadInput, match=words) as caught:
        safe_cut_list(path, Fraction(24))
    assert caught.value.sentence.count("\n") == 0


def test_nothing_is_interpolated_across_the_edits_cuts(demo_files: dict[str, Path], tmp_path: Path) -> None:
    edl = tmp_path / "one.edl"
    edl.write_text(
        "TITLE: X\n\n001  A V C 00:00:00:00 00:00:02:12 01:00:00:00 01:00:02:12\n002  B V C 00:00:00:00 00:00:05:00 01:00:02:12 01:00:07:12\n"
    )
    args = ("values", demo_files["TW_010"], "--to", "yup-rh-m", "--rate", "30", "--keep", "time", "--json")
    plain, cut = said(*args)["frames"], said(*args, "--cuts", edl)["frames"]
    # The cut lies before sample 60: 2.5 s. Samples far from it, and those that coincide, are the same.
    moved = [i for i, (a, b) in enumerate(zip(plain, cut, strict=True)) if a["position"] != b["position"]]
    assert moved and all(abs(a["seconds"] - plain[75]["seconds"]) < 1.6 for a in (plain[i] for i in moved))
    assert plain[75]["position"] == pytest.approx(cut[75]["position"], abs=1e-12)
    wrong = run(*args, "--cuts", tmp_path / "nowhere.edl")
    assert "cannot be read as an edit" in wrong.stderr


def _timeline(tmp_path: Path, tracks: list[otio.schema.Track], start: otio.opentime.RationalTime | None = None) -> Path:
    timeline = otio.schema.Timeline("made", global_start_time=start)
    for track in tracks:
        timeline.tracks.append(track)
    path = tmp_path / "made.otio"
    otio.adapters.write_to_file(timeline, str(path))
    return path


def _clip(
    name: str,
    first: int,
    frames: int,
    rate: float = 24,
    effects: list[otio.schema.TimeEffect] | None = None,
    on: bool = True,
) -> otio.schema.Clip:
    span = otio.opentime.TimeRange(otio.opentime.RationalTime(first, rate), otio.opentime.RationalTime(frames, rate))
    clip = otio.schema.Clip(name, source_range=span, effects=effects or [])
    clip.enabled = on
    return clip


def test_speed_freezes_and_rates_count_the_frames_that_are_seen(tmp_path: Path) -> None:
    """By hand: 24 frames at 200 % go through 48 of the source, backwards through the 48 before it."""
    warp = otio.schema.LinearTimeWarp
    track = otio.schema.Track(kind=otio.schema.TrackKind.Video)
    track.extend(
        [
            _clip("fast", 1001, 24, effects=[warp(time_scalar=2.0)]),
            _clip("slow", 1001, 24, effects=[warp(time_scalar=0.5)]),
            _clip("back", 1001, 24, effects=[warp(time_scalar=-2.0)]),
            _clip("frozen", 1010, 24, effects=[otio.schema.FreezeFrame()]),
            _clip("ramp", 1001, 24, effects=[otio.schema.TimeEffect("a ramp", "curve")]),
            _clip("high", 2001, 96, rate=48),
        ]
    )
    edit = read_cut_list(_timeline(tmp_path, [track], otio.opentime.RationalTime(0, 24)), Fraction(24))
    seen = {c.name: (c.first, c.last, c.rate, c.speed, c.begins) for c in edit.clips}
    assert seen == {
        "fast": (1001, 1048, "", 2.0, 0),
        "slow": (1001, 1012, "", 0.5, 24),
        "back": (1001, 1048, "", -2.0, 48),
        "frozen": (1010, 1010, "", 0.0, 72),
        "ramp": (1001, 1024, "", 1.0, 96),
        "high": (2001, 2096, "48/1", 1.0, 120),
    }
    assert edit.rate == 24 and len(edit.notes) == 2 and "'back' plays backwards" in edit.notes[0]
    assert "'ramp'" in edit.notes[1] and "a ramp" in edit.notes[1]
    first = otio.schema.Track(kind=otio.schema.TrackKind.Video)
    first.extend([_clip("odd", 1, 48, rate=48), *(_clip(f"c{i}", 1, 24) for i in range(4))])
    assert read_cut_list(_timeline(tmp_path, [first]), Fraction(30)).rate == 24  # not that of whatever clip comes first


def test_what_is_not_seen_of_an_edit_is_named(tmp_path: Path) -> None:
    low, high = (otio.schema.Track(kind=otio.schema.TrackKind.Video, name=n) for n in ("V1", "V2"))
    low.extend([_clip("under", 1, 24), _clip("half", 101, 48), _clip("off", 1, 24, on=False), _clip("clear", 201, 24)])
    high.extend([_clip("over", 501, 48)])
    edit = read_cut_list(_timeline(tmp_path, [low, high]), Fraction(24))
    assert [(c.name, c.first, c.last, c.begins) for c in edit.clips] == [
        ("over", 501, 548, 0),
        ("half", 125, 148, 48),
        ("clear", 201, 224, 96),
    ]
    assert [n.split("'")[1] for n in edit.notes] == ["under", "half", "off"]
    cut = otio.schema.Track(kind=otio.schema.TrackKind.Video)
    cut.extend([_clip("head", 1, 24), _clip("middle", 101, 48), _clip("tail", 201, 24)])
    cut.source_range = otio.opentime.TimeRange(otio.opentime.RationalTime(34, 24), otio.opentime.RationalTime(48, 24))
    edit = read_cut_list(_timeline(tmp_path, [cut]), Fraction(24))
    assert [(c.name, c.first, c.last, c.begins) for c in edit.clips] == [
        ("middle", 111, 148, 0),
        ("tail", 201, 210, 38),
    ]
    assert "'head' is outside" in edit.notes[0]


def test_a_clip_played_backwards_shows_its_own_range_backwards(tmp_path: Path) -> None:
    """In OpenTimelineIO and in an EDL, where source and record are of one length, too."""
    track = otio.schema.Track(kind=otio.schema.TrackKind.Video)
    track.append(_clip("TW_010", 1011, 40, effects=[otio.schema.LinearTimeWarp(time_scalar=-1.0)]))
    edl = tmp_path / "back.edl"
    edl.write_text(
        "TITLE: back\nFCM: NON-DROP FRAME\n001  TW010    V     C        00:00:42:03 00:00:43:19 01:00:00:00 01:00:01:16\n"
        "M2   TW010       -024.0                00:00:42:03\n* FROM CLIP NAME:  TW_010\n"
    )
    for edit in (read_cut_list(_timeline(tmp_path, [track], None), Fraction(24)), read_cut_list(edl, Fraction(24))):
        (clip,) = edit.clips
        assert (clip.first, clip.last, clip.start, clip.speed, clip.frames) == (1011, 1050, 1050, -1.0, 40)
        assert any("'TW_010' plays backwards from its frame 1050 on" in note for note in edit.notes)


def test_a_range_that_begins_at_the_clips_end_is_told_by_its_media(tmp_path: Path) -> None:
    """Some write the frame that is shown first: the media then ends there."""
    track = otio.schema.Track(kind=otio.schema.TrackKind.Video)
    clip = _clip("TW_010", 1050, 40, effects=[otio.schema.LinearTimeWarp(time_scalar=-1.0)])
    held = otio.opentime.TimeRange(otio.opentime.RationalTime(1001, 24), otio.opentime.RationalTime(50, 24))
    clip.media_reference = otio.schema.ExternalReference("x", held)
    track.append(clip)
    (found,) = read_cut_list(_timeline(tmp_path, [track], None), Fraction(24)).clips
    assert (found.first, found.last, found.start) == (1011, 1050, 1050)
