"""A camera in a package's own numbers, frame by frame."""

from __future__ import annotations

from typing import Any, NamedTuple

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track
from anaxis.core.checks.examine import take_camera
from anaxis.core.errors import BadInput
from anaxis.core.outgoing import Numbers, Outgoing, numbers_at
from anaxis.core.recipe.model import Recipe, Work
from anaxis.core.scene.landmarks import NO_LANDMARKS, Landmarks
from anaxis.core.scene.nodes import Scene
from anaxis.core.scene.picture import Picture
from anaxis.core.space.axes import Convention
from anaxis.core.space.mapping import ChannelMap, channel_map, rotation_says, says
from anaxis.core.space.rotation import angles_from_matrices
from anaxis.core.time.rates import format_frame, rate_text
from anaxis.core.typing import Floats
from anaxis.delivery.ready import prepare, reduce_keys
from anaxis.packages.model import Profile


class PackageValues(NamedTuple):
    """``frames`` as JSON, one entry a frame; ``keys`` says what a reduction left, where one was asked for."""

    rate: str
    resolution: list[int]
    frames: list[dict[str, Any]]
    notes: list[str]
    keys: dict[str, Any] | None = None


def package_values(
    track: Track, landmarks: Landmarks, picture: Picture, profile: Profile, first: float | None = None, last: float | None = None,
    reduce_px: float | None = None, most: int | None = None,
) -> PackageValues:  # fmt: skip
    """A camera in a package's numbers, on its whole range or from ``first`` to ``last``, of ``most`` frames at most.

    The numbers of the whole range are worked out first: which of two equal sets of angles a frame shows depends on the frames
    before it. Raises BadInput for a range without frames.
    """
    outgoing = prepare(track, landmarks, picture, profile)
    numbers, notes = outgoing.numbers(), list(outgoing.notes)
    whole = numbers.frames
    low, high = whole[0] if first is None else first, whole[-1] if last is None else last
    track.between(low, high)
    keep, keys = outgoing.written, None
    if reduce_px is not None:
        reduced = reduce_keys(outgoing, "columns", reduce_px)
        keep, keys = reduced.keys.index, reduced.summary() | {"tolerance_px": reduce_px}
        notes.append(reduced.sentence + " Only keyframes are listed; interpolate linearly between them.")
    keep = keep[(whole[keep] >= low) & (whole[keep] <= high)]
    if low < whole[0] or high > whole[-1]:
        notes.append(
            f"The camera runs from {format_frame(whole[0])} to {format_frame(whole[-1])}; other frames are skipped."
        )
    if most is not None and len(keep) > most:
        notes.append(f"These are the first {most} of {len(keep)} frames: use first and last for the others.")
    rows = [numbers_at(numbers, int(i)) for i in keep[:most]]
    return PackageValues(rate_text(track.rate), [picture.image.width_px, picture.image.height_px], rows, notes, keys)


def numbers_of_camera(track: Track, landmarks: Landmarks, picture: Picture, profile: Profile) -> Numbers:
    """A camera's numbers in a package, as it would go out to it."""
    return prepare(track, landmarks, picture, profile).numbers()


def whole_or_part(scene: Scene, camera: str | None, recipe: Recipe, frames: tuple[float, float] | None) -> Work:
    """A file's whole camera after a recipe, or only ``frames`` where others cannot be used. Raises BadInput."""
    try:
        return take_camera(scene, camera, recipe=recipe)
    except BadInput:
        if frames is None:
            raise
        return take_camera(scene, camera, frames, recipe)


def numbers_in(track: Track, image: Image, profile: Profile) -> Numbers:
    """A camera's numbers in a package as they are, nothing prepared for it."""
    return Outgoing(track, profile.convention, image, profile.lens.fit, NO_LANDMARKS, ()).numbers()


def angles_in(track: Track, convention: Convention, order: str, signs: str) -> Floats:
    """The angles (n, 3) that a convention would show in another rotation order and with other signs, such as "--+"."""
    x, y, z = (1 if s == "+" else -1 for s in signs)
    return angles_from_matrices(convention.rotation_from_canonical(track.rotation), order, (x, y, z)).deg


def rows_of(numbers: Numbers) -> list[dict[str, Any]]:
    """Every frame's numbers, as JSON."""
    return [numbers_at(numbers, i) for i in range(len(numbers.frames))]


class Mapping(NamedTuple):
    """How the channels of one convention become those of another, with the lines that a person types."""

    found: ChannelMap
    position_lines: list[str]
    rotation_lines: list[str]


def mapping_between(source: Convention, target: Convention) -> Mapping:
    found = channel_map(source, target)
    return Mapping(found, says(found.position, ("X", "Y", "Z"), ""), rotation_says(found))
