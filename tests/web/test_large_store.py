"""A store of many shows: what is asked of one show is looked up by indexes, and costs what that show holds."""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, NamedTuple

import httpx
import psycopg
import pytest
from fastapi.routing import APIRoute
from make_studio import DELIVERIES, ENTRIES, TAKES, VERSIONS, Size, fill
from sqlalchemy import Engine, event, make_url

from anaxis.app.context import Context
from anaxis.app.people.people import person_named
from anaxis.app.people.tokens import new_token
from anaxis.app.roles import LOCAL, Role
from anaxis.store.database import connect
from databases import Databases
from lanes import LONG, sized
from pages import Server, Visitor

# At full size a tenth of a large studio: 20,000 shots.
SIZE = sized(Size(100, 200, 30, 20), Size(5, 20, 10, 4))
_VERSIONS = SIZE.shots_of_show * VERSIONS
# Rows of one show in each table that grows with the number of shows.
ROWS = {
    "shots": SIZE.shots_of_show, "cameras": SIZE.shots_of_show, "source_files": SIZE.shots_of_show * TAKES, "versions": _VERSIONS,
    "version_inputs": _VERSIONS, "deliveries": _VERSIONS * DELIVERIES, "delivery_files": _VERSIONS * DELIVERIES,
    "history": _VERSIONS * ENTRIES, "jobs": SIZE.shots_of_show * DELIVERIES, "notices": 100 * SIZE.people // SIZE.shows,
}  # fmt: skip
# A camera is looked up again for each of its deliveries; a whole table has a hundred times the rows of one show.
_TIMES = 20
# A row for each row of the list, of the plan or of a run would be asked for so often.
_MOST_ALIKE = 15
# Addresses that are not of one show.
_OF_THE_STUDIO = (
    "/search",
    "/history?days",
    "/history?package",
    "/history?who",
    "/history?action",
    "/history?after",
    "/api/v1/history",
    "/metrics",
)
# The CSV of the history reads every entry, and the page of workers counts what would be taken away, up to 100,000 rows.
_OF_EVERYTHING = ("/history.csv", "/workers")


class Studio(NamedTuple):
    """A store with many shows, the address values of a shot of one of them, and the name of somebody who works on some shows."""

    url: str
    values: dict[str, Any]
    guest: str


@pytest.fixture(scope="module")
def studio(databases: Databases) -> Iterator[Studio]:
    with databases.fresh() as url:
        fill(url, SIZE, tell=False)
        with _line(url) as line:
            names = (
                "show_id",
                "guest",
                "shot_id",
                "camera_id",
                "version_id",
                "delivery_id",
                "name",
                "job_id",
                "run_id",
            )
            row = line.execute(
                "SELECT s.show_id, p.name, s.id, c.id, v.id, d.id, f.name, j.id, j.run_id FROM roles_in_shows r JOIN people p "
                "ON p.id = r.person_id JOIN shots s ON s.show_id = r.show_id JOIN cameras c ON c.shot_id = s.id "
                "JOIN versions v ON v.id = c.head_id JOIN deliveries d ON d.version_id = v.id JOIN delivery_files f "
                "ON f.delivery_id = d.id JOIN jobs j ON j.version_id = v.id WHERE r.show_id > 1000 ORDER BY s.id, d.id LIMIT 1"
            ).fetchone()
        assert row is not None
        values = dict(zip(names, row, strict=True))
        guest = str(values.pop("guest"))
        yield Studio(url, values | {"key": "zup-lh-cm", "person_id": 1000, "sha256": "0" * 64, "stem": "x"}, guest)


@contextmanager
def _line(url: str) -> Iterator[psycopg.Connection]:
    address = make_url(url).set(drivername="postgresql").render_as_string(hide_password=False)
    with psycopg.connect(address, autocommit=True) as line:
        yield line


def addresses(server: Server, values: dict[str, Any]) -> list[str]:
    """Every address that is only looked at, for one shot of one show; and lists as people ask for them."""
    show = f"show={values['show_id']}"
    lists = ["", "&state=delivered", "&sort=worst", "&sort=frames", "&q=sh_00001", "&package=zup-lh-cm", "&who=Person+2", "&findings=1",
             "&outdated=1", "&days=7", "&at=10"]  # fmt: skip
    out = [f"/?{show}{more}" for more in lists]
    told = [show, f"{show}&before=2000", f"{show}&who=Person+2", f"shot={values['shot_id']}", f"camera={values['camera_id']}", "days=7",
            "package=zup-lh-cm", "who=Person+2", "action=deliver", "after=1500"]  # fmt: skip
    out += [f"/history?{query}" for query in told]
    out += [f"/search?q={words}" for words in ("sh_00001", "camera", "sh", "abcdef12", "shotcam")]
    for path, number in (("/jobs/", values["job_id"]), ("/runs/", values["run_id"]), ("", 2)):
        for route in _routes(server.app):
            names = re.findall(r"{(\w+)(?::\w+)?}", route)
            known = {**values, "number": number}
            if ("number" in names) == bool(path) and path in route and all(n in known for n in names):
                out.append(re.sub(r"{(\w+)(?::\w+)?}", lambda m, known=known: str(known[m[1]]), route))  # type: ignore[misc]
    return [a for a in dict.fromkeys(out) if a not in _OF_EVERYTHING]


