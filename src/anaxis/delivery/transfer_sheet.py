"""The transfer sheet: on one page what to set on import, which numbers to expect, and where to look. HTML and PDF.

Both are the same to the byte for the same camera, recipe and package: nothing of the day is on them.
"""

from __future__ import annotations

import atexit
import hashlib
from base64 import b64decode, b64encode
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from threading import Lock
from typing import Any

from jinja2 import Environment, FileSystemLoader, StrictUndefined
from markupsafe import Markup

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import Projection, projection_of
from anaxis.core.camera.track import Track
from anaxis.core.image_plane import image_plane
from anaxis.core.number_text import px_text
from anaxis.core.outgoing import Outgoing
from anaxis.core.proof.proof import Proof
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.picture import Picture
from anaxis.core.time.rates import format_frame, rate_label
from anaxis.core.typing import Archive, Ints
from anaxis.core.version import __version__
from anaxis.delivery.options import USUAL, DeliveryOptions
from anaxis.delivery.overscan import way_back, with_render
from anaxis.delivery.plate_maps import pairs_along
from anaxis.delivery.proved import Delivered
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.packages.model import Profile
from anaxis.packages.sheet import decimals, first_middle_last, sheet_of

_HERE = Path(__file__).parent
_FONTS = _HERE.parent / "web" / "static" / "vendor" / "fonts"
# Landmarks that fit beside the rest on one page; the others are in the table of landmarks.
_MAX_MARKS = 24
_FONT_URL = "data:font/woff2;base64,"
_SIZES_PT = (9.0, 8.4, 7.8, 7.2, 6.6, 6.0)


@dataclass(frozen=True)
class MadeFrom:
    """What a derived camera is made from: its ``kind`` in words, its ``settings``, each input's role, name, file and its
    checksum; and ``along``, files by name that go with it."""

    kind: str
    settings: dict[str, Any]
    inputs: tuple[dict[str, Any], ...]
    along: Mapping[str, bytes] = field(default_factory=dict)

    @property
    def sha256(self) -> str:
        """A checksum of what it was made of."""
        return hashlib.sha256(repr((self.kind, self.settings, self.inputs)).encode()).hexdigest()


@dataclass(frozen=True)
class CameraOrigin:
    """Where a camera came from: its file, that file's checksum, and the recipe; ``warnings`` are those of the file that
    nobody has mended or allowed."""

    name: str
    sha256: str
    camera: str
    recipe: list[dict[str, Any]]
    version: str = ""
    made: MadeFrom | None = None
    warnings: tuple[str, ...] = ()


@dataclass(frozen=True, eq=False)
class HandedFile:
    """A delivered file with its proof; the camera is its node of that name, ``zero_frame`` lies at 0 s. ``arrived`` is how the camera
    sees that was read back, where it is at hand."""

    path: Path
    format: str
    proof: Proof
    node: str = ""
    zero_frame: float = 0.0
    arrived: Projection | None = None


@dataclass(frozen=True, eq=False)
class Handed:
    """One camera handed to one package: as it is meant, and ``outgoing`` as it is to be there; formats ``refused``. ``shot`` is the
    shot's name where it is known."""

    camera: ShotCamera
    profile: Profile
    outgoing: Outgoing
    files: list[HandedFile]
    notes: list[str]
    source: CameraOrigin
    refused: Mapping[str, str] = field(default_factory=dict)
    options: DeliveryOptions = USUAL
    shot: str = ""

    @property
    def track(self) -> Track:
        return self.camera.track

    @property
    def marks(self) -> Landmarks:
        """The landmarks that go along."""
        return self.camera.landmarks.shown()


def handed_of(
    camera: ShotCamera,
    profile: Profile,
    done: Mapping[str, Delivered],
    source: CameraOrigin,
    refused: Mapping[str, str] | None = None,
    shot: str = "",
) -> Handed:
    """A camera with what was delivered of it, by format."""
    files = [
        HandedFile(p, key, d.proof, d.node, d.outgoing.zero_frame, d.seen.projection)
        for key, d in done.items()
        for p in d.files
    ]
    notes = list(dict.fromkeys(n for d in done.values() for n in d.outgoing.notes))
    notes += [f"There is no {key} file: {why}" for key, why in (refused or {}).items()]
    first = next(iter(done.values()))
    return Handed(
        with_render(camera, first.render), profile, first.outgoing, files, notes, source, refused or {}, first.options, shot,
    )  # fmt: skip


