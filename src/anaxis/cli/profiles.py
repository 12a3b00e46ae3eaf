"""``anaxis profiles``: the shipped package profiles."""

from __future__ import annotations

import click

from anaxis.cli import options
from anaxis.cli.tables import console, print_json, table


@click.command()
@options.json
def profiles(as_json: bool) -> None:
    """List the shipped package profiles."""
    from anaxis.packages import shipped_profiles

    if as_json:
        print_json([p.model_dump(mode="json") for p in shipped_profiles().values()])
        return
    rows = table("key", "nature", "looks along", "unit", "rotation", "shows", "fit")
    for p in shipped_profiles().values():
        signs = "".join("+" if s > 0 else "-" for s in p.rotation.signs)
        rows.add_row(
            p.key,
            p.label,
            p.convention.look_axis,
            f"{p.metres_per_unit:g} m",
            f"{p.rotation.order} {signs}",
            p.lens.shown,
            p.lens.fit,
        )
    console().print(rows)