def _routes(app: Any, before: str = "") -> Iterator[str]:
    for route in app.routes:
        if isinstance(route, APIRoute) and "GET" in (route.methods or ()):
            yield before + route.path
        elif hasattr(getattr(route, "app", None), "routes"):
            yield from _routes(route.app, before + route.path)


@contextmanager
def asked_of_the_store() -> Iterator[list[tuple[str, Any]]]:
    """The queries that are made meanwhile, with their parameters."""
    seen: list[tuple[str, Any]] = []

    def note(_line: Any, _cursor: Any, statement: str, parameters: Any, _context: Any, _many: bool) -> None:
        if statement.lstrip()[:4].upper() in ("SELE", "WITH"):
            seen.append((statement, parameters))

    event.listen(Engine, "before_cursor_execute", note)
    try:
        yield seen
    finally:
        event.remove(Engine, "before_cursor_execute", note)


def scans(line: psycopg.Connection, statement: str, parameters: Any) -> Iterator[tuple[str, str, float]]:
    """How PostgreSQL reads each table for a query: the way, the table, and how many rows it looks at."""
    row = line.execute(f"EXPLAIN (ANALYZE, TIMING off, FORMAT JSON) {statement}".encode(), parameters).fetchone()
    assert row is not None

    def walk(node: dict[str, Any]) -> Iterator[tuple[str, str, float]]:
        if "Relation Name" in node:
            rows = (
                node["Actual Rows"]
                + node.get("Rows Removed by Filter", 0)
                + node.get("Rows Removed by Index Recheck", 0)
            )
            yield (
                node["Node Type"],
                re.sub(r"^history_\w+$", "history", node["Relation Name"]),
                rows * node["Actual Loops"],
            )
        for below in node.get("Plans", ()):
            yield from walk(below)

    yield from walk(row[0][0]["Plan"])


@pytest.fixture(scope="module")
def token(studio: Studio) -> str:
    """Of somebody who may do everything, for the interface."""
    engine = connect(studio.url)
    with Context(engine, LOCAL) as store, store.begin():
        person = person_named(store, studio.guest)
        assert person is not None
        secret, _ = new_token(store, person, "the test", Role.LEAD, 3)
    engine.dispose()
    return secret


# The queries of a person of some shows are those of an administrator, with the shows in them.
@pytest.mark.parametrize(
    "guest", sized([True, False], [True]), ids=lambda guest: "of some shows" if guest else "administrator"
)
def test_every_address_looks_rows_up_and_none_for_each_row(
    server: Server, studio: Studio, token: str, guest: bool
) -> None:
    wrong, looked_at = [], 0
    with server.on(studio.url, studio.guest if guest else "demo") as site, _line(studio.url) as line, Visitor(base_url=site, timeout=60) as client:  # fmt: skip
        # In a small store reading a whole table is often the best plan. One that reads it all the same has no index for what is asked.
        line.execute(sized("SET random_page_cost = 1.1; SET jit = off", "SET enable_seqscan = off"))
        for address in addresses(server, studio.values):
            bearer = {"Authorization": f"Bearer {token}"} if address.startswith("/api/") else {}
            with asked_of_the_store() as queries:
                answer: httpx.Response = client.get(address, headers=bearer)
            assert answer.status_code < 500, (address, answer.text[:500])
            looked_at += answer.status_code == 200
            statement, times = Counter(s for s, _ in queries).most_common(1)[0] if queries else ("", 0)
            if times > _MOST_ALIKE:
                wrong.append(f"{address}: {times} times {statement[:200]}")
            for statement, parameters in dict(queries).items():
                for how, table, rows in scans(line, statement, parameters):
                    if not LONG and how == "Seq Scan" and table in ROWS:
                        wrong.append(f"{address}: all {table} are read for {statement[:200]}")
                    elif LONG and rows > _TIMES * ROWS.get(table, math.inf) and not address.startswith(_OF_THE_STUDIO):
                        wrong.append(f"{address}: {rows:.0f} {table} are looked at for {statement[:200]}")
    assert looked_at > 60 and not wrong, "\n".join(dict.fromkeys(wrong))
