"""People: signing in and what fails, every route as each role, shows that are not one's own, tokens, links."""

from __future__ import annotations

import re
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from fastapi import FastAPI
from fastapi.routing import APIRoute, APIWebSocketRoute
from playwright.sync_api import Page, expect
from sqlalchemy import Engine, func, select, text, update
from sqlalchemy.orm import Session

from anaxis.app.acting import NotAllowed, show_of, use_case
from anaxis.app.cameras.edit import edit_version
from anaxis.app.cameras.names import move_shot, rename
from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import deliver_version
from anaxis.app.packages import keep_package
from anaxis.app.people.guessing import TooManyTries
from anaxis.app.people.people import actor_for, add_person, disable, first_link, give_role, link_for
from anaxis.app.people.second_factor import set_up, take_away
from anaxis.app.people.sign_in import (
    NotSignedIn,
    accept,
    change_password,
    person_signed_in,
    sign_in,
    sign_out_everywhere,
)
from anaxis.app.people.tokens import actor_by_token, new_token, revoke
from anaxis.app.roles import LOCAL, VISITOR, Actor, Role
from anaxis.app.saved import save_recipe
from anaxis.app.shows.plan import set_target
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation
from anaxis.packages import find_profile
from anaxis.store.base import Base
from anaxis.store.models import Camera, Delivery, HistoryEntry, Job, Shot, Show, SourceFile, Version
from anaxis.store.people import OneTimeLink, Person, SignIn, Token
from anaxis.store.queries import set_finder
from anaxis.store.session import StoreSession
from anaxis.web.access import Needs, Open
from anaxis.web.app import create_app
from lanes import sized
from pages import PASSWORD, Server, Visitor, entered, opened_page, ready
from test_store import keep


@pytest.fixture
def closed(server: Server, engine: Engine, database_url: str) -> Iterator[str]:
    """The application with nobody signed in by itself."""
    with server.on(database_url, visitor="") as address:
        yield address


def routes_of(app: FastAPI) -> list[tuple[str, str, Role | None]]:
    """Every route of the application: method, address and the highest need it states; None where it is open to whoever comes."""
    found = []
    for entry in app.routes:
        for route in [entry] if isinstance(entry, APIRoute | APIWebSocketRoute) else []:
            if isinstance(route, APIWebSocketRoute):  # each looks at who speaks before it says a word (test_live.py)
                assert route.path in ("/exchange/v1", "/live/watch")
                continue
            stated = [d.dependency for d in route.dependencies if isinstance(d.dependency, Needs | Open)]
            assert stated, f"{route.path} states no need"
            (method,) = route.methods  # type: ignore[misc]
            roles = [s.role(method) for s in stated if isinstance(s, Needs)]
            found.append((method, route.path, max(roles) if roles else None))
    return found


def test_every_route_states_what_it_needs_and_refuses_each_role_below(
    closed: str, database_url: str, engine: Engine, people: dict[str, int]
) -> None:
    routes = routes_of(create_app(database_url, readers_ready=False))
    assert len(routes) > 130 and {path for _, path, need in routes if need is None} <= {
        "/sign-in", "/sign-in/code", "/sign-in/studio", "/sign-in/studio/back", "/welcome", "/alive", "/ready", "/metrics", "/schema/track.json", "/schema/profile.json", "/schema/lens.json", "/schema/distortion.json",
    }  # fmt: skip
    with Context(engine, LOCAL) as store, store.begin():
        source = store.execute(select(SourceFile).limit(1)).scalar_one()
        version = store.execute(select(Version).limit(1)).scalar_one()
        delivery = store.execute(select(Delivery).limit(1)).scalar_one_or_none()
        store.add(Job(kind="keys", version_id=version.id, state="done"))
        numbers = {"source_id": source.id, "delivery_id": delivery.id if delivery else 1}
    before = _counts(engine)
    nobody = Visitor(base_url=closed, follow_redirects=False, timeout=60)
    clients = {r: entered(closed, r.called) for r in Role if r}
    seen = set()
    for method, path, need in routes:
        if need is None:
            continue
        address = re.sub(r"\{(\w+)\}", lambda m: str(numbers.get(m[1], "zup-lh-cm" if m[1] == "key" else 1)), path)
        answer = nobody.request(method, address)
        assert answer.status_code == 303 and answer.headers["location"].startswith("/sign-in"), (method, address)
        for role, client in clients.items():
            if role < need:
                answer = client.request(method, address)
                assert answer.status_code in (403, 404), (method, address, role, answer.status_code)
                seen.add(answer.status_code)
    assert 403 in seen
    assert _counts(engine) == before, "what was refused changed nothing"
    # who may see it may see it: no need is set above what the pages themselves lead to
    for address in ("/", "/take-in", "/take-in/many", "/packages", "/history", "/cameras/1", "/account"):
        assert clients[Role.ARTIST].get(address).status_code == 200, address
    for address in ("/take-in", "/people", "/workers"):
        assert clients[Role.VIEWER].get(address).status_code == 403


