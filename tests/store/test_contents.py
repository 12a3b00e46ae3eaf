"""Where bytes live: in PostgreSQL, in a folder or in an object store; moved, backed up and restored while work goes on.

The object store is a simulated one, spoken to over HTTP, and looked into with boto3, which Anaxis does not use.
"""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor, wait
from dataclasses import dataclass
from pathlib import Path

import boto3
import pytest
from moto.server import ThreadedMotoServer
from sqlalchemy import Engine, delete, func, select, text

from anaxis.app.contents import move_contents
from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import deliver_version
from anaxis.app.made_files import keep_made_file
from anaxis.app.retention import clear_contents, clear_out, kept
from anaxis.app.roles import LOCAL
from anaxis.core.errors import BadInput
from anaxis.packages import find_profile
from anaxis.queue.jobs import address_of
from anaxis.store.content_places import MARKER, ContentMissing, PlaceAway
from anaxis.store.content_rows import Content, RemovableContent
from anaxis.store.contents import keep_bytes
from anaxis.store.database import connect
from anaxis.store.models import DeliveryFile, MadeFile, SourceFile
from databases import Databases
from shell import run
from test_store import keep


@dataclass
class Outside:
    """A place, and how a program that is not ours lists, changes and removes what is in it."""

    setting: str
    listed: Callable[[], dict[str, bytes]]
    put: Callable[[str, bytes], object]
    drop: Callable[[str], object]


@pytest.fixture(scope="session")
def object_store() -> Iterator[str]:
    with pytest.MonkeyPatch.context() as patch:
        for name, value in (("ACCESS_KEY_ID", "test"), ("SECRET_ACCESS_KEY", "test"), ("DEFAULT_REGION", "us-east-1")):
            patch.setenv(f"AWS_{name}", value)
        server = ThreadedMotoServer("127.0.0.1", 0, verbose=False)
        server.start()
        host, port = server.get_host_and_port()
        patch.setenv("AWS_ENDPOINT_URL", f"http://{host}:{port}")
        yield f"http://{host}:{port}"
        server.stop()


def _folder(at: Path) -> Outside:
    return Outside(
        str(at),
        lambda: {str(p.relative_to(at)): p.read_bytes() for p in at.rglob("*") if p.is_file() and p.name != MARKER},
        lambda key, data: (at / key).write_bytes(data),
        lambda key: (at / key).unlink(),
    )


def _bucket(address: str, name: str) -> Outside:
    client = boto3.client("s3", endpoint_url=address)
    client.create_bucket(Bucket=name)

    def listed() -> dict[str, bytes]:
        pages = client.get_paginator("list_objects_v2").paginate(Bucket=name, Prefix="mill/")
        keys = [o["Key"] for page in pages for o in page.get("Contents", ())]
        found = {k.removeprefix("mill/"): client.get_object(Bucket=name, Key=k)["Body"].read() for k in keys}
        return {k: v for k, v in found.items() if k != MARKER}

    return Outside(
        f"s3://{name}/mill",
        listed,
        lambda key, data: client.put_object(Bucket=name, Key=f"mill/{key}", Body=data),
        lambda key: client.delete_object(Bucket=name, Key=f"mill/{key}"),
    )


@pytest.fixture(params=["folder", "object store"])
def outside(request: pytest.FixtureRequest, tmp_path: Path, object_store: str) -> Outside:
    if request.param == "folder":
        return _folder(tmp_path / "contents")
    return _bucket(object_store, hashlib.sha256(str(tmp_path).encode()).hexdigest()[:40])


@pytest.fixture
def in_use(outside: Outside, monkeypatch: pytest.MonkeyPatch) -> Outside:
    monkeypatch.setenv("ANAXIS_CONTENTS", outside.setting)
    return outside


def _work(engine: Engine, demo_files: dict[str, Path]) -> int:
    """A file taken in and delivered; the number of the delivery's version."""
    with Context(engine, LOCAL) as store, store.begin():
        version = keep(store, demo_files["TW_010"], "TW_010")
        deliver_version(store, version, find_profile("zup-lh-cm"), "usd")
        return version.id


def _all(engine: Engine) -> dict[str, str]:
    """The checksum of each piece of content as it is read, by the one that it is known by."""
    with Context(engine, LOCAL) as store:
        rows = store.execute(select(Content)).unique().scalars()
        return {row.sha256: hashlib.sha256(row.data).hexdigest() for row in rows}


