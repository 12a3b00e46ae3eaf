"""``anaxis worker``: long work, done on this machine."""

from __future__ import annotations

import os

import click

from anaxis.core.errors import BadInput


@click.command()
@click.option("--concurrency", default=2, show_default=True, type=click.IntRange(1, 64), help="Jobs done at once.")
@click.option("--owned", is_flag=True, hidden=True, help="End when standard input closes.")
def worker(concurrency: int, owned: bool) -> None:
    """Do long work from the queue in the database of DATABASE_URL.

    Any number of workers may run, on any machine that reaches the database.
    """
    from anaxis.worker.process import main

    if not os.environ.get("DATABASE_URL"):
        raise BadInput("DATABASE_URL is not set: set the PostgreSQL address of the pages.")
    main(owned, concurrency)
