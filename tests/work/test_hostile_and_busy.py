"""What a file's content decides, many people at once, a full disk, a database that goes away: said, and nothing lost."""

from __future__ import annotations

import errno
import os
import re
import resource
import threading
import time
import zlib
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from fractions import Fraction
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import psycopg
import pytest
from sqlalchemy import Engine, event, func, select
from sqlalchemy.exc import OperationalError

from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from anaxis.core.camera.track import make_lens
from anaxis.core.errors import BadInput
from anaxis.core.scene.nodes import Node, Scene
from anaxis.core.space.axes import Convention
from anaxis.library.archive import scene_to_bytes, unpack
from anaxis.library.scene_report import look
from anaxis.sandbox.calculators import Calculators
from anaxis.sandbox.guard import Limits
from anaxis.sandbox.turns import Busy, Turns, client
from anaxis.store.local_postgres import LocalPostgres
from anaxis.store.models import Camera, Delivery, Version
from anaxis.worker.attempt import do_job
from pages import Visitor, served, take_in


def heavy(cameras: int, frames: int) -> Scene:
    """Cameras under animated parents over many frames: small as a file, large to bake."""
    nodes = []
    at = np.array([0.0, float(frames)])
    local = np.tile(np.eye(4), (2, 1, 1))
    for i in range(cameras):
        lens = make_lens(1)
        nodes.append(Node(f"/cam_{i}", None, "camera", at, local, at, lens=lens))
    return Scene("heavy.usd", "usd", Convention(metres_per_unit=1.0), Fraction(24), 0.0, float(frames), tuple(nodes))


def test_what_is_too_much_to_look_through_ends_in_a_sentence_and_costs_the_pages_nothing() -> None:
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    calculators = Calculators(Limits(memory_mb=150, wall_s=60), slots=2)
    with pytest.raises(
        BadInput, match=r"heavy\.usd needs more than 150 MB|in all likelihood for want of memory"
    ) as refused:
        calculators.run("heavy.usd", look, scene_to_bytes(heavy(40, 90_000)), {})
    assert refused.value.code == "too_large"
    # The next one is served as if nothing had been.
    assert calculators.run("small.usd", look, scene_to_bytes(heavy(1, 24)), {})[0].samples == 2
    slow = Calculators(Limits(memory_mb=4000, wall_s=1), slots=1)
    slow._limits = Limits(memory_mb=4000, wall_s=-3)  # what is left of it once the process stands
    with pytest.raises(BadInput, match="took longer than") as given_up:
        slow.run("heavy.usd", look, scene_to_bytes(heavy(200, 50_000)), {})
    assert given_up.value.code == "too_slow"
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 200_000  # kB
    with pytest.raises(BadInput, match="holds 501 cameras; at most 500"):
        look(scene_to_bytes(heavy(501, 2)), {})


