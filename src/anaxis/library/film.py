"""A film of a shot: what its camera sees, frame by frame, as an H.264 movie at the shot's exact rate, or as pictures."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import av
import cv2
import numpy as np

from anaxis.core.bounds import MAX_SIDE_PX
from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import Projection, projection_of
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import format_frame
from anaxis.core.typing import Bytes, Floats
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.formats.editorial.timecodes import timecode_of
from anaxis.library.film_frame import GUIDES, FilmSet, Overlay, Style, draw_frame

MOVIES, PICTURES = (".mp4", ".mov"), (".png", ".jpg")
USUAL_WIDTH_PX = 1920


@dataclass(frozen=True)
class FilmOptions:
    """How a film looks: its width in pixels (the picture's own, of 1920 at most, where it is None), ``style`` shaded or lines, a
    ``mask`` by aspect, ``guides``, and whether a ``burn_in`` says shot, frame, timecode, focal length and deviation."""

    width_px: int | None = None
    style: Style = "shaded"
    mask: float | None = None
    guides: tuple[str, ...] = ()
    burn_in: bool = True

    def __post_init__(self) -> None:
        unknown = next((g for g in self.guides if g not in GUIDES), None)
        if unknown is not None:
            raise BadInput(f"'{unknown}' is no guide: choose from {', '.join(GUIDES)}.")
        if self.width_px is not None and not 16 <= self.width_px <= MAX_SIDE_PX:
            raise BadInput(f"A film cannot be {self.width_px} pixels wide: choose 16 to {MAX_SIDE_PX}.")
        if self.mask is not None and not 0.1 <= self.mask <= 10:
            raise BadInput(f"An aspect of {self.mask:g} cannot be a mask: write it as 2.39 or 16:9.")


def film_size(image: Image, width_px: int | None) -> Image:
    """The size of a film of a picture: square pixels, both sides even, as movies need them."""
    wide = width_px or min(USUAL_WIDTH_PX, round(image.width_px * image.pixel_aspect))
    return Image(wide // 2 * 2, max(2, round(wide / image.aspect / 2) * 2))


class Film:
    """A shot's camera with its set, drawn frame by frame; ``arrived`` sees on the same frames, ``deviation_px`` (n,) says by how far it is
    off, and ``plate_at`` gives the plate's picture of a frame, if any."""

    def __init__(
        self, camera: ShotCamera, options: FilmOptions, name: str = "", arrived: Projection | None = None,
        deviation_px: Floats | None = None, plate_at: Callable[[int], Bytes | None] = lambda frame: None,
    ) -> None:  # fmt: skip
        self.size = film_size(camera.picture.image, options.width_px)
        self._camera, self._options, self._name = camera, options, name or camera.track.name
        self._sees = projection_of(camera.track, camera.picture.image, camera.picture.fit).at_size(self.size)
        self._arrived = None if arrived is None else arrived.at_size(self.size)
        self._deviation_px, self._plate_at = deviation_px, plate_at
        self._around, self._marks = (FilmSet(camera.objects, camera.bare_lines_m), camera.landmarks.shown())

    @property
    def track(self) -> Track:
        return self._camera.track

    def picture(self, at: int) -> Bytes:
        """The picture (h, w, 3; blue, green, red) of the frame at a place."""
        options = self._options
        plate = self._plate_at(round(float(self.track.frames[at])))
        if plate is not None:
            plate = np.asarray(cv2.resize(plate, (self.size.width_px, self.size.height_px)), dtype=np.uint8)
        text = self._words(at) if options.burn_in else ()
        overlay = Overlay(options.mask, options.guides, text)
        return draw_frame(self._sees, at, self._around, self._marks, options.style, plate, self._arrived, overlay)

    def _words(self, at: int) -> tuple[str, ...]:
        track = self.track
        frame = float(track.frames[at])
        parts = [self._name, f"frame {format_frame(frame)}", f"{track.lens.focal_mm[at]:.2f} mm"]
        code = timecode_of(frame, track.rate)
        parts += [code] if code else []
        if self._deviation_px is not None:
            parts.append(f"deviation {self._deviation_px[at]:.4f} px")
        return ("   ".join(parts),)

    def pictures(self) -> Iterator[Bytes]:
        """Every frame's picture, in order."""
        return (self.picture(at) for at in range(len(self.track)))


def write_film(
    film: Film, out: Path, force: bool = False, tell: Callable[[int], None] = lambda done: None
) -> list[Path]:
    """A movie (.mp4, .mov), or a picture a frame where the name has a # or ends in .png or .jpg; ``tell`` is called with how many frames are
    done. Raises BadInput for a name that says neither, and for files that are there."""
    suffix = out.suffix.lower()
    if suffix not in (*MOVIES, *PICTURES):
        raise BadInput(
            f"'{out.name}' is no film that is written: name it .mp4 or .mov, or as shot.####.png for a picture a frame."
        )
    names = [out] if suffix in MOVIES else [_numbered(out, float(f)) for f in film.track.frames]
    there = next((n for n in names if n.exists()), None)
    if there is not None and not force:
        raise BadInput(f"{there} is there already: choose another name, or add --force to replace it.")
    try:
        out.parent.mkdir(parents=True, exist_ok=True)
        if suffix in PICTURES:
            for done, (name, picture) in enumerate(zip(names, film.pictures(), strict=True), 1):
                if not cv2.imwrite(str(name), picture):
                    raise BadInput(f"{name} cannot be written: choose another folder.")
                tell(done)
        else:
            _encode(film, out, tell)
    except OSError as error:
        raise BadInput(f"{out} cannot be written ({error.strerror or error}): choose another folder.") from error
    return names


def _numbered(out: Path, frame: float) -> Path:
    digits = out.name.count("#")
    number = f"{round(frame):0{max(4, digits)}d}"
    return out.with_name(out.name.replace("#" * digits, number) if digits else f"{out.stem}.{number}{out.suffix}")


def _encode(film: Film, out: Path, tell: Callable[[int], None]) -> None:
    """H.264 at the shot's rate. It is written aside and moved, so that a film that was cut off is none."""
    rate = film.track.rate
    aside = out.with_name(f".{out.stem}.part{out.suffix}")
    try:
        with av.open(str(aside), "w") as container:
            stream = container.add_stream("libx264", rate=Fraction(rate), options={"crf": "18", "preset": "veryfast"})
            stream.width, stream.height, stream.pix_fmt = film.size.width_px, film.size.height_px, "yuv420p"
            for done, picture in enumerate(film.pictures(), 1):
                frame = av.VideoFrame.from_ndarray(picture, format="bgr24")
                container.mux(stream.encode(frame))
                tell(done)
            container.mux(stream.encode())
        aside.replace(out)
    finally:
        aside.unlink(missing_ok=True)
