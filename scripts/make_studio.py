"""Fills an empty database with a made-up studio: ``python scripts/make_studio.py postgresql://... --share 0.1``.

At full size: 100 shows, 200,000 shots with a camera each, 1,000,000 versions, 3,000,000 deliveries with proofs, 10,000,000
history entries, 300 people, 200 packages. ``--share`` takes a part of the shots, people and packages, with as many shows
(``--shows``). The rows are copies of those of one real camera, which is taken in and delivered by the application itself, and
go in by COPY. Contents (files, scenes) are small and shared. The role in the database must be allowed to switch off its
checks of foreign keys meanwhile (``session_replication_role``), as an owner of a cluster is.
"""

from __future__ import annotations

import argparse
import json
import sys
import time
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from datetime import UTC, datetime, timedelta
from itertools import islice
from pathlib import Path
from tempfile import TemporaryDirectory

import psycopg
from sqlalchemy import Engine, make_url

from anaxis.app.cameras.edit import keep_camera
from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import deliver_version
from anaxis.app.people.people import add_person, give_role
from anaxis.app.roles import LOCAL, Role
from anaxis.app.shows.plan import set_target
from anaxis.core.scene.picture import picture_of
from anaxis.delivery.options import USUAL
from anaxis.formats import read_file
from anaxis.library.archive import scene_to_bytes
from anaxis.library.scene_report import look
from anaxis.packages import shipped_profiles
from anaxis.store.database import connect, migrate
from anaxis.store.keep import find_or_make_shot, find_or_make_show, keep_package, stage_file
from anaxis.store.models import Job, Run
from anaxis.store.notices import Notice
from anaxis.store.partitions import make_partitions

VERSIONS, DELIVERIES, ENTRIES = 5, 3, 10  # of a camera; of a version; of a version
TAKES = 2  # of the versions of a camera
AT_ONCE = 10  # shows in work at the same time: their rows lie between each other's
DAYS = 3 * 365
DERIVED = 100  # every so many-th camera is made from another one too
TARGETS = (("zup-lh-cm", "usd"), ("yup-rh-cm", "alembic"), ("zup-rh-m", "columns"))
FIRST = 1000  # the number of the first made-up row of each table

# The lens is written in plain millimetres in a file in metres: each camera has a finding, so that findings are searched too.
FILE = b"""#usda 1.0
(
    upAxis = "Y"
    metersPerUnit = 1
    timeCodesPerSecond = 24
    startTimeCode = 1001
    endTimeCode = 1003
)
def Camera "shotcam"
{
    float focalLength = 35
    float horizontalAperture = 36
    float verticalAperture = 20.25
    double3 xformOp:translate.timeSamples = { 1001: (0, 1.7, 12), 1002: (0.1, 1.7, 11.9), 1003: (0.2, 1.7, 11.8) }
    uniform token[] xformOpOrder = ["xformOp:translate"]
}
"""


@dataclass(frozen=True)
class Size:
    """How many of each there are."""

    shows: int
    shots_of_show: int
    people: int
    packages: int

    @property
    def cameras(self) -> int:
        return self.shows * self.shots_of_show

    def place(self, camera: int) -> tuple[int, int]:
        """The show and the shot of a camera, counted from 0: ``AT_ONCE`` shows are in work at a time, and take turns."""
        era, within = divmod(camera, AT_ONCE * self.shots_of_show)
        turns = min(AT_ONCE, self.shows - era * AT_ONCE)
        shot, show = divmod(within, turns)
        return era * AT_ONCE + show, shot