def _named(engine: Engine) -> set[str]:
    with Context(engine, LOCAL) as store:
        return {k for k in store.execute(select(Content.key)).scalars() if k}


def _removable(engine: Engine) -> set[str]:
    with Context(engine, LOCAL) as store:
        return set(store.execute(select(RemovableContent.key)).scalars())


def _days_pass(engine: Engine, contents: bool = True) -> None:
    with engine.begin() as line:
        line.execute(text("UPDATE removable_contents SET since = since - interval '3 days'"))
        if contents:
            line.execute(text("UPDATE contents SET used_at = used_at - interval '3 days'"))


def _in_database(engine: Engine) -> int:
    with engine.connect() as line:
        return int(line.execute(select(func.count()).where(Content.in_database.is_not(None))).scalar_one())


def test_new_bytes_go_outside_once_each_and_are_read_as_before(
    engine: Engine, demo_files: dict[str, Path], in_use: Outside
) -> None:
    _work(engine, demo_files)
    there = in_use.listed()
    assert _in_database(engine) == 0 and _named(engine) == set(there) and not _removable(engine)
    assert {k[:2] + "/" + hashlib.sha256(v).hexdigest() for k, v in there.items()} == {
        k.rpartition("-")[0] for k in there
    }
    assert demo_files["TW_010"].read_bytes() in there.values()
    with Context(engine, LOCAL) as store:
        assert store.execute(select(SourceFile)).scalar_one().data == demo_files["TW_010"].read_bytes()
        assert all(len(f.data) == f.size for f in store.execute(select(DeliveryFile)).scalars())
    _work(engine, demo_files)
    assert set(in_use.listed()) == set(there), "the same bytes again are not written again"


def test_two_writers_of_the_same_bytes_and_one_that_fails_leave_nothing_behind(engine: Engine, in_use: Outside) -> None:
    both = threading.Barrier(2)

    def write(_: int) -> None:
        with Context(engine, LOCAL) as store, store.begin():
            both.wait()
            keep_bytes(store, b"the tide turns")

    with ThreadPoolExecutor(2) as pool:
        list(pool.map(write, range(2)))
    with pytest.raises(RuntimeError, match="killed"), Context(engine, LOCAL) as store, store.begin():
        keep_bytes(store, b"never kept")
        raise RuntimeError("killed")
    if "://" not in in_use.setting:  # a process that was killed while it wrote
        (never,) = (k for k, v in in_use.listed().items() if v == b"never kept")
        in_use.put(f"{never}.part", b"never")
        assert f"{never}.part" in in_use.listed()
    named = _named(engine)
    assert len(named) == 1 and {k.removesuffix(".part") for k in in_use.listed()} == named | _removable(engine)
    assert b"never kept" in in_use.listed().values()
    clear_out(engine)
    assert set(in_use.listed()) > named, "what may be in use is left alone"
    _days_pass(engine, contents=False)
    clear_out(engine)
    assert set(in_use.listed()) == named and not _removable(engine)


def test_bytes_that_are_removed_while_they_are_saved_again_stay(engine: Engine, in_use: Outside) -> None:
    with Context(engine, LOCAL) as store, store.begin():
        keep_bytes(store, b"a gate")
    _days_pass(engine)
    assert clear_contents(engine) == 1 and len(in_use.listed()) == 1, "a reader of this moment still finds them"
    with Context(engine, LOCAL) as store, store.begin():
        keep_bytes(store, b"a gate")
    _days_pass(engine, contents=False)
    clear_out(engine)
    assert set(in_use.listed()) == _named(engine) and _all(engine).popitem()[1] == hashlib.sha256(b"a gate").hexdigest()


