"""What is in a camera file, as a document."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any, NamedTuple

from anaxis.core.camera.track import Lens
from anaxis.core.checks.examine import CameraReport, examine, refuse_unusable
from anaxis.core.recipe.model import Recipe
from anaxis.core.scene.nodes import Scene
from anaxis.core.time.rates import plain_frame, rate_text


class Inspected(NamedTuple):
    """A file's head and each of its cameras as JSON, and the reports that say the same."""

    document: dict[str, Any]
    reports: list[CameraReport]

    def require_usable(self) -> None:
        """Raises BadInput where no camera of the file can be used."""
        refuse_unusable(self.reports)


def inspected(scene: Scene, recipes: Mapping[str, Recipe]) -> Inspected:
    """What is in a file, each of its cameras after its recipe, by path. Raises BadInput."""
    reports = examine(scene, recipes)
    document = {
        "file": {
            "name": scene.name,
            "format": scene.format,
            "up_axis": scene.convention.up_axis,
            "metres_per_unit": scene.convention.metres_per_unit,
            "rate": rate_text(scene.rate),
            "first_frame": plain_frame(scene.first_frame),
            "last_frame": plain_frame(scene.last_frame),
        },
        "cameras": [_camera(r) for r in reports],
    }
    return Inspected(document, reports)


def _camera(report: CameraReport) -> dict[str, Any]:
    return {
        "path": report.path,
        "name": report.name,
        "first_frame": plain_frame(report.first_frame),
        "last_frame": plain_frame(report.last_frame),
        "samples": report.samples,
        "animated": report.animated,
        "lens_animated": report.lens_animated,
        "lens": _first_lens(report.track.lens) if report.track else None,
        "findings": [f.as_dict() for f in report.findings],
    }


def _first_lens(lens: Lens) -> dict[str, float | None]:
    keys = ("focal_mm", "film_width_mm", "film_height_mm", "offset_x_mm", "offset_y_mm")
    first = {k: float(getattr(lens, k)[0]) for k in keys}
    return {k: v if math.isfinite(v) else None for k, v in first.items()}