def test_a_block_that_swells_is_not_unpacked(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("anaxis.library.archive._MAX_BODY_BYTES", 10_000_000)
    deep = b"anaxis2\n" + zlib.compress(b"\0" * 11_000_000, 9)
    assert len(deep) < 20_000
    with pytest.raises(BadInput, match=r"file need more than 0\.01 GB"):
        unpack(deep)


def test_one_who_sends_much_stands_in_nobody_elses_way() -> None:
    turns, served_in, lock = Turns(1, waiting=10, wait_s=20), [], threading.Lock()
    first = threading.Event()

    def work(who: str, holds: threading.Event | None = None) -> None:
        client.set(who)
        with turns.turn():
            with lock:
                served_in.append(who)
            if holds is not None:
                first.set()
                holds.wait(10)

    hold = threading.Event()
    threads = [threading.Thread(target=work, args=("much", hold))]
    threads[0].start()
    first.wait(5)
    for who in ("much", "much", "much", "little"):
        threads.append(threading.Thread(target=work, args=(who,)))
        threads[-1].start()
        time.sleep(0.05)
    hold.set()
    for thread in threads:
        thread.join(10)
    assert served_in.index("little") <= 2 and len(served_in) == 5
    full = Turns(1, waiting=1, wait_s=0.2)
    with full.turn():

        def wait_in_vain() -> None:
            with pytest.raises(Busy):
                full._take()

        waiting = threading.Thread(target=wait_in_vain)
        waiting.start()
        time.sleep(0.05)
        with pytest.raises(Busy, match="try again in a minute"), full.turn():
            pass
        waiting.join(5)
    with full.turn():  # those who gave up left no place taken
        pass


def form_of(site: str, path: Path, shot: str) -> tuple[str, dict[str, str]]:
    with Visitor(base_url=site, timeout=60) as browser:
        at = browser.post("/take-in", files={"file": (path.name, path.read_bytes())}).headers["location"]
        review = browser.get(at).text
    resolution = re.search(r'id="resolution"\s+name="resolution"\s+value="([^"]+)"', review)
    camera = re.search(r'name="cameras"\s+value="([^"]+)"', review)
    assert resolution and camera
    fields = {
        "show": "The Tidewright",
        "shot": shot,
        "source_fit": "width",
        "resolution": resolution[1],
        "cameras": camera[1],
    }
    return at, fields


def test_many_keep_one_name_at_once_and_many_save_one_package(
    site: str, engine: Engine, demo_files: dict[str, Path]
) -> None:
    forms = [form_of(site, demo_files["TW_010"], "TW_010") for _ in range(6)]

    def keep(form: tuple[str, dict[str, str]]) -> int:
        return Visitor().post(site + form[0], data=form[1], timeout=120).status_code

    with ThreadPoolExecutor(6) as pool:
        answers = list(pool.map(keep, forms))
    assert set(answers) <= {303, 409, 422} and answers.count(303) >= 1
    with Context(engine, LOCAL) as store:
        assert store.execute(select(func.count(Camera.id))).scalar_one() == 1
        numbers = store.execute(select(Version.number).order_by(Version.number)).scalars().all()
        assert list(numbers) == list(range(1, answers.count(303) + 1))
    from anaxis.packages import shipped_profiles

    document = shipped_profiles()["zup-lh-cm"].model_dump(mode="json") | {"key": "remote", "label": "RemoteCamera"}

    def save(i: int) -> None:
        from anaxis.packages.model import profile_from_dict
        from anaxis.store.keep import keep_package

        with Context(engine, LOCAL) as store, store.begin():
            keep_package(store, profile_from_dict(document | {"label": f"RemoteCamera {i}"}, "x"), f"by {i}")
            time.sleep(0.02)

    with ThreadPoolExecutor(8) as pool:
        list(pool.map(save, range(16)))
    with Context(engine, LOCAL) as store:
        from anaxis.store.packages import versions_of

        assert [p.number for p in versions_of(store, "remote")] == list(range(16, 0, -1))


def test_a_change_from_an_old_page_is_told_so(site: str, engine: Engine, demo_files: dict[str, Path]) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    form = {"version": "1", "head": "1", "action": "add", "code": "level_horizon"}
    with Visitor(base_url=site, timeout=60) as browser:
        assert browser.post("/cameras/1/recipe", data=form).status_code == 303
        late = browser.post("/cameras/1/recipe", data=form | {"code": "fill_gaps"}, headers={"hx-request": "1"})
        assert late.status_code == 409 and "Version 1.1 was saved from another page meanwhile" in late.text
        undo = browser.post("/cameras/1/undo", data={"version": "1", "head": "1"}, headers={"hx-request": "1"})
        assert "meanwhile" in undo.text
        assert (
            browser.post(
                "/cameras/1/recipe", data=form | {"head": "2", "version": "2", "code": "fill_gaps"}
            ).status_code
            == 303
        )
    with Context(engine, LOCAL) as store:
        assert [
            o["code"]
            for o in store.execute(select(Version.recipe).order_by(Version.number.desc()).limit(1)).scalar_one()
        ] == ["level_horizon", "fill_gaps"]


_NAMES = (
    "..",
    "../../etc/passwd.usda",
    "😀" * 200 + ".usda",
    "con\udcff.usda",
    "a" * 300 + ".usda",
    " .usda",
    "\x00.usda",
)


def test_no_name_that_is_sent_becomes_a_path(site: str, usda: Any) -> None:
    """Raw, as a browser would not send it: taken in or refused in a sentence, on every way in."""
    data, mark = usda().read_bytes(), b"xxBOUNDARYxx"

    def body(name: str, field: str, more: dict[str, str]) -> bytes:
        head = b"--" + mark + b"\r\nContent-Disposition: form-data; name="
        parts = [head + f'"{k}"\r\n\r\n{v}\r\n'.encode() for k, v in more.items()]
        quoted = name.encode("utf-8", "surrogateescape").replace(b'"', b"%22")
        parts.append(head + f'"{field}"; filename="'.encode() + quoted + b'"\r\n\r\n' + data + b"\r\n")
        return b"".join(parts) + b"--" + mark + b"--\r\n"

    head = {"content-type": f"multipart/form-data; boundary={mark.decode()}"}
    take_in(site, usda(name="plain.usda"), "TW_1")
    with Visitor(base_url=site, timeout=60) as browser:
        for name in _NAMES:
            first = browser.post("/take-in", content=body(name, "file", {}), headers=head)
            assert first.status_code in (303, 422), first.text
            if first.status_code == 303:
                assert browser.get(first.headers["location"]).status_code == 200
            for path, field, more in (
                ("/cameras/1/returns", "file", {"version": "1", "to": "yup-rh-m"}),
                ("/cameras/1/set", "file", {"version": "1"}),
                ("/cameras/1/cuts", "file", {"version": "1"}),
                ("/cameras/1/stills", "ours", {"version": "1"}),
                ("/packages/calibrate", "file", {"label": "x"}),
            ):
                answer = browser.post(path, content=body(name, field, more), headers=head)
                assert answer.status_code in (303, 422), (path, name)


def test_a_node_as_deep_as_it_may_be_can_be_looked_at(site: str, tmp_path: Path) -> None:
    deep = 'def Camera "cam" {\n float focalLength = 30\n double3 xformOp:translate.timeSamples = { 1: (0, 1, 0), 9: (1, 1, 0) }\n uniform token[] xformOpOrder = ["xformOp:translate"]\n}\n'
    for i in range(60):
        deep = f'def Xform "{"n" * 70}_{i}" {{\n{deep}}}\n'
    path = tmp_path / "deep.usda"
    path.write_text('#usda 1.0\n(\n upAxis = "Y"\n metersPerUnit = 1\n)\n' + deep)
    with Visitor(base_url=site, timeout=60) as browser:
        at = browser.post("/take-in", files={"file": (path.name, path.read_bytes())}).headers["location"]
        assert browser.get(at).status_code == 200
        drawing = browser.get(f"{at}/drawing?camera=0")
        assert drawing.status_code == 200 and len(drawing.content) > 500
        assert browser.get(f"{at}/drawing?camera=7").status_code == 404
    take_in(site, path, "TW_1")


def test_a_body_without_a_length_passes_no_limit(
    engine: Engine, database_url: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("ANAXIS_MAX_FILE_MB", "1")

    def chunks() -> Iterator[bytes]:
        yield b'--b\r\nContent-Disposition: form-data; name="file"; filename="a.usda"\r\n\r\n'
        for _ in range(60):
            yield b"x" * 100_000
        yield b"\r\n--b--\r\n"

    with served(database_url, "critical") as at, Visitor(base_url=at, timeout=60) as browser:
        try:
            answer = browser.post(
                "/take-in", content=chunks(), headers={"content-type": "multipart/form-data; boundary=b"}
            )
            assert answer.status_code == 413
        except httpx.HTTPError:  # hung up on while it was still sending
            pass
        assert browser.get("/").status_code == 200


def test_a_full_disk_is_said_and_over_with_it_everything_goes_on(
    site: str, engine: Engine, demo_files: dict[str, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    upload = {"file": ("TW_010.usda", demo_files["TW_010"].read_bytes())}
    full = OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
    with monkeypatch.context() as patched:
        patched.setattr("anaxis.app.cameras.take_in.TemporaryDirectory", lambda **_: (_ for _ in ()).throw(full))
        answer = Visitor().post(f"{site}/take-in", files=upload, timeout=60)
        assert answer.status_code == 507 and "is full" in answer.text and "Traceback" not in answer.text

    def refuse(connection: Any, cursor: Any, statement: str, *_: Any) -> None:
        if statement.startswith("INSERT INTO deliver"):
            raise OperationalError(
                statement, {}, psycopg.errors.DiskFull("could not extend file: No space left on device")
            )

    event.listen(Engine, "before_cursor_execute", refuse)
    form = {"version": "1", "to": "yup-rh-m", "format_key": "usd"}
    try:
        answer = Visitor().post(f"{site}/cameras/1/deliver", data=form, timeout=60)
        assert answer.status_code == 507 and "is full" in answer.text
    finally:
        event.remove(Engine, "before_cursor_execute", refuse)
    assert Visitor().post(f"{site}/take-in", files=upload, timeout=60).status_code == 303
    assert Visitor().post(f"{site}/cameras/1/deliver", data=form, timeout=60).status_code == 303
    with Context(engine, LOCAL) as store:
        assert store.execute(select(func.count(Delivery.id))).scalar_one() == 1


def test_a_database_that_was_away_is_said_and_work_goes_on_by_itself(
    tmp_path: Path, demo_files: dict[str, Path]
) -> None:
    server = LocalPostgres(tmp_path / "pg")
    server.start()
    try:
        with served(server.url, "critical") as at:
            take_in(at, demo_files["TW_010"], "TW_010")
            server.stop()
            answer = httpx.get(f"{at}/", timeout=30)
            assert answer.status_code == 503 and "database does not answer" in answer.text
            server.start()
            assert httpx.get(f"{at}/", timeout=30).status_code == 200
            form = {"version": "1", "to": "yup-rh-m", "format_key": "json", "reduce_px": "5"}
            asked = Visitor().post(f"{at}/cameras/1/deliver", data=form, timeout=30)
            assert asked.status_code == 303
            job = asked.headers["location"]
            server.stop()
            server.start()
            # Nobody looks at the job's own page: the worker comes back by itself.
            limit = time.monotonic() + 90
            while "Matches" not in httpx.get(f"{at}/cameras/1", timeout=30).text:
                assert time.monotonic() < limit, httpx.get(at + job, timeout=30).text[-800:]
                time.sleep(0.5)
    finally:
        server.stop()


def test_work_that_is_at_it_is_not_begun_again(engine: Engine, demo_files: dict[str, Path]) -> None:
    from anaxis.app import long_work as kinds
    from anaxis.queue.jobs import TryAgain
    from test_long_work import ask_for, asked, queued
    from test_store import keep

    with Context(engine, LOCAL) as store, store.begin():
        version = keep(store, demo_files["TW_010"], "TW_010").id
    number = ask_for(engine, "delivery", version, asked(version))
    assert queued(engine) == 1
    begun, calls = threading.Event(), []

    def slow(session: Context, job: Any, tell: Any) -> dict[str, Any]:
        calls.append(job.id)
        begun.set()
        time.sleep(1.0)
        return {}

    usual = kinds.KINDS["delivery"]
    kinds.KINDS["delivery"] = slow
    try:
        one = threading.Thread(target=do_job, args=(engine, number))
        one.start()
        begun.wait(10)
        with pytest.raises(TryAgain, match="under way"):
            do_job(engine, number)  # a second worker that takes the first for gone
        one.join(10)
    finally:
        kinds.KINDS["delivery"] = usual
    assert calls == [number]
