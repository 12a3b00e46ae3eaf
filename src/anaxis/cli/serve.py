"""``anaxis serve``: the pages."""

from __future__ import annotations

import os
import threading

import click

from anaxis.core.errors import BadInput

# Whatever is being done when it is asked to end: so long may the answers under way take, and so long all of it.
_ANSWERS_S, _ENDS_S = 4, 8.0


@click.command()
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", default=8400, show_default=True)
@click.option("--worker", is_flag=True, help="Start a worker of its own for long work; else 'anaxis worker' does it.")
def serve(host: str, port: int, worker: bool) -> None:
    """Serve the pages; DATABASE_URL names the PostgreSQL to use."""
    import logging

    import uvicorn

    from anaxis.web.app import create_app
    from anaxis.work.sandbox.folders import how_readers_work, settle

    if not os.environ.get("DATABASE_URL"):
        raise BadInput("DATABASE_URL is not set: run 'make demo', or name a PostgreSQL to use.")
    settle()
    logging.basicConfig(level=logging.WARNING, format="%(name)s: %(message)s")
    logging.getLogger("anaxis").setLevel(logging.INFO)
    logging.getLogger("anaxis").info(how_readers_work())

    class Server(uvicorn.Server):
        def handle_exit(self, sig: int, frame: object) -> None:
            over = threading.Timer(_ENDS_S, os._exit, (0,))
            over.daemon = True
            over.start()
            super().handle_exit(sig, frame)  # type: ignore[arg-type]

    app = create_app(own_worker=worker, bound_to=host)
    config = uvicorn.Config(
        app, host=host, port=port, log_level="warning", timeout_graceful_shutdown=_ANSWERS_S, timeout_keep_alive=15,
        backlog=512, server_header=False,
    )  # fmt: skip
    Server(config).run()