def _counts(engine: Engine) -> list[int]:
    with Context(engine, LOCAL) as store:
        return [
            store.execute(select(func.count()).select_from(t)).scalar_one()
            for t in (Version, Show, Shot, Camera, Job, HistoryEntry)
        ]


def test_a_show_of_others_is_not_there(closed: str, engine: Engine, people: dict[str, int]) -> None:
    guest, stranger = entered(closed, "guest"), entered(closed, "stranger")
    home = guest.get("/")
    assert home.status_code == 200 and "The lighthouse" in home.text and "Tidewright" not in home.text
    for address in (
        "/cameras/1",
        "/cameras/1/recipe.json",
        "/shots/1",
        "/?show=1",
        "/shows/1/plan",
        "/cameras/1/compare",
        "/cameras/1/panel/deliver",
    ):
        assert guest.get(address).status_code == 404, address
    assert guest.post("/cameras/1/deliver", data={"to": "zup-lh-cm"}).status_code == 404
    history = guest.get("/history").text
    assert "TW_010" not in history
    with Context(engine, LOCAL) as store, store.begin():  # a file of that show is not found by its SHA-256 either
        source = store.execute(select(SourceFile)).scalar_one()
        source.actor, sha256 = "artist", source.sha256
    for name, seen in (("guest", False), ("artist", True)):
        with Context(engine, LOCAL) as store:
            store.act_as(actor_for(store.get_one(Person, people[name])))
            if seen:
                assert set_finder(store)(sha256)
            else:
                with pytest.raises(BadInput, match="The set geometry of"):
                    set_finder(store)(sha256)
    # taking a file in to that show by its name is refused, whatever is guessed
    with Context(engine, LOCAL) as store, store.begin():
        store.execute(update(SourceFile).values(kept=False, actor="guest"))
    review = guest.get("/take-in/1")
    assert review.status_code == 200
    path = re.findall(r'value="(/[^"]+)"[^>]*name="cameras"|name="cameras"[^>]*value="(/[^"]+)"', review.text)[0]
    typed = {
        "show": "The Tidewright",
        "shot": "TW_900",
        "cameras": "".join(path),
        "resolution": "1920x1080",
        "source_fit": "width",
    }
    answer = guest.post("/take-in/1", data=typed)
    assert answer.status_code == 422 and "already exists, and not yours to work in" in answer.text
    # a file of others is not there, put aside or kept
    for kept in (False, True):
        with Context(engine, LOCAL) as store, store.begin():
            store.execute(update(SourceFile).values(kept=kept, actor="artist"))
        assert guest.get("/take-in/1").status_code == 404
        assert entered(closed, "lead").get("/take-in/1").status_code == (200 if kept else 404)
    with Context(engine, LOCAL) as store:
        assert store.execute(select(func.count()).where(Shot.name == "TW_900")).scalar_one() == 0
    assert stranger.get("/").status_code == 403


def test_a_use_case_is_refused_by_show_and_a_move_needs_both(engine: Engine, people: dict[str, int]) -> None:
    with Context(engine, LOCAL) as store:
        own, other = store.get_one(Show, 2), store.get_one(Show, 1)
        guest, theirs = store.get_one(Person, people["guest"]), other.shots[0]
        give_role(store, guest, Role.LEAD, own)
        store.act_as(actor_for(guest))
        assert rename(store, own, "The old lighthouse").name == "The old lighthouse"
        with pytest.raises(NotAllowed, match="needs a lead in this show, and guest is nobody"):
            rename(store, other, "Mine")
        with pytest.raises(NotAllowed):
            move_shot(store, own.shots[0], other)
        with pytest.raises(NotAllowed):
            move_shot(store, theirs, own)
        store.act_as(actor_for(guest, Role.VIEWER))
        with pytest.raises(NotAllowed, match="with this token"):
            rename(store, own, "Again")


