"""Signing in by the studio's own service, against a simulated one; and a second factor, against codes worked out by hand."""

from __future__ import annotations

import base64
import hashlib
import hmac
import re
import struct
import threading
import time
from collections.abc import Iterator
from typing import Any
from urllib.parse import parse_qs, urlsplit

import httpx
import pytest
import uvicorn
from sqlalchemy import Engine, select, text

from anaxis.app.context import Context
from anaxis.app.people import studio_sign_in
from anaxis.app.people.people import add_person, give_role, link_for
from anaxis.app.people.studio_sign_in import service
from anaxis.app.roles import LOCAL, Role
from anaxis.core.errors import BadInput
from anaxis.simulated.provider import Provider
from anaxis.store.keep import find_or_make_show
from anaxis.store.local_postgres import free_port
from anaxis.store.models import HistoryEntry
from anaxis.store.people import Person, SignIn
from pages import PASSWORD, Server, Visitor, entered

GROUPS = "pipeline=administrator; mill-artists=artist@The Tidewright; mill-artists=viewer@The lighthouse; gone=lead@No such show"


@pytest.fixture
def provider(monkeypatch: pytest.MonkeyPatch) -> Iterator[Provider]:
    port = free_port()
    made = Provider(f"http://127.0.0.1:{port}")
    server = uvicorn.Server(uvicorn.Config(made.app(), port=port, log_level="error", lifespan="off"))
    running = threading.Thread(target=server.run, daemon=True)
    running.start()
    while not server.started:
        time.sleep(0.01)
    monkeypatch.setenv("ANAXIS_OIDC_ISSUER", made.issuer)
    monkeypatch.setenv("ANAXIS_OIDC_CLIENT_ID", made.client_id)
    monkeypatch.setenv("ANAXIS_OIDC_CLIENT_SECRET", made.client_secret)
    monkeypatch.setenv("ANAXIS_OIDC_GROUPS", GROUPS)
    studio_sign_in._known.forget()
    yield made
    server.should_exit = True
    running.join(10)


@pytest.fixture
def closed(server: Server, engine: Engine, database_url: str) -> Iterator[str]:
    with Context(engine, LOCAL) as store, store.begin():
        for name in ("The Tidewright", "The lighthouse"):
            find_or_make_show(store, name)
    with server.on(database_url, visitor="") as address:
        yield address


def came_back(client: Visitor, provider: Provider, who: str, next: str = "/") -> httpx.Response:
    """All the way to the service and back, as a browser goes."""
    sent = client.get(f"/sign-in/studio?next={next}")
    assert sent.status_code == 303, sent.text
    at_service = httpx.get(f"{sent.headers['location']}&as={who}", follow_redirects=False)
    assert at_service.status_code == 302, at_service.text
    return client.get(at_service.headers["location"])


def person(engine: Engine, name: str) -> Person:
    with Context(engine, LOCAL) as store:
        return store.execute(select(Person).where(Person.name == name)).scalar_one()


def test_groups_are_roles_from_each_sign_in_on(closed: str, engine: Engine, provider: Provider) -> None:
    client = Visitor(base_url=closed, follow_redirects=False)
    assert "Sign in with the studio" in client.get("/sign-in").text
    answer = came_back(client, provider, "u-001", "/people")
    assert answer.status_code == 303 and answer.headers["location"] == "/people"
    assert client.get("/people").status_code == 200 and "studio sign-in" in client.get("/people").text
    artist = Visitor(base_url=closed, follow_redirects=False)
    assert came_back(artist, provider, "u-002").status_code == 303
    found = person(engine, "Tor Weir")
    assert found.everywhere == 0 and {r.show_id: r.role for r in found.in_shows} == {1: Role.ARTIST, 2: Role.VIEWER}
    assert artist.get("/?show=1").status_code == 200 and artist.get("/people").status_code == 403
    # roles are the service's: none is given here, and no password set
    with Context(engine, LOCAL) as store, pytest.raises(BadInput, match="their groups there"):
        give_role(store, store.get_one(Person, found.id), Role.LEAD)
    with Context(engine, LOCAL) as store, pytest.raises(BadInput, match="no password"):
        link_for(store, store.get_one(Person, found.id))
    # removed of the groups there, they may do nothing here from the next sign-in on, in every browser of theirs
    provider.people["u-002"] = {"name": "Tor Weir-Ebb", "groups": []}
    again = Visitor(base_url=closed, follow_redirects=False)
    assert came_back(again, provider, "u-002").status_code == 303
    assert person(engine, "Tor Weir").in_shows == [] and artist.get("/?show=1").status_code == 403
    with Context(engine, LOCAL) as store:
        told = store.execute(select(HistoryEntry.action, HistoryEntry.said)).all()
    assert ("roles from the studio's service", "Tor Weir") in [tuple(t) for t in told]
    # who is in no group is signed in, and sees no show
    nobody = Visitor(base_url=closed, follow_redirects=False)
    assert came_back(nobody, provider, "u-003").status_code == 303 and nobody.get("/?show=1").status_code == 403


