"""Whether a plate and a camera belong together: frames, size, shape, and which of both is distorted."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Literal

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track
from anaxis.core.findings import Finding, by_severity
from anaxis.core.time.rates import format_frame, rate_label

PlateKind = Literal["as shot", "undistorted", "equirectangular"]
PLATE_KINDS: tuple[PlateKind, ...] = ("as shot", "undistorted", "equirectangular")
_SAME = 2e-3


@dataclass(frozen=True)
class CheckedPlate:
    """A plate as it was found: its picture, the numbers of its files, and what is wrong with some of them.

    ``offset`` is added to a file's number to give the camera's frame. ``data_px`` is the part of the picture that has
    pixels (x, y, width, height). ``broken`` says of a file's number why it cannot be read, ``sizes`` which files have
    another size than the first.
    """

    name: str
    kind: PlateKind
    image: Image
    data_px: tuple[int, int, int, int]
    numbers: tuple[int, ...]
    offset: int = 0
    missing: tuple[int, ...] = ()
    doubled: tuple[int, ...] = ()
    broken: dict[int, str] = field(default_factory=dict)
    sizes: dict[int, tuple[int, int]] = field(default_factory=dict)
    rate: Fraction | None = None

    @property
    def frames(self) -> np.ndarray:
        """The camera's frames that it has a picture for."""
        return np.array(sorted(set(self.numbers) - self.broken.keys()), dtype=np.float64) + self.offset


@dataclass(frozen=True, eq=False)
class PlateContext:
    """A plate and the camera it is laid behind, with the camera's picture."""

    plate: CheckedPlate
    track: Track
    image: Image


def check_plate(beside: PlateContext) -> list[Finding]:
    """Every finding about a plate behind a camera, gravest first."""
    return by_severity(f for check in CHECKS for f in check(beside))


def ranges(numbers: tuple[int, ...] | np.ndarray | list[int], most: int = 8) -> str:
    """1003, 1010-1014: numbers as people write them; of many ranges the first."""
    values = np.unique(np.asarray(numbers, dtype=np.int64))
    runs = np.split(values, np.flatnonzero(np.diff(values) > 1) + 1)
    said = [str(r[0]) if len(r) == 1 else f"{r[0]} to {r[-1]}" for r in runs[:most]]
    return ", ".join(said) + (f" and {len(runs) - most} more" if len(runs) > most else "")


def lacking(what: str, missing: Sequence[int], frames: int) -> str:
    """That ``what`` has no picture for ``missing`` of the camera's ``frames`` frames, as a clause without a full stop."""
    return f"{what} lacks {len(missing)} of the camera's {frames} frames, {ranges(list(missing))}: these frames have no picture"


def _frames(b: PlateContext) -> Iterator[Finding]:
    plate, wanted = b.plate, np.unique(np.round(b.track.frames))
    without = np.setdiff1d(wanted, plate.frames)
    if not len(without):
        return
    first, last = format_frame(wanted[0]), format_frame(wanted[-1])
    numbers = np.array(plate.numbers) + plate.offset
    if len(without) == len(wanted):
        shift = int(wanted[0]) - min(plate.numbers)
        fits = " as many frames as it has" if len(plate.numbers) == len(wanted) else ""
        yield Finding(
            "plate_other_frames", "error",
            f"'{plate.name}' has frames {ranges(numbers, 3)} and the camera {first} to {last}: no common frames.",
            f"Type the offset {shift:+d}: its first frame then matches the first frame of the camera,{fits or ' if that is what was shot'}.",
            "No frame of the camera has a picture behind it.", {"offset": shift},
        )  # fmt: skip
        return
    outside = without[(without < numbers.min()) | (without > numbers.max())]
    if len(outside):
        yield Finding(
            "plate_too_short", "warning", f"'{plate.name}' ends before the camera does: no picture for frames {ranges(outside)}.",
            "Attach the whole plate, trim the camera on Time, or type another offset.",
            "The match cannot be checked on these frames.", {"frames": len(outside)},
        )  # fmt: skip


def _holes(b: PlateContext) -> Iterator[Finding]:
    plate = b.plate
    if plate.missing:
        yield Finding(
            "plate_frames_missing", "warning", f"'{plate.name}' has no file for frames {ranges(plate.missing)}.",
            "Copy those frames again.", "They are shown as empty.", {"frames": len(plate.missing)},
        )  # fmt: skip
    if plate.doubled:
        yield Finding(
            "plate_frames_doubled", "warning",
            f"'{plate.name}' has two files for frames {ranges(plate.doubled)}, numbered with more and with fewer digits.",
            "Remove one of the two. Anaxis shows the files numbered like most others.", "One of them may be an older scan.",
            {"frames": len(plate.doubled)},
        )  # fmt: skip
    if plate.broken:
        first = min(plate.broken)
        yield Finding(
            "plate_frames_broken", "warning",
            f"'{plate.name}' cannot be read on frames {ranges(list(plate.broken))}: {plate.broken[first]}",
            "Copy or render those frames again.", "They are shown as empty.", {"frames": len(plate.broken)},
        )  # fmt: skip
    if plate.sizes:
        first, size = next(iter(plate.sizes.items()))
        yield Finding(
            "plate_sizes_change", "warning",
            f"'{plate.name}' changes its size: {size[0]} x {size[1]} px at frame {first}, {plate.image.width_px} x "
            f"{plate.image.height_px} px at its first.",
            "Render all frames in one size.", "The picture jumps while the camera does not.", {"frames": len(plate.sizes)},
        )  # fmt: skip


