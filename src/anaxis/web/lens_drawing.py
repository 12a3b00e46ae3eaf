"""The film back in millimetres, to scale, with the image inscribed; and the fields of view from the side."""

from __future__ import annotations

import math
from dataclasses import dataclass

from markupsafe import Markup

from anaxis.core.lens import Image, Used

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
    def uses(self) -> str:
        """What the image does with the film back, in a few words."""
        wide, high = float(self.used.width_mm), float(self.used.height_mm)
        said = []
        for name, used, film in (("width", wide, self.film_width_mm), ("height", high, self.film_height_mm)):
            share = used / film - 1
            if abs(share) > 5e-4:
                said.append(f"{'pads' if share > 0 else 'crops'} its {name} by {abs(share):.1%}")
        if abs(self.offset_x_mm) < 5e-4 and abs(self.offset_y_mm) < 5e-4:
            return "The image " + " and ".join(said) + "." if said else "The image uses all of the film back."
        size = " and ".join(said) if said else "has the film back's size"
        return f"The image {size}, and lies {self.offset_x_mm:+.2f} mm right and {self.offset_y_mm:+.2f} mm up of its middle."


def film_svg(view: FilmView) -> Markup:
    """Film back (solid), image (dashed) where the offsets put it, both dimensioned in mm."""
    wide, high = float(view.used.width_mm), float(view.used.height_mm)
    left = min(-view.film_width_mm / 2, view.offset_x_mm - wide / 2)
    right = max(view.film_width_mm / 2, view.offset_x_mm + wide / 2)
    bottom = min(-view.film_height_mm / 2, view.offset_y_mm - high / 2)
    top = max(view.film_height_mm / 2, view.offset_y_mm + high / 2)
    scale = min((_WIDTH - 2 * _MARGIN) / (right - left), _TALLEST / (top - bottom))
    across, down = (right - left) * scale, (top - bottom) * scale
    x0 = (_WIDTH - across) / 2

    def x(mm: float) -> float:
        return x0 + (mm - left) * scale

    def y(mm: float) -> float:
        return 22 + (top - mm) * scale

    def box(cx: float, cy: float, w: float, h: float, kind: str) -> str:
        return f'<rect class="{kind}" x="{x(cx - w / 2):.1f}" y="{y(cy + h / 2):.1f}" width="{w * scale:.1f}" height="{h * scale:.1f}"/>'

    film = box(0, 0, view.film_width_mm, view.film_height_mm, "film")
    image = box(view.offset_x_mm, view.offset_y_mm, wide, high, "image")
    foot = 22 + down + 16
    parts = [
        film, image,
        f'<path class="axis" d="M{x(0) - 5:.1f} {y(0):.1f}h10M{x(0):.1f} {y(0) - 5:.1f}v10"/>',
        f'<text x="{x(0):.1f}" y="14" text-anchor="middle">film back {view.film_width_mm:.2f} mm</text>',
        f'<text x="{x(view.film_width_mm / 2) + 5:.1f}" y="{y(0) + 4:.1f}">{view.film_height_mm:.2f}</text>',
        f'<text class="image" x="{x(view.offset_x_mm):.1f}" y="{foot:.1f}" text-anchor="middle">image {wide:.2f} × {high:.2f} mm</text>',
    ]  # fmt: skip
    said = f"Film back {view.film_width_mm:.2f} by {view.film_height_mm:.2f} mm; the image uses {wide:.2f} by {high:.2f} mm"
    return Markup(
        f'<svg class="film" viewBox="0 0 {_WIDTH:g} {foot + 8:.0f}" role="img" aria-label="{said}">{"".join(parts)}</svg>'
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
            f'<path d="M{x0 + dx:.1f} {y0 - dy:.1f}L{x0} {y0}L{x0 + dx:.1f} {y0 + dy:.1f}"/>'
            f'<path class="thin" d="M{x0 + dx:.1f} {y0 - dy:.1f}V{y0 + dy:.1f}"/>'
            f'<path class="thin" d="M{x0 + ax:.1f} {y0 - ay:.1f}A{r} {r} 0 0 1 {x0 + ax:.1f} {y0 + ay:.1f}"/>'
            f'<text x="{(x0 + 28 if angle > 25 else x0 + dx + 6):.1f}" y="{y0 + 4:.1f}">{angle:.2f}°</text><text class="name" x="{x0}" y="100">{label}</text>'
        )
    said = f"Horizontal field of view {hfov_deg:.2f} degrees, vertical {vfov_deg:.2f} degrees"
    return Markup(
        f'<svg class="wedges" viewBox="0 0 340 106" role="img" aria-label="{said}">{"".join(parts)}</svg>'
    )