def test_everything_moves_out_and_back_while_people_work(
    engine: Engine, demo_files: dict[str, Path], outside: Outside, monkeypatch: pytest.MonkeyPatch
) -> None:
    _work(engine, demo_files)
    written = {hashlib.sha256(b"%d" % n).hexdigest() for n in range(40)}
    with Context(engine, LOCAL) as store, store.begin():
        for n in range(20):
            keep_bytes(store, b"%d" % n)
    before = set(_all(engine)) | written
    over = threading.Event()
    wrong: list[str] = []

    def read_and_write() -> None:
        n = 20
        while not over.is_set() or n < 40:
            with Context(engine, LOCAL) as store, store.begin():
                if n < 40:
                    keep_bytes(store, b"%d" % n)
                    n += 1
                for row in store.execute(select(Content).order_by(func.random()).limit(3)).scalars():
                    if hashlib.sha256(row.data).hexdigest() != row.sha256:
                        wrong.append(row.sha256)

    monkeypatch.setenv("ANAXIS_CONTENTS", outside.setting)
    with ThreadPoolExecutor(3) as pool:
        reading = pool.submit(read_and_write)
        moves = [pool.submit(move_contents, engine) for _ in range(2)]
        wait(moves)
        over.set()
        reading.result()
    moved = [m.result() for m in moves]
    assert not wrong and sum(m.number for m in moved) >= 20 and not [w for m in moved for w in m.wrong]
    assert set(_all(engine)) == before and _in_database(engine) == 0
    assert set(outside.listed()) == _named(engine) | _removable(engine)
    monkeypatch.delenv("ANAXIS_CONTENTS")
    assert move_contents(engine).number == len(before) and _in_database(engine) == len(before)
    assert set(outside.listed()) >= _removable(engine), "a reader that has just looked still finds them"
    _days_pass(engine, contents=False)
    clear_out(engine)
    assert not outside.listed() and {k for k, v in _all(engine).items() if k == v} == before


def test_made_files_proxies_and_screenshots_move_along(
    engine: Engine, demo_files: dict[str, Path], outside: Outside, monkeypatch: pytest.MonkeyPatch
) -> None:
    def bytes_of() -> set[bytes]:
        with Context(engine, LOCAL) as store:
            return {row.data for row in store.execute(select(MadeFile)).scalars()}

    def made(data: bytes) -> None:
        with Context(engine, LOCAL) as store, store.begin():
            keep_made_file(store, "sheets.zip", data)

    made(b"from before")
    monkeypatch.setenv("ANAXIS_CONTENTS", outside.setting)
    made(b"from now on")
    assert set(outside.listed().values()) == {b"from now on"} and bytes_of() == {b"from before", b"from now on"}
    assert move_contents(engine).number == 1 and set(outside.listed().values()) == bytes_of()
    with engine.begin() as line:
        assert line.execute(text("SELECT count(*) FROM made_files WHERE data IS NOT NULL")).scalar_one() == 0
        line.execute(text("UPDATE made_files SET created_at = now() - interval '20 days' WHERE id = 1"))
    with Context(engine, LOCAL) as store:
        assert (kept(store)[0].number, kept(store)[0].size, kept(store)[0].frees) == (2, 22, 11)
    _days_pass(engine)
    clear_out(engine)
    _days_pass(engine)
    clear_out(engine)
    assert bytes_of() == {b"from now on"} == set(outside.listed().values())
    monkeypatch.delenv("ANAXIS_CONTENTS")
    move_contents(engine)
    assert bytes_of() == {b"from now on"} and _named(engine) == set()


def test_a_copy_of_the_database_removes_nothing_of_its_original(
    engine: Engine, databases: Databases, demo_files: dict[str, Path], in_use: Outside
) -> None:
    _work(engine, demo_files)
    engine.dispose()
    with databases.copied(engine.url.database or "") as url:
        copy = connect(url)
        try:
            whole = in_use.listed()
            with copy.begin() as line:
                line.execute(text("TRUNCATE shows, source_files, delivery_files CASCADE"))
            _days_pass(copy)
            clear_out(copy)
            _days_pass(copy)
            clear_out(copy)
            assert _all(copy) == {} and in_use.listed() == whole
            with Context(copy, LOCAL) as store, store.begin():
                keep_bytes(store, b"of the copy")
            assert b"of the copy" in in_use.listed().values()
        finally:
            copy.dispose()
    assert all(k == v for k, v in _all(engine).items())