def test_a_show_that_cannot_be_read_is_not_every_show(closed: str, engine: Engine, people: dict[str, int]) -> None:
    client = entered(closed, "administrator")
    for show in ("ShowA", "1;2", "²", "-1"):
        answer = client.post(f"/people/{people['guest']}/role", data={"role": "3", "show": show})
        assert answer.status_code == 422 and "not the number of a show" in answer.text
        token = client.post("/account/tokens", data={"name": "t", "scope": "read", "show": show})
        assert token.status_code == 422 and "not the number of a show" in token.text
    with Context(engine, LOCAL) as store:
        guest = store.get_one(Person, people["guest"])
        assert guest.everywhere == 0 and [r.role for r in guest.in_shows] == [Role.ARTIST], "as before"
        assert store.execute(select(func.count()).select_from(Token)).scalar_one() == 0


def test_a_use_case_whose_result_is_in_another_show_needs_the_role_there_too(
    engine: Engine, people: dict[str, int]
) -> None:
    """What it is given names one show, what comes of it lies in another: nothing of it is saved."""

    @use_case("put a shot somewhere", Role.LEAD)
    def put_somewhere(session: Context, show: Show, other_id: int) -> Shot:
        shot = Shot(show_id=other_id, name="TW_900")
        session.add(shot)
        session.flush()
        return shot

    with Context(engine, LOCAL) as store:
        own = store.get_one(Show, 2)
        guest = store.get_one(Person, people["guest"])
        give_role(store, guest, Role.LEAD, own)
        store.act_as(actor_for(guest))
        assert put_somewhere(store, own, own.id).name == "TW_900"
        with pytest.raises(NotAllowed, match="guest is nobody"):
            put_somewhere(store, own, 1)


def test_rows_of_other_shows_are_in_no_query(engine: Engine, people: dict[str, int]) -> None:
    with StoreSession(engine, frozenset({2})) as store:
        assert [s.name for s in store.execute(select(Show)).scalars()] == ["The lighthouse"]
        for model in (Camera, Version, Delivery, Job):
            assert store.execute(select(func.count()).select_from(model)).scalar_one() == 0
            assert store.get(model, 1) is None
        assert store.execute(select(Shot.name).join(Show)).scalars().all() == ["LH_010"]
    for nothing in (StoreSession(engine, frozenset()), Session(engine), Context(engine, VISITOR)):
        with nothing as store:
            assert store.execute(select(Show)).first() is None and store.get(Camera, 1) is None


def test_a_table_says_by_which_row_its_rows_are_of_a_show() -> None:
    """A table without it is seen whole by whoever has a role in one show."""
    of_everybody = {"roles_in_shows"}  # who may do what: for administrators, by its pages
    tables = {m.class_.__tablename__: m.class_ for m in Base.registry.mappers}
    owned = {name for name, model in tables.items() if model.belongs_to} | {"shows"}
    assert len(owned) > 20
    for name, model in tables.items():
        leads = {k.column.table.name for c in model.__table__.columns if not c.nullable for k in c.foreign_keys}
        assert name in owned | of_everybody or not leads & owned, name


def test_what_a_hidden_row_belongs_to_is_no_shows(engine: Engine, people: dict[str, int]) -> None:
    with Context(engine, LOCAL) as store:
        guest, version = store.get_one(Person, people["guest"]), store.execute(select(Version).limit(1)).scalar_one()
        store.expire_all()
        store.act_as(actor_for(guest))
        assert show_of(version) == 0, "and not None, which is what belongs to the studio"
        for given in ({"version": version, "name": "mine"}, {"version": [version], "name": "mine"}):
            with pytest.raises(NotAllowed, match="guest is nobody"):
                save_recipe(store, **given)


