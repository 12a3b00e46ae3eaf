"""Notices: who hears of what, once; by mail where they ask for it, tried again, and given up."""

from __future__ import annotations

import email
from collections.abc import Iterator
from contextlib import closing
from email import policy
from pathlib import Path

import pytest
from sqlalchemy import Engine, select, text

from anaxis.app.cameras.edit import edit_version
from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import deliver_version
from anaxis.app.deliveries.returned import take_back_typed
from anaxis.app.notices.mail import TRIES, send_waiting
from anaxis.app.notices.notices import News, give_notice, mark_all_read, notices_of, open_notice, unread
from anaxis.app.people.people import actor_for, add_person, disable, give_role
from anaxis.app.people.views import choose_mail
from anaxis.app.roles import LOCAL, Actor, Role
from anaxis.app.shows.plan import set_target, start_run
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation
from anaxis.packages import find_profile
from anaxis.queue.jobs import TryAgain, ask_for
from anaxis.queue.reconcile import reconcile
from anaxis.sandbox.guard import ParserPool
from anaxis.simulated.mail import Inbox, serving
from anaxis.store.models import Job, Show, Version
from anaxis.store.notices import Notice
from anaxis.store.people import Person
from anaxis.store.rows import NotFound
from anaxis.worker.attempt import do_job
from test_plan import show_of
from test_store import keep

MOVED = Operation("shift", {"x_m": 2.0, "y_m": 0.0, "z_m": 0.0})


def actor(engine: Engine, name: str) -> Actor:
    with Context(engine, LOCAL) as store:
        return actor_for(store.execute(select(Person).where(Person.name == name)).scalar_one())


def heard(engine: Engine, name: str) -> list[tuple[str, str]]:
    """Kind and sentence of what somebody has heard, oldest first."""
    with Context(engine, actor(engine, name)) as store:
        return [(n.kind, n.sentence) for n in reversed(notices_of(store).rows)]


@pytest.fixture
def people(engine: Engine) -> None:
    with Context(engine, LOCAL) as store, store.begin():
        for name in ("Layout", "night shift"):
            add_person(store, name, Role.LEAD)


@pytest.fixture
def mailed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[tuple[Inbox, Path]]:
    with serving(tmp_path / "mails") as (inbox, port):
        monkeypatch.setenv("ANAXIS_SMTP", f"smtp://127.0.0.1:{port}")
        monkeypatch.setenv("ANAXIS_MAIL_FROM", "anaxis@tidewright.example")
        monkeypatch.setenv("ANAXIS_PAGES", "https://anaxis.example/")
        yield inbox, tmp_path / "mails"


def test_each_hears_of_what_concerns_them_and_not_of_their_own_doing(
    engine: Engine, people: None, demo_files: dict[str, Path]
) -> None:
    with Context(engine, actor(engine, "Layout")) as store, store.begin():
        version = keep(store, demo_files["TW_010"], "TW_010")
        deliver_version(store, version, find_profile("zup-lh-cm"), "json")
        edit_version(store, version, (MOVED,), "moved by its own maker")
    assert heard(engine, "Layout") == [] and heard(engine, "night shift") == []
    with Context(engine, actor(engine, "night shift")) as store, store.begin():
        version = keep(store, demo_files["TW_020"], "TW_020")
        deliver_version(store, version, find_profile("yup-rh-cm"), "json")
        number = version.id
    with Context(engine, actor(engine, "Layout")) as store, store.begin():
        edit_version(store, store.get_one(Version, number), (MOVED,), "moved by another")
        # TW_040's lens is 100 times too large: a finding, in a shot that nobody else works on
        keep(store, demo_files["TW_040"], "TW_040")
        keep(store, demo_files["TW_040"], "TW_020", "second")
    said = heard(engine, "night shift")
    assert [kind for kind, _ in said] == ["outdated", "finding"], said
    assert said[0][1].startswith("TW_020 shotcam 1.1 is newer than the version that you delivered (1, for yup-rh-cm)")
    assert "TW_020 second 1, in a shot that you work on" in said[1][1] and "100 times too large" in said[1][1]
    assert heard(engine, "Layout") == []


