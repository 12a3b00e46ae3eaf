"""``anaxis exchange``: what concerns packages that speak the exchange."""

from __future__ import annotations

import asyncio
import sys

import click

from anaxis.cli import options
from anaxis.cli.tables import OFF_TOLERANCE, print_json


@click.group()
def exchange() -> None:
    """Packages that share their cameras live."""


@exchange.command()
@click.option("--port", default=8450, show_default=True, type=click.IntRange(1, 65535), help="Port for the package.")
@click.option(
    "--patience",
    "patience_s",
    default=5.0,
    show_default=True,
    type=click.FloatRange(0.1, 600),
    help="Seconds to wait for an answer.",
)
@options.json
def check(port: int, patience_s: float, as_json: bool) -> None:
    """Test a package that connects: drive it through every part of the exchange and show what passes. The test changes cameras of the scene, so open a copy. Exit 3 if a part fails."""
    from anaxis.conformance.checks import Result, conformance

    def say(result: Result) -> None:
        mark = "not tested" if result.holds is None else "holds" if result.holds else "FAILS"
        click.echo(f"{mark:14}{result.name}{f': {result.said}' if result.said else ''}")

    click.echo(f"Connect the package to http://127.0.0.1:{port}, with a copy of a scene that has a camera.", err=True)
    found = asyncio.run(conformance(port, patience_s, (lambda r: None) if as_json else say))
    if as_json:
        print_json({"holds": all(r.holds for r in found), "checks": [r.document() for r in found]})
    if not all(r.holds for r in found):
        sys.exit(OFF_TOLERANCE)