def test_nothing_is_begun_for_whoever_may_not(engine: Engine, people: dict[str, int]) -> None:
    begun: list[Show] = []

    @use_case("look over", Role.LEAD)
    def look_over(context: Context, shows: list[Show], note: str = "") -> list[Show]:
        begun.extend(shows)
        return shows

    with Context(engine, LOCAL) as store:
        own, other = store.get_one(Show, 2), store.get_one(Show, 1)
        store.act_as(Actor("guest", in_shows={2: Role.LEAD}))
        for call in (lambda: look_over(store, [own, other]), lambda: look_over(store, shows=[own, other])):
            with pytest.raises(NotAllowed, match="guest is nobody"):
                call()
        assert begun == [] and look_over(store, [own]) == [own]


def test_packages_are_the_whole_studios(engine: Engine, people: dict[str, int]) -> None:
    with Context(engine, LOCAL) as store:
        own = find_profile("zup-lh-cm").model_copy(update={"key": "mill-engine"})
        lead_of_a_show = Actor("guest", in_shows={2: Role.LEAD})
        for refused in (lead_of_a_show, Actor("lead", Role.LEAD, most=Role.ARTIST)):
            store.act_as(refused)
            with pytest.raises(NotAllowed, match="it affects the whole studio and needs a lead site-wide"):
                keep_package(store, own, "mine")
        store.act_as(Actor("lead", Role.LEAD))
        assert keep_package(store, own, "ours").change == "ours"


def test_what_is_ones_own_nobody_else_changes(engine: Engine, people: dict[str, int]) -> None:
    with Context(engine, LOCAL) as store, store.begin():
        owner, other = (store.get_one(Person, people[name]) for name in ("artist", "lead"))
        _, token = new_token(store, owner, "nightly", Role.ARTIST, 3)
        store.act_as(actor_for(other))
        for refused in (
            lambda: revoke(store, token),
            lambda: new_token(store, owner, "mine", Role.ARTIST, 3),
            lambda: sign_out_everywhere(store, owner),
            lambda: change_password(store, owner, PASSWORD, PASSWORD + " again"),
            lambda: set_up(store, owner, "secret", "123456"),
            lambda: take_away(store, owner, "123456"),
        ):
            with pytest.raises(NotAllowed, match="for another person: ask an administrator"):
                refused()
        store.act_as(actor_for(owner))
        assert revoke(store, token).revoked_at is not None


def test_who_may_do_what_is_told_to_administrators_alone(closed: str, engine: Engine, people: dict[str, int]) -> None:
    with Context(engine, LOCAL) as store, store.begin():
        give_role(store, store.get_one(Person, people["viewer"]), Role.ARTIST, store.get_one(Show, 1))
        new_token(store, store.get_one(Person, people["artist"]), "the nightly one", Role.ARTIST, 3)
    for name in ("viewer", "lead", "administrator"):
        client = entered(closed, name)
        for address in ("/history", "/history.csv", "/history?action=give+a+role", "/history?action=make+a+token"):
            text_of = client.get(address).text
            told = "the nightly one" in text_of or "give a role" in text_of.replace("action=give", "")
            assert told is (name == "administrator"), (name, address)


def test_guessing_ends_and_a_name_is_not_told_from_a_password(
    engine: Engine, closed: str, people: dict[str, int]
) -> None:
    said = set()
    for name in ("artist", "nobody of that name"):
        with pytest.raises(BadInput) as told:
            sign_in(engine, name, "a wrong password", "10.0.0.1")
        said.add(told.value.sentence)
    assert len(said) == 1
    codes: list[str] = []

    def guess() -> None:
        try:
            sign_in(engine, "artist", "a wrong password", "10.0.0.2")
        except BadInput as error:
            codes.append(error.code)

    threads = [threading.Thread(target=guess) for _ in range(14)]  # all at once, as a guesser would
    for one in threads:
        one.start()
    for one in threads:
        one.join()
    assert codes.count("not_signed_in") <= 5 and codes.count("too_many_tries") >= 9
    with pytest.raises(BadInput, match="Too many attempts"):
        sign_in(engine, "artist", PASSWORD, "10.0.0.2")
    assert sign_in(engine, "artist", PASSWORD, "10.0.0.3"), "elsewhere the person still comes in"
    answer = Visitor(base_url=closed).post(
        "/sign-in", data={"name": "<b>artist</b>", "password": "x" * 12, "next": "//elsewhere.example"}
    )
    assert answer.status_code == 403 and "<b>artist" not in answer.text and 'value="//elsewhere' not in answer.text


