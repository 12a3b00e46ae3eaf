"""A show of many shots: found, filtered, paged at the price of one; renamed, moved, archived; its history, which only grows."""

from __future__ import annotations

import csv
import io
from pathlib import Path
from typing import Any

import httpx
import pytest
from playwright.sync_api import Page, expect
from sqlalchemy import Engine, select, text
from sqlalchemy.exc import DBAPIError

from anaxis.app.cameras.draft import Draft, targets_of
from anaxis.app.cameras.edit import edit_version
from anaxis.app.cameras.names import archive, bring_back, move_camera, move_shot, rename, shot_for
from anaxis.app.cameras.take_in import reports_of
from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import deliver_version
from anaxis.app.history import Of, as_csv, count, entries
from anaxis.app.roles import LOCAL, Actor, Role
from anaxis.app.shows.expected import expect as expect_of
from anaxis.app.shows.plan import board, set_target
from anaxis.app.shows.remove import remove_camera
from anaxis.app.shows.shots import PAGE, ShotFilter, away, listed, shown_show
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation
from anaxis.formats import read_file
from anaxis.library.archive import scene_to_bytes
from anaxis.packages import find_profile
from anaxis.store.keep import find_or_make_show, stage_file
from anaxis.store.models import HistoryEntry, Show, Version
from anaxis.store.queries import get_version
from pages import fits
from test_plan import counted, show_of
from test_store import keep

# A version's copies in other shots, as a show of many would hold them: one statement each, whatever the number.
_MANY = (
    "INSERT INTO shots (show_id, name) SELECT show_id, 'SH_' || to_char(n, 'FM0000') FROM shots, generate_series(1, {n}) n WHERE name = 'TW_010'",
    "INSERT INTO cameras (shot_id, name) SELECT id, 'shotcam' FROM shots WHERE name LIKE 'SH_%'",
    "INSERT INTO versions (camera_id, number, take, edit, recipe, change, width_px, height_px, pixel_aspect, image_guessed, source_fit, fit_guessed, "
    "facts, findings, track) SELECT c.id, 1, 1, 0, v.recipe, v.change, v.width_px, v.height_px, v.pixel_aspect, v.image_guessed, v.source_fit, v.fit_guessed, "
    "v.facts, v.findings, v.track FROM versions v, cameras c JOIN shots s ON s.id = c.shot_id WHERE s.name LIKE 'SH_%' AND v.id = (SELECT min(id) FROM versions)",
    "INSERT INTO version_inputs (version_id, place, role, source_file_id, camera_path) SELECT v.id, i.place, i.role, i.source_file_id, i.camera_path FROM versions v, "
    "version_inputs i WHERE i.version_id = (SELECT min(id) FROM versions) AND v.id <> i.version_id AND NOT EXISTS (SELECT 1 FROM version_inputs o WHERE o.version_id = v.id)",
    "UPDATE cameras c SET head_id = v.id FROM versions v WHERE v.camera_id = c.id AND c.head_id IS NULL",
)


def many(engine: Engine, number: int) -> None:
    with engine.begin() as connection:
        for statement in _MANY:
            connection.execute(text(statement.format(n=number)))


@pytest.fixture
def store(engine: Engine, demo_files: dict[str, Path]) -> Any:
    """Three shots: one delivered as meant, one delivered by somebody else and off, one not delivered."""
    with Context(engine, LOCAL) as session, session.begin():
        good = keep(session, demo_files["TW_010"], "TW_010")
        deliver_version(session, good, find_profile("zup-lh-cm"), "json")
        session.act_as(Actor("night shift", Role.LEAD))
        other = keep(session, demo_files["TW_020"], "TW_020")
        other = edit_version(session, other, (Operation("shift", {"x_m": 1.0, "y_m": 0.0, "z_m": 0.0}),), "moved")
        bad = deliver_version(session, other, find_profile("yup-rh-cm"), "json")
        session.execute(text("ALTER TABLE deliveries DISABLE TRIGGER USER"))
        session.execute(text(f"UPDATE deliveries SET max_px = 7.5, grade = 'off' WHERE id = {bad.id}"))
        session.execute(text("ALTER TABLE deliveries ENABLE TRIGGER USER"))
    with Context(engine, LOCAL) as session, session.begin():
        keep(session, demo_files["TW_030"], "TW_030")
    with Context(engine, LOCAL) as session, session.begin():
        yield session


def names(store: Context, **asked: Any) -> list[str]:
    return [r.camera.shot.name for r in listed(store, show_of(store), ShotFilter(**asked)).rows]


