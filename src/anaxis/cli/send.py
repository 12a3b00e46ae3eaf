"""Cameras written for packages, proved, moved where they are wanted, and what a script is told of it."""

from __future__ import annotations

import shutil
import sys
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any, NamedTuple

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
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Recipe, Work
from anaxis.core.time.rates import format_frame

if TYPE_CHECKING:  # loaded when first used: the command line starts quicker
    from anaxis.core.findings import Finding
    from anaxis.core.proof.proof import Proof
    from anaxis.delivery.options import DeliveryOptions
    from anaxis.delivery.proved import Delivered
    from anaxis.delivery.shot_camera import ShotCamera
    from anaxis.delivery.transfer_sheet import CameraOrigin
    from anaxis.packages.model import Profile


class GoingOut(NamedTuple):
    """One camera, what was done to it, how it leaves, and what was noticed about it."""

    work: Work
    recipe: Recipe
    leaving: ShotCamera
    findings: list[Finding]

    def open_warnings(self, allowed: frozenset[str]) -> list[Finding]:
        """The warnings that are of none of the codes ``allowed``."""
        return [f for f in self.findings if f.severity != "note" and f.code not in allowed]


class CliResult(NamedTuple):
    """What was written: each camera for a package in a format, refusals, where files of a name lie, and zips."""

    deliveries: list[tuple[Profile, GoingOut, str, Delivered]]
    refused: list[dict[str, str]]
    moved: dict[str, str]
    zips: list[str]

    @property
    def proofs(self) -> list[Proof]:
        return [one.proof for *_, one in self.deliveries]


def send(
    cameras: list[GoingOut], profiles: Sequence[Profile], formats: list[str], out: Path | None, ways: DeliveryOptions, together: str,
    shot: str, expect: tuple[float, float] | None, force: bool, source_of: Callable[[GoingOut], CameraOrigin] | None,
    along: Mapping[str, bytes] | None = None,
) -> CliResult:  # fmt: skip
    """Write cameras, prove them, and move the files to ``out``, with the files ``along``; where it is None nothing is kept.

    ``source_of`` says where a camera came from, for a zip for each package. Raises BadInput, and then nothing is written.
    """
    from anaxis.core.checks.times import stated_range
    from anaxis.delivery.deliver import deliver_in_formats, file_stem

    leaving = [c.leaving for c in cameras]
    sent: list[tuple[Profile, GoingOut, str, Delivered]] = []
    refused: list[dict[str, str]] = []
    zips: list[str] = []
    try:
        if out is not None:
            out.mkdir(parents=True, exist_ok=True)
        # Written aside and moved, so that a failure leaves no half file where one is expected.
        with TemporaryDirectory(prefix=".anaxis-", dir=out) as aside:
            for profile in profiles:
                done, refusals = deliver_in_formats(leaving, profile, formats, Path(aside), ways, together, shot=shot)
                refused += [{"to": profile.key, "format": k, "why": why} for k, why in refusals.items()]
                sent += [
                    (profile, camera, key, _owed(one, expect or stated_range(camera.work)))
                    for camera, of_one in zip(cameras, done, strict=True)
                    for key, one in of_one.items()
                ]
                if source_of is not None:
                    zips.append(f"{file_stem(together or leaving[0].track.name, profile.key, shot)}.zip")
                    (Path(aside) / zips[-1]).write_bytes(_bundle(source_of, cameras, profile, done, refusals))
            for name, data in (along or {}).items():
                (Path(aside) / name).write_bytes(data)
            if out is None:
                return CliResult(sent, refused, {}, [])
            written = list(dict.fromkeys([*(f.name for *_, one in sent for f in one.files), *zips, *(along or {})]))
            there = [name for name in written if (out / name).exists()]
            if there and not force:
                raise BadInput(
                    f"{out / there[0]} is there already{f', and {len(there) - 1} more of these files' if len(there) > 1 else ''}: "
                    "choose another folder with --out or another --name, or add --force to replace it. Nothing was written."
                )
            moved = {name: str(shutil.move(Path(aside) / name, out / name)) for name in written}
    except OSError as error:
        raise BadInput(
            f"The files cannot be written to {out} ({error.strerror or error}): choose another folder with --out."
        ) from error
    return CliResult(sent, refused, moved, zips)


def finish(
    went: CliResult, cameras: list[GoingOut], allowed: frozenset[str], tolerance_px: float, reduce_px: float | None, as_json: bool,
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


def _owed(done: Delivered, expect: tuple[float, float] | None) -> Delivered:
    """A delivery whose proof counts the frames the shot owes, where those were said."""
    from anaxis.core.proof.proof import owing

    return done if expect is None else replace(done, proof=owing(done.proof, *expect))


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


def _bundle(
    source_of: Callable[[GoingOut], CameraOrigin], cameras: list[GoingOut], profile: Profile, done: list[dict[str, Delivered]],
    refused: dict[str, str],
) -> bytes:  # fmt: skip
    from anaxis.delivery.handover import handover_zip
    from anaxis.delivery.transfer_sheet import handed_of

    return handover_zip(
        [handed_of(c.leaving, profile, of_one, source_of(c), refused) for c, of_one in zip(cameras, done, strict=True)]
    )
