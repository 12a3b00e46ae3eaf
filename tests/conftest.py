"""Fixtures shared by all tests: made-up files, a throwaway PostgreSQL, the running application."""

from __future__ import annotations

import gc
import json
import os
import sys
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
from hypothesis import settings

from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from lanes import sized

if TYPE_CHECKING:  # tests of the core need neither a database nor a browser
    from playwright.sync_api import Page
    from sqlalchemy import Engine

    from databases import Databases
    from pages import Server

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT / "demo"))

# Every HTTP client reads all certificates of the authorities when it is made, 30 ms of processor time each. The tests speak
# to this machine alone, without certificates: a folder that is not there holds none.
os.environ.pop("SSL_CERT_FILE", None)
os.environ["SSL_CERT_DIR"] = "/no-certificates"
# A full collection of garbage goes through all that a test process has imported. It comes less often, and leaves that out
# (the fixture server).
gc.set_threshold(5_000, 10, 10)

settings.register_profile("anaxis", deadline=None, max_examples=sized(60, 30), derandomize=True)
settings.load_profile("anaxis")


# Tests in these folders need neither PostgreSQL nor Chromium.
PLAIN = ("cli", "core", "delivery", "diagnosis", "formats", "packages")


# Tests that start, kill and wait for processes come first: at the end, one test would wait on an idle machine.
WAITING = ("work", "demo", "test_benchmarks.py")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    items.sort(key=lambda item: item.path.relative_to(ROOT / "tests").parts[0] not in WAITING)
    for item in items:
        needs = {"databases", "browser"}.intersection(getattr(item, "fixturenames", ()))
        if needs and item.path.relative_to(ROOT / "tests").parts[0] in PLAIN:
            raise pytest.UsageError(
                f"{item.nodeid} needs {' and '.join(sorted(needs))}: put it in a folder that may, see CONTRIBUTING.md"
            )


@pytest.fixture(autouse=True)
def no_process_outlives_its_test(request: pytest.FixtureRequest) -> Iterator[None]:
    from processes import none_left

    with none_left():
        yield


@pytest.fixture(scope="session")
def usual_hash() -> Iterator[Any]:
    """How passwords are hashed but in tests, where it would cost more than all else (tests/web/test_people.py looks at it)."""
    from pwdlib import PasswordHash
    from pwdlib.hashers.argon2 import Argon2Hasher

    from anaxis.app.people import sign_in

    usual, sign_in._HASH = sign_in._HASH, PasswordHash((Argon2Hasher(time_cost=1, memory_cost=64, parallelism=1),))
    sign_in._hash_of_nobody.cache_clear()
    yield usual
    sign_in._HASH = usual


