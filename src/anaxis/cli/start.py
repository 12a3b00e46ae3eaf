"""``anaxis start``: all that belongs together, kept running."""

from __future__ import annotations

import os
from contextlib import nullcontext
from pathlib import Path

import click


@click.command()
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", default=8400, show_default=True)
@click.option("--workers", default=1, show_default=True, type=click.IntRange(0, 64), help="Number of workers.")
@click.option(
    "--folder",
    type=click.Path(file_okay=False, path_type=Path),
    default=Path("var"),
    show_default=True,
    help="Data folder of the database, if DATABASE_URL is not set.",
)
def start(host: str, port: int, workers: int, folder: Path) -> None:
    """Run pages, workers and, without DATABASE_URL, a database. Restart each one that ends."""
    from anaxis.monitoring.logs import begin_logs
    from anaxis.store.local_postgres import LocalPostgres
    from anaxis.worker.supervise import Supervisor

    begin_logs()
    given = os.environ.get("DATABASE_URL")
    with nullcontext() if given else LocalPostgres(folder) as own:
        Supervisor(host, port, given or own.url, own, workers).run()  # type: ignore[union-attr]