def test_tries_from_elsewhere_lock_nobody_out_where_they_have_signed_in(engine: Engine, people: dict[str, int]) -> None:
    assert sign_in(engine, "artist", PASSWORD, "10.1.0.1")
    codes = []
    for n in range(60):  # from ever other addresses, as many machines would
        with pytest.raises(BadInput) as told:
            sign_in(engine, "artist", "a wrong password", f"10.1.1.{n}")
        codes.append(told.value.code)
    assert codes == ["not_signed_in"] * 40 + ["too_many_tries"] * 20, "the name is locked where it is not known"
    assert sign_in(engine, "artist", PASSWORD, "10.1.0.1")
    for _ in range(5):
        with pytest.raises(NotSignedIn):
            sign_in(engine, "artist", "mistyped", "10.1.0.1")
    with pytest.raises(TooManyTries) as late:
        sign_in(engine, "artist", PASSWORD, "10.1.0.1")
    assert 1 <= late.value.wait_s <= 60, "where it is known, seconds and not a quarter of an hour"
    assert sign_in(engine, "lead", PASSWORD, "10.1.1.3"), "one wrong try of another name from there"
    for _ in range(40):
        assert sign_in(engine, "viewer", PASSWORD, "10.1.2.1"), "what succeeds does not count"


def test_a_password_costs_much_to_guess(usual_hash: Any) -> None:
    """By the second recommended option of RFC 9106: 64 MiB, three passes."""
    assert usual_hash.hash(PASSWORD).startswith("$argon2id$v=19$m=65536,t=3,")


def test_the_old_password_is_not_guessed_without_end(engine: Engine, people: dict[str, int]) -> None:
    with Context(engine, LOCAL) as store:
        person = store.get_one(Person, people["artist"])
        store.act_as(actor_for(person))
        for _ in range(5):
            with pytest.raises(BadInput, match="Nothing was changed"):
                change_password(store, person, "a guess", PASSWORD + " again")
        with pytest.raises(TooManyTries):
            change_password(store, person, PASSWORD, PASSWORD + " again")


def test_a_session_is_new_at_every_sign_in_signed_and_ended_everywhere(
    closed: str, engine: Engine, people: dict[str, int]
) -> None:
    client = Visitor(base_url=closed, follow_redirects=False)
    fixed = "anaxis_00000000=fixed-by-somebody-else"
    answer = client.post(
        "/sign-in", data={"name": "artist", "password": PASSWORD, "next": "/history?show=1"}, headers={"Cookie": fixed}
    )
    assert answer.headers["location"] == "/history?show=1"
    cookie = answer.headers["set-cookie"]
    assert "HttpOnly" in cookie and "SameSite=lax" in cookie and "fixed-by" not in cookie
    by_tls = client.post(
        "/sign-in", data={"name": "artist", "password": PASSWORD}, headers={"X-Forwarded-Proto": "https"}
    )
    assert "Secure" in by_tls.headers["set-cookie"] and "Secure" not in cookie
    name, value = cookie.split(";")[0].split("=", 1)
    assert entered(closed, "artist").cookies[name] != value, "each browser has its own"
    # Of the signature, a character whose every bit counts: the last one's do not.
    other = value[:-6] + ("A" if value[-6] != "A" else "B") + value[-5:]
    forged = Visitor(base_url=closed, cookies={name: other}, follow_redirects=False)
    assert forged.get("/").status_code == 303
    stolen = Visitor(base_url=closed, cookies={name: value}, follow_redirects=False)
    assert stolen.get("/account").status_code == 200
    with Context(engine, LOCAL) as store:
        held = store.execute(select(SignIn.digest)).scalars().all()
        assert value not in held and all(value not in h for h in held), "of a secret only its digest is kept"
    assert client.post("/account/sign-out-everywhere", headers={"Cookie": f"{name}={value}"}).status_code == 303
    assert stolen.get("/account").status_code == 303
    again = entered(closed, "artist")
    secret = again.cookies[name]
    again.post("/sign-out")
    assert Visitor(base_url=closed, cookies={name: secret}, follow_redirects=False).get("/").status_code == 303
    with Context(engine, LOCAL) as store, store.begin():
        person = store.get_one(Person, people["artist"])
        secret = sign_in(engine, "artist", PASSWORD, "")
        assert person_signed_in(store, secret) is not None
        store.execute(update(SignIn).values(seen_at=func.now() - text("interval '15 days'")))
        assert person_signed_in(store, secret) is None
        store.execute(update(SignIn).values(seen_at=func.now()))
        disable(store, person)
        assert person_signed_in(store, secret) is None
    with pytest.raises(BadInput):
        sign_in(engine, "artist", PASSWORD, "")