@pytest.fixture(scope="session")
def demo_files(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """The four demo files by shot name."""
    from make_scenes import make_all

    return {p.name[:6]: p for p in make_all(tmp_path_factory.mktemp("demo"))}


@pytest.fixture(scope="session")
def solved(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The solver's bundle of TW_050: scene, lens, maps, and the plate on frames 1041 to 1048."""
    import solve

    folder = tmp_path_factory.mktemp("solved") / "TW_050"
    (folder / "plate").mkdir(parents=True)
    solve.make_solve(folder, with_plate=False)
    solve.draw_frames(folder / "plate", solve.jib(), np.arange(40, 48))
    return folder


@pytest.fixture
def usda(tmp_path: Path) -> Callable[..., Path]:
    """Writes a small .usda: a still lens on a camera that moves from frame 1 to 10."""

    def write(body: str = "", head: str = "", name: str = "shot.usda", lens: str = "", ops: str = "") -> Path:
        head = (
            head
            or 'upAxis = "Y"\n metersPerUnit = 0.01\n timeCodesPerSecond = 24\n startTimeCode = 1\n endTimeCode = 10'
        )
        ops = ops or (
            "double3 xformOp:translate.timeSamples = { 1: (0, 10, 300), 10: (50, 20, 250) }\n"
            ' uniform token[] xformOpOrder = ["xformOp:translate"]'
        )
        lens = lens or "float focalLength = 35\n float horizontalAperture = 36\n float verticalAperture = 20.25"
        camera = f'def Camera "cam" {{\n {lens}\n {ops}\n}}\n'
        path = tmp_path / name
        path.write_text(f"#usda 1.0\n(\n {head}\n)\n" + (body.replace("CAMERA", camera) if body else camera))
        return path

    return write


@pytest.fixture(scope="session")
def databases(tmp_path_factory: pytest.TempPathFactory, usual_hash: Any) -> Iterator[Databases]:
    """A PostgreSQL of this test process, and databases in it."""
    from anaxis.store.local_postgres import LocalPostgres
    from databases import Databases, compile_once, folder_of_cluster
    from processes import shared

    with ExitStack() as stack:
        compile_once(stack.enter_context(pytest.MonkeyPatch.context()))
        with shared():
            folder = stack.enter_context(folder_of_cluster(tmp_path_factory.mktemp("pg")))
            cluster = LocalPostgres(folder / "cluster", throwaway=True)
            url = stack.enter_context(cluster).url
        yield Databases(url)


@pytest.fixture
def database_url(databases: Databases) -> Iterator[str]:
    """An empty database with all tables, which no other test ever has."""
    with databases.fresh() as url:
        yield url


@pytest.fixture
def engine(database_url: str) -> Iterator[Engine]:
    from anaxis.store.database import connect

    engine = connect(database_url)
    yield engine
    engine.dispose()


@pytest.fixture(scope="session")
def server(databases: Databases) -> Iterator[Server]:
    """The application, started once in this test process."""
    from pages import Server

    with databases.fresh() as idle:
        server = Server(idle)
        gc.freeze()
        yield server
        gc.unfreeze()
        server.close()


@pytest.fixture
def site(server: Server, engine: Engine, database_url: str) -> Iterator[str]:
    """The application's address, with an empty store."""
    with server.on(database_url) as address:
        yield address


@pytest.fixture(scope="session")
def browser() -> Iterator[object]:
    from playwright.sync_api import expect, sync_playwright

    from processes import shared

    expect.set_options(timeout=20_000)  # a machine that does much else is no fault of a page
    quiet = ["--disable-gpu", "--no-first-run", "--disable-background-networking", "--disable-component-update",
             "--disable-sync", "--disable-quic", "--no-sandbox", "--in-process-gpu", "--renderer-process-limit=1",
             "--disable-site-isolation-trials", "--disable-features=IsolateOrigins,site-per-process,BackForwardCache"]  # fmt: skip
    with ExitStack() as stack:
        with shared():
            playwright = stack.enter_context(sync_playwright())
            chromium = playwright.chromium.launch(executable_path="/usr/bin/chromium-headless-shell", args=quiet)
        yield chromium
        chromium.close()


@pytest.fixture
def page(browser: Any, site: str) -> Iterator[Page]:
    """A page on the application; no error may show up in its console."""
    from pages import opened_page

    page = opened_page(browser, viewport={"width": 1280, "height": 800}, base_url=site)
    page.set_default_timeout(60_000)  # a machine that does much else, or is stopped for a while, is no fault of a page
    said: list[str] = []
    page.on("pageerror", lambda e: said.append(str(e)))
    # A station left before it had come is given up, which is said as an error and is none.
    expected = ("422", "htmx:afterRequest", "htmx:sendAbort")
    page.on(
        "console",
        lambda m: said.append(m.text) if m.type == "error" and not any(e in m.text for e in expected) else None,
    )
    asked: list[str] = []
    page.on("request", lambda r: asked.append(r.url))
    yield page
    assert said == []
    assert [u for u in asked if not u.startswith((site, "data:"))] == []
    page.close()


def reading_zooms(profile: Any) -> Any:
    """A package that says it takes a lens animated in glTF, which few do."""
    return profile.model_copy(update={"lens": profile.lens.model_copy(update={"reads_gltf_zoom": True})})


def random_rotations(n: int, seed: int) -> np.ndarray:
    from scipy.spatial.transform import Rotation

    return Rotation.random(n, random_state=seed).as_matrix()


@pytest.fixture(scope="session")
def other_files(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """TW_020 in every other format that is read, by suffix."""
    from other_formats import write_in_every_format

    return write_in_every_format(tmp_path_factory.mktemp("other"))


@pytest.fixture
def gltf(tmp_path: Path) -> Callable[..., Path]:
    """Writes a .gltf of one camera node with its data inline; ``change`` may alter the document."""
    import base64

    def write(
        arrays: list[tuple[np.ndarray, str, int]],
        samplers: list[dict[str, Any]],
        channels: list[dict[str, Any]],
        change: Callable[[dict[str, Any]], None] = lambda d: None,
    ) -> Path:
        data, views, accessors = b"", [], []
        for array, kind, component in arrays:
            raw = array.tobytes()
            views.append({"buffer": 0, "byteOffset": len(data), "byteLength": len(raw)})
            width = {"SCALAR": 1, "VEC3": 3, "VEC4": 4}[kind]
            accessors.append(
                {"bufferView": len(views) - 1, "componentType": component, "count": array.size // width, "type": kind}
            )
            data += raw + b"\0" * (-len(raw) % 4)
        document = {
            "asset": {"version": "2.0"},
            "scenes": [{"nodes": [0]}],
            "nodes": [{"name": "cam", "camera": 0}],
            "cameras": [{"type": "perspective", "perspective": {"yfov": 0.7, "aspectRatio": 1.5, "znear": 0.1}}],
            "animations": [{"samplers": samplers, "channels": channels}],
            "accessors": accessors,
            "bufferViews": views,
            "buffers": [{"byteLength": len(data), "uri": "data:;base64," + base64.b64encode(data).decode()}],
        }
        change(document)
        path = tmp_path / "c.gltf"
        path.write_text(json.dumps(document))
        return path

    return write


@pytest.fixture
def people(engine: Engine, demo_files: dict[str, Path]) -> dict[str, int]:
    """One of each role everywhere, one with a role in one of two shows, one with none; each has the same password."""

    from anaxis.app.people.people import add_person, give_role, link_for
    from anaxis.app.people.sign_in import accept
    from anaxis.app.roles import Role
    from anaxis.store.keep import find_or_make_shot, find_or_make_show
    from pages import PASSWORD
    from test_store import keep

    with Context(engine, LOCAL) as store, store.begin():
        keep(store, demo_files["TW_010"], "TW_010")
        other = find_or_make_show(store, "The lighthouse")
        find_or_make_shot(store, other, "LH_010")
        made = {r.called: add_person(store, r.called, r) for r in Role if r}
        made["guest"] = add_person(store, "guest")
        give_role(store, made["guest"], Role.ARTIST, other)
        made["stranger"] = add_person(store, "stranger")
        for person in made.values():
            accept(store, link_for(store, person), PASSWORD)
        return {name: p.id for name, p in made.items()}
