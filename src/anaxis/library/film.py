"""A film of a shot: what its camera sees, frame by frame, as an H.264 movie at the shot's exact rate, or as pictures.

Several shots one after the other are a reel.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Annotated, Literal

import av
import cv2
import numpy as np
from pydantic import Field

from anaxis.core.bounds import MAX_SIDE_PX
from anaxis.core.camera.guides import Guides, shapes_of
from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import Projection, projection_as_shot, projection_of
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.names import listed
from anaxis.core.time.rates import format_frame, rate_label
from anaxis.core.typing import Bytes, Floats, Ints
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.formats.editorial.timecodes import timecode_of
from anaxis.formats.plates.picture import PictureFacts
from anaxis.formats.plates.write import write_picture
from anaxis.library.film_frame import FilmSet, Overlay, Style, draw_frame

MOVIES, PICTURES = (".mp4", ".mov"), (".png", ".jpg", ".exr")
USUAL_WIDTH_PX, _WIDEST_PX = 1920, 4096
_MOST_MAGNIFIED = 1e6
Layout = Literal["over", "beside"]


@dataclass(frozen=True)
class FilmOptions:
    """How a film looks. Raises BadInput for what cannot be."""

    width_px: Annotated[
        int | None, Field(description="The width of the film; left out, that of the picture, up to 1920 px.")
    ] = None
    style: Annotated[Style, Field(description="shaded: hidden surfaces are removed; lines: all lines.")] = "shaded"
    guides: Annotated[Guides, Field(description="Guides and an aspect mask.")] = field(default_factory=Guides)
    burn_in: Annotated[
        bool, Field(description="Shot, camera, frame, timecode, focal length and deviation at the lower edge.")
    ] = True
    layout: Annotated[
        Layout, Field(description="A delivered or returned camera, overlaid in another colour or side by side.")
    ] = "over"
    magnify: Annotated[float, Field(description="Magnify the deviation of this camera by this factor.")] = 1.0

    def __post_init__(self) -> None:
        if self.width_px is not None and not 16 <= self.width_px <= _WIDEST_PX:
            raise BadInput(f"A film width of {self.width_px} px is not possible: choose 16 to {_WIDEST_PX}.")
        if not 1 <= self.magnify <= _MOST_MAGNIFIED:
            raise BadInput(
                f"The deviation cannot be magnified {self.magnify:g} times: choose 1 to {_MOST_MAGNIFIED:g}."
            )


def film_size(image: Image, width_px: int | None) -> Image:
    """The size of a film of a picture: square pixels, both sides even, as movies need them."""
    wide = width_px or min(USUAL_WIDTH_PX, round(image.width_px * image.pixel_aspect))
    high = max(2, round(wide / image.aspect / 2) * 2)
    if high > MAX_SIDE_PX:
        raise BadInput(f"A film of {wide} px would be {high} px high: choose a smaller width.")
    return Image(wide // 2 * 2, high)


@dataclass(frozen=True, eq=False)
class Beside:
    """A camera that arrived: how it sees on the frames of the one meant, and by how many pixels it is off on each, (n,)."""

    arrived: Projection
    deviation_px: Floats

    def at_frames(self, index: Ints) -> Beside:
        """The same where only the frames at ``index`` (k,) are kept."""
        return Beside(self.arrived.select_frames(index), self.deviation_px[index])


class Film:
    """A shot's camera with its set, magnified frame by frame.

    ``plate_at`` gives the plate's picture of a frame, if any, which is the plate as shot where ``as_shot``; ``first_there`` is
    the number that the first frame has in the receiving package.
    """

    def __init__(
        self, camera: ShotCamera, options: FilmOptions, name: str = "", beside: Beside | None = None,
        plate_at: Callable[[int], Bytes | None] | None = None, as_shot: bool = False, first_there: float | None = None,
    ) -> None:  # fmt: skip
        self.shown = film_size(camera.picture.image, options.width_px)
        self.two = beside is not None and options.layout == "beside"
        self._camera, self._options, self._name = camera, options, name or camera.track.name
        sees = projection_as_shot if as_shot else projection_of
        self._sees = sees(camera.track, camera.picture.image, camera.picture.fit).at_size(self.shown)
        self._arrived = None if beside is None else beside.arrived.at_size(self.shown)
        self._deviation_px = None if beside is None else beside.deviation_px
        self._plate_at, self._first_there = plate_at, first_there
        self._around, self._marks = FilmSet(camera.objects, camera.bare_lines_m), camera.landmarks.shown()

    @property
    def track(self) -> Track:
        return self._camera.track

    @property
    def name(self) -> str:
        return self._name

    @property
    def size(self) -> Image:
        """The size of its pictures."""
        return Image(self.shown.width_px * 2, self.shown.height_px) if self.two else self.shown

    def picture(self, at: int) -> Bytes:
        """The picture (h, w, 3; blue, green, red) of the frame at a place."""
        options, picture = self._options, self._camera.picture
        plate = self._plate_at(round(float(self.track.frames[at]))) if self._plate_at is not None else None
        if plate is not None:
            plate = np.asarray(cv2.resize(plate, (self.shown.width_px, self.shown.height_px)), dtype=np.uint8)
        shapes = shapes_of(options.guides, picture.image, self.track, picture.fit, at)
        overlay = Overlay(shapes, self._words(at) if options.burn_in else ())
        drawn = (self._sees, at, self._around, self._marks, options.style, plate)
        if not self.two or self._arrived is None:
            return draw_frame(*drawn, self._arrived, options.magnify, overlay)
        words = (f"{self._name}   as delivered",) if options.burn_in else ()
        other = draw_frame(self._arrived, *drawn[1:], overlay=Overlay(shapes, words))
        return np.hstack([draw_frame(*drawn, overlay=overlay), other])

    def _words(self, at: int) -> tuple[str, ...]:
        track = self.track
        frame = float(track.frames[at])
        numbered = f"frame {format_frame(frame)}"
        if self._first_there is not None and self._first_there != track.frames[0]:
            numbered += f" ({format_frame(frame + self._first_there - float(track.frames[0]))} in the package)"
        parts = [self._name, numbered, f"{track.lens.focal_mm[at]:.2f} mm"]
        focus_m = float(track.lens.focus_m[at])
        parts += [f"focus {focus_m:.2f} m"] if np.isfinite(focus_m) else []
        code = timecode_of(frame, track.rate)
        parts += [code] if code else []
        if self._deviation_px is not None:
            drawn = (
                f", magnified {self._options.magnify:g} times" if self._options.magnify != 1 and not self.two else ""
            )
            parts.append(f"deviation {self._deviation_px[at]:.4f} px{drawn}")
        return ("   ".join(parts),)

    def pictures(self) -> Iterator[Bytes]:
        """Every frame's picture, in order."""
        return (self.picture(at) for at in range(len(self.track)))


