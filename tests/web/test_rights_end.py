"""Rights end when they end: over connections that stay open, whoever took the right away, and however."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import httpx
import pytest
from sqlalchemy import Engine, select, text
from websockets.exceptions import ConnectionClosed
from websockets.sync.client import ClientConnection, connect
from websockets.typing import Origin

from anaxis.app.context import Context
from anaxis.app.people.people import add_person, disable, give_role, link_for
from anaxis.app.people.sign_in import accept, sign_out_everywhere
from anaxis.app.people.tokens import new_token, revoke
from anaxis.app.roles import LOCAL, Role
from anaxis.packages import shipped_profiles
from anaxis.store.exchange import Client, ExchangeChange, RemoteCamera
from anaxis.store.models import Job, Show
from anaxis.store.people import Person, Token
from linked import shown
from pages import PASSWORD, Server, entered
from test_store import keep

# What changes something is checked in its own transaction; what only watches ends within this time.
_WITHIN_S = 5.0
ROW = {"position": [[0, 0, 0]], "rotation": [[0, 0, 0]], "lens": [[35, 36, 24, 0, 0, 1]], "focus": [[None]], "stop": [[None]], "clips": [[None, None]]}  # fmt: skip


class Connected:
    """An artist's package with one camera, held here, and the sockets of Live pages that watch the camera."""

    def __init__(self, stack: ExitStack, site: str, engine: Engine) -> None:
        self.stack, self.site, self.engine, self.show = stack, site, engine, shown(engine)
        with Context(engine, LOCAL) as store, store.begin():
            person = add_person(store, "artist")
            give_role(store, person, Role.ARTIST, store.get_one(Show, self.show))
            accept(store, link_for(store, person), PASSWORD)
            self.person = person.id
        self.browser = entered(site, "artist")
        self.token_id, self.token = self.token_of(self.person)
        self.line = self.package(self.token)
        self.say(type="scene", cameras=[{"id": "c", "name": "cam", "first": 1, "last": 1}])
        assert self.heard(self.line) == {"type": "pull", "camera": "c"}
        self.number = 0
        assert self.change(replaces=True, answers_pull=True)
        with Context(engine, LOCAL) as store:
            self.camera = store.execute(select(RemoteCamera.id)).scalar_one()

    def token_of(self, person: int) -> tuple[int, str]:
        with Context(self.engine, LOCAL) as store, store.begin():
            secret, row = new_token(
                store, store.get_one(Person, person), "live", Role.ARTIST, 3, store.get_one(Show, self.show)
            )
            return row.id, secret

    def package(self, token: str, client: str = "12345678", last: int = 0) -> ClientConnection:
        line = self.stack.enter_context(connect(f"{self.site.replace('http', 'ws')}/exchange/v1", legacy=True))
        hello = {"type": "hello", "protocol": 1, "client": client, "name": "one", "token": token, "last": last,
                 "profile": shipped_profiles()["zup-rh-m"].model_dump(mode="json")}  # fmt: skip
        line.send(json.dumps(hello))
        assert self.heard(line)["type"] == "welcome"
        return line

    def watching(self) -> ClientConnection:
        cookie = "; ".join(f"{k}={v}" for k, v in self.browser.cookies.items())
        line = self.stack.enter_context(
            connect(
                f"{self.site.replace('http', 'ws')}/live/watch?show={self.show}&a={self.camera}",
                legacy=True, origin=Origin(self.site), additional_headers={"Cookie": cookie},
            )
        )  # fmt: skip
        return line

    def heard(self, line: ClientConnection) -> dict[str, Any]:
        found: dict[str, Any] = json.loads(line.recv(timeout=20))
        return found

    def say(self, line: ClientConnection | None = None, **message: Any) -> None:
        (line or self.line).send(json.dumps(message))

    def change(self, **more: Any) -> bool:
        """Whether the next change was taken; False where the connection ended by it."""
        values = {**ROW, "position": [[self.number, 0, 0]]}
        self.say(type="change", number=self.number + 1, camera="c", frames=[1], values=values, **more)
        try:
            while (said := self.heard(self.line))["type"] != "acknowledge":
                if said["type"] == "error":
                    assert said["code"] in ("not_signed_in", "not_allowed"), said
        except ConnectionClosed:
            return False
        self.number += 1
        return True

    def is_there(self) -> bool:
        """Whether the server takes the package for connected."""
        with Context(self.engine, LOCAL) as store:
            return store.execute(select(Client.connection)).scalar_one() is not None

    def kept(self) -> int:
        with Context(self.engine, LOCAL) as store:
            return len(store.execute(select(ExchangeChange.id)).all())


