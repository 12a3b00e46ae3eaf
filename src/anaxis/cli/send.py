"""What a script is told of cameras that were written for packages: the printed answer and the exit code."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

import click

from anaxis.cli.tables import (
    OFF_TOLERANCE,
    REFUSED,
    WARNED,
    print_findings,
    print_json,
    print_transfer,
    proof_document,
    transfer_entry,
)
from anaxis.core.time.rates import format_frame

if TYPE_CHECKING:  # loaded when first used: the command line starts quicker
    from anaxis.core.findings import Finding
    from anaxis.core.proof.proof import Proof
    from anaxis.library.sending import GoingOut, Sent


def finish(
    went: Sent, cameras: list[GoingOut], allowed: frozenset[str], tolerance_px: float, reduce_px: float | None, as_json: bool,
    head: dict[str, Any],
) -> None:  # fmt: skip
    """Print what was written, ``head`` first, and end with the exit code that says the gravest."""
    entries = []
    for profile, camera, key, one in went.deliveries:
        entry = {"camera": camera.work.path, **transfer_entry(profile.key, key, one, reduce_px)}
        entries.append(entry | {"files": [went.moved[f] for f in entry["files"] if f in went.moved]})
    worst = max(went.proofs, key=lambda p: (not p.within(tolerance_px), p.max_px), default=None)
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
    sys.exit(_exit_code(went.proofs, went.refused, warnings, tolerance_px))


def _exit_code(proofs: list[Proof], refused: list[dict[str, str]], warnings: list[Finding], tolerance_px: float) -> int:
    """What a script is told, the gravest first; every reason is said on standard error."""
    code = 0
    if warnings:
        code = WARNED
        listed = ", ".join(dict.fromkeys(f.code for f in warnings))
        click.echo(
            f"anaxis: {warnings[0].message} {warnings[0].remedy} (Warnings not allowed: {listed}; --allow names those that are known.)",
            err=True,
        )
    for r in refused:
        code = REFUSED
        click.echo(f"anaxis: There is no {r['format']} file for {r['to']}: {r['why']}", err=True)
    off = [p for p in proofs if not p.within(tolerance_px)]
    if off:
        code = OFF_TOLERANCE
        worst = max(off, key=lambda p: p.max_px)
        if worst.max_px > tolerance_px:
            click.echo(
                f"anaxis: The camera that arrives differs by {worst.max_px:.4g} px at frame "
                f"{format_frame(worst.worst_frame)}, above the tolerance of {tolerance_px:g} px.",
                err=True,
            )
        for said in dict.fromkeys(s for p in off for s in _otherwise(p)):
            click.echo(f"anaxis: {said}", err=True)
    return code


def _otherwise(proof: Proof) -> list[str]:
    """What is not there as meant beside the pixels."""
    out = [f"What arrives is another {d.sentence}." for d in proof.differences if d.matters]
    if len(proof.missing):
        out.append(
            f"{len(proof.missing)} of the {proof.owed} frames owed do not arrive, the first of them {format_frame(proof.missing[0])}."
        )
    return out
