"""Commands about packages and what arrives in them: ``arrive``, ``proof``, ``diagnose``, ``profile``, ``calibrate``."""

from __future__ import annotations

import json
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from anaxis.cli import options
from anaxis.cli.read import read_meant, read_scene
from anaxis.cli.tables import OFF_TOLERANCE, console, print_json, table
from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput
from anaxis.core.number_text import px_text
from anaxis.core.time.rates import format_frame, plain_frame, rate_text
from anaxis.formats import WRITTEN

if TYPE_CHECKING:
    from anaxis.delivery.numbering import Numbering
    from anaxis.delivery.shot_camera import ShotCamera
    from anaxis.diagnosis.returned import CameBack
    from anaxis.library.returned import Meant
    from anaxis.packages.model import Profile

_profile = click.option("--profile", "profile", metavar="PROFILE", help="The package: a shipped key, or a JSON file.")


@click.command()
@options.file
@click.option("--profile", required=True, metavar="PROFILE", help="Shipped profile key, or a JSON file.")
@options.camera
@options.resolution
@options.json
def arrive(file: Path, profile: str, camera: str | None, resolution: Image | None, as_json: bool) -> None:
    """Open a delivered FILE as a package would, with its habits, and show the camera in the numbers of the package."""
    from anaxis.diagnosis.returned import is_own_table
    from anaxis.library.returned import arrived_in
    from anaxis.library.values import numbers_in, rows_of
    from anaxis.packages import find_profile

    package = find_profile(profile)
    if not is_own_table(file, package):
        scene = read_scene(file)  # in a process of its own: what cannot be read, or refers to other files, ends here
        outside = next((f for f in scene.findings if f.code == "outside_reference"), None)
        if outside is not None:
            raise BadInput(f"{file.name}: {outside.message} Flatten it into one file first.")
    seen = arrived_in(file, package, resolution, camera)
    numbers = numbers_in(seen.track, seen.image, package)
    document = {
        "file": file.name,
        "profile": package.key,
        "rate": rate_text(seen.track.rate),
        "resolution": [seen.image.width_px, seen.image.height_px],
        "habits": [h.sentence for h in package.habits],
        "frames": rows_of(numbers),
    }
    if as_json:
        print_json(document)
        return
    rows = table("frame", "X", "Y", "Z", "rotation X", "rotation Y", "rotation Z", "focal", "hfov")
    for i in range(len(numbers.frames)):
        rows.add_row(
            format_frame(numbers.frames[i]),
            *(f"{v:.4f}" for v in numbers.position[i]),
            *(f"{v:.4f}" for v in numbers.rotation_deg[i]),
            f"{numbers.focal_mm[i]:.3f}",
            f"{numbers.hfov_deg[i]:.3f}",
        )
    console().print(rows)
    for h in package.habits:
        click.echo(f"The package {h.sentence}.")


def _pair(command: Any) -> Any:
    """The camera meant, the one that arrived, and what files do not say."""
    for option in (
        options.json,
        _profile,
        options.fit,
        options.resolution,
        click.option("--arrived-camera", help="Path or name of the returned camera, if the file has several."),
        options.camera,
        click.argument("arrived", type=click.Path(path_type=Path)),
        click.argument("meant", type=click.Path(path_type=Path)),
    ):
        command = option(command)
    return command


def _numbered(source: Meant, back: CameBack, package: Profile | None, arrived: Path) -> tuple[ShotCamera, Numbering]:
    """The camera meant as it went out, and the frame numbers of a usual delivery that the one that came back has."""
    from anaxis.formats import reader_of
    from anaxis.library.returned import usual_numbering

    sent = source.sent
    numbering = usual_numbering(sent, back, package, reader_of(arrived.name).key)
    if numbering.sentence:
        click.echo(f"note: {numbering.sentence}", err=True)
    return sent, numbering


