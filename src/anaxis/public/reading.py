"""A camera file that was read: its cameras, axes, unit and rate; and the names that describe what is in it."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from pathlib import Path
from typing import Any

from anaxis.core.camera.track import Lens
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.proof.proof import Difference, Proof
from anaxis.core.recipe.documents import recipe_from_document
from anaxis.core.scene import nodes
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.picture import picture_of
from anaxis.core.time.rates import parse_rate
from anaxis.formats import read_file
from anaxis.library.inspected import Inspected, inspected
from anaxis.public.camera import Camera
from anaxis.public.origin import Origin
from anaxis.public.values import Values

__all__ = ["BadInput", "Camera", "Difference", "Finding", "Landmarks", "Lens", "Proof", "Scene", "Values", "read"]


@dataclass(frozen=True, eq=False)
class Scene:
    """A file with its cameras. Made by :func:`read`."""

    _scene: nodes.Scene
    _origin: Origin

    def __repr__(self) -> str:
        return f"<Scene {self.name}: {', '.join(n.path for n in self._scene.cameras) or 'no camera'}>"

    @property
    def name(self) -> str:
        """The file's name."""
        return self._scene.name

    @property
    def format(self) -> str:
        return self._scene.format

    @property
    def up_axis(self) -> str:
        return self._scene.convention.up_axis

    @property
    def metres_per_unit(self) -> float:
        return self._scene.convention.metres_per_unit

    @property
    def rate(self) -> Fraction:
        """Rate, frames/s, exactly: 24000/1001, not 23.976."""
        return self._scene.rate

    @property
    def frame_range(self) -> tuple[float, float]:
        """The first and the last frame that the file states."""
        return self._scene.first_frame, self._scene.last_frame

    @property
    def guesses(self) -> dict[str, str]:
        """What the file does not state, and the reason for the value taken."""
        return dict(self._scene.guesses)

    @property
    def cameras(self) -> tuple[Camera, ...]:
        return tuple(self._camera(node.path) for node in self._scene.cameras)

    @property
    def camera(self) -> Camera:
        """The only camera of the file. Raises BadInput that lists the cameras where there are several, or none."""
        return self._camera(self._scene.camera().path)

    def __getitem__(self, name: str) -> Camera:
        """A camera by its name or its path. Raises BadInput that lists the cameras."""
        return self._camera(self._scene.camera(name).path)

    def __iter__(self) -> Iterator[Camera]:
        return iter(self.cameras)

    def __len__(self) -> int:
        return len(self._scene.cameras)

    def _camera(self, path: str) -> Camera:
        return Camera(self._scene, path, (), picture_of(self._scene, None, None), self._origin)

    @cached_property
    def _inspected(self) -> Inspected:
        return inspected(self._scene, {})

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What every check noticed about the file's cameras; ``node`` says which."""
        return tuple(f for report in self._inspected.reports for f in report.findings)

    def document(self, recipe: list[dict[str, Any]] | None = None) -> dict[str, Any]:
        """The file and its cameras, each after a recipe, as plain JSON: what ``anaxis inspect --json`` prints."""
        steps = recipe_from_document(recipe or [])
        return inspected(self._scene, {c.path: steps for c in self._scene.cameras}).document

    def corrected(
        self, up_axis: str | None = None, metres_per_unit: float | None = None, rate: str | Fraction | None = None
    ) -> Scene:
        """The file with what it does not state, or states wrongly. Raises BadInput for an axis, unit or rate that cannot be."""
        exact = parse_rate(str(rate)) if rate is not None else None
        return Scene(nodes.corrected(self._scene, up_axis, metres_per_unit, exact), self._origin)


def read(
    path: str | Path, *, layout: dict[str, Any] | None = None, within: str | Path | None = None, max_mb: float = 200.0
) -> Scene:
    """Read a camera file: USD, Alembic, glTF, COLLADA, track JSON, a table of numbers, or a zip of one of them.

    Parameters:
        path: the file. Its format is told by its suffix.
        layout: which column of a table holds what, as docs/formats.md describes; from the headings where left out.
        within: a folder whose files the file may refer to: sublayers, references, payloads. Nothing outside it is opened.
        max_mb: a larger file is refused.

    Raises BadInput for a file that is not there, is none of these, or is damaged. The file is read in this process: for files that
    strangers send, read them in a process of their own, as the server does.
    """
    path = Path(path)
    scene = read_file(path, round(max_mb * 1e6), layout, None if within is None else Path(within))
    return Scene(scene, Origin(path.name, hashlib.sha256(path.read_bytes()).hexdigest()))
