"""``anaxis join``, ``anaxis frame`` and ``anaxis hold``: cameras made from cameras."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from anaxis.cli import options
from anaxis.cli.read import guesses_of, read_scene, read_source, start_reader
from anaxis.cli.send import finish
from anaxis.cli.tables import console, table
from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import format_frame, parse_rate, plain_frame

if TYPE_CHECKING:  # loaded when first used: the command line starts quicker
    from anaxis.core.derive.derived import Derived, Input
    from anaxis.core.findings import Finding
    from anaxis.core.recipe.model import Recipe
    from anaxis.delivery.transfer_sheet import CameraOrigin, MadeFrom


def delivered(command: Any) -> Any:
    """What all three ask of what is written."""
    for option in (
        options.json,
        click.option("--force", is_flag=True, help="Replace files of the same name."),
        options.allow,
        click.option(
            "--tolerance-px", type=float, default=0.01, help="Tolerance in pixels: exit 3 above it (default 0.01)."
        ),
        click.option("--name", help="The name of the camera (default: chosen by Anaxis)."),
        click.option("--bundle", is_flag=True, help="Write a zip for each package, with manifest and sheet."),
        click.option(
            "--out",
            type=click.Path(path_type=Path, file_okay=False),
            help="Folder for the files; without it, nothing is written.",
        ),
        options.formats(required=False),
        options.packages(required=False),
    ):
        command = option(command)
    return command


@click.command()
@click.argument("cut", type=click.Path(path_type=Path))
@click.option(
    "--camera",
    "cameras",
    multiple=True,
    required=True,
    metavar="CLIP=FILE",
    help="The camera file of a clip; FILE#CAMERA if it has several. Repeat for each shot.",
)
@click.option("--first", type=int, default=1001, show_default=True, help="Number of the first frame.")
@click.option("--rate", default="24", show_default=True, help="Rate of the EDL timecodes; OpenTimelineIO states it.")
@options.resolution
@click.option(
    "--source-fit", "--fit", "source_fit", help="Fit of the joined picture (default: that of the first shot)."
)
@click.option(
    "--keep",
    type=click.Choice(["width", "height"]),
    default="width",
    show_default=True,
    help="For a shot of another aspect, keep its width or height.",
)
@click.option(
    "--film-back",
    type=click.Choice(["stepped", "common"]),
    default="stepped",
    show_default=True,
    help="Film back: stepped at the cuts, or one common film back.",
)
@click.option(
    "--gaps",
    type=click.Choice(["hold", "close"]),
    default="hold",
    show_default=True,
    help="Frames of the edit without a shot.",
)
@click.option(
    "--missing",
    type=click.Choice(["refuse", "hold"]),
    default="refuse",
    show_default=True,
    help="Missing frames of a shot.",
)
@click.option(
    "--extra", type=click.IntRange(0, 1000), default=0, help="Extra frames at both ends, for filters and motion blur."
)
@click.option("--range", "span", type=options.Frames(), help="A range to check: exit 4 if it differs.")
@delivered
def join(
    cut: Path, cameras: tuple[str, ...], first: int, rate: str, resolution: Image | None, source_fit: str | None, keep: str,
    film_back: str, gaps: str, missing: str, extra: int, span: tuple[float, float] | None, **asked: Any,
) -> None:  # fmt: skip
    """Join the cameras of the shots in a CUT (OpenTimelineIO or EDL)."""
    from anaxis.core.derive import joined
    from anaxis.core.findings import Finding
    from anaxis.delivery.transfer_sheet import MadeFrom
    from anaxis.formats.editorial.write import edit_files, shot_ranges
    from anaxis.library.derived import join as joined_over
    from anaxis.library.derived import laid_over
    from anaxis.sandbox.pictures import safe_cut_list

    if not cut.is_file():
        raise BadInput(f"There is no file {cut}: check the name.")
    edit = safe_cut_list(cut, parse_rate(rate))
    files = _by_clip(cameras)
    laid = laid_over(edit, files, cut.name)
    inputs, said, sources = {}, [], []
    for role, given in files.items():
        inputs[role], notes, source = _read(*given, role)
        said += [f"{role}: {n}" for n in notes]
        sources.append(source)
    wanted = {
        "first": first,
        "fit": source_fit,
        "keep": keep,
        "film_back": film_back,
        "gaps": gaps,
        "missing": missing,
        "name": asked.pop("name"),
    }
    if resolution is not None:
        wanted |= {
            "width_px": resolution.width_px,
            "height_px": resolution.height_px,
            "pixel_aspect": resolution.pixel_aspect,
        }
    made, settings, owed, findings = joined_over(edit, laid, inputs, wanted, span, (extra, extra))
    findings = [*(Finding("edit", "note", n, "Check it in the edit.") for n in said), *findings]
    head = {
        "first_frame": owed["first_frame"], "last_frame": owed["last_frame"],
        "shots": [{"name": s.name, "source_first": plain_frame(s.source_first), "source_last": plain_frame(s.source_last), "first": plain_frame(s.first), "last": plain_frame(s.last), "timecode": list(s.timecodes)} for s in shot_ranges(settings)],
        "render_range": owed,
    }  # fmt: skip
    if not asked["as_json"]:
        _print_shots(head)
    written = edit_files(settings) if asked["out"] is not None else {}
    from_ = MadeFrom(joined.KIND.label, settings.model_dump(mode="json"), tuple(sources), edit_files(settings))
    deliver_derived([(made, from_)], findings, head, asked, written)


@click.command()
@options.file
@options.camera
@click.option(
    "--object",
    "objects",
    multiple=True,
    required=True,
    metavar="NAME",
    help="A landmark or set object to frame. May be repeated.",
)
@click.option(
    "--border",
    default="10",
    show_default=True,
    metavar="N|Npx",
    help="Border on each side: percent of the picture, or pixels such as 40px.",
)
@click.option("--resolution", type=options.Resolution(), help="The new camera's picture (1920x1080).")
@click.option(
    "--view",
    type=click.Choice(["changes", "constant"]),
    default="changes",
    show_default=True,
    help="Field of view over the shot.",
)
@click.option("--stabilised", is_flag=True, help="The plate is stabilised: it does not rotate with its camera.")
@click.option(
    "--plate",
    "plate",
    type=click.Path(path_type=Path),
    help="The equirectangular plate: a folder, a file, or name.####.exr.",
)
@click.option("--plate-size", type=options.Resolution(), help="Size of the plate, if no plate is given (4096x2048).")
@click.option(
    "--maps",
    is_flag=True,
    help="With --out: write ST maps for every frame: out of the plate, into it, and at world orientation.",
)
@click.option(
    "--cut-out", is_flag=True, help="With --out and --plate: write the view of the plate as an image sequence."
)
@click.option(
    "--render",
    "render",
    type=click.Path(path_type=Path),
    help="With --out: map a render of the new camera into the plate, with alpha.",
)
@options.source_and_changes
@delivered
def frame(
    file: Path, camera: str | None, objects: tuple[str, ...], border: str, resolution: Image | None, view: str, stabilised: bool,
    plate: Path | None, plate_size: Image | None, maps: bool, cut_out: bool, render: Path | None, reduce_px: float | None, **given: Any,
) -> None:  # fmt: skip
    """Frame an object with a camera at the position of a 360-degree plate camera."""
    from anaxis.cli.sphere import plate_of, write_sphere
    from anaxis.core.derive import framed
    from anaxis.core.derive.sphere_maps import carried_back_px
    from anaxis.delivery.transfer_sheet import MadeFrom
    from anaxis.library.derived import frame as framed_in

    asked, stated = _split(given)
    found = plate_of(plate) if plate is not None else None
    of_plate = found.image if found is not None else plate_size or Image(4096, 2048)
    source, said, listed = _read(file, camera, framed.PLATE_CAMERA, stated, objects)
    image = resolution or Image(1920, 1080)
    pixels = border.strip().lower().removesuffix("%")
    wanted = {
        "objects": list(objects), "border": _number(pixels.removesuffix("px"), "the border"), "border_in": "px" if pixels.endswith("px") else "percent",
        "view": view, "width_px": image.width_px, "height_px": image.height_px, "plate": "stabilised" if stabilised else "as shot",
        "name": asked.pop("name") or "framing",
    }  # fmt: skip
    made, settings, sphere = framed_in(source, of_plate, wanted)
    focal = made.track.lens.focal_mm
    head: dict[str, Any] = {
        "first_frame": plain_frame(float(made.track.frames[0])), "last_frame": plain_frame(float(made.track.frames[-1])),
        "focal_mm": [float(focal.min()), float(focal.max())],
        "carried_back_px": carried_back_px(sphere),
    }  # fmt: skip
    if asked["out"] is not None and (maps or cut_out or render is not None):
        head["sphere"] = write_sphere(
            sphere, asked["out"], settings.name, asked["force"], maps, found if cut_out else None, render
        )
    elif maps or cut_out or render is not None:
        raise BadInput("Maps and images need a folder: set it with --out.")
    if not asked["as_json"]:
        click.echo(
            f"{settings.name}: frames {head['first_frame']} to {head['last_frame']}, {focal.min():.3f} to {focal.max():.3f} mm; round trip through the plate within {head['carried_back_px']:.4f} px"
        )
    from_ = MadeFrom(framed.KIND.label, settings.model_dump(mode="json"), (listed,))
    deliver_derived([(made, from_)], _notes(said), head, asked)


@click.command()
@options.file
@options.camera
@click.option(
    "--at",
    metavar="FRAME,FRAME",
    help="The frame to hold, or several separated by commas. Without it, Anaxis suggests frames.",
)
@click.option("--overscan", default="", metavar="auto|PERCENT|WxH", help="Overscan, as for a delivery.")
@click.option("--coverage", is_flag=True, help="Show the coverage of the set over the shot.")
@click.option("--set", "other", type=click.Path(path_type=Path), help="Another file with the set.")
@options.resolution
@options.fit
@options.source_and_changes
@delivered
def hold(
    file: Path, camera: str | None, at: str | None, overscan: str, coverage: bool, other: Path | None, resolution: Image | None,
    source_fit: str | None, reduce_px: float | None, **given: Any,
) -> None:  # fmt: skip
    """Hold a shot camera at a frame as a projection camera, and show its coverage."""
    from anaxis.core.derive import held
    from anaxis.delivery.transfer_sheet import MadeFrom
    from anaxis.library.derived import best_frames, covered_by, with_set_of
    from anaxis.library.derived import hold as held_at

    asked, stated = _split(given)
    source, said, listed = _read(file, camera, held.SHOT, stated, (), resolution, source_fit)
    if other is not None:
        source = with_set_of(source, read_scene(other))
    track = source.track
    head: dict[str, Any] = {
        "first_frame": plain_frame(float(track.frames[0])),
        "last_frame": plain_frame(float(track.frames[-1])),
    }
    if at is None:
        head["best"] = best_frames(source)
        _say_best(head, asked["as_json"])
        return
    frames, name = [_number(f, "a frame") for f in at.split(",") if f.strip()], asked.pop("name") or ""
    if not frames:
        raise BadInput("--at names no frame to hold the camera at: write one, or several as 1030,1050.")
    if name and len(frames) > 1:
        raise BadInput("--name names one camera: leave it out, and each is called by its frame.")
    held_cameras = [held_at(source, {"at": f, "overscan": overscan, "name": name}) for f in frames]
    plain = [plain_frame(f) for f in frames]
    head["at"] = plain[0] if len(plain) == 1 else plain
    if coverage:
        head["coverage"] = found = covered_by(source, [one.made for one in held_cameras])
        if not asked["as_json"]:
            names = ", ".join(one.made.track.name for one in held_cameras)
            click.echo(
                f"{names} cover{'s' * (len(held_cameras) == 1)} {found['share']:.1%} of the set that the shot camera sees, {found['worst']:.1%} at worst, at frame {found['worst_frame']}"
            )
    made = [
        (one.made, MadeFrom(held.KIND.label, one.settings.model_dump(mode="json"), (listed,))) for one in held_cameras
    ]
    deliver_derived(made, _notes(said), head, asked)


def _say_best(head: dict[str, Any], as_json: bool) -> None:
    from anaxis.cli.tables import print_json

    if as_json:
        print_json(head)
        return
    rows = table("hold at frames", "coverage")
    for best in head["best"]:
        rows.add_row(", ".join(str(f) for f in best["frames"]), f"{best['share']:.1%}")
    console().print(rows)


def _by_clip(cameras: tuple[str, ...]) -> dict[str, tuple[Path, str | None]]:
    """Each clip's file and the camera in it. Raises BadInput."""
    out: dict[str, tuple[Path, str | None]] = {}
    for given in cameras:
        clip, sign, file = given.partition("=")
        if not (sign and clip.strip() and file):
            raise BadInput(f"'{given}' is not a camera of a clip: write CLIP=FILE, such as TW_010=shot.usd.")
        path, _, name = (
            (file, "", "") if Path(file).is_file() else file.rpartition("#") if "#" in file else (file, "", "")
        )
        out[clip.strip()] = (Path(path), name or None)
    return out


