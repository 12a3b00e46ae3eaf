"""``anaxis plan`` and ``anaxis run``: what a show owes, and having it done."""

from __future__ import annotations

import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any

import click

from anaxis.cli import options
from anaxis.cli.store import opened_store, show_asked
from anaxis.cli.tables import OFF_TOLERANCE, WARNED, console, print_json, table
from anaxis.core.number_text import px_text

if TYPE_CHECKING:
    from anaxis.app.shows.plan import PlanBoard

_SHOW = click.option("--show", "show", help="The show; needed if there are several.")


@click.group()
def plan() -> None:
    """Show or set the plan of a show in the store of DATABASE_URL."""


@plan.command("show")
@_SHOW
@options.json
def show_plan(show: str | None, as_json: bool) -> None:
    """List the state of each camera for each target: missing, matches, outdated, failed and so on."""
    from anaxis.app.context import Context
    from anaxis.app.roles import LOCAL
    from anaxis.app.shows.plan import board

    with opened_store() as engine, Context(engine, LOCAL) as session:
        found = board(session, show_asked(session, show))
        _say(document_of(found), as_json)


@plan.command("set")
@_SHOW
@options.packages(required=True)
@options.formats(required=True)
@click.option("--shots", help="Shots, separated by commas (default: all).")
@click.option("--recipe", default="", help="Saved recipe to apply first.")
@click.option(
    "--together", type=click.Choice(["shot", "show"]), help="One file with the cameras of each shot, or of the show."
)
@options.reduce_px
@options.delivery
@click.option("--drop", is_flag=True, help="Remove these targets from the plan.")
@options.json
def set_plan(
    show: str | None, to: tuple[str, ...], formats: list[str], shots: str | None, recipe: str, together: str | None, drop: bool, as_json: bool, **given: Any,
) -> None:  # fmt: skip
    """Set the packages and formats that receive the shots."""
    from anaxis.app.context import Context
    from anaxis.app.roles import LOCAL
    from anaxis.app.shows.plan import board, drop_of, set_target, shots_named

    wanted = options.delivery_options(given)
    with opened_store() as engine, Context(engine, LOCAL) as session, session.begin():
        held = show_asked(session, show)
        only = shots_named(held, (shots or "").split(","))
        for package in to:
            for key in formats:
                if drop:
                    drop_of(session, held, package, key)
                else:
                    set_target(session, held, package, key, wanted, recipe, only, together or "")
        _say(document_of(board(session, held)), as_json)


@click.command()
@_SHOW
@click.option("--dry-run", is_flag=True, help="Preview the run without running it.")
@click.option(
    "--watch",
    is_flag=True,
    help="Wait for the end. Exit 3 if a delivery failed or does not match, 4 if a file has an open warning.",
)
@click.option(
    "--out", type=click.Path(path_type=Path, file_okay=False), help="Folder for all delivered files; waits for the end."
)
@options.json
def run(show: str | None, dry_run: bool, watch: bool, out: Path | None, as_json: bool) -> None:
    """Run the plan of a show; workers write the deliveries."""
    from anaxis.app.context import Context
    from anaxis.app.documents import DueDocument
    from anaxis.app.roles import LOCAL
    from anaxis.app.shows.plan import board, due, start_run

    with opened_store() as engine:
        with Context(engine, LOCAL) as session, session.begin():
            held = show_asked(session, show)
            found = board(session, held)
            wanted = due(found)
            listed = [DueDocument.of(d).model_dump(mode="json") for d in wanted]
            if dry_run:
                _say_due(listed, as_json)
                return
            number = start_run(session, held).id
        document: dict[str, Any] = {"run": number, "deliveries": listed}
        watch = watch or out is not None
        if watch:
            document |= _watched(engine, number, quiet=as_json)
        if out is not None:
            document["folder"] = str(_fetched(engine, number, out))
        if as_json:
            print_json(document)
        else:
            click.echo(
                f"run {number}: {len(listed)} deliveries"
                + (f", {document['states']}" if watch else " queued for the workers")
            )
            for failed in document.get("failed", []):
                click.echo(
                    f"{failed['shot']} {failed['camera']} for {failed['to']}, {failed['format']}: {failed['said']}",
                    err=True,
                )
        if watch and (document["failed"] or document["off"]):
            sys.exit(OFF_TOLERANCE)
        if watch and document["warned"]:
            sys.exit(WARNED)


def _fetched(engine: Any, number: int, out: Path) -> Path:
    """Everything of a run below a folder."""
    from anaxis.app.context import Context
    from anaxis.app.everything import everything_of_run, sent_as_zip
    from anaxis.app.roles import LOCAL
    from anaxis.library.unpacked import unpacked
    from anaxis.store.models import Run

    with Context(engine, LOCAL) as session:
        what = everything_of_run(session, session.get_one(Run, number))
    with TemporaryDirectory(prefix="anaxis-run-") as aside:
        archive = Path(aside) / what.name
        with archive.open("wb") as file:
            file.writelines(sent_as_zip(engine, what))
        unpacked(archive, out)
    return out


def _watched(engine: Any, number: int, quiet: bool) -> dict[str, Any]:
    from anaxis.app.context import Context
    from anaxis.app.roles import LOCAL
    from anaxis.app.shows.plan import jobs_of, made_by, progress_of
    from anaxis.store.models import Run

    while True:
        with Context(engine, LOCAL) as session:
            progress = progress_of(session, session.get_one(Run, number))
        if not quiet and sys.stderr.isatty():
            click.echo(f"\r{progress.share:.0%} {progress.states}", err=True, nl=not progress.open)
        if not progress.open:
            break
        time.sleep(0.5)
    with Context(engine, LOCAL) as session:
        jobs = jobs_of(session, session.get_one(Run, number))
        failed = [
            {"shot": j.version.camera.shot.name, "camera": j.version.camera.name, "to": j.params["profile"]["key"], "format": j.params["format"], "said": j.said}
            for j in jobs
            if j.state == "failed"
        ]  # fmt: skip
        made = made_by(session, jobs).values()
        off = [d.id for d in made if not d.matches]
        warned = {d.id: [f.code for f in d.version.open_warnings] for d in made if d.matches and not d.sound}
        worst = max((d.max_px for d in made), default=None)
    return {"states": progress.states, "failed": failed, "off": off, "warned": warned, "worst_px": worst}


def document_of(found: PlanBoard) -> dict[str, Any]:
    """A board as the command line and the interface print it."""
    from anaxis.app.documents import PlanDocument
    from anaxis.app.shows.plan import STATES

    return PlanDocument.of(found, STATES).model_dump(mode="json")


def _say(document: dict[str, Any], as_json: bool) -> None:
    if as_json:
        print_json(document)
        return
    rows = table("shot", "camera", *(f"{t['to']}, {t['format']}" for t in document["targets"]))
    for camera in document["cameras"]:
        cells = [c["state"] if c["max_px"] is None else f"{px_text(c['max_px'])} {c['state']}" for c in camera["cells"]]
        rows.add_row(camera["shot"], f"{camera['camera']} {camera['version']}", *cells)
    console().print(rows)
    click.echo(", ".join(f"{n} {s}" for s, n in document["counts"].items()) or "no plan yet: use 'anaxis plan set'")


def _say_due(listed: list[dict[str, Any]], as_json: bool) -> None:
    if as_json:
        print_json({"due": listed})
        return
    for d in listed:
        click.echo(
            f"{d['shot']} {d['camera']} {d['version']} for {d['to']}, {d['format']}: {d['state']}{f' ({d_why})' if (d_why := d['why']) else ''}"
        )
    click.echo(f"{len(listed)} deliveries to write")