class Rows:
    """Lines of COPY for a table, made from the ``nth`` row that the application wrote; ``replaced`` columns get other values."""

    def __init__(self, line: psycopg.Connection, table: str, replaced: str, nth: int = 0) -> None:
        self.table = table
        columns = "SELECT column_name FROM information_schema.columns WHERE table_schema = 'public' AND table_name = %s ORDER BY ordinal_position"
        self.columns = [str(row[0]) for row in line.execute(columns, (table,))]
        query = f"SELECT {', '.join(self.columns)} FROM {table} ORDER BY 1 OFFSET {nth} LIMIT 1"
        with line.cursor().copy(f"COPY ({query}) TO STDOUT") as out:
            cells = b"".join(bytes(block) for block in out).rstrip(b"\n").split(b"\t")
        new = replaced.split()
        cells = [
            b"%b" if name in new else cell.replace(b"%", b"%%")
            for name, cell in zip(self.columns, cells, strict=True)
        ]  # fmt: skip
        self._line = b"\t".join(cells) + b"\n"
        self._order = [new.index(name) for name in self.columns if name in new]
        assert len(self._order) == len(new), f"{table} has not all of {replaced}"

    def line(self, *values: object) -> bytes:
        """A row with the values of the replaced columns, in the order in which those were named."""
        return self._line % tuple([str(values[at]).encode() for at in self._order])


def pilot(engine: Engine) -> None:
    """One row of everything, written by the application: a camera taken in, planned, delivered to three packages."""
    with TemporaryDirectory() as folder:
        path = Path(folder) / "SH_00000_camera_v001.usda"
        path.write_bytes(FILE)
        scene = read_file(path)
    held = scene_to_bytes(scene)
    (report, *_) = look(held, {})
    with Context(engine, LOCAL) as context, context.begin():
        show = find_or_make_show(context, "Pilot")
        shot = find_or_make_shot(context, show, "SH_00000")
        source = stage_file(context, path.name, FILE, held)
        version = keep_camera(context, shot, source, report, "shotcam", picture_of(scene, None, None))
        targets = [set_target(context, show, key, fmt) for key, fmt in TARGETS]
        made = [deliver_version(context, version, shipped_profiles()[key], fmt) for key, fmt in TARGETS]
        person = give_role(context, add_person(context, "Person 0"), Role.ARTIST, show)
        keep_package(
            context, shipped_profiles()["zup-rh-m"].model_copy(update={"key": "studio-0", "label": "Studio 0"}), "made"
        )
        run = Run(show_id=show.id, actor="local")
        context.add(run)
        context.flush()
        for delivery, target in zip(made, targets, strict=True):
            params = {
                "versions": [version.id], "profile": delivery.profile, "format": delivery.format, "options": asdict(USUAL), "together": "",
                "recipe": "",
            }  # fmt: skip
            context.add(
                Job(
                    kind="delivery", version_id=version.id, params=params, state="done", share=1.0, tries=1, run_id=run.id,
                    target_id=target.id, result={"delivery": delivery.id},
                )
            )  # fmt: skip
        context.add(
            Notice(person_id=person.id, show_id=show.id, kind="run", sentence="A run has ended.", link="/", key="0")
        )