class Reel:
    """Films one after the other, at the rate and size of the first; a picture of another shape stands in the middle of its frame.

    Raises BadInput for films of different rates.
    """

    def __init__(self, films: Sequence[Film]) -> None:
        rates = {f.track.rate for f in films}
        if len(rates) > 1:
            named = listed([f"{f.name} at {rate_label(f.track.rate)}" for f in films])
            raise BadInput(
                f"A reel has one frame rate, but these shots have several: {named}. Make one reel for each rate."
            )
        self.films, self.size, self.rate = tuple(films), films[0].size, films[0].track.rate

    def __len__(self) -> int:
        return sum(len(f.track) for f in self.films)

    def numbers(self) -> list[float]:
        """The frame number of every picture: the shot's own, or from 1 on where several shots follow each other."""
        one = len(self.films) == 1
        return self.films[0].track.frames.tolist() if one else [float(i) for i in range(1, len(self) + 1)]

    def pictures(self) -> Iterator[Bytes]:
        return (self._fitted(p) for film in self.films for p in film.pictures())

    def _fitted(self, picture: Bytes) -> Bytes:
        wide, high = self.size.width_px, self.size.height_px
        if picture.shape[:2] == (high, wide):
            return picture
        share = min(wide / picture.shape[1], high / picture.shape[0])
        small = cv2.resize(picture, (max(1, round(picture.shape[1] * share)), max(1, round(picture.shape[0] * share))))
        out = np.zeros((high, wide, 3), dtype=np.uint8)
        top, left = (high - small.shape[0]) // 2, (wide - small.shape[1]) // 2
        out[top : top + small.shape[0], left : left + small.shape[1]] = small
        return out