def test_a_backup_made_during_work_is_restored_and_moved(
    engine: Engine, databases: Databases, demo_files: dict[str, Path], in_use: Outside, tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    _work(engine, demo_files)
    folder, over = tmp_path / "backup", threading.Event()

    def go_on() -> None:
        n = 0
        while not over.is_set():
            with Context(engine, LOCAL) as store, store.begin():
                keep_bytes(store, b"during the backup %d" % n)
                store.execute(delete(Content).where(Content.sha256 == hashlib.sha256(b"during the backup %d" % (n - 9)).hexdigest()))  # fmt: skip
            n += 1

    working = threading.Thread(target=go_on)
    working.start()
    try:
        database = {"DATABASE_URL": address_of(engine)}
        assert run("backup", folder, **database).returncode == 0
        again = run("backup", folder, **database)
    finally:
        over.set()
        working.join()
    copied = sum(p.is_file() for p in (folder / "contents").rglob("*")) - 1
    assert again.returncode == 0 and int(again.stdout.split("with ")[1].split()[0]) < copied, (
        "known bytes are not copied again"
    )
    whole = in_use.listed()
    with databases.empty() as url:
        there = run("restore", folder, DATABASE_URL=url)
        assert there.returncode == 0 and "anaxis contents move" in there.stdout, there.stderr
        assert "is not empty" in run("restore", folder, DATABASE_URL=url).stderr
        restored = connect(url)
        try:
            found = _all(restored)
            assert found and all(k == v for k, v in found.items())
            assert hashlib.sha256(demo_files["TW_010"].read_bytes()).hexdigest() in found
            monkeypatch.setenv("ANAXIS_CONTENTS", str(tmp_path / "elsewhere"))
            assert "0 missing or damaged" in run("contents", "check", DATABASE_URL=url).stdout
            assert run("contents", "move", DATABASE_URL=url).returncode == 0
            saved = {str(p): p.read_bytes() for p in folder.rglob("*") if p.is_file()}
            _days_pass(restored)
            clear_out(restored)
            assert {str(p): p.read_bytes() for p in folder.rglob("*") if p.is_file()} == saved, (
                "a backup is never written"
            )
            assert all(k == v for k, v in _all(restored).items())
        finally:
            restored.dispose()
    assert in_use.listed() == whole


def test_missing_and_damaged_bytes_are_said_and_mended_from_a_backup(
    engine: Engine, demo_files: dict[str, Path], in_use: Outside, tmp_path: Path
) -> None:
    _work(engine, demo_files)
    database = {"DATABASE_URL": address_of(engine)}
    assert run("backup", tmp_path / "backup", **database).returncode == 0
    gone, damaged = sorted(in_use.listed())[:2]
    in_use.drop(gone)
    in_use.put(damaged, b"rust")
    with Context(engine, LOCAL) as store:
        for key, said in ((gone, "missing"), (damaged, "damaged")):
            row = store.execute(select(Content).where(Content.key == key)).scalar_one()
            with pytest.raises(ContentMissing, match=f"{key}' .*{said}"):
                _ = row.data
    other = run("backup", tmp_path / "other", **database)
    assert other.returncode == 2 and gone in other.stderr and damaged in other.stderr and "is saved in" in other.stdout
    assert len(list((tmp_path / "other" / "contents").rglob("??/*"))) == len(in_use.listed()) - 1, "the whole ones are"
    found = run("contents", "check", **database)
    assert found.returncode == 2 and "2 missing or damaged" in found.stdout
    assert gone in found.stderr and damaged in found.stderr and "2 of the stored pieces" in found.stderr
    mended = run("contents", "check", "--from", tmp_path / "backup", **database)
    assert mended.returncode == 0 and "2 replaced, 0 missing or damaged" in mended.stdout, mended.stderr
    assert all(k == v for k, v in _all(engine).items())
    shown = run("contents", "show", "--json", **database).document
    assert [p["number"] for p in shown["places"]] == [len(in_use.listed())] and shown["new"].endswith(in_use.setting)


def test_nothing_is_written_into_the_mount_point_of_a_share_that_is_not_mounted(
    engine: Engine, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    contents = tmp_path / "contents"
    monkeypatch.setenv("ANAXIS_CONTENTS", str(contents))
    with Context(engine, LOCAL) as store, store.begin():
        keep_bytes(store, b"sets it up")
    share = tmp_path / "share"
    contents.rename(share)
    contents.mkdir()  # the mount point of a share that is not mounted
    with pytest.raises(PlaceAway, match="mount the folder"), Context(engine, LOCAL) as store, store.begin():
        keep_bytes(store, b"not in the mount point")
    assert not list(contents.iterdir())


@pytest.mark.parametrize(
    ("setting", "sentence"),
    [
        ("s3://key:secret@bucket", "contains a password"),
        ("nowhere://bucket", "names no kind of place"),
        ("/proc/contents", "cannot be used"),
    ],
)
def test_a_setting_that_names_no_place_is_refused(
    engine: Engine, setting: str, sentence: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("ANAXIS_CONTENTS", setting)
    with pytest.raises(BadInput, match=sentence), Context(engine, LOCAL) as store, store.begin():
        keep_bytes(store, b"x")
    assert _all(engine) == {}