def _size(b: PlateContext) -> Iterator[Finding]:
    plate, image, mine = b.plate, b.plate.image, b.image
    if plate.kind == "equirectangular":
        if abs(image.aspect - 2) > _SAME:
            yield Finding(
                "plate_no_sphere", "warning",
                f"'{plate.name}' is {image.width_px} x {image.height_px} px and no equirectangular picture, which is twice as wide as high.",
                "Attach the whole sphere, or set the plate to as shot.", "Directions in the plate are unknown otherwise.",
            )  # fmt: skip
        return
    if (image.width_px, image.height_px) == (mine.width_px, mine.height_px):
        pass
    elif plate.kind == "undistorted" and image.width_px >= mine.width_px and image.height_px >= mine.height_px:
        yield Finding(
            "plate_is_overscan", "note",
            f"'{plate.name}' is {image.width_px} x {image.height_px} px, larger than the camera's picture of {mine.width_px} x "
            f"{mine.height_px} px.",
            "If this is the undistorted plate with overscan, nothing to do: the picture is in its centre.",
            "Anaxis shows it at the same pixel size, centred on the picture of the camera.",
        )  # fmt: skip
    elif abs(image.aspect / mine.aspect - 1) < _SAME:
        yield Finding(
            "plate_other_size", "note",
            f"'{plate.name}' is {image.width_px} x {image.height_px} px and the camera's picture {mine.width_px} x {mine.height_px} "
            "px, of the same shape.",
            "On Lens, set the resolution of the camera to that of the plate.",
            "Anaxis shows the plate scaled; deviations are in pixels of the camera.",
        )  # fmt: skip
    else:
        yield Finding(
            "plate_other_shape", "warning",
            f"'{plate.name}' is {image.width_px} x {image.height_px} px (shape {image.aspect:.4f}) and the camera's picture "
            f"{mine.width_px} x {mine.height_px} px (shape {mine.aspect:.4f}).",
            "Set the camera's resolution and pixel aspect on Lens to the plate's; if the plate is cropped, use 'Part of the plate'.",
            "Pictures of different shape cannot match.",
        )  # fmt: skip
    if abs(image.pixel_aspect / mine.pixel_aspect - 1) > _SAME:
        yield Finding(
            "plate_pixel_aspect", "warning",
            f"'{plate.name}' states pixels {image.pixel_aspect:g} times as wide as high, the camera's picture {mine.pixel_aspect:g}.",
            "Correct the pixel aspect on Lens, or in the header of the plate, whichever is wrong.",
            "The shape of the picture depends on it.", {"plate": image.pixel_aspect, "camera": mine.pixel_aspect},
        )  # fmt: skip


def _data_window(b: PlateContext) -> Iterator[Finding]:
    image, (x, y, width, height) = b.plate.image, b.plate.data_px
    if x > 0 or y > 0 or x + width < image.width_px or y + height < image.height_px:
        yield Finding(
            "plate_data_window", "warning",
            f"'{b.plate.name}' has pixels only from {x}, {y} over {width} x {height} px of its {image.width_px} x {image.height_px} px.",
            "Render the whole picture; until then the rest is black.", "Its size is the size of the whole picture, not of the data window.",
        )  # fmt: skip
    elif (width, height) != (image.width_px, image.height_px):
        yield Finding(
            "plate_data_beyond", "note",
            f"'{b.plate.name}' has pixels beyond its picture: {width} x {height} px from {x}, {y}.",
            "Nothing to do: Anaxis shows the picture.", "The plate was rendered with overscan.",
        )  # fmt: skip


def _distortion(b: PlateContext) -> Iterator[Finding]:
    if b.track.distortion is not None and b.plate.kind == "undistorted":
        yield Finding(
            "camera_of_the_plate_as_shot", "warning",
            f"The camera has distortion, so it belongs to the plate as shot, but '{b.plate.name}' is undistorted.",
            "Use the plate as shot to judge the match. Over this plate the camera is drawn without distortion.",
            "With distortion applied twice or not at all, the edges deviate by the full distortion.",
        )  # fmt: skip
    if b.track.distortion is None and b.plate.kind == "as shot":
        yield Finding(
            "plate_needs_distortion", "note",
            f"'{b.plate.name}' is as shot, and the camera has no distortion.",
            "Set the distortion on Lens, use the undistorted plate, or set this plate to undistorted.",
            "With lens distortion, the match gets worse towards the edges.",
        )  # fmt: skip


def _rate(b: PlateContext) -> Iterator[Finding]:
    rate = b.plate.rate
    if rate is not None and rate != b.track.rate:
        yield Finding(
            "plate_other_rate", "warning",
            f"'{b.plate.name}' runs at {rate_label(rate)} frames a second and the camera at {rate_label(b.track.rate)}.",
            "If the camera has the same frames as the plate, change its rate on Time and keep the frames.",
            "Frames are matched by number; at another rate they show other moments.",
        )  # fmt: skip


CHECKS: tuple[Callable[[PlateContext], Iterator[Finding]], ...] = (
    _frames,
    _holes,
    _size,
    _data_window,
    _distortion,
    _rate,
)