def test_a_returned_camera_that_differs_is_told_to_who_made_it(
    engine: Engine, people: None, demo_files: dict[str, Path]
) -> None:
    with Context(engine, actor(engine, "Layout")) as store, store.begin():
        number = keep(store, demo_files["TW_010"], "TW_010").id
    package = find_profile("yup-rh-m")

    def numbers(offset: float) -> str:
        return "\n".join(f"{f} {0.1 * f + offset} 1.5 {-0.2 * f} 0 {f / 50} 0" for f in range(1001, 1011))

    with Context(engine, actor(engine, "night shift")) as store, store.begin():
        version = store.get_one(Version, number)
        with closing(ParserPool(ready=False)) as parsers:
            row = take_back_typed(store, parsers, version, package, numbers(3.0))
        assert not row.as_it_was
    ((kind, sentence),) = heard(engine, "Layout")
    assert kind == "returned" and "TW_010 shotcam 1 returned from yup-rh-m and differs" in sentence
    assert heard(engine, "night shift") == []


def test_a_run_that_ends_is_told_once_and_failed_work_too(
    engine: Engine, people: None, demo_files: dict[str, Path]
) -> None:
    with Context(engine, actor(engine, "Layout")) as store, store.begin():
        version = keep(store, demo_files["TW_010"], "TW_010")
        keep(store, demo_files["TW_020"], "TW_020")
        set_target(store, show_of(store), "zup-lh-cm", "json")
        start_run(store, show_of(store))
        ask_for(store, "delivery", version.id, {"options": {"no such": 1}})
        jobs = list(store.execute(select(Job.id).order_by(Job.id)).scalars())
    assert heard(engine, "Layout") == []
    do_job(engine, jobs[0])
    assert heard(engine, "Layout") == [], "the run goes on"
    do_job(engine, jobs[1])
    do_job(engine, jobs[1])
    do_job(engine, jobs[2])
    (run, failed) = heard(engine, "Layout")
    assert run == ("run", "Run 1 of The Tidewright ended: 2 delivered.")
    assert failed[0] == "failed" and "delivery of TW_010 shotcam 1, failed: An error in Anaxis" in failed[1]


def test_of_one_key_there_is_one_notice_and_one_that_repeats_is_new_after_it_was_read(
    engine: Engine, people: None, demo_files: dict[str, Path]
) -> None:
    with Context(engine, LOCAL) as store, store.begin():
        show = keep(store, demo_files["TW_010"], "TW_010").camera.shot.show_id
        for sentence in ("first", "second"):
            give_notice(store, ["LAYOUT", "nobody"], News("run", show, sentence, "/", "once"))
            give_notice(store, ["Layout"], News("conflict", show, sentence, "/shows/1/live", "again", repeats=True))
    with Context(engine, actor(engine, "Layout")) as store, store.begin():
        assert unread(store) == 2 and {n.sentence for n in notices_of(store).rows} == {"first"}
        assert open_notice(store, notices_of(store).rows[0].id).link
        assert unread(store) == 1
        mark_all_read(store)
        assert unread(store) == 0
    with Context(engine, LOCAL) as store, store.begin():
        give_notice(store, ["Layout"], News("run", show, "third", "/", "once"))
        give_notice(store, ["Layout"], News("conflict", show, "third", "/", "again", repeats=True))
    with Context(engine, actor(engine, "Layout")) as store:
        assert [n.sentence for n in notices_of(store).rows if n.read_at is None] == ["third"]
        number = notices_of(store).rows[0].id
    with Context(engine, actor(engine, "night shift")) as store, pytest.raises(NotFound, match="You have no notice"):
        open_notice(store, number)


def test_pages_of_notices_hold_each_once_while_new_ones_come(
    engine: Engine, people: None, demo_files: dict[str, Path]
) -> None:
    def give(store: Context, numbers: range) -> None:
        for k in numbers:
            give_notice(store, ["Layout"], News("run", show, f"notice {k}", "/", f"key {k}"))

    with Context(engine, LOCAL) as store, store.begin():
        show = keep(store, demo_files["TW_010"], "TW_010").camera.shot.show_id
        give(store, range(230))  # all of one time: the number decides
    seen: list[str] = []
    before = None
    for page in range(3):
        with Context(engine, LOCAL) as store, store.begin():
            give(store, range(300 + page, 301 + page))
        with Context(engine, actor(engine, "Layout")) as store:
            shown = notices_of(store, before)
            seen += [n.sentence for n in shown.rows]
            last, before = shown, shown.before
    assert before is None and seen == ["notice 300", *(f"notice {k}" for k in reversed(range(230)))]
    with Context(engine, actor(engine, "Layout")) as store:
        newer = notices_of(store, after=last.after)
        assert [n.sentence for n in newer.rows] == seen[100:200] and newer.before == newer.rows[-1].id


