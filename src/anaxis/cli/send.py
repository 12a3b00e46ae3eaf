"""What a script is told of cameras that were written for packages: the printed answer and the exit code."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from anaxis.cli.tables import OFF_TOLERANCE, REFUSED, WARNED, console, print_findings, print_json, print_transfer, table
from anaxis.core.number_text import px_text
from anaxis.library.sending import proof_document

if TYPE_CHECKING:  # loaded when first used: the command line starts quicker
    from anaxis.core.findings import Finding
    from anaxis.library.sending import GoingOut, Sent


def finish(
    went: Sent, cameras: list[GoingOut], allowed: frozenset[str], tolerance_px: float, reduce_px: float | None, as_json: bool,
    head: dict[str, Any],
) -> None:  # fmt: skip
    """Print what was written, ``head`` first, and end with the exit code that says the gravest."""
    entries, worst = went.entries(reduce_px), went.worst(tolerance_px)
    warnings = [f for c in cameras for f in c.open_warnings(allowed)]
    document: dict[str, Any] = {
        **head,
        "files": list(went.moved.values()),
        "proof": None if worst is None else proof_document(worst),
        "notes": list(dict.fromkeys(n for e in entries for n in e["notes"])),
        "findings": [{"camera": c.work.path, **f.as_dict()} for c in cameras for f in c.findings],
        "deliveries": entries,
        **({"refused": went.refused} if went.refused else {}),
    }
    if len(entries) == 1 and "keys" in entries[0]:
        document["keys"] = entries[0]["keys"]
    if as_json:
        print_json(document)
    else:
        for (profile, *_), entry in zip(went.deliveries, entries, strict=True):
            print_transfer(entry, profile.label)
        for name in went.zips:
            click.echo(f"written: {went.moved[name]}")
        print_findings([(c.work.path, f) for c in cameras for f in c.findings])
    sys.exit(_exit_code(went, warnings, tolerance_px))


def _exit_code(went: Sent, warnings: list[Finding], tolerance_px: float) -> int:
    """What a script is told, the gravest first; every reason is said on standard error."""
    code = 0
    if warnings:
        code = WARNED
        listed = ", ".join(dict.fromkeys(f.code for f in warnings))
        click.echo(
            f"anaxis: {warnings[0].message} {warnings[0].remedy} (Warnings not allowed: {listed}; allow known ones with --allow.)",
            err=True,
        )
    for r in went.refused:
        code = REFUSED
        click.echo(f"anaxis: There is no {r['format']} file for {r['to']}: {r['why']}", err=True)
    for said in went.off(tolerance_px):
        code = OFF_TOLERANCE
        click.echo(f"anaxis: {said}", err=True)
    return code


def say_everything(manifest: dict[str, Any], out: Path, as_json: bool) -> None:
    """What of a run lies in a folder now. Exit 3 where something does not match, or was not delivered."""
    made, left = manifest["deliveries"], manifest["not_delivered"]
    if as_json:
        print_json({"folder": str(out), **manifest})
    else:
        rows = table("shot", "camera", "to", "format", "answer", "worst", "files")
        for d in made:
            named = ", ".join(f["path"] for f in d["files"])
            rows.add_row(d["shot"], d["camera_name"], d["to"], d["format"], d["verdict"], px_text(d["max_px"]), named)
        console().print(rows)
        for one in left:
            click.echo(
                f"not delivered: {one['shot']} {one['camera']} for {one['to']}, {one['format']}: {one['said'] or one['state']}",
                err=True,
            )
    if left or not all(d["matches"] for d in made):
        sys.exit(OFF_TOLERANCE)