def test_a_link_holds_once_and_nobody_is_left_without_an_administrator(engine: Engine, people: dict[str, int]) -> None:
    with Context(engine, LOCAL) as store, store.begin():
        artist = store.get_one(Person, people["artist"])
        first = link_for(store, artist)
        second = link_for(store, artist)
        for bad in (first, "made-up"):
            with pytest.raises(BadInput, match="used already or has expired"):
                accept(store, bad, PASSWORD + " again")
        for weak in ("short", "aaaaaaaaaaaaaaaa", "artist-artist"):
            with pytest.raises(BadInput):
                accept(store, second, weak)
        accept(store, second, PASSWORD + " again")
        with pytest.raises(BadInput):
            accept(store, second, PASSWORD)
        third = link_for(store, artist)
        store.execute(update(OneTimeLink).values(expires_at=func.now() - text("interval '1 minute'")))
        with pytest.raises(BadInput):
            accept(store, third, PASSWORD)
        only = store.get_one(Person, people["administrator"])
        for left in (lambda: give_role(store, only, Role.LEAD), lambda: disable(store, only)):
            with pytest.raises(BadInput, match="is the only administrator"):
                left()
        give_role(store, artist, Role.ADMINISTRATOR)
        disable(store, only)
        assert first_link(store) is None, "somebody can sign in: no first link any more"
        told = store.execute(select(HistoryEntry.action)).scalars().all()
        assert {"add a person", "give a role", "disable a person"} <= set(told)


def test_the_first_start_makes_one_administrator(engine: Engine) -> None:
    with Context(engine, LOCAL) as store, store.begin():
        one, two = first_link(store), first_link(store)
        assert one and two and one != two
        person = accept(store, two, PASSWORD)
        assert (person.name, person.everywhere) == ("admin", Role.ADMINISTRATOR)
        assert first_link(store) is None
        assert store.execute(select(func.count()).select_from(Person)).scalar_one() == 1


@pytest.fixture
def token(engine: Engine, people: dict[str, int]) -> Callable[..., tuple[str, int]]:
    def make(who: str, role: Role, days: int = 1, show: int | None = None) -> tuple[str, int]:
        with Context(engine, LOCAL) as store, store.begin():
            within = store.get_one(Show, show) if show else None
            secret, row = new_token(store, store.get_one(Person, people[who]), "the night run", role, days, within)
            return secret, row.id

    return make


def test_a_token_has_its_scope_its_days_and_an_end(engine: Engine, token: Any, people: dict[str, int]) -> None:
    def actor(secret: str) -> Actor | None:
        with Context(engine, LOCAL) as store, store.begin():
            return actor_by_token(store, secret)

    secret, number = token("lead", Role.ARTIST)
    acts = actor(secret)
    assert acts is not None and acts.role(1) == Role.ARTIST and acts.name == "lead"
    only, _ = token("lead", Role.LEAD, show=2)
    acts = actor(only)
    assert acts is not None and (acts.role(1), acts.role(2), acts.shows) == (Role.NOBODY, Role.LEAD, {2})
    reach, _ = token("viewer", Role.LEAD)
    acts = actor(reach)
    assert acts is not None and acts.role(1) == Role.VIEWER, "no token may more than its person"
    assert actor(secret[:-1]) is None and actor("") is None
    with Context(engine, LOCAL) as store, store.begin():
        assert secret not in "".join(map(str, store.execute(text("SELECT * FROM tokens")).all())), (
            "shown once, kept nowhere"
        )
        revoke(store, store.get_one(Token, number))
    assert actor(secret) is None
    with Context(engine, LOCAL) as store, store.begin():
        store.execute(update(Token).values(expires_at=func.now() - text("interval '1 second'")))
    assert actor(only) is None
    with Context(engine, LOCAL) as store:
        for bad in ({"name": ""}, {"days": 0}, {"days": 9999}, {"role": Role.ADMINISTRATOR}):
            with pytest.raises(BadInput):
                new_token(
                    store,
                    store.get_one(Person, people["lead"]),
                    **{"name": "x", "role": Role.VIEWER, "days": 1, **bad},  # type: ignore[arg-type]
                )