def write_film(
    reel: Reel, out: Path, force: bool = False, tell: Callable[[int], None] = lambda done: None
) -> list[Path]:
    """A movie (.mp4, .mov), or a picture a frame where the name has a # or ends in .png, .jpg or .exr; ``tell`` is called with how
    many frames are done. Raises BadInput for a name that says neither, and for files that are there."""
    suffix = out.suffix.lower()
    if suffix not in (*MOVIES, *PICTURES):
        raise BadInput(
            f"'{out.name}' is not a possible film file: name it .mp4 or .mov, or shot.####.png for one image for each frame."
        )
    names = [out] if suffix in MOVIES else [_numbered(out, f) for f in reel.numbers()]
    there = next((n for n in names if n.exists()), None)
    if there is not None and not force:
        raise BadInput(f"{there} already exists: choose another name, or add --force to replace it.")
    try:
        out.parent.mkdir(parents=True, exist_ok=True)
        if suffix in PICTURES:
            for done, (name, picture) in enumerate(zip(names, reel.pictures(), strict=True), 1):
                _write_still(picture, name)
                tell(done)
        else:
            _encode(reel, out, tell)
    except OSError as error:
        raise BadInput(f"{out} cannot be written ({error.strerror or error}): choose another folder.") from error
    return names


def _numbered(out: Path, frame: float) -> Path:
    digits = out.name.count("#")
    number = f"{round(frame):0{max(4, digits)}d}"
    return out.with_name(out.name.replace("#" * digits, number) if digits else f"{out.stem}.{number}{out.suffix}")


def _write_still(picture: Bytes, name: Path) -> None:
    """A picture of 8 bits, or EXR in linear light (IEC 61966-2-1) as half floats. Raises BadInput."""
    if name.suffix.lower() == ".exr":
        encoded = picture[..., ::-1].astype(np.float32) / 255
        linear = np.where(encoded <= 0.04045, encoded / 12.92, ((encoded + 0.055) / 1.055) ** 2.4).astype(np.float32)
        high, wide = picture.shape[:2]
        facts = PictureFacts(
            wide, high, 1.0, (0, 0, wide, high), "half", 0, ("R", "G", "B"), (), "linear", "zip", ".exr"
        )
        write_picture(linear, facts, name)
    elif not cv2.imwrite(str(name), picture):
        raise BadInput(f"{name} cannot be written: choose another folder.")


def _encode(reel: Reel, out: Path, tell: Callable[[int], None]) -> None:
    """H.264 at the shot's rate. It is written aside and moved, so that a film that was cut off is none."""
    aside = out.with_name(f".{out.stem}.part{out.suffix}")
    try:
        with av.open(str(aside), "w", options={"movflags": "faststart"}) as container:
            stream = container.add_stream("libx264", rate=reel.rate, options={"crf": "18", "preset": "veryfast"})
            stream.width, stream.height, stream.pix_fmt = reel.size.width_px, reel.size.height_px, "yuv420p"
            for done, picture in enumerate(reel.pictures(), 1):
                frame = av.VideoFrame.from_ndarray(picture, format="bgr24")
                container.mux(stream.encode(frame))
                tell(done)
            container.mux(stream.encode())
        aside.replace(out)
    finally:
        aside.unlink(missing_ok=True)
