"""``anaxis transfer``: cameras written for packages, each proved by opening the written file again."""

from __future__ import annotations

import hashlib
import shutil
import sys
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any, NamedTuple

import click

from anaxis.cli import options
from anaxis.cli.read import ReadSource, read_source, start_reader
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
from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Recipe, Work
from anaxis.core.time.rates import format_frame

if TYPE_CHECKING:  # loaded when first used: the command line starts quicker
    from anaxis.core.findings import Finding
    from anaxis.core.image_plane import Pictures
    from anaxis.core.proof.proof import Proof
    from anaxis.delivery.options import Options
    from anaxis.delivery.proved import Delivered
    from anaxis.delivery.shot_camera import ShotCamera
    from anaxis.packages.model import Profile


@click.command()
@options.file
@click.option(
    "--camera",
    "names",
    multiple=True,
    help="Path or name of a camera; needed where there are several, and may be given again.",
)
@click.option(
    "--together", is_flag=True, help="The cameras in one file, in formats that hold several; else a file each."
)
@click.option("--under-root", is_flag=True, help="The camera below a root that carries the recipe's placement.")
@click.option(
    "--to",
    "to",
    required=True,
    multiple=True,
    metavar="PROFILE",
    help="Shipped profile key, or a JSON file; may be given again.",
)
@click.option(
    "--format",
    "formats",
    required=True,
    type=options.Formats(),
    help="One of usd, abc, gltf, dae, columns, json, or several with commas.",
)
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder for the files.")
@click.option(
    "--bundle", is_flag=True, help="A zip for each package: cameras, landmarks, set, axis check, sheet, manifest."
)
@options.resolution
@options.fit
@click.option("--tolerance-px", type=float, help="Exit 3 above it (0.01; with --reduce-px, that number).")
@click.option(
    "--samples", type=int, default=1, help="Samples a frame for motion blur, the source's own where it has some."
)
@click.option(
    "--shutter",
    type=options.Shutter(),
    default="-0.25,0.25",
    help="Where they lie about their frame, in frames (-0.25,0.25).",
)
@click.option(
    "--prove-between", "between", type=int, default=1, help="Compare the picture at so many places a frame, too."
)
@click.option(
    "--expect", "expect", type=options.Frames(), help="The frames the shot owes; exit 3 where some are missing."
)
@click.option(
    "--allow",
    "allow",
    multiple=True,
    metavar="CODE",
    help="A warning that is no reason to exit 4; with commas, or again.",
)
@click.option(
    "--overscan",
    default="",
    metavar="auto|PERCENT|WxH",
    help="Render more than the plate: what its distortion needs, a percentage as 10%, or a size as 2112x1188.",
)
@click.option("--multiple", type=click.IntRange(1, 1024), default=2, help="Its sides are multiples of so many px (2).")
@click.option("--tight", is_flag=True, help="With auto: each side takes what it needs alone; the offsets move.")
@click.option(
    "--image-plane", "plane_m", type=float, help="A quad that fills the picture, so many metres before the camera."
)
@click.option("--plane-opacity", type=float, default=1.0, help="Its opacity, 0 to 1 (1).")
@click.option(
    "--plate", "plate", type=click.Path(path_type=Path), help="The pictures on it: a folder, a file, or name.####.exr."
)
@click.option("--name", "shot_name", help="The shot's name, in front of the files' names; else from the file.")
@click.option("--force", is_flag=True, help="Replace files of the same name.")
@options.source_and_changes
@options.json
def transfer(
    file: Path, names: tuple[str, ...], together: bool, under_root: bool, to: tuple[str, ...], formats: list[str], out: Path,
    bundle: bool, resolution: Image | None, source_fit: str | None, reduce_px: float | None, tolerance_px: float | None, as_json: bool,
    samples: int, shutter: tuple[float, float], between: int, expect: tuple[float, float] | None, allow: tuple[str, ...],
    overscan: str, multiple: int, tight: bool, plane_m: float | None, plane_opacity: float, plate: Path | None, shot_name: str | None, force: bool, **stated: Any,
) -> None:  # fmt: skip
    """Write cameras for one or more packages and prove each by opening the written file again."""
    reader = start_reader(file)
    from anaxis.delivery.deliver import deliver_in_formats, file_stem
    from anaxis.delivery.options import Options
    from anaxis.packages import find_profile

    allowed = {code.strip() for given in allow for code in given.split(",")}
    profiles = [find_profile(t) for t in to]
    if tolerance_px is None:
        tolerance_px = max(reduce_px or 0.0, 0.01)
    if not tolerance_px >= 0:
        raise BadInput(f"The tolerance {tolerance_px:g} px must be zero or more.")
    ways = Options(
        reduce_px,
        under_root=under_root,
        samples=samples,
        shutter_open=shutter[0],
        shutter_close=shutter[1],
        between=between,
        overscan=overscan,
        multiple=multiple,
        tight=tight,
        plane_m=plane_m,
        plane_opacity=plane_opacity,
    )
    asked = read_source(reader, file, resolution, source_fit, stated)
    cameras = [_going_out(asked, name, ways, expect) for name in names or (None,)]
    if plate is not None:
        cameras = [c._replace(leaving=replace(c.leaving, pictures=_pictures(plate))) for c in cameras]
    shot = file.stem if shot_name is None else shot_name
    leaving = [c.leaving for c in cameras]
    name_together = file.stem if together else ""
    sent: list[tuple[Profile, _GoingOut, str, Delivered]] = []
    refused: list[dict[str, str]] = []
    zips: list[str] = []
    try:
        out.mkdir(parents=True, exist_ok=True)
        # Written aside and moved, so that a failure leaves no half file where one is expected.
        with TemporaryDirectory(prefix=".anaxis-", dir=out) as aside:
            for profile in profiles:
                done, refusals = deliver_in_formats(
                    leaving, profile, formats, Path(aside), ways, name_together, shot=shot
                )
                refused += [{"to": profile.key, "format": k, "why": why} for k, why in refusals.items()]
                sent += [
                    (profile, camera, key, _owed(one, expect))
                    for camera, of_one in zip(cameras, done, strict=True)
                    for key, one in of_one.items()
                ]
                if bundle:
                    zips.append(f"{file_stem(name_together or leaving[0].track.name, profile.key, shot)}.zip")
                    (Path(aside) / zips[-1]).write_bytes(_bundle(file, cameras, profile, done, refusals))
            written = list(dict.fromkeys([*(f.name for *_, one in sent for f in one.files), *zips]))
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
    entries = []
    for profile, camera, key, one in sent:
        entry = {"camera": camera.work.path, **transfer_entry(profile.key, key, one, reduce_px)}
        entries.append(entry | {"files": [moved[f] for f in entry["files"]]})
    worst = max((one.proof for *_, one in sent), key=lambda p: (not p.within(tolerance_px), p.max_px))
    warnings = [f for c in cameras for f in c.findings if f.severity != "note" and f.code not in allowed]
    document: dict[str, Any] = {
        "camera": cameras[0].work.path,
        "files": list(moved.values()),
        "proof": proof_document(worst),
        "notes": list(dict.fromkeys(n for e in entries for n in e["notes"])),
        "findings": [{"camera": c.work.path, **f.as_dict()} for c in cameras for f in c.findings],
        "deliveries": entries,
        **({"refused": refused} if refused else {}),
    }
    if len(entries) == 1 and "keys" in entries[0]:
        document["keys"] = entries[0]["keys"]
    if as_json:
        print_json(document)
    else:
        for (profile, *_), entry in zip(sent, entries, strict=True):
            print_transfer(entry, profile.label)
        for name in zips:
            click.echo(f"written: {moved[name]}")
        print_findings([(c.work.path, f) for c in cameras for f in c.findings])
    sys.exit(_exit_code([one.proof for *_, one in sent], refused, warnings, tolerance_px))


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


