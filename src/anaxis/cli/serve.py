"""``anaxis serve``: the pages."""

from __future__ import annotations

import gc
import os
import threading
from typing import TYPE_CHECKING

import click

from anaxis.core.errors import BadInput

if TYPE_CHECKING:
    from sqlalchemy import Engine

# Whatever is being done when it is asked to end: so long may the answers under way take, and so long all of it.
_ANSWERS_S, _ENDS_S = 4, 8.0


@click.command()
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", default=8400, show_default=True)
@click.option("--demonstration", default="", hidden=True, metavar="PERSON")
@click.option("--worker", is_flag=True, help="Also start a worker for long work.")
def serve(host: str, port: int, demonstration: str, worker: bool) -> None:
    """Serve the pages with the database of DATABASE_URL."""
    import logging

    import uvicorn

    from anaxis.monitoring.logs import begin_logs
    from anaxis.sandbox.folders import how_readers_work, settle
    from anaxis.web.app import create_app
    from anaxis.web.heads import TimedHeads
    from anaxis.web.security import LOOPBACK

    if not os.environ.get("DATABASE_URL"):
        raise BadInput("DATABASE_URL is not set: run 'make demo', or set a PostgreSQL address.")
    if demonstration and host not in LOOPBACK:
        raise BadInput(f"A demonstration is for this machine only, but {host} is open to others.")
    settle()
    begin_logs()
    logging.getLogger("anaxis").info(how_readers_work())

    class Server(uvicorn.Server):
        def handle_exit(self, sig: int, frame: object) -> None:
            over = threading.Timer(_ENDS_S, os._exit, (0,))
            over.daemon = True
            over.start()
            super().handle_exit(sig, frame)  # type: ignore[arg-type]

    app = create_app(own_worker=worker, bound_to=host, visitor=demonstration)
    _say_the_first_link(app.state.engine, f"http://{host}:{port}" if not demonstration else "")
    config = uvicorn.Config(
        app, host=host, port=port, log_level="warning", log_config=None, timeout_graceful_shutdown=_ANSWERS_S, timeout_keep_alive=15,
        backlog=512, server_header=False, http=TimedHeads,
    )  # fmt: skip
    gc.collect()
    gc.freeze()  # what is loaded stays: the collector need not go through it while requests wait
    Server(config).run()


def _say_the_first_link(engine: Engine, address: str) -> None:
    """Where nobody can sign in yet, how the first administrator does: said on the terminal alone, and kept nowhere."""
    from anaxis.app.context import Context
    from anaxis.app.people.people import first_link
    from anaxis.app.roles import LOCAL

    if not address:
        return
    with Context(engine, LOCAL) as store, store.begin():
        secret = first_link(store)
    if secret:
        click.echo(
            f"Nobody can sign in yet. Set the administrator password with this link: {address}/welcome#{secret}",
            err=True,
        )