def test_cameras_are_found_by_what_is_asked(store: Context) -> None:
    assert names(store) == ["TW_010", "TW_020", "TW_030"]
    assert names(store, q="tw_02 SHOT") == ["TW_020"] and names(store, q="%") == []
    assert names(store, state="delivered") == ["TW_010"] and names(store, state="does not match") == ["TW_020"]
    assert names(store, state="taken in") == ["TW_030"]
    assert names(store, package="yup-rh-cm") == ["TW_020"] and names(store, who="night shift") == ["TW_020"]
    assert names(store, days=1) == names(store) and names(store, outdated=True) == []
    assert names(store, sort="worst") == ["TW_020", "TW_010", "TW_030"] and names(store, sort="newest")[0] == "TW_030"
    before = names(store, findings=True)
    assert "TW_010" not in before
    with store.begin_nested():  # what the edit expects of it by now is a finding too
        expect_of(store, show_of(store).shots[0], 2001.0, 2100.0, None)
    assert names(store, findings=True) == ["TW_010", *before]
    rows = {r.camera.shot.name: r for r in listed(store, show_of(store), ShotFilter()).rows}
    assert rows["TW_010"].warnings == 1 and [rows[n].version.actor for n in ("TW_020", "TW_010")] == [
        "night shift",
        "local",
    ]


def test_many_shots_cost_as_many_queries_as_few(engine: Engine, store: Context) -> None:
    store.commit()
    asked = (
        ShotFilter(),
        ShotFilter(state="taken in", sort="worst"),
        ShotFilter(q="TW_0", findings=True),
        ShotFilter(at=100),
    )
    few, plenty = [], []  # type: ignore[var-annotated]
    for counts in (few, plenty):
        for one in asked:
            with Context(engine, LOCAL) as session, counted(engine) as queries:
                shown = shown_show(session, None)
                assert shown is not None
                found = listed(session, shown, one)
                assert [r.state for r in found.rows]
            counts.append(len(queries))
        many(engine, 400) if counts is few else None
    assert all(after <= before for before, after in zip(few, plenty, strict=True)) and max(few) < 16
    with Context(engine, LOCAL) as session:
        last = listed(session, show_of(session), ShotFilter(at=10_000))
        assert last.whole == last.found == 403 and last.at == 400 and len(last.rows) == 3
        # The page that the database finds is that of all rows, sorted here: in both orders, on every page.
        for sort, same in (("shot", "-frames"), ("-shot", "frames")):
            listings = [
                [listed(session, show_of(session), ShotFilter(q="SH_", sort=one, at=at)) for at in range(0, 400, PAGE)]
                for one in (sort, same)
            ]
            by_database, here = ([r.camera.shot.name for page in pages for r in page.rows] for pages in listings)
            assert len(set(here)) == 400 and by_database == (here if sort == "shot" else here[::-1])
        assert len(listed(session, show_of(session), ShotFilter()).rows) == PAGE


def test_what_is_renamed_moved_or_archived_is_found_again_and_nothing_is_lost(
    store: Context, demo_files: dict[str, Path]
) -> None:
    show = show_of(store)
    first, second, third = show.shots
    camera = first.cameras[0]
    set_target(store, show, "zup-lh-cm", "json")
    rename(store, camera, "  crane ")
    with pytest.raises(BadInput, match="There is a shot 'TW_020' already"):
        rename(store, first, "TW_020")
    with pytest.raises(BadInput, match="1 to 120 characters"):
        rename(store, show, " ")
    # the next take of its file is still proposed for it, and for nothing else
    scene = read_file(demo_files["TW_010"])
    source = stage_file(store, "TW_010_v002.usda", demo_files["TW_010"].read_bytes(), scene_to_bytes(scene))
    draft = Draft.of(source)
    reports = reports_of(store, source, draft, scene, show.name, "TW_010")
    assert [t.chosen for t in targets_of(store, draft, reports, show.name, "TW_010")] == [camera]
    move_camera(store, camera, shot_for(store, show.name, "TW_015"))
    assert names(store) == ["TW_015", "TW_020", "TW_030"]
    with pytest.raises(BadInput, match="There is a camera 'shotcam' already"):
        move_camera(store, second.cameras[0], third)
    archive(store, second)
    assert names(store) == ["TW_015", "TW_030"] and [r.shot.name for r in board(store, show).rows] == names(store)
    with pytest.raises(BadInput, match="The shot 'TW_020' is archived"):
        shot_for(store, show.name, "TW_020")
    remove_camera(store, third.cameras[0])
    assert [s.name for s in away(store, show).shots] == ["TW_020"] and len(away(store, show).cameras) == 1
    bring_back(store, second)
    assert names(store) == ["TW_015", "TW_020"]
    other: Show = find_or_make_show(store, "The Tidewright, second reel")
    move_shot(store, second, other)
    assert [r.camera.shot.name for r in listed(store, show, ShotFilter()).rows] == ["TW_015"]
    assert [r.camera.shot.name for r in listed(store, other, ShotFilter()).rows] == ["TW_020"]
    assert get_version(store, camera.id).deliveries, "what was delivered stays"
    archive(store, show)
    assert shown_show(store, None) == other
    archive(store, other)
    assert shown_show(store, None) == show, "the one worked in last, from which it is brought back"