@pytest.fixture
def connected(server: Server, engine: Engine, database_url: str) -> Iterator[Connected]:
    with server.on(database_url, visitor="") as site, ExitStack() as stack:
        yield Connected(stack, site, engine)


def _by(work: Callable[[Context, Person], Any]) -> Callable[[Connected], None]:
    def done(connected: Connected) -> None:
        with Context(connected.engine, LOCAL) as store, store.begin():
            work(store, store.get_one(Person, connected.person))

    return done


ENDS: dict[str, tuple[Callable[[Connected], None], bool]] = {
    # what is done, and whether it ends a package's right too (a browser's it always ends)
    "the role in the show is taken": (_by(lambda s, p: give_role(s, p, Role.NOBODY, s.get_one(Show, p.in_shows[0].show_id))), True),
    "the person is disabled": (_by(disable), True),
    "signed out everywhere": (_by(sign_out_everywhere), False),
    "the row is taken by hand": (lambda c: _sql(c, "DELETE FROM roles_in_shows"), True),
}  # fmt: skip


def _sql(connected: Connected, statement: str) -> None:
    with connected.engine.begin() as connection:
        connection.execute(text(statement))


@pytest.mark.parametrize("how", ENDS)
def test_what_is_open_ends_with_the_right(connected: Connected, how: str) -> None:
    take, ends_packages = ENDS[how]
    watching = connected.watching()
    assert connected.change() and connected.heard(watching)["t"] in ("frames", "state", "reload")
    kept = connected.kept()
    take(connected)
    assert connected.change() is not ends_packages
    assert (connected.kept() == kept) is ends_packages
    since, told = time.monotonic(), []
    with pytest.raises(ConnectionClosed) as closed:
        while True:
            told.append(json.loads(watching.recv(timeout=_WITHIN_S)))
    assert time.monotonic() - since < _WITHIN_S
    assert closed.value.rcvd is not None and closed.value.rcvd.code == 1008 and len(closed.value.rcvd.reason) > 10


def test_a_role_that_becomes_less_and_a_token_that_is_revoked(connected: Connected) -> None:
    watching = connected.watching()
    _by(lambda s, p: give_role(s, p, Role.VIEWER, s.get_one(Show, connected.show)))(connected)
    assert not connected.change()
    assert connected.heard(watching)["t"] in ("frames", "state", "reload"), "a viewer may watch on"
    _by(lambda s, p: give_role(s, p, Role.ARTIST, s.get_one(Show, connected.show)))(connected)
    number, token = connected.token_of(connected.person)
    connected.line = connected.package(token, last=connected.number)
    assert connected.change()
    with Context(connected.engine, LOCAL) as store, store.begin():
        revoke(store, store.get_one(Token, number))
    # also a package that says nothing is ended
    since = time.monotonic()
    with pytest.raises(ConnectionClosed):
        while True:
            connected.line.recv(timeout=_WITHIN_S)
    assert time.monotonic() - since < _WITHIN_S


def test_a_token_ends_at_its_time(connected: Connected) -> None:
    """By itself, without anybody changing a right: the number of changes of rights stays what it is."""
    _sql(connected, "ALTER TABLE tokens DISABLE TRIGGER rights_changed")
    _sql(connected, "UPDATE tokens SET expires_at = now() - interval '1 s'")
    with pytest.raises(ConnectionClosed):
        while True:
            connected.line.recv(timeout=15)


def test_another_artist_does_not_take_a_package_over_while_it_is_connected(connected: Connected) -> None:
    with Context(connected.engine, LOCAL) as store, store.begin():
        other = add_person(store, "other")
        give_role(store, other, Role.ARTIST, store.get_one(Show, connected.show))
        number = other.id
    _, token = connected.token_of(number)
    with pytest.raises(AssertionError):
        connected.package(token, last=connected.number)
    assert connected.change()
    connected.line.close()
    deadline = time.monotonic() + 20
    while connected.is_there():
        assert time.monotonic() < deadline
    connected.line = connected.package(token, last=connected.number)  # it is away: the scene is worked on by another
    assert connected.change()