@pytest.mark.parametrize(
    ("claims", "said"),
    [
        ({"iss": "https://elsewhere.example"}, "is not valid"), ({"aud": "another"}, "is not valid"), ({"nonce": "replayed"}, "is not valid"),
        ({"nonce": None}, "is not valid"), ({"exp": 1_600_000_000}, "is not valid"), ({"exp": None}, "is not valid"), ({"sub": None}, "is not valid"),
        ({"aud": ["anaxis", "another"]}, "for another program"), ({"iat": 4_000_000_000}, "is not valid"),
    ],
)  # fmt: skip
def test_an_identity_that_does_not_hold_is_refused(
    closed: str, engine: Engine, provider: Provider, claims: dict[str, Any], said: str
) -> None:
    provider.claims = claims
    client = Visitor(base_url=closed, follow_redirects=False)
    answer = came_back(client, provider, "u-001")
    assert answer.status_code == 403 and said in answer.text
    with Context(engine, LOCAL) as store:
        assert (
            not store.execute(select(SignIn)).all()
            and not store.execute(select(Person).where(Person.subject.is_not(None))).all()
        )


def test_an_answer_that_was_not_asked_for_is_refused(closed: str, provider: Provider) -> None:
    """Another browser's answer, a changed state, an answer used twice, a refusal, no answer at all."""
    one, other = (Visitor(base_url=closed, follow_redirects=False) for _ in range(2))
    sent = one.get("/sign-in/studio").headers["location"]
    asked = parse_qs(urlsplit(sent).query)
    assert (
        asked["code_challenge_method"] == ["S256"]
        and asked["response_type"] == ["code"]
        and len(asked["state"][0]) > 30
    )
    back = httpx.get(f"{sent}&as=u-001").headers["location"]
    assert other.get(back).status_code == 403, "signing somebody in as oneself"
    assert one.get(back.replace("state=", "state=x")).status_code == 403
    one.get("/sign-in/studio")
    assert one.get(back).status_code == 403, "a code of an earlier try"
    sent = one.get("/sign-in/studio").headers["location"]
    back = httpx.get(f"{sent}&as=u-001").headers["location"]
    assert one.get(back).status_code == 303 and one.get(back).status_code == 403, "once"
    one.get("/sign-in/studio")
    refused = one.get("/sign-in/studio/back?error=access_denied<b>")
    assert refused.status_code == 403 and "access_denied" in refused.text and "<b>" not in refused.text
    assert other.get("/sign-in/studio/back").status_code == 403
    assert came_back(other, provider, "u-001", "//elsewhere.example").headers["location"] == "/"


def test_keys_change_and_others_are_not_taken(closed: str, provider: Provider, monkeypatch: pytest.MonkeyPatch) -> None:
    client = Visitor(base_url=closed, follow_redirects=False)
    assert came_back(client, provider, "u-001").status_code == 303
    asked = provider.asked_for_keys
    monkeypatch.setattr(studio_sign_in, "_KEYS_AGAIN_S", 0.0)
    provider.rotate()
    assert came_back(client, provider, "u-001").status_code == 303 and provider.asked_for_keys == asked + 1, (
        "a new key is asked for"
    )
    provider.rotate(say=False)
    answer = came_back(client, provider, "u-001")
    assert answer.status_code == 403 and "has no valid signature: sign in" in answer.text
    monkeypatch.setattr(studio_sign_in, "_KEYS_AGAIN_S", 60.0)
    asked = provider.asked_for_keys
    came_back(client, provider, "u-001")
    assert provider.asked_for_keys == asked, "nor can anybody make this server ask the service again and again"


