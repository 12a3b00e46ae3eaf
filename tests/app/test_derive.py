"""Cameras made from cameras in the store: kept with their inputs, outdated, updated; no circles; the same bytes."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from sqlalchemy import Engine, text
from sqlalchemy.exc import DBAPIError

from anaxis.app.cameras.edit import copy_camera, correct_picture, edit_version, keep_camera, step_back
from anaxis.app.context import Context
from anaxis.app.deliveries.hand_over import bundles_of
from anaxis.app.derived.coverage import best_frames, coverage_of, projections_of
from anaxis.app.derived.derive import (
    Derive,
    bring_up_to_date,
    derive,
    derive_anew,
    hanging_on,
    outdated_inputs,
    outdated_versions,
    update_would_change,
)
from anaxis.app.derived.join import cameras_of, checked, laid_of, role_of
from anaxis.app.derived.source_ranges import cut_of, shown_of
from anaxis.app.derived.sphere import sphere_of
from anaxis.app.roles import LOCAL
from anaxis.app.shows.remove import bring_back_camera, remove_camera
from anaxis.core.camera.lens import Image
from anaxis.core.derive.joined import Join
from anaxis.core.derive.sphere_maps import carried_back_px
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation
from anaxis.core.scene.picture import picture_of
from anaxis.delivery.options import DeliveryOptions
from anaxis.formats import read_file
from anaxis.library.archive import scene_to_bytes
from anaxis.library.scene_report import look
from anaxis.packages import find_profile
from anaxis.store.keep import find_or_make_shot, find_or_make_show, stage_file
from anaxis.store.models import Version
from anaxis.store.queries import get_version, recipe_of, track_of

SHOW = "The Tidewright"


@pytest.fixture
def store(engine: Engine) -> Any:
    with Context(engine, LOCAL) as session, session.begin():
        yield session


def kept(store: Context, path: Path, shot: str) -> Version:
    scene = read_file(path)
    source = stage_file(store, path.name, path.read_bytes(), scene_to_bytes(scene))
    report = look(source.scene, {})[0]
    where = find_or_make_shot(store, find_or_make_show(store, SHOW), shot)
    return keep_camera(store, where, source, report, report.name, picture_of(scene, None, None))


@pytest.fixture
def shots(store: Context, demo_files: dict[str, Path]) -> dict[str, Version]:
    return {name: kept(store, demo_files[name], name) for name in ("TW_010", "TW_030")}


def edited(store: Context, version: Version, x_m: float = 0.5) -> Version:
    head = get_version(store, version.camera_id)
    moved = Operation("shift", {"x_m": x_m, "y_m": 0.0, "z_m": 0.0})
    return edit_version(store, head, (*recipe_of(head), moved), "moved")


def pieces_of(shots: dict[str, Version]) -> list[dict[str, Any]]:
    return [
        {"name": "TW_010", "role": role_of(shots["TW_010"]), "first": 1011, "begins": 0, "frames": 40},
        {"name": "TW_030", "role": role_of(shots["TW_030"]), "first": 1101, "begins": 40, "frames": 30},
    ]


def joined(store: Context, shots: dict[str, Version], **more: Any) -> Version:
    settings = {"pieces": pieces_of(shots), "rate": "24/1", "first": 2001, "width_px": 1920, "height_px": 1080, **more}
    inputs = {role_of(v): v.id for v in shots.values()}
    return derive(
        store, Derive(kind="joined", show=SHOW, shot="reel_1", name="joined", settings=settings, inputs=inputs)
    )


def held(store: Context, version: Version, at: float = 1050) -> Version:
    asked = {"show": SHOW, "shot": version.camera.shot.name, "name": f"held_{at:g}"}
    return derive(store, Derive(kind="held", settings={"at": at}, inputs={"shot camera": version.id}, **asked))


def test_a_joined_camera_is_its_shots_through_the_store(store: Context, shots: dict[str, Version]) -> None:
    made = joined(store, shots)
    track = track_of(made)[0]
    for row, name, frame in (
        (0, "TW_010", 1011.0),
        (39, "TW_010", 1050.0),
        (40, "TW_030", 1101.0),
        (69, "TW_030", 1130.0),
    ):
        own = track_of(shots[name])[0]
        at = int(np.flatnonzero(own.frames == frame)[0])
        assert (track.position_m[row] == own.position_m[at]).all() and (track.rotation[row] == own.rotation[at]).all()
    assert [(i.role, i.input_id) for i in made.made_of] == [(role_of(v), v.id) for v in shots.values()]
    assert made.derivation is not None and made.derivation.kind == "joined" and not outdated_inputs(store, made)
    # Its own recipe behind it, which an edit, a corrected picture and a copy keep with their inputs.
    late = edit_version(store, made, (Operation("renumber", {"first": 1.0}),), "from 1")
    assert track_of(late)[0].frames[0] == 1 and [i.input_id for i in late.made_of] == [i.input_id for i in made.made_of]
    assert [i.input_id for i in correct_picture(store, late, Image(960, 540), "width").made_of] == [
        v.id for v in shots.values()
    ]
    assert len(copy_camera(store, made, "copy").made_of) == 2
    shown = shown_of(store, late)
    assert shown is not None and (shown.names[shown.which[45]], shown.frames[45]) == ("TW_030", 1106.0)
    cut = cut_of(
        store,
        edit_version(
            store,
            get_version(store, made.camera_id),
            (Operation("trim", {"first": 2031, "last": 2050}), Operation("renumber", {"first": 500.0})),
            "part",
        ),
    )
    assert [(p.name, p.first, p.begins, p.frames) for p in cut.pieces] == [
        ("TW_010", 1041.0, 0, 10),
        ("TW_030", 1101.0, 10, 10),
    ]
    assert cut.first == 500


def test_it_knows_when_it_is_behind_and_is_brought_up_to_date_in_one_step(
    store: Context, shots: dict[str, Version]
) -> None:
    made = joined(store, shots)
    made = edit_version(store, made, (Operation("renumber", {"first": 10.0}),), "from 10")
    newer = edited(store, shots["TW_030"])
    (late,) = outdated_inputs(store, made)
    assert (late.role, late.used.id, late.newest.id) == (role_of(shots["TW_030"]), shots["TW_030"].id, newer.id)
    assert made.id in outdated_versions(store, made.camera.shot.show)
    found = update_would_change(store, made)
    assert found.proof is not None and found.proof.max_px > 1 and found.proof.worst_frame >= 50
    assert found.proof.deviation_px[:40].max() < 1e-9, "the other shot stays as it is"
    before = track_of(made)[0]
    updated = bring_up_to_date(store, made)
    after = track_of(updated)[0]
    assert (updated.take, updated.edit) == (2, 0) and get_version(store, made.camera_id).id == updated.id
    assert recipe_of(updated) == recipe_of(made), "its own recipe is done again"
    assert (after.position_m[:40] == before.position_m[:40]).all()
    assert np.abs(after.position_m[40:] - before.position_m[40:] - [0.5, 0, 0]).max() < 1e-9
    assert not outdated_inputs(store, updated) and not outdated_versions(store, made.camera.shot.show) & {updated.id}
    assert (track_of(made)[0].position_m == before.position_m).all(), "nothing was redone behind anybody's back"
    # An input that is undone is another version too.
    step_back(store, newer)
    assert [b.newest.id for b in outdated_inputs(store, updated)] == [shots["TW_030"].id]


def test_a_derived_camera_is_an_input_and_there_is_no_circle(store: Context, shots: dict[str, Version]) -> None:
    made = joined(store, shots)
    still = held(store, made, 2060)
    edited(store, shots["TW_010"])
    (late,) = outdated_inputs(store, still)
    assert late.itself and late.used.id == late.newest.id, "its input is outdated itself"
    assert still.id in outdated_versions(store, made.camera.shot.show)
    with pytest.raises(BadInput, match="would be derived from itself"):
        derive_anew(
            store,
            made,
            made.derivation.settings if made.derivation else {},
            {role_of(shots["TW_010"]): still.id, role_of(shots["TW_030"]): shots["TW_030"].id},
        )
    with pytest.raises(BadInput, match="not derived"):
        bring_up_to_date(store, get_version(store, shots["TW_010"].camera_id))


def test_what_hangs_on_a_camera_is_said_before_it_goes_off_the_lists(store: Context, shots: dict[str, Version]) -> None:
    made = joined(store, shots)
    camera = shots["TW_010"].camera
    assert [c.id for c in hanging_on(store, camera)] == [made.camera_id]
    with pytest.raises(BadInput, match="reel_1 joined is derived from shotcam"):
        remove_camera(store, camera)
    assert camera.removed_at is None
    remove_camera(store, made.camera)
    remove_camera(store, camera)
    assert camera.removed_at is not None and role_of(shots["TW_010"]) not in [
        role_of(v) for v in cameras_of(store, camera.shot.show)
    ]
    bring_back_camera(store, made.camera)
    assert track_of(made)[0].frames[0] == 2001 and made.camera.removed_at is None
    remove_camera(store, shots["TW_030"].camera, even_so=True)


def test_the_same_inputs_and_settings_give_the_same_bytes_and_are_named(
    store: Context, shots: dict[str, Version]
) -> None:
    first, second = joined(store, shots), joined(store, shots)
    assert second.camera.name == "joined_2"
    again = derive_anew(store, first, first.derivation.settings if first.derivation else {})
    assert again.source_file.sha256 == first.source_file.sha256 and again.track == first.track
    zips = [
        bundles_of(store, [v], [find_profile("zup-lh-cm")], ["usd", "json"], DeliveryOptions())[1]
        for v in (first, first)
    ]
    assert zips[0] == zips[1]
    with zipfile.ZipFile(io.BytesIO(zips[0])) as archive:
        source = json.loads(archive.read("manifest.json"))["cameras"][0]["source"]
        assert [i["version"] for i in source["made"]["inputs"]] == ["TW_010 shotcam 1", "TW_030 shotcam 1"]
        assert [i["sha256"] for i in source["made"]["inputs"]] == [v.source_file.sha256 for v in shots.values()]
        assert source["made"]["settings"]["pieces"][1]["first"] == 1101 and "joined shots" in source["made"]["kind"]
        sheet = archive.read("transfer_sheet.html").decode()
        assert "TW_010 shotcam 1" in sheet and "TW_030 shotcam 1" in sheet
        assert {"made_from/joined.otio", "made_from/joined.edl", "made_from/joined.shots.csv"} <= set(
            archive.namelist()
        )
    with pytest.raises(DBAPIError, match="immutable once kept"), store.begin_nested():
        store.execute(text("UPDATE derivations SET kind = 'held'"))


def test_an_edit_finds_its_shots_and_what_is_wrong_is_said_before(
    store: Context, shots: dict[str, Version], tmp_path: Path
) -> None:
    import opentimelineio as otio

    from anaxis.core.time.rates import parse_rate
    from anaxis.formats.editorial.cut_list import read_cut_list

    def clip(name: str, first: float, count: float) -> otio.schema.Clip:
        span = otio.opentime.TimeRange(otio.opentime.RationalTime(first, 24), otio.opentime.RationalTime(count, 24))
        return otio.schema.Clip(name, otio.schema.MissingReference(), span)

    timeline = otio.schema.Timeline("reel")
    track = otio.schema.Track("V1", kind="Video")
    timeline.tracks.append(track)
    track.extend([clip("TW_010_comp_v002", 1011, 20), clip("slate", 1, 10), clip("tw_030", 1390, 30)])
    path = tmp_path / "reel.otio"
    otio.adapters.write_to_file(timeline, str(path))
    show = shots["TW_010"].camera.shot.show
    laid = laid_of(store, show, read_cut_list(path, parse_rate("24")))
    assert [(p.name, p.role, p.first, p.begins, p.frames) for p in laid.pieces] == [
        ("TW_010_comp_v002", "TW_010 shotcam", 1011.0, 0, 20), ("tw_030", "TW_030 shotcam", 1390.0, 30, 30),
    ]  # fmt: skip
    assert laid.without == ("slate",)
    settings = Join.model_validate(
        {"pieces": [p.model_dump() for p in laid.pieces], "rate": "24", "width_px": 1920, "height_px": 1080}
    )
    found = {f.code: f for f in checked(store, show, settings)}
    assert found["join_missing_frames"].severity == "error" and "19 behind" in found["join_missing_frames"].message
    assert found["join_gap"].numbers == {"first": 1021.0, "frames": 10}


def test_held_cameras_cover_their_shot_and_framed_ones_come_back(store: Context, shots: dict[str, Version]) -> None:
    shot = shots["TW_010"]
    one, other = held(store, shot, 1010), held(store, shot, 1110)
    assert [v.id for v in projections_of(store, shot.camera)] == [one.id, other.id]
    alone, _ = coverage_of(store, shot, [one])
    both, arrays = coverage_of(store, shot, [one, other])
    assert 0.2 < alone["share"] < both["share"] <= 1 and arrays["why"].shape[0] == len(both["frames"])
    best = best_frames(store, shot)
    assert (
        len(best[1]["frames"]) == 2
        and best[0]["share"] <= best[1]["share"]
        and best[1]["share"] >= both["share"] - 0.02
    )
    settings = {"objects": ["tide_bell_body"], "width_px": 960, "height_px": 540}
    asked = {"show": SHOW, "shot": "TW_010", "name": "framing"}
    made = derive(store, Derive(kind="framed", settings=settings, inputs={"plate camera": shot.id}, **asked))
    assert (track_of(made)[0].position_m == track_of(shot)[0].position_m).all()
    assert carried_back_px(sphere_of(store, made)) < 0.1
    # Placed elsewhere, camera and plate go together: the sphere is the same.
    turned = Operation(
        "place", {"scale": 1.0, "qx": 0.0, "qy": 0.6, "qz": 0.0, "qw": 0.8, "x_m": 3.0, "y_m": 0.0, "z_m": 1.0}
    )
    placed = edit_version(store, made, (turned,), "placed")
    here, there = sphere_of(store, made), sphere_of(store, placed)
    assert np.abs(here.outline_px() - there.outline_px()).max() < 1e-6


def test_a_file_of_a_held_camera_is_not_taken_for_the_shot_s(
    store: Context, shots: dict[str, Version], tmp_path: Path
) -> None:
    """It comes in alone, under a name that says nothing, for a shot whose moving camera is known."""
    from anaxis.app.cameras.draft import Draft
    from anaxis.app.cameras.take_in import reports_of
    from anaxis.app.deliveries.deliver import shot_camera_of
    from anaxis.delivery.deliver import deliver_all

    still = held(store, shots["TW_010"], 1066)
    (done,) = deliver_all([shot_camera_of(store, still)], find_profile("yup-rh-cm"), "usd", tmp_path, stem="cam")
    data = done.files[0].read_bytes().replace(b"held_1066", b"camera_01")
    path = tmp_path / "camera_01.usd"
    path.write_bytes(data)
    scene = read_file(done.files[0])
    from dataclasses import replace

    scene = replace(scene, nodes=tuple(replace(n, path="/camera_01") if n.kind == "camera" else n for n in scene.nodes))
    source = stage_file(store, "camera_01.usd", data, scene_to_bytes(scene))
    reports = reports_of(store, source, Draft.of(source), scene, SHOW, "TW_010")
    found = {f.code: f for f in reports[0].findings}
    assert (
        "held at frame 1066" in found["projection_camera"].message
        and "TW_010 shotcam" in found["projection_camera"].message
    )