def test_one_persons_sockets_are_limited_and_keep_no_change_waiting(connected: Connected) -> None:
    watching = [connected.watching() for _ in range(16)]
    for line in watching[:2]:
        connected.heard(line)
    with pytest.raises(ConnectionClosed) as closed:
        connected.heard(connected.watching())
    assert closed.value.rcvd is not None and "maximum" in closed.value.rcvd.reason
    assert connected.change()
    watching[0].close()
    deadline = time.monotonic() + 20
    while True:  # its place is free again
        try:
            connected.heard(connected.watching())
            break
        except ConnectionClosed:
            assert time.monotonic() < deadline


def test_event_streams_are_limited_and_end_with_the_right(
    connected: Connected, server: Server, demo_files: dict[str, Path]
) -> None:
    server.app.state.worker.close()  # the job is to wait
    with Context(connected.engine, LOCAL) as store, store.begin():
        version = keep(store, demo_files["TW_010"], "TW_010")
        job = Job(kind="keys", version_id=version.id, state="waiting")
        store.add(job)
        store.flush()
        address = f"{connected.site}/api/v1/jobs/{job.id}/events"
    with ExitStack() as stack:
        client = stack.enter_context(
            httpx.Client(
                timeout=60,
                headers={"Authorization": f"Bearer {connected.token}"},
                limits=httpx.Limits(max_connections=40),
            )
        )
        streams = [stack.enter_context(client.stream("GET", address)) for _ in range(16)]
        first = streams[0].iter_lines()
        assert all(s.status_code == 200 for s in streams) and next(first).startswith("data: ")
        assert client.get(address).status_code == 429
        with Context(connected.engine, LOCAL) as store, store.begin():
            revoke(store, store.get_one(Token, connected.token_id))
        since = time.monotonic()
        for _ in first:
            assert time.monotonic() - since < 20
        assert client.get(address).status_code == 401


def test_who_leaves_without_a_word_leaves_no_trace(connected: Connected, caplog: pytest.LogCaptureFixture) -> None:
    with caplog.at_level("WARNING"):
        for number in range(30):
            line = connected.watching()
            if number % 3:
                connected.heard(line)
            assert connected.change()
            line.socket.close()
        connected.line.socket.close()
        deadline = time.monotonic() + 20
        while connected.is_there():
            assert time.monotonic() < deadline
    assert not [r for r in caplog.records if r.exc_info or "Traceback" in r.getMessage()]


def test_what_nobody_is_signed_in_for_is_not_read(connected: Connected) -> None:
    address = f"{connected.site.replace('http', 'ws')}/exchange/v1"
    with connect(address, legacy=True) as line:
        line.send(
            json.dumps({"type": "hello", "protocol": 1, "client": "1" * 8, "name": "n", "profile": {"x": "y" * 5000}})
        )
        assert connected.heard(line)["code"] == "too_large"


def test_a_long_message_that_makes_no_sense_costs_little(connected: Connected) -> None:
    """The test server's watch over its loop fails the test where the answer takes 50 ms of processor time on the loop."""
    wrong: list[tuple[dict[str, Any], str]] = [
        ({"frames": ["x"] * 150_000}, "frames"),
        ({"frames": [1], "values": {"position": [["x"] * 150_000]}}, "values"),
        ({"frames": [1], "values": {f"group{i}": [] for i in range(50_000)}}, "groups"),
        ({"frames": list(range(100_000)), "values": {"stop": [[1]]}}, "numbers for each"),
    ]
    for number, (message, said) in enumerate(wrong, 2):
        connected.say(type="change", number=number, camera="c", **message)
        problem, answer = connected.heard(connected.line), connected.heard(connected.line)
        assert said in problem["sentence"] and len(problem["sentence"]) < 500
        assert answer == {"type": "acknowledge", "number": number}
    connected.say(type="scene", cameras=[], lines=[["x"] * 6] * 5000)
    assert "lines" in connected.heard(connected.line)["sentence"]
    connected.line.send("x" * 1_000_001)
    assert connected.heard(connected.line)["code"] == "too_large"