def test_a_service_that_is_away_is_said(closed: str, provider: Provider, monkeypatch: pytest.MonkeyPatch) -> None:
    client = Visitor(base_url=closed, follow_redirects=False)
    sent = client.get("/sign-in/studio").headers["location"]
    back = httpx.get(f"{sent}&as=u-001").headers["location"]
    studio_sign_in._known._metadata[provider.issuer][1]["token_endpoint"] = f"http://127.0.0.1:{free_port()}/token"
    gone = client.get(back)
    assert gone.status_code == 503 and "does not answer" in gone.text
    studio_sign_in._known.forget()
    monkeypatch.setenv("ANAXIS_OIDC_ISSUER", f"http://127.0.0.1:{free_port()}")
    away = client.get("/sign-in/studio")
    assert away.status_code == 503 and "does not answer" in away.text and 'name="password"' in away.text
    studio_sign_in._known.forget()
    monkeypatch.setenv("ANAXIS_OIDC_ISSUER", provider.issuer.replace("127.0.0.1", "localhost"))
    assert "identifies itself as" in client.get("/sign-in/studio").text


def test_signing_out_and_the_end_of_the_time(closed: str, engine: Engine, provider: Provider) -> None:
    client = Visitor(base_url=closed, follow_redirects=False)
    came_back(client, provider, "u-001")
    out = client.post("/sign-out")
    address = urlsplit(out.headers["location"])
    assert f"{address.scheme}://{address.netloc}" == provider.issuer and address.path == "/end"
    assert parse_qs(address.query)["post_logout_redirect_uri"] == [f"{closed}/sign-in"]
    assert client.get("/").status_code == 303, "and here"
    came_back(client, provider, "u-001")
    assert client.get("/").status_code == 200
    with engine.begin() as connection:
        connection.execute(text("UPDATE sign_ins SET ends_at = now() - interval '1 s'"))
    assert client.get("/").headers["location"].startswith("/sign-in")


def test_a_name_that_is_somebodys_is_not_taken_over(closed: str, engine: Engine, provider: Provider) -> None:
    with Context(engine, LOCAL) as store, store.begin():
        add_person(store, "Ines Sluice", Role.ADMINISTRATOR)
    answer = came_back(Visitor(base_url=closed, follow_redirects=False), provider, "u-001")
    assert answer.status_code == 403 and "looks similar" in answer.text


@pytest.mark.parametrize(
    ("name", "value"),
    [
        ("GROUPS", "td=king"),
        ("GROUPS", "td=administrator@The mill"),
        ("GROUPS", "=lead"),
        ("HOURS", "soon"),
        ("HOURS", "-1"),
        ("CLIENT_ID", ""),
    ],
)
def test_settings_that_make_no_sense_are_said(
    provider: Provider, monkeypatch: pytest.MonkeyPatch, name: str, value: str
) -> None:
    assert service() is not None
    monkeypatch.setenv(f"ANAXIS_OIDC_{name}", value)
    with pytest.raises(BadInput, match="ANAXIS_OIDC"):
        service()


# The second factor


