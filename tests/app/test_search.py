"""Search over everything: by the beginnings of words, by checksum, ranked; nothing of a show that is not seen."""

from __future__ import annotations

import hashlib
from pathlib import Path

import pytest
from sqlalchemy import Engine, text

from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import deliver_version
from anaxis.app.people.people import add_person
from anaxis.app.roles import LOCAL, Actor, Role
from anaxis.app.search import MOST, search
from anaxis.packages import find_profile
from test_shots import many
from test_store import keep


@pytest.fixture
def searched(engine: Engine, demo_files: dict[str, Path]) -> Engine:
    with Context(engine, LOCAL) as store, store.begin():
        deliver_version(store, keep(store, demo_files["TW_010"], "TW_010"), find_profile("zup-lh-cm"), "json")
        keep(store, demo_files["TW_040"], "TW_040", "walk_through")
        add_person(store, "Mill Wright", Role.VIEWER)
    return engine


def found(engine: Engine, asked: str, actor: Actor = LOCAL) -> dict[str, list[str]]:
    with Context(engine, actor) as store:
        return {kind: [h.name for h in hits] for kind, hits, _ in search(store, asked)}


def test_everything_is_found_by_the_beginnings_of_its_words(searched: Engine, demo_files: dict[str, Path]) -> None:
    assert found(searched, "tw_040")["Shots"] == ["TW_040"] and found(searched, "040 TW")["Shots"] == ["TW_040"]
    assert found(searched, "walk thro")["Cameras"] == ["walk_through"]
    assert found(searched, "zup lh")["Packages"] == ["zup-lh-cm"] and found(searched, "left cent")["Packages"]
    assert found(searched, "TW_010 camera usda")["Files taken in"] == [demo_files["TW_010"].name]
    assert found(searched, "lens 100 times")["Cameras with a finding"] == ["TW_040 walk_through"]
    assert found(searched, "mill")["People"] == ["Mill Wright"]
    (delivered,) = found(searched, "zup-lh-cm json")["Files delivered"]
    assert delivered.endswith(".json")
    assert found(searched, "walk nothing") == found(searched, "  ") == found(searched, "_./") == {}


def test_a_file_is_found_by_the_beginning_of_its_checksum(searched: Engine, demo_files: dict[str, Path]) -> None:
    digest = hashlib.sha256(demo_files["TW_010"].read_bytes()).hexdigest()
    assert found(searched, digest[:8])["Files taken in"] == [demo_files["TW_010"].name]
    assert found(searched, digest.upper())["Files taken in"] == [demo_files["TW_010"].name]
    assert "Files taken in" not in found(searched, digest[:4])


@pytest.mark.parametrize("asked", ["'", "a' & !b", "<b>:*", "\\", "%_", "(((", "水車", "a | b", "\0x", "x" * 5000])
def test_any_text_may_be_searched(searched: Engine, asked: str) -> None:
    found(searched, asked)


def test_what_is_not_seen_is_not_found(searched: Engine) -> None:
    stranger = Actor("stranger", Role.NOBODY, {99: Role.LEAD})
    for asked in ("tw_040", "walk", "camera", "lens 100", "json", "mill"):
        assert set(found(searched, asked, stranger)) <= {"Packages"}, asked
    assert "People" not in found(searched, "mill", Actor("lead", Role.LEAD))


def test_the_very_name_comes_first_and_there_may_be_more(searched: Engine) -> None:
    many(searched, 40)
    with Context(searched, LOCAL) as store:
        (shots,) = (h for h in search(store, "SH") if h.kind == "Shots")
        assert len(shots.hits) == MOST and shots.more
        (shots,) = (h for h in search(store, "sh_0007") if h.kind == "Shots")
        assert [h.name for h in shots.hits] == ["SH_0007"] and not shots.more
        store.execute(text("UPDATE shots SET name = 'SH' WHERE name = 'SH_0040'"))
        assert next(h for h in search(store, "sh") if h.kind == "Shots").hits[0].name == "SH"


def test_names_are_searched_by_an_index(searched: Engine) -> None:
    many(searched, 3000)
    with searched.begin() as connection:
        connection.execute(text("ANALYZE"))
        plan = connection.execute(
            text("EXPLAIN SELECT id FROM shots WHERE name_words(name) @@ to_tsquery('simple'::regconfig, '''0007'':*')")
        ).scalars()
        assert "shots_search" in "\n".join(plan)
