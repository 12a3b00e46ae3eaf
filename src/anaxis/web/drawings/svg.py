"""The drawings' own templates: Python works out where things lie, the ``*.svg`` beside this file draw them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

from jinja2 import Environment, FileSystemLoader, StrictUndefined
from markupsafe import Markup

from anaxis.core.time.rates import format_frame


def _points(points: Iterable[Sequence[float]]) -> str:
    """The ``points`` of a polygon or polyline, from (n, 2)."""
    return " ".join(f"{x:.1f},{y:.1f}" for x, y in points)


_templates = Environment(
    loader=FileSystemLoader(Path(__file__).parent),
    autoescape=True,
    undefined=StrictUndefined,
    trim_blocks=True,
    lstrip_blocks=True,
)
# "at" is a place on the page: a tenth of a unit is finer than any screen.
_templates.filters["at"] = lambda v: f"{v:.1f}"
_templates.filters |= {"points": _points, "frame": format_frame}


def drawn(name: str, **what: Any) -> Markup:
    """The drawing ``name``.svg of these things."""
    return Markup(_templates.get_template(f"{name}.svg").render(what))
