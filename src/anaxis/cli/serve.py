"""``anaxis serve``: the pages."""

from __future__ import annotations

import os

import click

from anaxis.core.errors import BadInput


@click.command()
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", default=8400, show_default=True)
def serve(host: str, port: int) -> None:
    """Serve the pages; DATABASE_URL names the PostgreSQL to use."""
    import uvicorn

    if not os.environ.get("DATABASE_URL"):
        raise BadInput("DATABASE_URL is not set: run 'make demo', or name a PostgreSQL to use.")
    uvicorn.run("anaxis.web.app:create_app", factory=True, host=host, port=port, log_level="warning")