def rows(line: psycopg.Connection, size: Size) -> Iterator[tuple[Rows, Iterator[bytes]]]:
    """What is copied into which table, in the order in which rows refer to each other."""
    cameras, versions = range(size.cameras), range(size.cameras * VERSIONS)
    deliveries = range(size.cameras * VERSIONS * DELIVERIES)
    of_camera = VERSIONS * DELIVERIES

    def at(share: float) -> str:
        """A moment of the studio's years; rows of later numbers are younger."""
        return time.strftime("%Y-%m-%d %H:%M:%S+00", time.gmtime(time.time() - DAYS * 86400 * (1 - share)))

    def number(index: int) -> int:
        return FIRST + index

    def person_of(show: int, nth: int) -> str:
        """Eight people work on a show."""
        return f"Person {(show * 7 + nth % 8) % size.people + 1}"

    shows = Rows(line, "shows", "id name")
    yield shows, (shows.line(number(s), f"Tidal mill {s:03}") for s in range(size.shows))
    shots = Rows(line, "shots", "id show_id name")
    places = ((c, *size.place(c)) for c in cameras)
    yield shots, (shots.line(number(c), number(show), f"SH_{shot:05}") for c, show, shot in places)
    files = Rows(line, "source_files", "id name created_at")
    names = ((f, size.place(f // TAKES)[1], f % TAKES + 1) for f in range(size.cameras * TAKES))
    every_file = size.cameras * TAKES
    yield (
        files,
        (files.line(number(f), f"SH_{shot:05}_camera_v{take:03}.usda", at(f / every_file)) for f, shot, take in names),
    )
    table = Rows(line, "cameras", "id shot_id head_id")
    yield table, (table.line(number(c), number(c), number(c * VERSIONS + VERSIONS - 1)) for c in cameras)
    made = Rows(line, "versions", "id camera_id number take edit parent_id created_at actor")

    def version(v: int) -> bytes:
        camera, nth = divmod(v, VERSIONS)
        take, edit = min(nth + 1, TAKES), max(0, nth + 1 - TAKES)
        parent = number(v - 1) if edit else "\\N"
        who = person_of(size.place(camera)[0], nth)
        return made.line(number(v), number(camera), nth + 1, take, edit, parent, at(v / len(versions)), who)

    yield made, (version(v) for v in versions)
    inputs = Rows(line, "version_inputs", "id version_id source_file_id")
    takes = ((v, v // VERSIONS * TAKES + min(v % VERSIONS, TAKES - 1)) for v in versions)
    yield inputs, (inputs.line(number(v), number(v), number(file)) for v, file in takes)
    derived = Rows(line, "version_inputs", "id version_id place role source_file_id camera_path input_id")
    yield (
        derived,
        (
            derived.line(
                number(len(versions) + n),
                number(c * VERSIONS + VERSIONS - 1),
                1,
                "other",
                "\\N",
                "\\N",
                number(c * VERSIONS - 1),
            )
            for n, c in enumerate(range(DERIVED, size.cameras, DERIVED))
        ),
    )
    delivered = [Rows(line, "deliveries", "id version_id created_at", nth) for nth in range(DELIVERIES)]
    yield (
        delivered[0],
        (
            delivered[d % DELIVERIES].line(number(d), number(d // DELIVERIES), at(d / len(deliveries)))
            for d in deliveries
        ),
    )
    handed = [Rows(line, "delivery_files", "id delivery_id", nth) for nth in range(DELIVERIES)]
    yield handed[0], (handed[d % DELIVERIES].line(number(d), number(d)) for d in deliveries)
    people = Rows(line, "people", "id name")
    yield people, (people.line(number(p), f"Person {p + 1}") for p in range(size.people))
    roles = Rows(line, "roles_in_shows", "person_id show_id")
    some = min(10, size.shows)
    yield (
        roles,
        (roles.line(number(p), number((p * some + n) % size.shows)) for p in range(size.people) for n in range(some)),
    )
    packages = Rows(line, "packages", "id key document")
    documents = line.execute("SELECT document::text FROM packages ORDER BY id LIMIT 1").fetchone()
    assert documents is not None
    document = str(documents[0]).replace("\\", "\\\\")

    def package(p: int) -> bytes:
        renamed = document.replace("studio-0", f"studio-{p + 1}").replace("Studio 0", f"Studio {p + 1}")
        return packages.line(number(p), f"studio-{p + 1}", renamed)

    yield packages, (package(p) for p in range(size.packages))
    planned = [Rows(line, "plan_targets", "id show_id", nth) for nth in range(len(TARGETS))]
    every_target = ((s, t) for s in range(size.shows) for t in range(len(TARGETS)))
    yield planned[0], (planned[t].line(number(s * len(TARGETS) + t), number(s)) for s, t in every_target)
    runs = Rows(line, "runs", "id show_id created_at")
    yield runs, (runs.line(number(r), number(r), at(r / size.shows)) for r in range(size.shows))
    jobs = [
        Rows(line, "jobs", "id version_id run_id target_id result begun_at ended_at created_at", nth)
        for nth in range(DELIVERIES)
    ]

    def job(j: int) -> bytes:
        camera, target = divmod(j, DELIVERIES)
        show, _ = size.place(camera)
        of, when = (camera + 1) * of_camera - DELIVERIES + target, at(j / (size.cameras * DELIVERIES))
        result = json.dumps({"delivery": number(of)})
        return jobs[target].line(
            number(j),
            number(of // DELIVERIES),
            number(show),
            number(show * len(TARGETS) + target),
            result,
            when,
            when,
            when,
        )

    yield jobs[0], (job(j) for j in range(size.cameras * DELIVERIES))
    notices = Rows(line, "notices", "id person_id show_id key created_at")
    yield (
        notices,
        (
            notices.line(
                number(n), number(n % size.people), number(n % size.shows), f"n{n}", at(n / (100 * size.people))
            )
            for n in range(100 * size.people)
        ),
    )
    told = Rows(line, "history", "id at actor action kind about_id said detail show_id")
    entries = len(versions) * ENTRIES
    packages_of = [key for key, _ in TARGETS]

    def entry(h: int) -> bytes:
        """Of the ten of a version: it was made, delivered three times, and its camera's page did six other things."""
        v, nth = divmod(h, ENTRIES)
        camera = v // VERSIONS
        show, shot = size.place(camera)
        who = person_of(show, v % VERSIONS + nth)
        of = f"SH_{shot:05} shotcam {v % VERSIONS + 1}"
        if nth == 0:
            about, said = ("edit", "versions", number(v)), "taken in from SH_camera.usda"
        elif nth <= DELIVERIES:
            about = ("deliver", "deliveries", number(v * DELIVERIES + nth - 1))
            said = f"{packages_of[nth - 1]}, usd: Matches"
        else:
            about, said = (("undo", "redo", "rename")[nth % 3], "cameras", number(camera)), "shotcam"
        return told.line(number(h), at(h / entries), who, *about, said, json.dumps({"of": of}), number(show))

    yield told, (entry(h) for h in range(entries))


def copied(line: psycopg.Connection, into: Rows, lines: Iterator[bytes]) -> int:
    """Copy rows into a table without its indexes, which are built afterwards. Returns how many there were."""
    kept = line.execute(
        "SELECT indexrelid::regclass::text, pg_get_indexdef(indexrelid) FROM pg_index "
        "WHERE indrelid = %s::regclass AND NOT EXISTS (SELECT FROM pg_constraint WHERE conindid = indexrelid)",
        (into.table,),
    ).fetchall()
    for name, _ in kept:
        line.execute(f"DROP INDEX {name}")
    count = 0
    with line.cursor().copy(f"COPY {into.table} ({', '.join(into.columns)}) FROM STDIN") as copy:
        while block := list(islice(lines, 5000)):
            copy.write(b"".join(block))
            count += len(block)
    for _, definition in kept:
        line.execute(definition.replace(" ON ONLY ", " ON "))  # of the history: on each month
    if "id" in into.columns:
        line.execute(f"SELECT setval(pg_get_serial_sequence('{into.table}', 'id'), (SELECT max(id) FROM {into.table}))")
    return count


def fill(url: str, size: Size, tell: bool = True) -> None:
    """Make the tables, one row of each by the application, and all others from those. Exits where there are shows already."""
    engine = connect(url)
    migrate(engine)
    address = make_url(url).set(drivername="postgresql").render_as_string(hide_password=False)
    with psycopg.connect(address, autocommit=True) as line:
        if line.execute("SELECT 1 FROM shows LIMIT 1").fetchone():
            sys.exit("The database has shows already: give the address of an empty one.")
        pilot(engine)
        with engine.begin() as connection:
            make_partitions(connection, datetime.now(UTC) - timedelta(days=DAYS))
        engine.dispose()
        line.execute(
            "SET session_replication_role = replica; SET maintenance_work_mem = '1GB'; SET synchronous_commit = off"
        )
        for into, lines in rows(line, size):
            began = time.perf_counter()
            count = copied(line, into, lines)
            if tell:
                print(f"{into.table}: {count:,} rows in {time.perf_counter() - began:.1f} s", flush=True)
        line.execute(
            "INSERT INTO history_words SELECT DISTINCT show_id, what, word FROM history, "
            "LATERAL (VALUES ('actor', actor), ('action', action)) AS words (what, word) "
            "WHERE show_id IS NOT NULL ON CONFLICT DO NOTHING"
        )
        line.execute("VACUUM ANALYZE")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("database", help="the address of an empty PostgreSQL database")
    parser.add_argument("--share", type=float, default=1.0, help="this part of the shots, people and packages")
    parser.add_argument("--shows", type=int, default=100)
    asked = parser.parse_args()
    part = asked.share
    shots = max(1, round(200_000 * part / asked.shows))
    fill(asked.database, Size(asked.shows, shots, max(1, round(300 * part)), max(1, round(200 * part))))


if __name__ == "__main__":
    main()
