"""``anaxis recording``: a camera made of what a hand-held tracker recorded."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from anaxis.cli import options
from anaxis.cli.derived import deliver_derived, delivered
from anaxis.cli.read import guesses_of, read_stated, start_reader
from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput

if TYPE_CHECKING:  # loaded when first used: the command line starts quicker
    from anaxis.library.recorded import RecordedCamera

_AUTO, _AS_FILMED = "auto", "as-filmed"


class _Place(click.ParamType):
    name = "X,Y,Z"

    def convert(self, value: Any, param: Any, ctx: Any) -> tuple[float, ...]:
        parts = str(value).split(",")
        try:
            place = tuple(float(p) for p in parts)
        except ValueError:
            place = ()
        if len(place) != 3:
            raise BadInput(f"'{value}' is not a place: write right, height and back in metres, as 0,1.5,0.")
        return place


class _Aspect(click.ParamType):
    name = f"{_AUTO}|{_AS_FILMED}|ASPECT"

    def convert(self, value: Any, param: Any, ctx: Any) -> str | float:
        if value in (_AUTO, _AS_FILMED):
            return str(value)
        from anaxis.core.camera.guides import aspect_of

        return aspect_of(str(value), f"16:9, 2.39, {_AS_FILMED} or {_AUTO}")


@click.command()
@options.file
@options.camera
@options.resolution
@options.fit
@options.up_axis
@options.unit
@click.option("--rate", help="Rate, frames/s that the file counts in, where the file has no clock.")
@options.columns
@click.option("--show-rate", default="24", show_default=True, help="Rate, frames/s of the show.")
@click.option("--first", type=float, default=1001, show_default=True, help="Number of the first frame.")
@click.option(
    "--heal", default="all", show_default=True, metavar="all|none|N,N", help="Tracking jumps to remove, by number."
)
@click.option(
    "--gaps",
    type=click.Choice(["bridge", "hold"]),
    default="bridge",
    show_default=True,
    help="Frames without samples: interpolated from both sides, or held.",
)
@click.option(
    "--smooth-px",
    type=float,
    default=1.0,
    show_default=True,
    help="Smooth noise: maximum change in pixels; 0 for none.",
)
@click.option(
    "--aspect",
    type=_Aspect(),
    default=_AUTO,
    show_default=True,
    help="Aspect of the picture, cropped or extended around the centre; auto: 16:9 for upright footage.",
)
@click.option(
    "--keep",
    type=click.Choice(["width", "height"]),
    default="width",
    show_default=True,
    help="With --aspect: keep width or height.",
)
@click.option(
    "--film-width", "film_width_mm", type=float, default=36.0, show_default=True, help="Film back width in mm."
)
@click.option(
    "--stand",
    type=_Place(),
    help="Position of the camera at --stand-at: right, height and back in metres (default: as measured).",
)
@click.option("--heading", "heading_deg", type=float, help="With --stand: the camera's heading in degrees.")
@click.option("--stand-at", type=float, help="The frame of --stand (default: the first).")
@delivered
def recording(
    file: Path, camera: str | None, resolution: Image | None, source_fit: str | None, up_axis: str | None, metres_per_unit: float | None,
    rate: str | None, columns: Path | None, show_rate: str, first: float, heal: str, **given: Any,
) -> None:  # fmt: skip
    """Make a camera from a tracker recording: a table of timed samples, or any camera file with a clock."""
    from anaxis.core.derive.derived import Derived
    from anaxis.core.findings import Finding
    from anaxis.core.scene.picture import picture_of
    from anaxis.core.time.rates import parse_rate, rate_text
    from anaxis.delivery.transfer_sheet import MadeFrom
    from anaxis.library.recorded import recorded_camera

    scene = read_stated(start_reader(file), file, up_axis, metres_per_unit, rate, columns)
    picture = picture_of(scene, resolution, source_fit)
    own = ("gaps", "smooth_px", "keep", "film_width_mm", "stand", "heading_deg", "stand_at")
    wanted: dict[str, Any] = {k: given.pop(k) for k in own}
    aspect = given.pop("aspect")
    if aspect != _AUTO:
        wanted["aspect"] = None if aspect == _AS_FILMED else aspect
    wanted |= {"rate": rate_text(parse_rate(show_rate)), "first_frame": first}
    found = recorded_camera(scene, camera, picture, wanted, heal, given.pop("name") or "")
    made, settings = found.made, found.settings
    findings = [*found.findings, *(Finding("guess", "note", s, "State it.") for s in guesses_of(picture))]
    head = _head(found)
    if not given["as_json"]:
        _say(head, settings.smooth_px)
    checksum = hashlib.sha256(file.read_bytes()).hexdigest()
    source = {"role": "recording", "file": file.name, "sha256": checksum, "camera": found.path}
    from_ = MadeFrom("a recording", settings.model_dump(mode="json"), (source,))
    deliver_derived([(Derived(made.track, made.image, "width"), from_)], findings, head, given)


def _head(found: RecordedCamera) -> dict[str, Any]:
    """What is printed of the recording and of what was done to it."""
    from anaxis.core.time.rates import plain_frame

    samples, made = found.recorded.samples, found.made
    healed = {j.place for j in made.healed}
    return {
        "samples": len(samples), "samples_per_s": 1 / samples.step_s, "seconds": float(samples.seconds[-1]),
        "first_frame": plain_frame(float(made.track.frames[0])), "last_frame": plain_frame(float(made.track.frames[-1])),
        "frames_in_gaps": [plain_frame(f) for f in made.drawn.tolist()],
        "gaps": [{"start_s": g.start_s, "end_s": g.end_s, "missing": g.missing} for g in made.gaps],
        "jumps": [{"number": k, "at_s": j.at_s, "metres": j.metres, "degrees": j.degrees, "removed": j.place in healed} for k, j in enumerate(made.jumps, 1)],
        "smallest_jumps": [{"gap_start_s": t.start_s, "gap_s": t.gap_s, "metres": t.metres, "degrees": t.degrees} for t in made.smallest_jumps],
        "smoothed_px": None if made.smoothing is None else made.smoothing.max_px,
    }  # fmt: skip


def _say(head: dict[str, Any], smooth_px: float) -> None:
    from anaxis.core.time.rates import format_frame

    click.echo(
        f"{head['samples']} samples, {head['samples_per_s']:.1f} a second, {head['seconds']:.2f} s: frames {format_frame(head['first_frame'])} to {format_frame(head['last_frame'])}"
    )
    click.echo(f"Frames without samples: {len(head['frames_in_gaps'])}")
    for jump in head["jumps"]:
        done = "removed" if jump["removed"] else "stays"
        click.echo(
            f"Tracking jump {jump['number']} at {jump['at_s']:.2f} s: {jump['metres']:.2g} m, {jump['degrees']:.2g} degrees, {done}"
        )
    if head["smoothed_px"] is not None:
        click.echo(f"Smoothed by {head['smoothed_px']:.2f} px at most")
    elif smooth_px > 0:
        click.echo(
            f"Not smoothed: no smoothing keeps every frame within {smooth_px:g} px. Allow more with --smooth-px."
        )
