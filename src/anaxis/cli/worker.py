"""``anaxis worker``: long work, done on this machine."""

from __future__ import annotations

import os

import click

from anaxis.core.errors import BadInput


@click.command()
@click.option("--concurrency", default=2, show_default=True, type=click.IntRange(1, 64), help="Jobs done at once.")
@click.option("--owned", is_flag=True, hidden=True, help="End with the process that holds standard input open.")
def worker(concurrency: int, owned: bool) -> None:
    """Do long work from the queue until it is ended; DATABASE_URL names the PostgreSQL that holds it.

    Any number of them may run, on any machine that reaches the database.
    """
    from anaxis.worker.process import main

    if not os.environ.get("DATABASE_URL"):
        raise BadInput("DATABASE_URL is not set: name the PostgreSQL that the pages use.")
    main(owned, concurrency)