def code_of(secret: str, at: float) -> str:
    """RFC 6238 by hand: HMAC-SHA1 over the count of half minutes, truncated."""
    count = struct.pack(">Q", int(at) // 30)
    mac = hmac.new(base64.b32decode(secret), count, hashlib.sha1).digest()
    at_byte = mac[-1] & 15
    return f"{(struct.unpack('>I', mac[at_byte : at_byte + 4])[0] & 0x7FFFFFFF) % 1_000_000:06d}"


def test_the_oracle_is_right() -> None:
    """The RFC's own vectors, of eight digits there."""
    secret = base64.b32encode(b"12345678901234567890").decode()
    assert [code_of(secret, t) for t in (59, 1111111109, 2000000000)] == ["287082", "081804", "279037"]


def secret_in(page: str) -> str:
    found = re.search(r'id="code-secret">([A-Z2-7]+)<', page)
    assert found, page
    return found[1]


def pending_in(page: str) -> str:
    found = re.search(r'name="pending" value="([^"]+)"', page)
    assert found, page
    return found[1]


def test_a_second_factor_is_set_up_asked_for_and_taken_away(
    closed: str, engine: Engine, people: dict[str, int]
) -> None:
    client = entered(closed, "artist")
    page = client.post("/account/second-factor").text
    secret = secret_in(page)
    assert "<svg" in page
    wrong = client.post("/account/second-factor/confirm", data={"pending": pending_in(page), "code": "000000"})
    assert wrong.status_code == 422 and secret_in(wrong.text) == secret, "typed once more, for the same"
    now = time.time()
    assert (
        client.post(
            "/account/second-factor/confirm", data={"pending": pending_in(page), "code": code_of(secret, now)}
        ).status_code
        == 303
    )
    fresh = Visitor(base_url=closed, follow_redirects=False)
    asked = fresh.post("/sign-in", data={"name": "artist", "password": PASSWORD, "next": "/history"})
    assert asked.status_code == 200 and "Sign-in code" in asked.text and fresh.get("/").status_code == 303, (
        "not signed in yet"
    )
    assert secret not in asked.text
    pending = pending_in(asked.text)
    for code, said in (
        (code_of(secret, now), "already used"),
        (code_of(secret, now - 120), "wrong"),
        ("12a456", "wrong"),
    ):
        answer = fresh.post("/sign-in/code", data={"pending": pending, "code": code})
        assert answer.status_code == 403 and said in answer.text, code
    right = fresh.post(
        "/sign-in/code",
        data={
            "pending": pending,
            "code": f" {code_of(secret, now + 30)[:3]} {code_of(secret, now + 30)[3:]}",
            "next": "/history",
        },
    )
    assert (
        right.status_code == 303
        and right.headers["location"] == "/history"
        and fresh.get("/history").status_code == 200
    )
    # a password alone is not enough, nor something made up or of another purpose
    for made_up in ("made-up", pending_in(client.post("/account/second-factor").text)):
        assert fresh.post("/sign-in/code", data={"pending": made_up, "code": "123456"}).status_code == 303, (
            "to the sign-in"
        )
    # guesses are counted
    codes = [fresh.post("/sign-in/code", data={"pending": pending, "code": "000000"}).status_code for _ in range(6)]
    assert codes[-1] == 429
    boss = entered(closed, "administrator")
    assert client.post(f"/people/{people['artist']}/second-factor").status_code == 403
    assert boss.post(f"/people/{people['artist']}/second-factor").status_code == 303
    assert entered(closed, "artist").get("/").status_code == 200
    assert secret not in boss.get("/history").text and secret not in boss.get("/history.csv").text


def test_where_it_is_required_it_is_set_up_before_anything_else(
    closed: str, people: dict[str, int], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("ANAXIS_SECOND_FACTOR", "required")
    client = Visitor(base_url=closed, follow_redirects=False)
    page = client.post("/sign-in", data={"name": "artist", "password": PASSWORD}).text
    secret = secret_in(page)
    assert client.get("/").status_code == 303
    now = time.time()
    answer = client.post("/sign-in/code", data={"pending": pending_in(page), "code": code_of(secret, now)})
    assert answer.status_code == 303 and client.get("/").status_code == 200
    again = Visitor(base_url=closed, follow_redirects=False)
    asked = again.post("/sign-in", data={"name": "artist", "password": PASSWORD}).text
    assert 'id="code-secret"' not in asked, "set up once"
    assert client.post("/account/second-factor/remove", data={"code": code_of(secret, now + 30)}).status_code == 422
    # the first page, brought back later, sets nothing up anew
    assert (
        again.post("/sign-in/code", data={"pending": pending_in(page), "code": code_of(secret, now)}).status_code == 403
    )
    monkeypatch.setenv("ANAXIS_SECOND_FACTOR", "sometimes")
    assert "ANAXIS_SECOND_FACTOR" in again.post("/sign-in", data={"name": "viewer", "password": PASSWORD}).text
