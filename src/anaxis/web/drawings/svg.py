"""The drawings' own templates: Python works out where things lie, the ``*.svg`` beside this file draw them."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterable, Sequence
from functools import wraps
from pathlib import Path
from typing import Any, ParamSpec

from jinja2 import Environment, FileSystemLoader, StrictUndefined
from markupsafe import Markup

from anaxis.core.errors import BadInput
from anaxis.core.time.rates import format_frame

_log = logging.getLogger("anaxis.drawings")
_Arguments = ParamSpec("_Arguments")
_FAILED = Markup(
    '<p class="not-drawn" role="note">Anaxis could not make this drawing; the server\'s log has the reason. '
    "The rest of the page does not depend on it.</p>"
)


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


def drawing(make: Callable[_Arguments, Markup]) -> Callable[_Arguments, Markup]:
    """A drawing on a page: where it fails, a sentence stands in its place, and the page shows the rest. BadInput goes on."""

    @wraps(make)
    def made(*args: _Arguments.args, **kwargs: _Arguments.kwargs) -> Markup:
        try:
            return make(*args, **kwargs)
        except BadInput:
            raise
        except Exception:
            _log.exception("the drawing %s failed", make.__name__)
            return _FAILED

    return made