def test_the_history_tells_who_did_what_to_what_and_only_grows(engine: Engine, store: Context) -> None:
    show = show_of(store)
    shot = show.shots[1]
    camera = shot.cameras[0]
    rename(store, camera, "walk")
    rename(store, shot, "=TW_021")
    told = [(e.actor, e.action, e.said) for e in entries(store, Of(camera=camera.id)).rows]
    assert told[0] == ("local", "rename", "walk") and told[-1][0] == "night shift"
    assert entries(store, Of(camera=camera.id)).rows[0].detail == {"was": {"name": "shotcam"}}
    assert count(store, Of(shot=shot.id)) == len(told) + 1
    assert {e.actor for e in entries(store, Of(show=show.id, who="night shift")).rows} == {"night shift"}
    assert count(store, Of(package="yup-rh-cm")) == 1 and count(store, Of(package="yup-rh-cm", action="rename")) == 0
    assert count(store, Of(show=show.id, days=1)) == count(store, Of(show=show.id)) > 5
    of_shot = Of(shot=shot.id)
    store.commit()
    rows = list(csv.DictReader(io.StringIO("".join(as_csv(engine, LOCAL, of_shot)))))
    assert len(rows) == len(told) + 1 and rows[0]["of"] == "'=TW_021", "no table program runs it as a formula"
    assert rows[0]["detail"] == "name was TW_020" and rows[0]["at"].endswith("+00:00")
    for statement in ("UPDATE history SET actor = 'nobody'", "DELETE FROM history"):
        with engine.begin() as connection, pytest.raises(DBAPIError):
            connection.execute(text(statement))
    with Context(engine, LOCAL) as session:
        assert {e.actor for e in session.execute(select(HistoryEntry)).scalars()} == {"local", "night shift"}


def test_a_show_of_many_shots_is_worked_through_in_the_browser(
    page: Page, engine: Engine, demo_files: dict[str, Path], site: str
) -> None:
    with Context(engine, LOCAL) as session, session.begin():
        keep(session, demo_files["TW_010"], "TW_010")
    many(engine, 120)
    page.goto("/")
    expect(page.locator("#count")).to_have_text("121 of 121 cameras")
    expect(page.locator("table.list tbody tr")).to_have_count(PAGE)
    fits(page)
    page.get_by_role("link", name="Next").click()
    expect(page.locator("table.list tbody tr th").first).to_have_text("SH_0051")
    page.get_by_label("Shot or camera").fill("sh_0007")
    page.get_by_role("button", name="Apply filters", exact=True).click()
    expect(page.locator("#count")).to_have_text("1 of 121 cameras")
    page.get_by_role("link", name="SH_0007").click()
    page.get_by_label("Name of shotcam").fill("a camera whose name is as long as names of cameras get in real shows")
    page.get_by_role("button", name="Rename").first.click()
    expect(page.locator("table.list th a")).to_contain_text("a camera whose name")
    fits(page)
    page.get_by_role("button", name="Archive shot").click()
    expect(page.locator("h1")).to_contain_text("archived")
    page.goto("/")
    expect(page.locator("#count")).to_have_text("120 of 120 cameras")
    page.get_by_text("Archived: 1").click()
    page.get_by_role("button", name="Restore shot").click()
    page.get_by_role("link", name="Show full history").click()
    expect(page.locator("table.list tbody tr")).to_have_count(3)
    fits(page)
    with Context(engine, LOCAL) as session:
        assert session.execute(select(Version)).scalars().first()
    assert httpx.get(f"{site}/history.csv", timeout=60).text.count("\n") >= 4
    assert httpx.get(f"{site}/shots/999999").status_code == 404
    assert httpx.get(f"{site}/?show=999999", timeout=60).status_code == 404