def sheet_html(handed: Handed) -> str:
    """The sheet as a page of its own, without anything beside it."""
    track, theirs = handed.track, handed.outgoing.track.frames
    at = first_middle_last(len(track))
    numbers = handed.outgoing.numbers()
    expected = [
        {
            "here": format_frame(track.frames[i]),
            "there": format_frame(theirs[i]),
            "seconds": f"{numbers.seconds[i] - numbers.seconds[0]:.3f}",
            "numbers": [decimals(v) for v in (*numbers.position[i], *numbers.rotation_deg[i], numbers.focal_mm[i])],
        }
        for i in at.tolist()
    ]
    image = handed.camera.picture.image
    rows = pixel_rows(track, handed.marks, handed.camera.picture)
    rows.sort(key=lambda row: not any(_inside(p, image) for p in row[1]))  # those to be seen come first
    return _template().render(
        handed=handed, track=track, profile=handed.profile, sheet=sheet_of(handed.outgoing, handed.profile), expected=expected,
        rows=rows[:_MAX_MARKS], more=max(0, len(rows) - _MAX_MARKS), rate=rate_label(track.rate), frame=format_frame, px_text=px_text, theirs=theirs,
        habits=[h.sentence for h in handed.profile.habits if h.on], version=__version__, image=image, inside=_inside,
        plane=_plane(handed, at), back=way_back(track, handed.camera.render), render=handed.camera.render, pairs=pairs_along(track),
        fonts=Markup(_font_faces()),
    )  # fmt: skip


def _plane(handed: Handed, at: Ints) -> dict[str, Any] | None:
    """The image plane's distance and size in the receiver's unit, at the frames shown."""
    asked = handed.options
    if asked.plane_m is None:
        return None
    track, picture, unit = handed.track, handed.camera.picture, handed.profile.convention.metres_per_unit
    plane = image_plane(track.select_frames(at), picture.image, picture.fit, asked.plane_m, asked.plane_opacity)
    sizes = [" × ".join(decimals(v) for v in size) for size in (plane.size_m / unit).tolist()]
    return {"away": decimals(asked.plane_m / unit), "sizes": sizes, "opacity": f"{asked.plane_opacity:g}"}


def _inside(place: tuple[float, float] | None, image: Image) -> bool:
    return place is not None and 0 <= place[0] <= image.width_px and 0 <= place[1] <= image.height_px


# The printer's fonts are used by one thread at a time.
_PRINTING = Lock()


def sheet_pdf(html: str) -> Archive:
    """The sheet printed on one page of A4; its letters grow smaller where there is much to say."""
    from weasyprint import CSS, HTML

    with _PRINTING:
        faces, fonts = _print_fonts()
        page = HTML(string=html.replace(_font_faces(), ""), url_fetcher=_only_fonts())
        drawn = None
        for size in _SIZES_PT:
            sized = CSS(string=f"html {{ font-size: {size}pt !important }}")
            drawn = page.render(stylesheets=[faces, sized], font_config=fonts)
            if len(drawn.pages) == 1:
                break
        assert drawn is not None
        return bytes(drawn.write_pdf())


def pixel_rows(track: Track, marks: Landmarks, picture: Picture) -> list[tuple[str, list[tuple[float, float] | None]]]:
    """Where each landmark is seen at the first, middle and last frame, in pixels; None behind the camera."""
    at = first_middle_last(len(track))
    if not marks.names:
        return []
    place = marks.position_m if len(marks.position_m) == 1 else marks.position_m[at]
    seen, depth = projection_of(track.select_frames(at), picture.image, picture.fit).project(place)
    return [
        (name, [(float(seen[i, k, 0]), float(seen[i, k, 1])) if depth[i, k] > 1e-3 else None for i in range(len(at))])
        for k, name in enumerate(marks.names)
    ]


@cache
def _template() -> Any:
    loader = Environment(
        loader=FileSystemLoader(_HERE), autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    return loader.get_template("transfer_sheet.html")


@cache
def _font_faces() -> str:
    """The application's own fonts inside the sheet, so that it looks the same wherever it is opened."""
    faces = []
    for family, file, weight in (
        ("Source Sans 3", "source-sans-3", 400),
        ("Source Sans 3", "source-sans-3", 600),
        ("Plex Mono", "ibm-plex-mono", 400),
    ):
        data = b64encode((_FONTS / f"{file}-latin-{weight}-normal.woff2").read_bytes()).decode()
        faces.append(f"@font-face{{font-family:'{family}';font-weight:{weight};src:url({_FONT_URL}{data})}}")
    return "".join(faces)


@cache
def _print_fonts() -> tuple[Any, Any]:
    """The fonts as the printer has them: unpacking them takes a third of the time of a sheet."""
    from weasyprint import CSS
    from weasyprint.text.fonts import FontConfiguration

    fonts = FontConfiguration()
    atexit.register(_print_fonts.cache_clear)  # removes its folder, which it cannot do once the interpreter ends
    return CSS(string=_font_faces(), url_fetcher=_only_fonts(), font_config=fonts), fonts


def _only_fonts() -> Any:
    """What the printer may open: the fonts in the sheet, and nothing that a name or a note could point at."""
    from weasyprint.urls import URLFetcher, URLFetcherResponse

    class OnlyFonts(URLFetcher):
        def fetch(self, url: str, headers: Any = None) -> Any:
            if not url.startswith(_FONT_URL):
                raise ValueError("the sheet has no outside references")
            return URLFetcherResponse(url, b64decode(url.removeprefix(_FONT_URL)), {"Content-Type": "font/woff2"})

    return OnlyFonts()
