"""The history by month and by show: read a page at a time, and what older stores have is kept."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from itertools import pairwise
from pathlib import Path

import pytest
from sqlalchemy import Engine, select, text
from sqlalchemy.exc import DBAPIError

from anaxis.app import history
from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import deliver_version
from anaxis.app.history import Of, actions_and_actors, count, entries
from anaxis.app.packages import copy_package
from anaxis.app.roles import LOCAL, Actor, Role
from anaxis.packages import shipped_profiles
from anaxis.store import partitions
from anaxis.store.database import migrate
from anaxis.store.models import HistoryEntry, HistoryWord, Version
from anaxis.store.partitions import make_next_months, make_partitions
from test_store import keep

MONTH = timedelta(days=31)


def add(engine: Engine, number: int, at: datetime, show: int | None, actor: str = "ann") -> None:
    """Entries about a camera, all of one moment, as those of one transaction are."""
    row = "INSERT INTO history (at, actor, action, kind, about_id, said, show_id) VALUES (:at, :actor, 'edit', 'cameras', 1, :said, :show)"
    with engine.begin() as connection:
        connection.execute(
            text(row), [{"at": at, "actor": actor, "said": f"{at} {n}", "show": show} for n in range(number)]
        )


@pytest.mark.parametrize("seen", [None, frozenset({1, 3})], ids=["every show", "two shows"])
def test_pages_forward_and_back_hold_every_entry_once(engine: Engine, seen: frozenset[int] | None) -> None:
    now = datetime.now(UTC)
    with engine.begin() as connection:
        make_partitions(connection, now - 3 * MONTH)
        connection.execute(
            text("INSERT INTO shows (id, name) VALUES (1, 'The mill'), (2, 'The weir'), (3, 'The sluice')")
        )
    for months, show in ((3, 1), (2, 2), (2, 3), (1, 3), (0, 1), (0, None), (0, 2)):
        add(engine, 7, now - months * MONTH, show)
    roles = {} if seen is None else dict.fromkeys(seen, Role.VIEWER)
    actor = LOCAL if seen is None else Actor("guest", Role.NOBODY, roles)
    with Context(engine, actor) as context:
        every = list(
            context.execute(select(HistoryEntry).order_by(HistoryEntry.at.desc(), HistoryEntry.id.desc())).scalars()
        )
        assert len(every) == (49 if seen is None else 28), (
            "entries about what belongs to no show are an administrator's"
        )
        for of in (Of(), Of(show=3), Of(who="ann"), Of(camera=1)):
            wanted = [e.id for e in every if of.show is None or e.show_id == of.show]
            if of.camera is not None:
                wanted = []  # there is no such camera
            pages = [entries(context, of, most=5)]
            while pages[-1].before is not None:
                pages.append(entries(context, of, before=pages[-1].before, most=5))
            assert [e.id for p in pages for e in p.rows] == wanted
            for earlier, later in pairwise(pages):
                assert later.after is not None
                assert [e.id for e in entries(context, of, after=later.after, most=5).rows] == [
                    e.id for e in earlier.rows
                ]
            assert pages[0].after is None and count(context, of) == len(wanted)
        assert entries(context, Of(), before=10**9).rows == []


def test_more_entries_than_are_counted_are_said_to_be_more(engine: Engine, monkeypatch: pytest.MonkeyPatch) -> None:
    add(engine, 12, datetime.now(UTC), None)
    monkeypatch.setattr(history, "MOST_COUNTED", 10)
    with Context(engine, LOCAL) as context:
        assert count(context, Of()) == 11 and history.count_words(11) == "more than 10 entries"
        assert history.count_words(10) == "10 entries" and history.count_words(1) == "1 entry"


def test_what_may_be_filtered_by_is_what_each_may_see(engine: Engine) -> None:
    now = datetime.now(UTC)
    with engine.begin() as connection:
        connection.execute(text("INSERT INTO shows (id, name) VALUES (1, 'The mill'), (2, 'The weir')"))
    add(engine, 2, now, 1, "ann")
    add(engine, 1, now, 2, "bob")
    with engine.begin() as connection:
        kinds = ", ".join(f"('zoe', 'secret', '{kind}', 1)" for kind in history._ADMINISTRATORS)
        connection.execute(text(f"INSERT INTO history (actor, action, kind, about_id) VALUES {kinds}"))
    with Context(engine, LOCAL) as context:
        assert actions_and_actors(context) == (["edit", "secret"], ["ann", "bob", "zoe"])
        assert actions_and_actors(context, 1) == (["edit", "secret"], ["ann", "zoe"])
        assert len(context.execute(select(HistoryWord)).all()) == 6, "each once, however many entries there are"
    with Context(engine, Actor("viewer", Role.VIEWER)) as context:
        assert actions_and_actors(context) == (["edit"], ["ann", "bob"])
    with Context(engine, Actor("guest", Role.NOBODY, {2: Role.VIEWER})) as context:
        assert actions_and_actors(context) == (["edit"], ["bob"])


def test_two_transactions_with_the_same_new_words_do_not_wait_for_each_other(engine: Engine) -> None:
    row = text("INSERT INTO history (actor, action, kind, about_id) VALUES (:actor, :action, 'packages', 1)")
    with engine.connect() as first, engine.connect() as second:
        for connection in (first, second):
            connection.execute(text("SET LOCAL lock_timeout = '500ms'"))
        # In opposite order: if each waited for the other's word, PostgreSQL would end one of them.
        for connection, words in ((first, "ann edit"), (second, "bob undo"), (first, "bob undo"), (second, "ann edit")):
            connection.execute(row, dict(zip(("actor", "action"), words.split(), strict=True)))
        first.commit()
        second.commit()
    with Context(engine, LOCAL) as context:
        assert actions_and_actors(context) == (["edit", "undo"], ["ann", "bob"]) and count(context, Of()) == 4
    with engine.connect() as failed, engine.connect() as going_on:
        for connection in (failed, going_on):
            connection.execute(row, {"actor": "zoe", "action": "redo"})
        failed.rollback()
        going_on.commit()
    with engine.begin() as connection:
        connection.execute(row, {"actor": "zoe", "action": "redo"})
    with Context(engine, LOCAL) as context:
        assert actions_and_actors(context) == (["edit", "redo", "undo"], ["ann", "bob", "zoe"])


def test_each_month_has_a_table_made_before_its_first_entry(engine: Engine, monkeypatch: pytest.MonkeyPatch) -> None:
    def lies_in(said: str) -> str:
        with engine.connect() as connection:
            where = text("SELECT tableoid::regclass::text FROM history WHERE said LIKE :said")
            return str(connection.execute(where, {"said": f"{said}%"}).scalar_one())

    now = datetime.now(UTC)
    late = datetime(now.year + 1, now.month, 1, tzinfo=UTC)  # a clock that is a year ahead
    for at in (now, late):
        add(engine, 1, at, None)
    assert lies_in(str(now)) == f"history_{now:%Y_%m}" and lies_in(str(late)) == "history_other"
    monkeypatch.setattr(partitions, "_AHEAD", 13)
    make_next_months(engine)
    make_next_months(engine)
    after = late + MONTH
    add(engine, 1, after, None)
    assert lies_in(str(late)) == "history_other", "it stays where it is, and its month gets no table"
    assert lies_in(str(after)) == f"history_{after:%Y_%m}"
    with Context(engine, LOCAL) as context:
        assert [e.at for e in entries(context, Of()).rows] == [after, late, now]
    for statement in ("UPDATE history SET actor = 'nobody'", "DELETE FROM history_other"):
        with engine.begin() as connection, pytest.raises(DBAPIError, match="immutable"):
            connection.execute(text(statement))


def test_the_history_of_an_older_store_is_kept_with_its_shows_and_who_made_each_version(
    engine: Engine, demo_files: dict[str, Path]
) -> None:
    night = Actor("night shift", Role.ADMINISTRATOR)
    with Context(engine, night) as store, store.begin():
        version = keep(store, demo_files["TW_020"], "TW_020")
        deliver_version(store, version, shipped_profiles()["zup-lh-cm"], "usd")
        copy_package(store, "zup-lh-cm", "Mill", "mill")
        show = version.camera.shot.show_id
    migrate(engine, "0031")
    with engine.begin() as connection:
        old = datetime(2024, 5, 3, tzinfo=UTC)
        row = "INSERT INTO history (at, actor, action, kind, about_id) VALUES (:at, 'ann', 'undo', 'versions', 1)"
        connection.execute(text(row), [{"at": old}, {"at": datetime(1971, 1, 1, tzinfo=UTC)}])
    migrate(engine)
    with Context(engine, LOCAL) as store:
        told = {(e.kind, e.show_id) for e in store.execute(select(HistoryEntry)).scalars()}
        assert told == {("versions", show), ("deliveries", show), ("packages", None)}
        assert store.execute(select(Version.actor)).scalar_one() == "night shift", "not who undid it later"
        assert [e.at.year for e in entries(store, Of(show=show, who="ann")).rows] == [2024, 1971]
        assert actions_and_actors(store, show)[1] == ["ann", "night shift"]
    with engine.begin() as connection:
        assert connection.execute(text("SELECT count(*) FROM history_2024_05")).scalar_one() == 1
        # A server of the version before goes on during the upgrade, and names no show.
        connection.execute(text(row.replace(":at", "now()")))
        connection.execute(text(row.replace(":at", "now()").replace("'versions'", "'packages'")))
    with Context(engine, LOCAL) as store:
        assert [e.kind for e in entries(store, Of(show=show), most=1).rows] == ["versions"]
