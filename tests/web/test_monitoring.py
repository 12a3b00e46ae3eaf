"""What is there to watch a server by: metrics that an outside reader understands, readiness, logs with a request's id."""

from __future__ import annotations

import io
import json
import logging
import re
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
from prometheus_client.parser import text_string_to_metric_families
from sqlalchemy import Engine, select, text

from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import deliver_version
from anaxis.app.roles import LOCAL
from anaxis.core.errors import BadInput
from anaxis.monitoring.logs import begin_logs
from anaxis.packages import find_profile
from anaxis.store.models import Job
from jobs import ended
from pages import Server, Visitor, take_in
from test_store import keep


def metrics(site: str, **headers: str) -> dict[tuple[str, frozenset[tuple[str, str]]], float]:
    answer = httpx.get(f"{site}/metrics", headers=headers, timeout=60)
    assert answer.status_code == 200
    families = text_string_to_metric_families(answer.text)
    return {(s.name, frozenset(s.labels.items())): s.value for f in families for s in f.samples}


def one(found: dict[tuple[str, frozenset[tuple[str, str]]], float], name: str, **labels: str) -> float:
    return found.get((name, frozenset(labels.items())), 0.0)


def test_metrics_say_what_happens(site: str, engine: Engine, demo_files: dict[str, Path]) -> None:
    before = metrics(site)
    take_in(site, demo_files["TW_010"])
    with Visitor(base_url=site) as client:
        assert client.get("/cameras/1").status_code == client.get("/cameras/1?station=lens").status_code == 200
        assert client.get("/cameras/999").status_code == 404
        client.get("/no/such/page")
    with Context(engine, LOCAL) as store, store.begin():
        store.add(Job(kind="keys", version_id=1, state="failed"))
    after = metrics(site)

    def grew(name: str, **labels: str) -> float:
        return one(after, name, **labels) - one(before, name, **labels)

    camera = {"method": "GET", "route": "/cameras/{camera_id}"}
    assert grew("anaxis_request_seconds_count", **camera, status="200") == 2
    assert grew("anaxis_request_seconds_count", **camera, status="404") == 1
    assert grew("anaxis_request_seconds_count", method="GET", route="none", status="404") == 1
    assert grew("anaxis_reader_seconds_count", kind="file") == 1
    assert one(after, "anaxis_jobs_total", kind="keys", result="failed") == 1
    assert one(after, "anaxis_database_up") == 1 and one(after, "anaxis_memory_bytes", of="pages") > 1e7
    assert one(after, "anaxis_database_connections", state="used") >= 0
    routes = {dict(labels).get("route", "") for name, labels in after if name == "anaxis_request_seconds_count"}
    assert not [r for r in routes if re.search(r"/\d", r)], "as many as there are routes, and no number of a row"


def test_who_may_read_metrics(server: Server, site: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("anaxis.web.monitoring.LOOPBACK", ())
    monkeypatch.setenv("ANAXIS_METRICS_TOKEN", "tide")
    for headers in ({}, {"Authorization": "Bearer ebb"}, {"Authorization": "Basic tide"}):
        assert httpx.get(f"{site}/metrics", headers=headers, timeout=60).status_code == 403
    assert metrics(site, Authorization="Bearer tide")
    monkeypatch.setenv("ANAXIS_METRICS_TOKEN", "")
    assert httpx.get(f"{site}/metrics", headers={"Authorization": "Bearer x"}, timeout=60).status_code == 403


def test_ready_says_why_not(site: str, engine: Engine) -> None:
    assert httpx.get(f"{site}/ready").text == "ready" and httpx.get(f"{site}/alive").text == "alive"
    with engine.begin() as connection:
        connection.execute(text("UPDATE alembic_version SET version_num = '0017'"))
    answer = httpx.get(f"{site}/ready")
    assert answer.status_code == 503 and "another version" in answer.text


def test_a_place_of_stored_bytes_that_is_away_is_said_by_ready_and_by_pages(
    site: str, engine: Engine, demo_files: dict[str, Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    contents = tmp_path / "contents"
    monkeypatch.setenv("ANAXIS_CONTENTS", str(contents))
    with Context(engine, LOCAL) as store, store.begin():
        version = keep(store, demo_files["TW_010"], "TW_010")
        file = deliver_version(store, version, find_profile("zup-lh-cm"), "usd").files[0]
        address, size = f"/deliveries/{file.delivery_id}/files/{file.name}", file.size
    with Visitor(base_url=site) as client:
        assert client.get("/ready").text == "ready" and len(client.get(address).content) == size
        contents.rename(tmp_path / "share")
        for answer in (client.get("/ready"), client.get(address)):
            assert answer.status_code == 503 and "mount the folder on this machine" in answer.text
        (tmp_path / "share").rename(contents)
        assert client.get("/ready").text == "ready" and client.get(address).status_code == 200


@pytest.fixture
def lines(monkeypatch: pytest.MonkeyPatch) -> Iterator[io.StringIO]:
    """What is logged, as a server writes it."""
    out = io.StringIO()
    root, anaxis = logging.getLogger(), logging.getLogger("anaxis")
    held, level, own = root.handlers[:], root.level, anaxis.level
    monkeypatch.setattr("sys.stderr", out)
    monkeypatch.setenv("ANAXIS_LOGS", "json")
    begin_logs()
    yield out
    root.handlers[:] = held
    root.setLevel(level)
    anaxis.setLevel(own)


def test_a_requests_id_goes_along_into_its_job(
    site: str, engine: Engine, demo_files: dict[str, Path], lines: io.StringIO
) -> None:
    take_in(site, demo_files["TW_010"])
    with Visitor(base_url=site) as client:
        asked = {"version": "1", "to": "zup-lh-cm", "format_key": "usd", "reduce_px": "1"}
        answer = client.post("/cameras/1/keys", data=asked, headers={"X-Request-Id": "tide-0815-4711"})
        assert answer.headers["x-request-id"] == "tide-0815-4711"
        forged = client.get("/packages?q=secret", headers={"X-Request-Id": "a\tb" * 3})
        assert re.fullmatch(r"[0-9a-f]{32}", forged.headers["x-request-id"])
    with Context(engine, LOCAL) as store:
        job = store.execute(select(Job)).scalar_one()
    assert job.request_id == "tide-0815-4711"
    assert ended(engine, job.id).state == "done"
    told = [json.loads(line) for line in lines.getvalue().splitlines()]
    mine = [t for t in told if t.get("request") == "tide-0815-4711"]
    assert {"anaxis.requests"} <= {t["logger"] for t in mine}, told[-20:]
    (of_request,) = (t for t in mine if t["logger"] == "anaxis.requests")
    assert (
        of_request["route"] == "/cameras/{camera_id}/keys"
        and of_request["status"] in (200, 303)
        and of_request["ms"] > 0
        and of_request["at"]
    )
    assert [t for t in mine if t.get("job") == job.id], "what the worker logs of its job"
    assert "secret" not in lines.getvalue(), "what somebody looked for is in no log"


def test_another_form_of_logs_is_refused(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("ANAXIS_LOGS", "xml")
    with pytest.raises(BadInput, match="must be json or text"):
        begin_logs()
