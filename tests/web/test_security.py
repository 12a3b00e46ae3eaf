"""What a request must show and an answer carries: against other sites, other hosts, planted words, slow and many bodies."""

from __future__ import annotations

import asyncio
import inspect
import re
import socket
import threading
import time
from collections.abc import Coroutine, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from email.message import Message
from pathlib import Path
from typing import Any, TypeVar

import httpx
import pytest
import uvicorn
from fastapi import FastAPI
from fastapi.routing import APIRoute
from sqlalchemy import Engine
from starlette.types import Message as AsgiMessage
from starlette.types import Scope

from anaxis.store.local_postgres import free_port
from anaxis.web.app import ROUTERS, create_app
from anaxis.web.bodies import Bodies, BodyLimits
from anaxis.web.heads import TimedHeads
from anaxis.web.pages import attachment
from anaxis.web.security import hosts_allowed
from pages import Server, Visitor, take_in

T = TypeVar("T")
TEMPLATES = Path(__file__).resolve().parents[2] / "src" / "anaxis"


@pytest.mark.parametrize(
    ("headers", "status"),
    [
        ({}, 303),
        ({"Origin": "http://elsewhere.example"}, 403),
        ({"Origin": "null"}, 403),
        ({"Origin": "http://127.0.0.1:1"}, 403),  # another server on this machine
        ({"Origin": "", "Referer": "http://elsewhere.example/HOST"}, 403),
        ({"Origin": ""}, 403),  # neither: not taken on trust
        ({"Sec-Fetch-Site": "cross-site"}, 403),
        ({"Sec-Fetch-Site": "same-site"}, 403),
        ({"Host": "elsewhere.example"}, 421),
        ({"Host": "127.0.0.1.elsewhere.example"}, 421),
    ],
)
def test_another_sites_page_changes_nothing(headers: dict[str, str], status: int, site: str) -> None:
    with Visitor(base_url=site, timeout=60) as client:
        answer = client.post("/packages/zup-lh-cm/copy", data={"new_key": "taken"}, headers=headers)
        assert answer.status_code == status
        assert (client.get("/packages/taken").status_code == 200) == (status == 303)


def test_a_page_that_says_by_its_referer_that_it_is_ours_is_believed(site: str) -> None:
    answer = httpx.post(
        f"{site}/packages/zup-lh-cm/copy", data={"new_key": "x"}, headers={"Referer": f"{site}/packages"}, timeout=60
    )
    assert answer.status_code == 303
    assert httpx.post(f"{site}/packages/zup-lh-cm/copy", data={"new_key": "y"}, timeout=60).status_code == 403


def test_a_foreign_name_that_leads_here_reads_nothing(site: str, monkeypatch: pytest.MonkeyPatch) -> None:
    answer = httpx.get(site, headers={"Host": "elsewhere.example"}, timeout=60)
    assert answer.status_code == 421 and "elsewhere.example" in answer.text and "ANAXIS_HOSTS" in answer.text
    monkeypatch.setenv("ANAXIS_HOSTS", "mill.example, [2001:db8::1]")
    assert {"mill.example", "2001:db8::1", "10.0.0.7", "localhost"} <= hosts_allowed("10.0.0.7")
    assert "0.0.0.0" not in hosts_allowed("0.0.0.0")


def test_every_answer_says_what_a_browser_may_do_with_it(site: str) -> None:
    for path in ("/", "/packages", "/nowhere", "/static/anaxis.css"):
        held = httpx.get(site + path, timeout=60).headers
        policy = held["content-security-policy"]
        assert "frame-ancestors 'none'" in policy and "script-src 'self';" in policy and "default-src 'none'" in policy
        assert held["x-content-type-options"] == "nosniff" and held["referrer-policy"] == "same-origin"
        assert held["x-frame-options"] == "DENY"
        assert (held.get("cache-control") == "no-store") == (not path.startswith("/static"))


def test_no_page_holds_a_script_of_its_own() -> None:
    pages = [p for p in TEMPLATES.rglob("*.html") if "web" in p.parts]
    assert len(pages) > 30
    for path in pages:
        text = path.read_text()
        scripts = [s for s in re.findall(r"<script\b[^>]*>", text) if "src=" not in s and "application/json" not in s]
        assert not scripts and not re.search(r"\son[a-z]+\s*=\s*[\"']|hx-on|js:|javascript:", text), path


