"""``anaxis transfer``: cameras written for packages, each proved by opening the written file again."""

from __future__ import annotations

import hashlib
import shutil
import sys
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any, NamedTuple

import click

from anaxis import cli_options as options
from anaxis.cli_read import Asked, read_source, start_reader
from anaxis.cli_tables import OFF_TOLERANCE, print_json, print_transfer, proof_document, transfer_entry
from anaxis.core.errors import BadInput
from anaxis.core.lens import Image
from anaxis.core.recipe import Recipe, Work
from anaxis.core.timing import format_frame

if TYPE_CHECKING:  # loaded when first used: the command line starts quicker
    from anaxis.profiles.model import Profile
    from anaxis.sending import Delivered, Leaving


@click.command()
@options.file
@click.option(
    "--camera",
    "names",
    multiple=True,
    help="Path or name of a camera; needed where there are several, and may be given again.",
)
@click.option(
    "--together",
    is_flag=True,
    help="The cameras in one file, in formats that hold several; else a file each.",
)
@click.option(
    "--under-root", is_flag=True, help="The camera below a root that carries the recipe's placement."
)
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
    "--bundle",
    is_flag=True,
    help="A zip for each package: cameras, landmarks, set, axis check, sheet, manifest.",
)
@options.resolution
@options.fit
@click.option("--tolerance-px", type=float, help="Exit 3 above it (0.01; with --reduce-px, that number).")
@options.source_and_changes
@options.json
def transfer(
    file: Path, names: tuple[str, ...], together: bool, under_root: bool, to: tuple[str, ...], formats: list[str], out: Path,
    bundle: bool, resolution: Image | None, source_fit: str | None, reduce_px: float | None, tolerance_px: float | None, as_json: bool,
    **stated: Any,
) -> None:  # fmt: skip
    """Write cameras for one or more packages and prove each by opening the written file again."""
    reader = start_reader(file)
    from anaxis.profiles import find_profile
    from anaxis.sending import Options, deliver_in_formats, file_stem

    profiles = [find_profile(t) for t in to]
    if tolerance_px is None:
        tolerance_px = max(reduce_px or 0.0, 0.01)
    if not tolerance_px >= 0:
        raise BadInput(f"The tolerance {tolerance_px:g} px must be zero or more.")
    asked = read_source(reader, file, resolution, source_fit, stated)
    cameras = [_going_out(asked, name) for name in names or (None,)]
    leaving = [c.leaving for c in cameras]
    ways, name_together = Options(reduce_px, under_root=under_root), file.stem if together else ""
    sent: list[tuple[Profile, Work, str, Delivered]] = []
    zips: list[str] = []
    try:
        out.mkdir(parents=True, exist_ok=True)
        # Written aside and moved, so that a failure leaves no half file where one is expected.
        with TemporaryDirectory(prefix=".anaxis-", dir=out) as aside:
            for profile in profiles:
                done = deliver_in_formats(leaving, profile, formats, Path(aside), ways, name_together)
                sent += [
                    (profile, camera.work, key, one)
                    for camera, of_one in zip(cameras, done, strict=True)
                    for key, one in of_one.items()
                ]
                if bundle:
                    zips.append(f"{file_stem(name_together or leaving[0].track.name, profile.key)}.zip")
                    (Path(aside) / zips[-1]).write_bytes(_bundle(file, cameras, profile, done))
            written = list(dict.fromkeys([*(f.name for *_, one in sent for f in one.files), *zips]))
            moved = {name: str(shutil.move(Path(aside) / name, out / name)) for name in written}
    except OSError as error:
        raise BadInput(
            f"The files cannot be written to {out} ({error.strerror or error}): choose another folder with --out."
        ) from error
    entries = []
    for profile, work, key, one in sent:
        entry = {"camera": work.path, **transfer_entry(profile.key, key, one, reduce_px)}
        entries.append(entry | {"files": [moved[f] for f in entry["files"]]})
    worst = max((one.proof for *_, one in sent), key=lambda p: p.max_px)
    document: dict[str, Any] = {
        "camera": cameras[0].work.path, "files": list(moved.values()), "proof": proof_document(worst),
        "notes": list(dict.fromkeys(n for e in entries for n in e["notes"])), "deliveries": entries,
    }  # fmt: skip
    if len(entries) == 1 and "keys" in entries[0]:
        document["keys"] = entries[0]["keys"]
    if as_json:
        print_json(document)
    else:
        for (profile, work, *_), entry in zip(sent, entries, strict=True):
            print_transfer(entry, profile.label, len(work.done))
        for name in zips:
            click.echo(f"written: {moved[name]}")
    if not worst.within(tolerance_px):
        click.echo(
            f"anaxis: The camera that arrives differs by {worst.max_px:.4g} px at frame "
            f"{format_frame(worst.worst_frame)}, above the tolerance of {tolerance_px:g} px.",
            err=True,
        )
        sys.exit(OFF_TOLERANCE)


class _GoingOut(NamedTuple):
    """One camera of the file, what was done to it, and how it leaves."""

    work: Work
    recipe: Recipe
    leaving: Leaving


def _going_out(asked: Asked, name: str | None) -> _GoingOut:
    from anaxis.core.placement import placement_of
    from anaxis.flow import take_camera
    from anaxis.sending import Leaving

    recipe = asked.steps(name)
    work = take_camera(asked.scene, name, recipe=recipe)
    leaving = Leaving(work.done, work.landmarks, asked.picture, placement_of(recipe), work.lines_m)
    return _GoingOut(work, recipe, leaving)


def _bundle(
    file: Path, cameras: list[_GoingOut], profile: Profile, done: list[dict[str, Delivered]]
) -> bytes:
    from anaxis.core.recipe import recipe_document
    from anaxis.handover import handover_zip
    from anaxis.transfer_sheet import Source, handed_of

    checksum = hashlib.sha256(file.read_bytes()).hexdigest()
    return handover_zip([
        handed_of(c.leaving, profile, of_one, Source(file.name, checksum, c.work.path, recipe_document(c.recipe)))
        for c, of_one in zip(cameras, done, strict=True)
    ])  # fmt: skip