def _read(
    file: Path, camera: str | None, role: str, stated: dict[str, Any] | None = None, objects: tuple[str, ...] = (),
    resolution: Image | None = None, source_fit: str | None = None,
) -> tuple[Input, list[str], dict[str, Any]]:  # fmt: skip
    """A file's camera as an input, what of it is a guess, and what a manifest says of it. Raises BadInput."""
    from anaxis.core.scene.picture import picture_of
    from anaxis.library.derived import input_of

    if stated is None:
        scene = read_scene(file)
        recipe: Recipe = ()
        picture = picture_of(scene, resolution, source_fit)
    else:
        read = read_source(start_reader(file), file, resolution, source_fit, stated)
        scene, picture, recipe = read.scene, read.picture, read.steps(camera)
    found, path = input_of(role, scene, camera, recipe, picture, objects)
    checksum = hashlib.sha256(file.read_bytes()).hexdigest()
    return found, guesses_of(picture), {"role": role, "file": file.name, "sha256": checksum, "camera": path}


def _split(given: dict[str, Any]) -> tuple[dict[str, Any], dict[str, Any]]:
    """What is asked of the files written, and what is stated of the source."""
    mine = ("to", "formats", "out", "bundle", "name", "tolerance_px", "allow", "force", "as_json")
    return {k: given[k] for k in mine}, {k: v for k, v in given.items() if k not in mine}


