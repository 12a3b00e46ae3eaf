"""``anaxis serve``: the pages."""

from __future__ import annotations

import os

import click

from anaxis.core.errors import BadInput


@click.command()
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", default=8400, show_default=True)
@click.option("--worker", is_flag=True, help="Start a worker of its own for long work; else 'anaxis worker' does it.")
def serve(host: str, port: int, worker: bool) -> None:
    """Serve the pages; DATABASE_URL names the PostgreSQL to use."""
    import uvicorn

    from anaxis.web.app import create_app

    if not os.environ.get("DATABASE_URL"):
        raise BadInput("DATABASE_URL is not set: run 'make demo', or name a PostgreSQL to use.")
    uvicorn.run(create_app(own_worker=worker), host=host, port=port, log_level="warning")