def test_signing_in_by_hand_a_new_person_and_a_token(browser: Any, closed: str, people: dict[str, int]) -> None:
    page = opened_page(browser)
    page.goto(f"{closed}/history?show=1")
    expect(page.get_by_role("heading", name="Sign in")).to_be_visible()
    page.get_by_label("Name").fill("administrator")
    page.get_by_label("Password").fill("not that one at all")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("or password")
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_url("**/history?show=1")
    page.get_by_role("link", name="People").click()
    page.get_by_label("Name").fill("<i>Ines</i> of the sluice")
    page.get_by_role("button", name="Add person").click()
    link = page.locator("#link").inner_text()
    assert page.locator("i").count() == 0
    page.get_by_role("link", name="administrator").click()
    page.get_by_label("Purpose").fill("the farm")
    page.get_by_role("button", name="Create token").click()
    assert page.locator("#new-token").inner_text().startswith("anaxis_")
    page.goto(f"{closed}/account")
    expect(page.locator("#new-token")).to_have_count(0)
    page.get_by_role("button", name="Revoke").click()
    expect(page.locator(".state.off")).to_have_text("revoked")
    page.get_by_role("button", name="Sign out", exact=True).click()
    expect(page.get_by_role("heading", name="Sign in")).to_be_visible()
    page.goto(link)
    assert "#" not in page.url, "the secret is gone from the address"
    page.get_by_label("Password, 12").fill(PASSWORD)
    page.get_by_label("Repeat password").fill(PASSWORD)
    page.get_by_role("button", name="Set password and sign in").click()
    expect(page.locator("main")).to_contain_text("Ask an administrator for the role")


def test_two_people_at_one_camera_lose_nothing_and_each_conflict_is_shown(
    closed: str, engine: Engine, people: dict[str, int]
) -> None:
    """Changes of two people who both work from what they saw last: every one is a version, or was shown as a conflict."""
    one, two = entered(closed, "artist"), entered(closed, "lead")

    def change(client: Visitor, head: int, metres: float) -> Any:
        typed = {"version": str(head), "head": str(head), "action": "add", "code": "shift", "param_x_m": str(metres)}
        return client.post("/cameras/1/recipe", data={**typed, "param_y_m": "0", "param_z_m": "0"})

    seen, kept, shown = {one: 1, two: 1}, 0, 0
    steps = sized(200, 30)
    for step in range(steps):
        client = one if step % 3 else two  # the second is behind each time the first was there
        answer = change(client, seen[client], step / 1000 + 0.001)
        if answer.status_code == 409:
            shown += 1
            assert "Not saved" in answer.text and ("artist" if client is two else "lead") in answer.text
            assert "Apply my change on top" in answer.text and f"{step / 1000 + 0.001}" in answer.text
            with Context(engine, LOCAL) as store:
                seen[client] = store.execute(
                    select(func.max(Version.number)).where(Version.camera_id == 1)
                ).scalar_one()
            answer = change(client, seen[client], step / 1000 + 0.001)
        assert answer.status_code == 303, answer.text
        kept += 1
        seen[client] += 1
    with Context(engine, LOCAL) as store:
        versions = store.execute(select(Version).where(Version.camera_id == 1).order_by(Version.number)).scalars().all()
        assert [v.number for v in versions] == list(range(1, steps + 2))
        moved = [op for op in versions[-1].recipe if op["code"] == "shift"]
        assert len(moved) == steps, "all of the steps are in the last one"
        by = store.execute(
            select(HistoryEntry.actor, func.count()).where(HistoryEntry.action == "edit").group_by(HistoryEntry.actor)
        ).all()
        assert dict(map(tuple, by)) == {"artist": 2 * steps // 3, "lead": steps - 2 * steps // 3}  # type: ignore[arg-type]
    assert kept == steps and shown == 2 * steps // 3 - (steps % 3 == 0), (
        "once for each time that the other one was there before"
    )


