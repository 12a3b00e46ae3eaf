"""The film back in millimetres, to scale, with the image inscribed; and the fields of view from the side."""

from __future__ import annotations

import math
from dataclasses import dataclass

from markupsafe import Markup

from anaxis.core.camera.lens import Image, Used
from anaxis.core.camera.lens_edits import Part

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
        size = size or "has the film back's size"
        return f"The image {size}, and lies {self.offset_x_mm:+.2f} mm right and {self.offset_y_mm:+.2f} mm up of its middle."


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
    across, down = (right - left) * scale, (top - bottom) * scale
    x0 = (_WIDTH - across) / 2

    def x(mm: float) -> float:
        return x0 + (mm - left) * scale

    def y(mm: float) -> float:
        return 22 + (top - mm) * scale

    def box(cx: float, cy: float, w: float, h: float, kind: str, more: str = "") -> str:
        return f'<rect class="{kind}" {more} x="{x(cx - w / 2):.1f}" y="{y(cy + h / 2):.1f}" width="{w * scale:.1f}" height="{h * scale:.1f}"/>'

    film = box(0, 0, view.film_width_mm, view.film_height_mm, "film")
    image = box(view.offset_x_mm, view.offset_y_mm, wide, high, "image", 'data-drag="offset"')
    clear = box(view.offset_x_mm, view.offset_y_mm, wide, high, "clear")
    corner = f'<rect class="grip" data-drag="film" x="{x(view.film_width_mm / 2) - 5:.1f}" y="{y(-view.film_height_mm / 2) - 5:.1f}" width="10" height="10"/>'
    foot = 22 + down + 16
    parts = [
        '<defs><pattern id="cropped" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)"><path d="M0 0V6"/></pattern></defs>',
        film,
        clear,
        image,
        film.replace('class="film"', 'class="edge"'),
        corner,
        f'<path class="axis" d="M{x(0) - 5:.1f} {y(0):.1f}h10M{x(0):.1f} {y(0) - 5:.1f}v10"/>',
        f'<text x="{x(0):.1f}" y="14" text-anchor="middle">film back {view.film_width_mm:.2f} mm</text>',
        f'<text x="{x(view.film_width_mm / 2) + 5:.1f}" y="{y(0) + 4:.1f}">{view.film_height_mm:.2f}</text>',
        f'<text class="image" x="{x(view.offset_x_mm):.1f}" y="{foot:.1f}" text-anchor="middle">image {wide:.2f} × {high:.2f} mm</text>',
    ]
    said = f"Film back {view.film_width_mm:.2f} by {view.film_height_mm:.2f} mm; the image uses {wide:.2f} by {high:.2f} mm"
    return Markup(
        f'<svg class="film" data-mm="{scale:.6f}" data-x="{x(0):.3f}" data-y="{y(0):.3f}" viewBox="0 0 {_WIDTH:g} {foot + 8:.0f}" role="img" aria-label="{said}">{"".join(parts)}</svg>'
    )


def part_svg(plate: Image, part: Part) -> Markup:
    """The plate (solid) and the part of it (dashed), with the part's size in pixels."""
    a = plate.pixel_aspect
    left, top = min(0.0, part.x_px), min(0.0, part.y_px)
    right, bottom = (max(plate.width_px, part.x_px + part.width_px), max(plate.height_px, part.y_px + part.height_px))
    scale = min(300.0 / ((right - left) * a), 120.0 / (bottom - top))

    def box(x0: float, y0: float, w: float, h: float, kind: str) -> str:
        return f'<rect class="{kind}" x="{8 + (x0 - left) * a * scale:.1f}" y="{6 + (y0 - top) * scale:.1f}" width="{w * a * scale:.1f}" height="{h * scale:.1f}"/>'

    foot = 6 + (bottom - top) * scale + 16
    said = (
        f"A part of {part.width_px:g} by {part.height_px:g} pixels of a plate of {plate.width_px} by {plate.height_px}"
    )
    return Markup(
        f'<svg class="film" viewBox="0 0 {_WIDTH:g} {foot + 6:.0f}" role="img" aria-label="{said}">{box(0, 0, plate.width_px, plate.height_px, "edge")}'
        f'{box(part.x_px, part.y_px, part.width_px, part.height_px, "image")}<text class="image" x="8" y="{foot:.0f}">{part.width_px:g} × {part.height_px:g} px at {part.x_px:g}, {part.y_px:g}</text></svg>'
    )


def views_svg(hfov_deg: float, vfov_deg: float) -> Markup:
    """Both fields of view as wedges from the lens, with their angles."""
    parts = []
    for k, (label, angle) in enumerate((("horizontal", hfov_deg), ("vertical", vfov_deg))):
        x0, y0, reach = 12.0 + k * 170.0, 46.0, 88.0
        half = math.radians(min(angle, 178.0)) / 2
        # Short of the edge of its half of the drawing, whatever the angle.
        length = min(reach / max(math.cos(half), 0.05), 40.0 / max(math.sin(half), 0.05))
        dx, dy = length * math.cos(half), length * math.sin(half)
        r = 22.0
        ax, ay = r * math.cos(half), r * math.sin(half)
        parts.append(
            f'<path class="wide" data-drag="{"hfov_deg" if k == 0 else "vfov_deg"}" data-x="{x0}" data-y="{y0}" d="M{x0 + dx:.1f} {y0 - dy:.1f}L{x0} {y0}L{x0 + dx:.1f} {y0 + dy:.1f}"/>'
            f'<path d="M{x0 + dx:.1f} {y0 - dy:.1f}L{x0} {y0}L{x0 + dx:.1f} {y0 + dy:.1f}"/>'
            f'<path class="thin" d="M{x0 + dx:.1f} {y0 - dy:.1f}V{y0 + dy:.1f}"/>'
            f'<path class="thin" d="M{x0 + ax:.1f} {y0 - ay:.1f}A{r} {r} 0 0 1 {x0 + ax:.1f} {y0 + ay:.1f}"/>'
            f'<text x="{(x0 + 28 if angle > 25 else x0 + dx + 6):.1f}" y="{y0 + 4:.1f}">{angle:.2f}°</text><text class="name" x="{x0}" y="100">{label}</text>'
        )
    said = f"Horizontal field of view {hfov_deg:.2f} degrees, vertical {vfov_deg:.2f} degrees"
    return Markup(f'<svg class="wedges" viewBox="0 0 340 106" role="img" aria-label="{said}">{"".join(parts)}</svg>')