class _GoingOut(NamedTuple):
    """One camera of the file, what was done to it, how it leaves, and what was noticed about it."""

    work: Work
    recipe: Recipe
    leaving: ShotCamera
    findings: list[Finding]


def _going_out(asked: ReadSource, name: str | None, ways: Options, expect: tuple[float, float] | None) -> _GoingOut:
    from anaxis.core.checks import Expected
    from anaxis.core.checks.examine import between_samples, checked_camera
    from anaxis.core.recipe.effects import placement_of
    from anaxis.delivery.shot_camera import ShotCamera

    recipe = asked.steps(name)
    owed = Expected(*expect) if expect is not None else Expected()
    work, findings = checked_camera(asked.scene, name, recipe, owed, asked.picture)
    has, finer = between_samples(asked.scene, work, recipe, wanted=ways.samples > 1)
    leaving = ShotCamera(work.done, work.landmarks, asked.picture, placement_of(recipe), work.lines_m, finer, has)
    return _GoingOut(work, recipe, leaving, findings)


def _pictures(plate: Path) -> Pictures:
    """The plate's files by frame, as they lie here, and one of them small, for files that hold no sequence."""
    from anaxis.core.image_plane import Pictures
    from anaxis.formats.plates.found import sequence_at
    from anaxis.work.sandbox.plates import plate_work

    found = sequence_at(plate)
    first = min(found.files)
    (done,) = plate_work({"do": "proxies", "view": "plain", "stops": 0.0}, {first: Path(found.files[first])})
    if "error" in done:
        raise BadInput(done["error"])
    files = {} if found.is_movie else {f: Path(p).resolve().as_posix() for f, p in found.files.items()}
    return Pictures(found.name, files, done["data"])


def _bundle(
    file: Path, cameras: list[_GoingOut], profile: Profile, done: list[dict[str, Delivered]], refused: dict[str, str]
) -> bytes:
    from anaxis.core.recipe.documents import recipe_document
    from anaxis.delivery.handover import handover_zip
    from anaxis.delivery.transfer_sheet import Source, handed_of

    checksum = hashlib.sha256(file.read_bytes()).hexdigest()
    return handover_zip(
        [
            handed_of(
                c.leaving, profile, of_one, Source(file.name, checksum, c.work.path, recipe_document(c.recipe)), refused
            )
            for c, of_one in zip(cameras, done, strict=True)
        ]
    )
