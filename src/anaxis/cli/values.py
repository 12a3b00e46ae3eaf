"""``anaxis values``: a camera in a package's own numbers."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from anaxis.cli import options
from anaxis.cli.read import guesses_of, read_source, start_reader
from anaxis.cli.tables import print_json, print_values
from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput
from anaxis.core.outgoing import numbers_at, numbers_of
from anaxis.core.recipe.model import Recipe, Work
from anaxis.core.scene.nodes import Scene
from anaxis.core.time.rates import format_frame, rate_text


@click.command()
@options.file
@options.camera
@options.to
@click.option("--frames", type=options.Frames(), help="First and last frame; else the camera's whole range.")
@options.resolution
@options.fit
@options.source_and_changes
@options.json
def values(
    file: Path, camera: str | None, to: str, frames: tuple[float, float] | None, resolution: Image | None,
    source_fit: str | None, reduce_px: float | None, as_json: bool, **stated: Any,
) -> None:  # fmt: skip
    """Show a camera in a package's own numbers, frame by frame."""
    reader = start_reader(file)
    from anaxis.delivery.ready import prepare, reduce_keys
    from anaxis.packages import find_profile

    profile = find_profile(to)
    asked = read_source(reader, file, resolution, source_fit, stated)
    picture = asked.picture
    # The whole range first: which of two equal sets of angles a frame shows depends on the frames
    # before it, and must not change with the part asked for.
    work = _whole_or_part(asked.scene, camera, frames, asked.steps(camera))
    track = work.done
    outgoing = prepare(track, work.landmarks, picture, profile)
    numbers = numbers_of(outgoing)
    reduced, keep = None, outgoing.written
    if reduce_px is not None:
        reduced = reduce_keys(outgoing, "columns", reduce_px)
        keep = reduced.keys.index
    if frames is not None:
        track.between(*frames)  # raises the sentence for a range without frames
        keep = keep[(numbers.frames[keep] >= frames[0]) & (numbers.frames[keep] <= frames[1])]
    document: dict[str, Any] = {
        "camera": work.path,
        "to": profile.key,
        "rate": rate_text(track.rate),
        "resolution": [picture.image.width_px, picture.image.height_px],
        "frames": [numbers_at(numbers, int(i)) for i in keep],
    }
    notes = list(outgoing.notes)
    if reduced is not None:
        document["keys"] = reduced.summary() | {"tolerance_px": reduce_px}
        notes.append(reduced.sentence + " Only these are listed; draw straight lines between them.")
    whole = track.frames
    if frames is not None and (frames[0] < whole[0] or frames[1] > whole[-1]):
        notes.append(
            f"The camera runs from {format_frame(whole[0])} to {format_frame(whole[-1])}; the other frames asked "
            "for are left out."
        )
    notes = guesses_of(picture) + notes
    if as_json:
        print_json({**document, "notes": notes})
    else:
        print_values(document, notes, profile.unit_name)


def _whole_or_part(scene: Scene, camera: str | None, frames: tuple[float, float] | None, recipe: Recipe) -> Work:
    """The whole camera, or only the frames asked for where other frames cannot be used."""
    from anaxis.core.checks.examine import take_camera

    try:
        return take_camera(scene, camera, recipe=recipe)
    except BadInput:
        if frames is None:
            raise
        return take_camera(scene, camera, frames, recipe)
