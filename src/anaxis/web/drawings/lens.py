"""The film back in millimetres, to scale, with the image inscribed; and the fields of view from the side."""

from __future__ import annotations

import math
from dataclasses import dataclass

from markupsafe import Markup

from anaxis.core.camera.lens import Image, Used
from anaxis.core.camera.lens_edits import Part
from anaxis.web.drawings.svg import drawing, drawn

_WIDTH, _MARGIN, _TALLEST = 340.0, 44.0, 190.0


@dataclass(frozen=True)
class FilmView:
    """One lens at one frame, in millimetres on the desqueezed film back."""

    film_width_mm: float  # desqueezed
    film_height_mm: float
    offset_x_mm: float
    offset_y_mm: float
    used: Used
    image: Image

    @property
    def size_words(self) -> str:
        """How much larger or smaller than the film back the image is, in a few words."""
        wide, high = float(self.used.width_mm), float(self.used.height_mm)
        said = []
        for name, used, film in (("width", wide, self.film_width_mm), ("height", high, self.film_height_mm)):
            share = used / film - 1
            if abs(share) > 5e-4:
                said.append(f"{'pads' if share > 0 else 'crops'} its {name} by {abs(share):.1%}")
        return " and ".join(said)

    @property
    def uses(self) -> str:
        """What the image does with the film back, and where it lies."""
        size = self.size_words
        if abs(self.offset_x_mm) < 5e-4 and abs(self.offset_y_mm) < 5e-4:
            return f"The image {size}." if size else "The image uses all of the film back."
        size = size or "has the size of the film back"
        return f"The image {size}, and lies {self.offset_x_mm:+.2f} mm right and {self.offset_y_mm:+.2f} mm up of its middle."


@drawing
def film_svg(view: FilmView, scale: float | None = None) -> Markup:
    """Film back (solid), image (dashed) where the offsets put it, both dimensioned in mm.

    What can be dragged says so by ``data-drag``; ``scale`` holds the drawing's scale while that is done. What of
    the film back the image leaves out is hatched, what the image adds around it is not covered by film.
    """
    wide, high = float(view.used.width_mm), float(view.used.height_mm)
    left = min(-view.film_width_mm / 2, view.offset_x_mm - wide / 2)
    right = max(view.film_width_mm / 2, view.offset_x_mm + wide / 2)
    bottom = min(-view.film_height_mm / 2, view.offset_y_mm - high / 2)
    top = max(view.film_height_mm / 2, view.offset_y_mm + high / 2)
    if scale is None or not 0 < scale < 1e6:
        scale = min((_WIDTH - 2 * _MARGIN) / (right - left), _TALLEST / (top - bottom))
    x0 = (_WIDTH - (right - left) * scale) / 2

    def x(mm: float) -> float:
        return x0 + (mm - left) * scale

    def y(mm: float) -> float:
        return 22 + (top - mm) * scale

    def box(cx: float, cy: float, w: float, h: float) -> tuple[float, float, float, float]:
        return x(cx - w / 2), y(cy + h / 2), w * scale, h * scale

    film_mm = (view.film_width_mm, view.film_height_mm)
    return drawn(
        "film",
        scale=scale,
        width=_WIDTH,
        foot=22 + (top - bottom) * scale + 16,
        x0=x(0),
        y0=y(0),
        film=box(0, 0, *film_mm),
        image=box(view.offset_x_mm, view.offset_y_mm, wide, high),
        film_mm=film_mm,
        image_mm=(wide, high),
        said=f"Film back {film_mm[0]:.2f} by {film_mm[1]:.2f} mm; the image uses {wide:.2f} by {high:.2f} mm",
    )


@drawing
def part_svg(plate: Image, part: Part) -> Markup:
    """The plate (solid) and the part of it (dashed), with the part's size in pixels."""
    a = plate.pixel_aspect
    left, top = min(0.0, part.x_px), min(0.0, part.y_px)
    right, bottom = (max(plate.width_px, part.x_px + part.width_px), max(plate.height_px, part.y_px + part.height_px))
    scale = min(300.0 / ((right - left) * a), 120.0 / (bottom - top))

    def box(x0: float, y0: float, w: float, h: float) -> tuple[float, float, float, float]:
        return 8 + (x0 - left) * a * scale, 6 + (y0 - top) * scale, w * a * scale, h * scale

    return drawn(
        "part",
        width=_WIDTH,
        foot=6 + (bottom - top) * scale + 16,
        plate=plate,
        boxes=[
            ("edge", box(0, 0, plate.width_px, plate.height_px)),
            ("image", box(part.x_px, part.y_px, part.width_px, part.height_px)),
        ],
        size=f"{part.width_px:g} by {part.height_px:g}",
        said=f"{part.width_px:g} × {part.height_px:g} px at {part.x_px:g}, {part.y_px:g}",
    )


@drawing
def views_svg(hfov_deg: float, vfov_deg: float) -> Markup:
    """Both fields of view as wedges from the lens, with their angles."""
    wedges, reach, radius = [], 88.0, 22.0
    for k, (name, drag, deg) in enumerate((("horizontal", "hfov_deg", hfov_deg), ("vertical", "vfov_deg", vfov_deg))):
        half = math.radians(min(deg, 178.0)) / 2
        # Short of the edge of its half of the drawing, whatever the angle.
        length = min(reach / max(math.cos(half), 0.05), 40.0 / max(math.sin(half), 0.05))
        wedges.append(
            {"name": name, "drag": drag, "deg": deg, "x": 12.0 + k * 170.0, "y": 46.0, "r": radius}
            | {"dx": length * math.cos(half), "dy": length * math.sin(half)}
            | {"ax": radius * math.cos(half), "ay": radius * math.sin(half)}
        )
    said = f"Horizontal field of view {hfov_deg:.2f} degrees, vertical {vfov_deg:.2f} degrees"
    return drawn("wedges", wedges=wedges, said=said)