def test_the_choice_is_made_in_the_page_and_who_else_is_there_is_said(
    browser: Any, closed: str, engine: Engine, people: dict[str, int]
) -> None:
    def page_of(name: str) -> Page:
        page = opened_page(browser, base_url=closed)
        page.goto("/cameras/1?station=clean")
        page.get_by_label("Name").fill(name)
        page.get_by_label("Password").fill(PASSWORD)
        page.get_by_role("button", name="Sign in").click()
        page.wait_for_url("**/cameras/1**")
        return page

    mine = page_of("artist")
    expect(mine.locator("#others")).to_have_text("")
    theirs = page_of("lead")
    expect(theirs.locator("#others")).to_have_text("artist is on this camera too")
    other = entered(closed, "lead")
    typed = {
        "version": "1",
        "head": "1",
        "action": "add",
        "code": "shift",
        "param_x_m": "2",
        "param_y_m": "0",
        "param_z_m": "0",
    }
    assert other.post("/cameras/1/recipe", data=typed).status_code == 303
    answer = mine.evaluate(
        """() => { const f = document.createElement('form'); f.method = 'post'; f.action = '/cameras/1/recipe';
        const all = {version: 1, head: 1, action: 'add', code: 'shift', param_x_m: 3, param_y_m: 0, param_z_m: 0, station: 'clean'};
        for (const [k, v] of Object.entries(all)) { const i = document.createElement('input'); i.name = k; i.value = v; f.append(i); }
        document.body.append(f); f.submit(); }"""
    )
    assert answer is None
    expect(mine.get_by_role("alert")).to_contain_text("Not saved")
    expect(mine.locator("table").first).to_contain_text("lead")
    mine.get_by_role("button", name="Apply my change on top").click()
    mine.wait_for_url("**/cameras/1?station=clean**")
    with Context(engine, LOCAL) as store:
        head = store.get_one(Camera, 1).head
        assert [op["params"]["x_m"] for op in head.recipe] == [2.0, 3.0]
    for page in (mine, theirs):
        page.close()


def test_names_that_hold_markup_are_names_on_every_page(
    page: Page, site: str, engine: Engine, demo_files: dict[str, Path]
) -> None:
    """Whatever runs, or is refused by the pages' own policy, would stand in the console, which the page's fixture holds empty."""
    planted = "<img src=x onerror=alert(1)>'\"&{{7*7}}"
    with Context(engine, LOCAL) as store, store.begin():
        version = keep(store, demo_files["TW_010"], "TW_010")
        profile = find_profile("zup-lh-cm").model_copy(update={"key": "planted", "label": planted})
        keep_package(store, profile, planted)
        deliver_version(store, version, profile, "json")
        version = edit_version(store, version, (Operation("shift", {"x_m": 1.0, "y_m": 0.0, "z_m": 0.0}),), planted)
        save_recipe(store, version, planted)
        set_target(store, version.camera.shot.show, "planted", "usd", recipe=planted)
        for row in (version.camera, version.camera.shot, version.camera.shot.show):
            rename(store, row, planted)
        add_person(store, planted)
    addresses = ["/", "/shots/1", "/history", "/notices", "/search?q=planted", "/shows/1/plan", "/shows/1/join", "/take-in", "/take-in/many", "/packages", "/packages/planted",
                 "/people", "/account", "/workers", "/cameras/1/compare", "/deliveries/1", "/cameras/1/derive"]  # fmt: skip
    addresses += [
        f"/cameras/1?station={s}" for s in ("take-in", "clean", "lens", "plate", "time", "place", "deliver", "prove")
    ]
    shown = 0
    for address in addresses:
        assert page.goto(address).status == 200, address  # type: ignore[union-attr]
        if address.startswith("/cameras/1?"):
            ready(page)
        assert page.locator("img[src=x]").count() == 0, address
        text = page.content()
        assert "{{7*7}}" in text or "49" not in page.locator("h1").first.inner_text(), address
        shown += "onerror" in page.locator("body").inner_text()
    assert shown > 12, "and they are shown as they are"