def _number(text: str, what: str) -> float:
    try:
        return float(text)
    except ValueError as error:
        raise BadInput(f"'{text}' is not a number: type {what}.") from error


def _notes(said: list[str]) -> list[Finding]:
    from anaxis.core.findings import Finding

    return [Finding("guess", "note", s, "State it.") for s in said]


def _print_shots(head: dict[str, Any]) -> None:
    owed = head["render_range"]
    click.echo(
        f"render {owed['first_frame']} to {owed['last_frame']}, {owed['frames']} frames{', ' + ' to '.join(owed['timecode']) if all(owed['timecode']) else ''}"
    )
    rows = table("shot", "source first", "source last", "first", "last")
    for shot in head["shots"]:
        rows.add_row(shot["name"], *(format_frame(shot[k]) for k in ("source_first", "source_last", "first", "last")))
    console().print(rows)


def deliver_derived(
    made: Sequence[tuple[Derived, MadeFrom]], findings: list[Finding], head: dict[str, Any], asked: dict[str, Any],
    along: Mapping[str, bytes] | None = None,
) -> None:  # fmt: skip
    """Derived cameras checked, written for packages where that is asked for, proved, and all of it said."""
    from anaxis.library.sending import GoingOut, SendOrder, derived_going_out, origin_of_derived, send
    from anaxis.packages import find_profile

    if asked["to"] and not asked["formats"]:
        raise BadInput("--to needs a format: add --format usd, or several separated by commas.")
    going = [derived_going_out(one, findings) for one, _ in made]
    from_ = {id(camera): source for camera, (_, source) in zip(going, made, strict=True)}

    def origin(camera: GoingOut) -> CameraOrigin:
        return origin_of_derived(from_[id(camera)], camera, allowed=asked["allow"])

    profiles = [find_profile(t) for t in asked["to"]]
    order = SendOrder(
        profiles,
        asked["formats"] or [],
        force=asked["force"],
        origin=origin if asked["bundle"] else None,
        along=along or {},
    )
    went = send(going, asked["out"], order)
    finish(went, going, asked["allow"], asked["tolerance_px"], None, asked["as_json"], head)