def test_a_mail_holds_all_that_waits_is_tried_again_and_is_not_sent_to_who_lost_the_right(
    engine: Engine, demo_files: dict[str, Path], mailed: tuple[Inbox, Path]
) -> None:
    inbox, folder = mailed
    with Context(engine, LOCAL) as store, store.begin():
        show = keep(store, demo_files["TW_010"], "TW_010").camera.shot.show_id
        guest, gone = add_person(store, "guest"), add_person(store, "gone", Role.VIEWER)
        give_role(store, guest, Role.VIEWER, store.get_one(Show, show))
        for person in (guest, gone):
            choose_mail(store, person, f"{person.name}@tidewright.example", True)
        silent = add_person(store, "silent", Role.VIEWER)
        choose_mail(store, silent, "silent@tidewright.example", False)
        for n in (1, 2):
            news = News("run", show, f"Run {n} of 水車 ended.\r\nBcc: x@y", f"/runs/{n}", f"run {n}")
            give_notice(store, ["guest", "gone", "silent"], news)
        waiting = {n.person.name: n.id for n in store.execute(select(Notice)).scalars() if n.mail == "waiting"}
        assert set(waiting) == {"guest", "gone"}
        disable(store, gone)
        queued = "SELECT count(*) FROM procrastinate_jobs WHERE task_name = 'anaxis.mail' AND scheduled_at > now()"
        assert store.execute(text(queued)).scalar_one() == 4
    inbox.refuses = True
    with pytest.raises(TryAgain, match="did not take"):
        send_waiting(engine, waiting["guest"])
    inbox.refuses = False
    for number in (*waiting.values(), waiting["guest"]):
        send_waiting(engine, number)
    (file,) = folder.glob("*.eml")
    mail = email.message_from_bytes(file.read_bytes(), policy=policy.default)
    assert mail["To"] == "guest@tidewright.example" and mail["Bcc"] is None and "(and 1 more)" in mail["Subject"]
    body = mail.get_content()
    with Context(engine, LOCAL) as store:
        rows = {(n.person.name, n.id): n for n in store.execute(select(Notice)).scalars()}
        assert {n.mail for (name, _), n in rows.items() if name == "guest"} == {"sent"}
        assert {n.mail for (name, _), n in rows.items() if name != "guest"} == {""}
        assert all(f"https://anaxis.example/notices/{i}" in body.splitlines() for name, i in rows if name == "guest")
    assert "Run 1 of 水車 ended." in body and "Run 2" in body


def test_a_mail_that_is_never_taken_is_given_up_and_one_without_an_entry_is_queued_again(
    engine: Engine,
    people: None,
    demo_files: dict[str, Path],
    mailed: tuple[Inbox, Path],
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    inbox, _ = mailed
    with Context(engine, LOCAL) as store, store.begin():
        show = keep(store, demo_files["TW_010"], "TW_010").camera.shot.show_id
        person = store.execute(select(Person).where(Person.name == "Layout")).scalar_one()
        choose_mail(store, person, "layout@tidewright.example", True)
        give_notice(store, ["Layout"], News("run", show, "Run 1 ended.", "/runs/1", "run 1"))
        (number,) = store.execute(select(Notice.id)).scalars()
        store.execute(text("DELETE FROM procrastinate_jobs"))
    reconcile(engine)
    with Context(engine, LOCAL) as store:
        assert store.execute(text("SELECT args->>'notice_id' FROM procrastinate_jobs")).scalars().all() == [str(number)]
    inbox.refuses = True
    for tries in range(TRIES - 1):
        with pytest.raises(TryAgain):
            send_waiting(engine, number, tries)
    send_waiting(engine, number, TRIES - 1)
    with Context(engine, LOCAL) as store, store.begin():
        assert store.get_one(Notice, number).mail == "given up"
        store.get_one(Notice, number).mail = "waiting"
    monkeypatch.setenv("ANAXIS_MAIL_FROM", "")
    with pytest.raises(TryAgain, match="ANAXIS_MAIL_FROM is not a mail address"):
        send_waiting(engine, number)


@pytest.mark.parametrize("wrong", ["no address", "a@b\r\nBcc: x@y", '"A" <a@b>', "a" * 250 + "@b.example"])
def test_a_mail_address_is_one_address(engine: Engine, people: None, wrong: str) -> None:
    with Context(engine, actor(engine, "Layout")) as store, store.begin():
        person = store.execute(select(Person).where(Person.name == "Layout")).scalar_one()
        with pytest.raises(BadInput, match="is not a mail address"):
            choose_mail(store, person, wrong, True)
        with pytest.raises(BadInput, match="Type the mail address"):
            choose_mail(store, person, " ", True)