def test_words_planted_in_a_cookie_are_not_shown(site: str) -> None:
    for planted in ("Call%20this%20number", "IkNhbGwgdGhpcyBudW1iZXIi.aaaa.bbbb"):
        assert "number" not in httpx.get(site, headers={"Cookie": f"said={planted}"}, timeout=60).text


def test_no_handler_works_on_the_loop() -> None:
    """A handler that is a coroutine would hold up everybody while it waits for the database."""
    routes = [r for router in ROUTERS for r in router.routes if isinstance(r, APIRoute)]
    assert len(routes) > 60 and not [r.path for r in routes if inspect.iscoroutinefunction(r.endpoint)]


def test_after_a_failure_the_connection_serves_the_next_request(
    site: str, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    def broken(*_: object) -> None:
        raise RuntimeError("the mill has stopped")

    monkeypatch.setattr("anaxis.web.screens.packages.routes.all_packages", broken)
    with httpx.Client(base_url=site, timeout=60) as client:
        answer = client.get("/packages")
        assert (
            answer.status_code == 500
            and "An error in Anaxis stopped this step. Nothing was saved. See the log" in answer.text
        )
        assert "mill" not in answer.text and "Traceback" not in answer.text
        with socket.socket() as line:  # by hand: one connection, two requests
            host, port = site.removeprefix("http://").split(":")
            line.connect((host, int(port)))
            for path, status in (("/packages", b"500"), ("/alive", b"200")):
                line.sendall(f"GET {path} HTTP/1.1\r\nHost: {host}:{port}\r\n\r\n".encode())
                line.settimeout(20)
                said = b""
                while b"\r\n\r\n" not in said or (status == b"500" and b"</html>" not in said):
                    got = line.recv(65536)
                    assert got, f"the connection was closed before {path} was answered"
                    said += got
                assert said.startswith(b"HTTP/1.1 " + status)
    assert "the mill has stopped" in caplog.text


# Bodies


def _app(limits: BodyLimits) -> Bodies:
    app = FastAPI()

    @app.post("/")
    async def take(data: bytes = b"") -> str:
        return "taken"

    async def whole(scope: Scope, receive: object, send: object) -> None:
        more = True
        while more:
            message = await receive()  # type: ignore[operator]
            more = message.get("more_body", False)
        await app(scope, _nothing, send)  # type: ignore[arg-type]

    return Bodies(whole, limits)


def _run(work: Coroutine[Any, Any, T]) -> T:
    """In a thread of its own: a browser's loop may run in this one."""
    with ThreadPoolExecutor(1) as pool:
        return pool.submit(asyncio.run, work).result()


async def _nothing() -> AsgiMessage:
    return {"type": "http.request", "body": b"", "more_body": False}


def _scope(client: str = "10.0.0.1", sender: str = "") -> Scope:
    headers = [(b"content-type", b"multipart/form-data; boundary=x")]
    scope = {
        "type": "http",
        "method": "POST",
        "path": "/",
        "headers": headers,
        "query_string": b"",
        "client": (client, 1),
    }
    return scope | ({"anaxis.sender": sender} if sender else {})


async def _answer(
    app: Bodies, parts: Iterator[tuple[float, bytes]], client: str = "10.0.0.1", sender: str = ""
) -> tuple[int, str]:
    said: list[AsgiMessage] = []

    async def receive() -> AsgiMessage:
        wait, data = next(parts)
        await asyncio.sleep(wait)
        return {"type": "http.request", "body": data, "more_body": data != b""}

    async def send(message: AsgiMessage) -> None:
        said.append(message)

    await app(_scope(client, sender), receive, send)
    return said[0]["status"], said[1]["body"].decode()


@pytest.mark.parametrize(
    ("parts", "status"),
    [
        ([(0, b"x" * 900), (0, b"")], 200),
        ([(0, b"x" * 900), (0, b"x" * 900), (0, b"")], 413),
        ([(0, b"x"), (5, b"x"), (0, b"")], 408),  # a pause
        ([*((0.04, b"x") for _ in range(30)), (0, b"")], 408),  # never a pause, and never an end
    ],
)
def test_a_body_too_long_or_too_slow_ends_in_a_sentence(parts: list[tuple[float, bytes]], status: int) -> None:
    limits = BodyLimits(1000, grace_s=0.3, pause_s=1.0, least_bytes_s=1000)
    found, said = _run(_answer(_app(limits), iter(parts)))
    assert found == status and (status == 200 or said.endswith(".") or "limit" in said)


def test_one_clients_many_bodies_leave_room_for_others() -> None:
    app = _app(BodyLimits(1000, open_each=3, open_all=5, pause_s=2.0))

    async def all_at_once() -> list[int]:
        slow = [(0.5, b"x"), (0.5, b"")]
        asked = [_answer(app, iter(slow), "10.0.0.1") for _ in range(6)]
        asked += [_answer(app, iter(slow), "10.0.0.2") for _ in range(2)]
        first = [s for s, _ in await asyncio.gather(*asked)]
        return [*first, (await _answer(app, iter(slow), "10.0.0.1"))[0]]

    assert sorted(_run(all_at_once())) == [200] * 6 + [503] * 3


def test_slow_bodies_of_nobody_leave_room_for_everybody_who_is_signed_in() -> None:
    app = _app(BodyLimits(1000, open_each=3, open_all=3, pause_s=2.0))

    async def all_at_once() -> tuple[list[int], list[int]]:
        slow = [(0.5, b"x"), (0.5, b"")]
        nobody = [_answer(app, iter(slow), f"10.0.0.{n}", f"signs in from 10.0.0.{n}") for n in range(6)]
        person = [_answer(app, iter(slow), "10.0.0.9", "person 4") for _ in range(3)]
        found = [s for s, _ in await asyncio.gather(*nobody, *person)]
        return found[:6], found[6:]

    nobody, person = _run(all_at_once())
    assert sorted(nobody) == [200] * 3 + [503] * 3 and person == [200] * 3


def _asked(site: str, head: str) -> tuple[int, float]:
    """The status of the answer to a request whose head alone is sent, and the seconds until it is there."""
    host, port = site.removeprefix("http://").split(":")
    begun = time.monotonic()
    with socket.create_connection((host, int(port)), timeout=20) as line:
        line.sendall(f"{head}\r\nHost: {host}:{port}\r\nOrigin: {site}\r\nContent-Length: 20000000\r\n\r\n".encode())
        return int(line.recv(64).split()[1]), time.monotonic() - begun


def test_nothing_is_read_of_what_nobody_sends(server: Server, engine: Engine, database_url: str) -> None:
    """Twenty megabytes are announced and none is sent: the answer does not wait for them."""
    json_head = "Content-Type: application/json"
    with server.on(database_url, visitor="") as site:
        for head, status in (
            (f"PUT /api/v1/cameras/1/recipe HTTP/1.1\r\n{json_head}", 401),
            (f"PUT /api/v1/cameras/1/recipe HTTP/1.1\r\n{json_head}\r\nAuthorization: Bearer made-up", 401),
            ("POST /take-in HTTP/1.1\r\nContent-Type: multipart/form-data; boundary=x", 303),
            ("POST /cameras/1/recipe HTTP/1.1\r\nContent-Type: application/x-www-form-urlencoded", 303),
        ):
            found, seconds = _asked(site, head)
            assert found == status and seconds < 10, (head, found)


def test_what_is_parsed_is_short_and_what_comes_as_a_file_may_be_long(site: str) -> None:
    with Visitor(base_url=site, timeout=60) as client:
        long_form = client.post("/packages/zup-lh-cm/copy", data={f"field{n}": "x" * 400_000 for n in range(6)})
        assert long_form.status_code == 413 and "larger than 2 MB" in long_form.text
        file = {"file": ("long.usda", b"#usda 1.0\n" + b"#" * 3_000_000)}
        assert client.post("/take-in", files=file).status_code == 422, "read, and refused for what is in it"


@pytest.mark.parametrize(
    "name",
    ["TW_010.usd", "東京.usd", "Säule.abc", 'a"; filename="evil.exe', "a\r\nSet-Cookie: x=1", "a b;c.zip", "‮gpj.exe"],
)
def test_a_name_in_a_header_is_one_name_in_any_script(name: str) -> None:
    """Read back by the standard library's own parser of headers."""
    header = attachment(name)["Content-Disposition"]
    assert header.isascii() and header.isprintable()
    message = Message()
    message["Content-Disposition"] = header
    assert message.get_content_disposition() == "attachment" and message.get_filename() == name
    assert len(message.get_params(header="content-disposition") or []) == 2


@pytest.mark.parametrize("number", ["²", "٣", "1e3", "-1", "9" * 30])
def test_what_is_no_number_is_no_failure(site: str, number: str) -> None:
    with Visitor(base_url=site, timeout=60) as client:
        for address in (f"/cameras/{number}", f"/shows/{number}/plan", f"/take-in/{number}", f"/jobs/{number}"):
            assert client.get(address).status_code in (404, 422), address


def test_the_pages_bodies_are_limited_so(engine: Engine, database_url: str) -> None:
    app = create_app(database_url, readers_ready=False)
    found = next(m for m in app.user_middleware if m.cls is Bodies).kwargs["limits"]
    assert 0 < found.pause_s <= 30 and found.grace_s <= 60 and found.open_each < found.open_all <= 100  # type: ignore[attr-defined]


def test_what_nothing_runs_at_is_a_sentence_everywhere(site: str, demo_files: dict[str, Path]) -> None:
    take_in(site, demo_files["TW_010"])
    retime = {"version": "1", "action": "add", "code": "rate", "param_keep": "time"}
    with Visitor(base_url=site, timeout=60) as client:
        for rate in ("1/1000000000000", "9" * 400, "1e308", "nan", "0.001", "1/" + "9" * 30):
            for answer in (
                client.get("/cameras/1/rulers", params={"version": "1", "param_rate": rate}),
                client.post("/shots/1/expected", data={"rate": rate}),
                client.post("/cameras/1/recipe", data=retime | {"param_rate": rate}),
            ):
                assert answer.status_code == 422 and "frame rate" in answer.text
        base = re.search(r'name="base" value="(\w+)"', client.get("/cameras/1?station=time").text)
        assert (
            base and client.post("/shots/1/expected", data={"first_frame": "1e308", "base": base[1]}).status_code == 422
        )
        assert client.get("/").status_code == 200


def test_heads_that_never_end_are_given_up_and_slow_answers_are_not(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("anaxis.web.heads.HEAD_S", 0.5)

    async def app(scope: Scope, receive: Any, send: Any) -> None:
        await asyncio.sleep(1.2)  # longer than a head may take
        await send({"type": "http.response.start", "status": 200, "headers": [(b"content-length", b"2")]})
        await send({"type": "http.response.body", "body": b"ok"})

    port = free_port()
    server = uvicorn.Server(uvicorn.Config(app, port=port, http=TimedHeads, lifespan="off", log_level="error"))
    running = threading.Thread(target=server.run, daemon=True)
    running.start()
    while not server.started:
        time.sleep(0.01)
    ask = b"GET / HTTP/1.1\r\nHost: x\r\n\r\n"
    for begins in (b"", b"GET / HTTP/1.1\r\nHost: x\r\nX-Half: ", ask + b"GET / HTTP/1.1\r\nX-Half: "):
        with socket.create_connection(("127.0.0.1", port), timeout=10) as line:
            line.sendall(begins)
            answer = b""
            with suppress(ConnectionError):
                while piece := line.recv(1000):
                    answer += piece
            assert (b"200 OK" in answer) is begins.startswith(ask), (
                "what was asked for whole is answered, and then the line is closed"
            )
    with socket.create_connection(("127.0.0.1", port), timeout=10) as line:
        for _ in range(2):
            line.sendall(ask)
            answer = b""
            while not answer.endswith(b"ok"):
                answer += line.recv(1000)
            assert b"200 OK" in answer
    server.should_exit = True
    running.join(10)