def _read_pair(
    meant: Path,
    arrived: Path,
    camera: str | None,
    arrived_camera: str | None,
    resolution: Image | None,
    source_fit: str | None,
    profile: str | None,
) -> tuple[Meant, CameBack, Profile | None]:
    from anaxis.library.returned import came_back
    from anaxis.packages import find_profile

    package = find_profile(profile) if profile else None
    source = read_meant(meant, camera, resolution, source_fit)
    back, notes = came_back(arrived, package, source.picture, source.work.done, arrived_camera, read_scene)
    for note in notes:
        click.echo(f"note: {note}", err=True)
    return source, back, package


@click.command()
@_pair
@click.option("--tolerance-px", type=float, default=0.01, show_default=True)
@click.option(
    "--prove-between",
    "between",
    default=1,
    show_default=True,
    type=click.IntRange(1, 100),
    help="Times in each frame at which to compare.",
)
def proof(
    meant: Path, arrived: Path, camera: str | None, arrived_camera: str | None, resolution: Image | None, source_fit: str | None,
    profile: str | None, tolerance_px: float, between: int, as_json: bool,
) -> None:  # fmt: skip
    """Measure the returned camera ARRIVED against the expected camera MEANT, in pixels on every frame."""
    from anaxis.diagnosis.returned import compared
    from anaxis.library.returned import in_sent_numbers

    source, back, package = _read_pair(meant, arrived, camera, arrived_camera, resolution, source_fit, profile)
    sent, numbering = _numbered(source, back, package, arrived)
    here = in_sent_numbers(back, numbering, sent.track)
    found = compared(sent.track, sent.landmarks, sent.picture, here, package, between).proof
    document = {
        "max_px": found.max_px,
        "worst_frame": plain_frame(found.worst_frame),
        "median_px": found.median_px,
        "grade": found.grade,
        "test_points": found.test_points,
        "frames": [plain_frame(f) for f in found.frames.tolist()],
        "deviation_px": found.deviation_px.tolist(),
        "missing_frames": [plain_frame(f) for f in found.missing.tolist()],
        "differences": [d._asdict() for d in found.differences],
        "between_px": found.between_px,
        "between_frame": None if found.between_frame is None else plain_frame(found.between_frame),
    }
    if as_json:
        print_json(document)
    else:
        click.echo(
            f"{found.grade.upper()}: {px_text(found.max_px)} at most, at frame {format_frame(found.worst_frame)}; median "
            f"{px_text(found.median_px)}, {found.test_points} points on each of {len(found.frames)} frames"
        )
        if found.between_px is not None and found.between_frame is not None:
            click.echo(f"between frames {px_text(found.between_px)} at most, at {format_frame(found.between_frame)}")
        if len(found.missing):
            click.echo(f"{len(found.missing)} frames are missing, the first is {format_frame(found.missing[0])}.")
        for other in found.differences:
            click.echo(f"{'another' if other.matters else 'note'}: {other.sentence}")
    if not found.within(tolerance_px) or (found.between_px or 0.0) > tolerance_px:
        sys.exit(OFF_TOLERANCE)


@click.command()
@_pair
def diagnose(
    meant: Path, arrived: Path, camera: str | None, arrived_camera: str | None, resolution: Image | None, source_fit: str | None,
    profile: str | None, as_json: bool,
) -> None:  # fmt: skip
    """Find the cause of the difference between the expected camera MEANT and the returned camera ARRIVED."""
    from anaxis.diagnosis.returned import bare_of_work
    from anaxis.library.returned import diagnosis_document, explained

    source, back, package = _read_pair(meant, arrived, camera, arrived_camera, resolution, source_fit, profile)
    above = bare_of_work(source.work)
    sent, numbering = _numbered(source, back, package, arrived)
    found, measured = explained(sent, sent.landmarks, above, numbering, back, package)
    others = [] if measured is None else [d for d in measured.proof.differences if d.matters]
    if as_json:
        print_json(diagnosis_document(found.explanations, found.explained, others))
        return
    if not found.explained:
        click.echo("No known cause explains this. Closest:")
    for e in found.explanations:
        fits = ", ".join(f"{format_frame(a)} to {format_frame(b)}" for a, b in e.frames[:5]) or "none"
        click.echo(f"- {e.sentence} Frames that fit: {fits}.")
    for other in others:
        click.echo(f"another: {other.sentence}")


@click.group()
def profile() -> None:
    """List, show, check and compare package profiles."""


