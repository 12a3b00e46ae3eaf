"""What pages of one show take in a store of many shows, against a store of that show alone, for ten people at once.

Run with ``make bench``; the number of shows and of shots of each may be given: ``benchmarks/scale.py 100 2000``.
"""

from __future__ import annotations

import sys
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack, contextmanager
from pathlib import Path
from tempfile import TemporaryDirectory

import httpx
import numpy as np
import psycopg
import uvicorn
from sqlalchemy import Engine, make_url, select

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT / "scripts"))

from make_studio import Size, fill  # noqa: E402

from anaxis.app.context import Context  # noqa: E402
from anaxis.app.people.people import add_person  # noqa: E402
from anaxis.app.roles import LOCAL, Role  # noqa: E402
from anaxis.store.database import connect  # noqa: E402
from anaxis.store.local_postgres import LocalPostgres  # noqa: E402
from anaxis.store.models import Camera, Shot, Show  # noqa: E402
from anaxis.web.app import create_app  # noqa: E402
from sizes import sized  # noqa: E402

USERS = sized(10, 2)
ROUNDS = sized(8, 1)
LOOKS = "looks"


@contextmanager
def served(url: str) -> Iterator[str]:
    """The application on this store, in a thread; whoever comes is signed in as an administrator."""
    app = create_app(url, readers_ready=False)
    engine: Engine = app.state.engine
    with Context(engine, LOCAL) as context, context.begin():
        add_person(context, LOOKS, Role.ADMINISTRATOR)
    app.state.visitor = LOOKS
    server = uvicorn.Server(uvicorn.Config(app, port=0, log_level="error"))
    thread = threading.Thread(target=server.run)
    thread.start()
    while not server.started:
        time.sleep(0.02)
    port = server.servers[0].sockets[0].getsockname()[1]
    try:
        yield f"http://127.0.0.1:{port}"
    finally:
        server.should_exit = True
        thread.join()


def pages_of(url: str) -> dict[str, str]:
    """What people look at in the last show of a store, by name."""
    engine = connect(url)
    with Context(engine, LOCAL) as context:
        query = (
            select(Show.id, Shot.id, Camera.id)
            .join(Shot, Shot.show_id == Show.id)
            .join(Camera, Camera.shot_id == Shot.id)
        )
        show, shot, camera = context.execute(query.order_by(Camera.id.desc()).limit(1)).one()
    engine.dispose()
    return {
        "shots": f"/?show={show}", "shots, worst first": f"/?show={show}&sort=worst", "plan": f"/shows/{show}/plan",
        "a shot": f"/shots/{shot}", "a camera": f"/cameras/{camera}", "history": f"/history?show={show}",
        "history of a camera": f"/history?camera={camera}", "search": "/search?q=sh_00001", "notices": "/notices",
    }  # fmt: skip


def asked(client: httpx.Client, address: str) -> float:
    began = time.perf_counter()
    answer = client.get(address)
    seconds = time.perf_counter() - began
    assert answer.status_code == 200, (address, answer.status_code)
    return seconds


def new_database(server: LocalPostgres, name: str) -> str:
    url = make_url(server.url)
    with psycopg.connect(
        url.set(drivername="postgresql").render_as_string(hide_password=False), autocommit=True
    ) as line:
        line.execute(f"CREATE DATABASE {name}")
    return url.set(database=name).render_as_string(hide_password=False)


def main() -> None:
    given = [int(word) for word in sys.argv[1:]]
    shows, shots = given if given else sized((100, 200), (2, 3))
    with ExitStack() as stack:
        folder = Path(stack.enter_context(TemporaryDirectory()))
        server = stack.enter_context(LocalPostgres(folder / "cluster", throwaway=True))
        stores = {"alone": new_database(server, "alone"), "studio": new_database(server, "studio")}
        began = time.perf_counter()
        fill(stores["alone"], Size(1, shots, 30, 20), tell=False)
        fill(stores["studio"], Size(shows, shots, 300, 200), tell=False)
        print(f"{shows} shows of {shots} shots filled in {time.perf_counter() - began:.0f} s")
        sites = {of: stack.enter_context(served(url)) for of, url in stores.items()}
        addresses = {of: pages_of(url) for of, url in stores.items()}
        taken: dict[tuple[str, str], list[float]] = {}
        clients = {
            of: [stack.enter_context(httpx.Client(base_url=site, timeout=60)) for _ in range(USERS)]
            for of, site in sites.items()
        }
        with ThreadPoolExecutor(USERS) as users:
            for name in addresses["alone"]:
                for turn in range(ROUNDS + 1):
                    for of in sites:  # in turn, so that another load on the machine meets both
                        done = [users.submit(asked, client, addresses[of][name]) for client in clients[of]]
                        seconds = [d.result() for d in done]
                        if turn:  # the first of each fills caches
                            taken.setdefault((name, of), []).extend(seconds)
        for name in addresses["alone"]:
            alone, studio = (float(np.percentile(taken[name, of], 95)) for of in ("alone", "studio"))
            print(
                f"{name:<22} {USERS} users, 95 of 100: alone {alone * 1000:6.0f} ms, in the studio {studio * 1000:6.0f} ms, x {studio / alone:.2f}"
            )


if __name__ == "__main__":
    main()
