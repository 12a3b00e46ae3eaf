"""``anaxis people``: who there is, and a new link for somebody who cannot sign in any more."""

from __future__ import annotations

from typing import Any

import click

from anaxis.cli import options
from anaxis.cli.store import opened_store
from anaxis.cli.tables import console, print_json, table
from anaxis.core.errors import BadInput


@click.group()
def people() -> None:
    """List people, and create sign-in links, in the database of DATABASE_URL."""


@people.command()
@options.json
def show(as_json: bool) -> None:
    """List people and their roles."""
    from anaxis.app.context import Context
    from anaxis.app.people.people import people as all_people
    from anaxis.app.people.people import roles_called
    from anaxis.app.roles import LOCAL

    with opened_store() as engine, Context(engine, LOCAL) as store:
        listed: list[dict[str, Any]] = [
            {"name": p.name, "roles": dict(roles_called(p)), "password": p.password is not None, "disabled": p.disabled_at is not None}
            for p in all_people(store)
        ]  # fmt: skip
    if as_json:
        print_json({"people": listed})
        return
    rows = table("person", "roles", "may sign in")
    for one in listed:
        roles = ", ".join(
            f"{role} {'' if where == 'everywhere' else 'in '}{where}" for where, role in one["roles"].items()
        )
        rows.add_row(
            one["name"],
            roles or "none",
            "no: disabled" if one["disabled"] else "yes" if one["password"] else "no password yet",
        )
    console().print(rows)


@people.command()
@click.argument("name")
@click.option("--address", default="http://127.0.0.1:8400", show_default=True, help="Address of the pages.")
@click.option("--add", is_flag=True, help="Add NAME as an administrator.")
def link(name: str, address: str, add: bool) -> None:
    """Print a one-time link with which NAME sets a password."""
    from anaxis.app.context import Context
    from anaxis.app.people.people import add_person, link_for, person_named
    from anaxis.app.roles import LOCAL, Role

    with opened_store() as engine, Context(engine, LOCAL) as store, store.begin():
        person = person_named(store, name)
        if person is None and not add:
            raise BadInput(f"There is no person '{name[:60]}': add one with --add.")
        person = person or add_person(store, name, Role.ADMINISTRATOR)
        secret = link_for(store, person)
    click.echo(f"{address.rstrip('/')}/welcome#{secret}")