@profile.command("list")
@options.json
@click.pass_context
def profile_list(ctx: click.Context, as_json: bool) -> None:
    """List the shipped package profiles."""
    from anaxis.cli.profiles import profiles

    ctx.invoke(profiles, as_json=as_json)


@profile.command("show")
@click.argument("key")
def profile_show(key: str) -> None:
    """Print one profile as JSON."""
    from anaxis.packages import find_profile

    print_json(find_profile(key).model_dump(mode="json"))


@profile.command("check")
@click.argument("file", type=click.Path(path_type=Path))
def profile_check(file: Path) -> None:
    """Check a profile file. Exit 2 with a sentence if it is wrong."""
    from anaxis.packages.model import profile_from_file

    found = profile_from_file(file)
    click.echo(
        f"{file.name} is a valid profile: {found.label}, {len(found.habits)} habit{'s' * (len(found.habits) != 1)}."
    )


@profile.command("map")
@click.argument("a")
@click.argument("b")
@options.json
def profile_map(a: str, b: str, as_json: bool) -> None:
    """Show how the channels of package A map to package B."""
    from anaxis.library.values import mapping_between
    from anaxis.packages import find_profile

    source, target = find_profile(a), find_profile(b)
    mapping = mapping_between(source.convention, target.convention)
    found = mapping.found
    if as_json:

        def entries(rows: Sequence[tuple[int, float, float]]) -> list[dict[str, Any]]:
            return [{"from": "xyz"[c], "factor": f, "add": o} for c, f, o in rows]

        print_json({
            "from": source.key, "to": target.key, "scale": found.scale, "position": entries(found.position), "rotation_deg": entries(found.rotation),
            "rotation_order": found.order or target.convention.order, "camera_offset_deg": found.offset_deg,
            "world_matrix": found.turn.tolist(), "camera_matrix": found.camera.tolist(),
        })  # fmt: skip
        return
    for line in [*mapping.position_lines, *mapping.rotation_lines]:
        click.echo(line)


@click.group()
def calibrate() -> None:
    """Calibrate an unknown package with a test camera."""


@calibrate.command("start")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder for the files.")
@click.option(
    "--format",
    "format_key",
    default="usd",
    show_default=True,
    type=click.Choice([f.key for f in WRITTEN if f.calibrates]),
)
def calibrate_start(out: Path, format_key: str) -> None:
    """Write the test camera, its points and the form to fill in."""
    from anaxis.diagnosis.calibration_kit import write_start

    for path in write_start(out, format_key):
        click.echo(f"written: {path}")


@calibrate.command("finish")
@click.argument("returned", type=click.Path(path_type=Path))
@click.option(
    "--second", type=click.Path(path_type=Path), help="Completed form of calibration_second (other unit and up axis)."
)
@click.option(
    "--third", type=click.Path(path_type=Path), help="Completed form of calibration_third (other film aspect)."
)
@click.option("--key", required=True, help="Key of the new profile.")
@click.option("--label", default="", help="Label of the new profile.")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="The profile's JSON file.")
@options.json
def calibrate_finish(
    returned: Path, second: Path | None, third: Path | None, key: str, label: str, out: Path, as_json: bool
) -> None:
    """Write the profile from the completed form RETURNED."""
    from anaxis.diagnosis.calibration import learned
    from anaxis.diagnosis.calibration_form import returned_from_file

    found = learned(
        returned_from_file(returned),
        key,
        label or key,
        returned_from_file(second, "camera") if second else None,
        returned_from_file(third, "pixels") if third else None,
    )
    out.write_text(json.dumps(found.profile.model_dump(mode="json"), indent=2), encoding="utf-8")
    document = {
        "profile": found.profile.model_dump(mode="json"),
        "confidence": found.confidence,
        "residual_px": found.residual_px,
        "second_round": list(found.second_round),
        "explained": found.explained,
    }
    if as_json:
        print_json(document)
        return
    click.echo(f"written: {out}")
    for name, share in found.confidence.items():
        click.echo(f"  {name}: {share:.0%} sure")
    for line in found.second_round:
        click.echo(f"  a second round would decide: {line}")
