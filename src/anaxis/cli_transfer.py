"""``anaxis transfer``: cameras written for packages, each proved by opening the written file again."""

from __future__ import annotations

import hashlib
import shutil
import sys
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any

import click

from anaxis import cli_options as options
from anaxis.cli_read import read_source, start_reader
from anaxis.cli_tables import OFF_TOLERANCE, print_json, print_transfer, proof_document, transfer_entry
from anaxis.core.errors import BadInput
from anaxis.core.lens import Image
from anaxis.core.recipe import Recipe, Work
from anaxis.core.timing import format_frame

if TYPE_CHECKING:  # loaded when first used: the command line starts quicker
    from anaxis.core.proof import Proof
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
    from anaxis.core.placement import placement_of
    from anaxis.flow import take_camera
    from anaxis.profiles import find_profile
    from anaxis.sending import Leaving, Options, deliver_in_formats, file_stem

    profiles = [find_profile(t) for t in to]
    if tolerance_px is None:
        tolerance_px = max(reduce_px or 0.0, 0.01)
    if not tolerance_px >= 0:
        raise BadInput(f"The tolerance {tolerance_px:g} px must be zero or more.")
    asked = read_source(reader, file, resolution, source_fit, stated)
    picture = asked.picture
    recipes = [asked.steps(n) for n in names or (None,)]
    works = [take_camera(asked.scene, n, recipe=r) for n, r in zip(names or (None,), recipes, strict=True)]
    leaving = [
        Leaving(w.done, w.landmarks, picture, placement_of(r), w.lines_m)
        for w, r in zip(works, recipes, strict=True)
    ]
    ways, name_together = Options(reduce_px, under_root=under_root), file.stem if together else ""
    entries: list[dict[str, Any]] = []
    zips: list[str] = []
    proofs: list[Proof] = []
    labels: list[tuple[str, int]] = []
    try:
        out.mkdir(parents=True, exist_ok=True)
        # Written aside and moved, so that a failure leaves no half file where one is expected.
        with TemporaryDirectory(prefix=".anaxis-", dir=out) as aside:
            for profile in profiles:
                done = deliver_in_formats(leaving, profile, formats, Path(aside), ways, name_together)
                for work, of_one in zip(works, done, strict=True):
                    for key, one in of_one.items():
                        entries.append(
                            {"camera": work.path, **transfer_entry(profile.key, key, one, reduce_px)}
                        )
                        proofs.append(one.proof)
                        labels.append((profile.label, len(work.done)))
                if bundle:
                    name = f"{file_stem(name_together or works[0].done.name, profile.key)}.zip"
                    data = _bundle(file, works, leaving, profile, done, recipes)
                    (Path(aside) / name).write_bytes(data)
                    zips.append(name)
            written = list(dict.fromkeys([*(f for e in entries for f in e["files"]), *zips]))
            moved = {name: str(shutil.move(Path(aside) / name, out / name)) for name in written}
    except OSError as error:
        raise BadInput(
            f"The files cannot be written to {out} ({error.strerror or error}): choose another folder with --out."
        ) from error
    for entry in entries:
        entry["files"] = [moved[f] for f in entry["files"]]
    worst = max(proofs, key=lambda p: p.max_px)
    document: dict[str, Any] = {
        "camera": works[0].path, "files": list(moved.values()), "proof": proof_document(worst),
        "notes": list(dict.fromkeys(n for e in entries for n in e["notes"])), "deliveries": entries,
    }  # fmt: skip
    if len(entries) == 1 and "keys" in entries[0]:
        document["keys"] = entries[0]["keys"]
    if as_json:
        print_json(document)
    else:
        for (label, frames), entry in zip(labels, entries, strict=True):
            print_transfer(entry, label, frames)
        for name in zips:
            click.echo(f"written: {moved[name]}")
    if not worst.within(tolerance_px):
        click.echo(
            f"anaxis: The camera that arrives differs by {worst.max_px:.4g} px at frame "
            f"{format_frame(worst.worst_frame)}, above the tolerance of {tolerance_px:g} px.",
            err=True,
        )
        sys.exit(OFF_TOLERANCE)


def _bundle(
    file: Path, works: list[Work], leaving: list[Leaving], profile: Profile, done: list[dict[str, Delivered]], recipes: list[Recipe]
) -> bytes:  # fmt: skip
    from anaxis.core.recipe import recipe_document
    from anaxis.handover import handover_zip
    from anaxis.transfer_sheet import Source, handed_of

    checksum = hashlib.sha256(file.read_bytes()).hexdigest()
    return handover_zip([
        handed_of(camera, profile, of_one, Source(file.name, checksum, work.path, recipe_document(steps)))
        for work, camera, of_one, steps in zip(works, leaving, done, recipes, strict=True)
    ])  # fmt: skip
