"""``anaxis contents``, ``backup`` and ``restore``: where stored bytes are, and copies of everything."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path

import click

from anaxis.cli import options
from anaxis.cli.store import database_url, opened_store
from anaxis.cli.tables import console, print_json, table
from anaxis.core.errors import BadInput

_FOLDER = click.Path(file_okay=False, path_type=Path)


@click.group()
def contents() -> None:
    """Show, move and check the stored bytes of files and deliveries: in PostgreSQL, or where ANAXIS_CONTENTS says."""


@contents.command()
@options.json
def show(as_json: bool) -> None:
    """Show how much each place holds, and where new bytes go."""
    from anaxis.app.contents import places
    from anaxis.app.context import Context
    from anaxis.app.roles import LOCAL
    from anaxis.store.content_places import chosen_url

    with opened_store() as engine, Context(engine, LOCAL) as context:
        kept = places(context)
    new = chosen_url() or ""
    if as_json:
        listed = [{"place": p.url or "postgresql", "number": p.number, "bytes": p.size} for p in kept]
        print_json({"places": listed, "new": new or "postgresql"})
        return
    rows = table("place", "number", "MB")
    for place in kept:
        rows.add_row(place.url or "PostgreSQL", f"{place.number:,}", f"{place.size / 1e6:,.1f}")
    console().print(rows)
    console().print(f"New bytes go to {new or 'PostgreSQL'}.")


@contents.command()
def move() -> None:
    """Move all stored bytes to where ANAXIS_CONTENTS says, or into PostgreSQL without it. People can work meanwhile.

    Set ANAXIS_CONTENTS for the pages and the workers first. A move that was interrupted continues when you run it again.
    """
    from anaxis.app.contents import move_contents

    with opened_store() as engine:
        done = move_contents(engine, _progress("moved"))
    click.echo(f"{done.number:,} moved, {done.size / 1e6:,.1f} MB.")
    _say_wrong(done.wrong)


@contents.command()
@click.option("--from", "backup", type=_FOLDER, help="Replace what is missing or damaged from this backup.")
def check(backup: Path | None) -> None:
    """Read all stored bytes and compare them with their checksums."""
    from anaxis.app.contents import check_contents

    with opened_store() as engine:
        done = check_contents(engine, backup, _progress("checked"))
    for sentence in done.mended:
        click.echo(f"Replaced from the backup: {sentence.split(': run ')[0]}.")
    click.echo(f"{done.number:,} checked, {len(done.mended)} replaced, {len(done.wrong)} missing or damaged.")
    _say_wrong(done.wrong)


@click.command()
@click.argument("folder", type=_FOLDER)
def backup(folder: Path) -> None:
    """Write a backup into FOLDER: the database, and the stored bytes outside it, as of one moment. People can work meanwhile.

    A second backup in the same folder copies new bytes alone.
    """
    from anaxis.app.contents import back_up

    with opened_store() as engine:
        done = back_up(engine, folder, _progress("copied"))
    click.echo(
        f"The database is saved in {folder}, with {done.number:,} new pieces of content, {done.size / 1e6:,.1f} MB."
    )
    _say_wrong(done.wrong)


@click.command()
@click.argument("folder", type=_FOLDER)
def restore(folder: Path) -> None:
    """Restore the newest backup in FOLDER into the empty database of DATABASE_URL.

    Keep FOLDER until 'anaxis contents move' has moved the stored bytes from it.
    """
    from anaxis.app.contents import restore as restore_backup

    restored = restore_backup(database_url(), folder)
    click.echo(f"{restored} is restored. Next: run 'anaxis contents move', and keep {folder} until it is done.")


def _progress(said: str) -> Callable[[int], None]:
    """Show a number on a line of a terminal that the next line replaces."""

    def show_number(number: int) -> None:
        if sys.stderr.isatty():
            click.echo(f"{number:,} {said}\r", err=True, nl=False)

    return show_number


def _say_wrong(wrong: list[str]) -> None:
    """Raises BadInput where something is missing or damaged."""
    for sentence in wrong:
        click.echo(sentence, err=True)
    if wrong:
        raise BadInput(
            f"{len(wrong)} of the stored pieces of content are missing or damaged: see above.", "contents_missing"
        )
