"""A camera that came back from a package, held against the one that was sent: how far off, and why."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from anaxis.core.proof.proof import Difference, Proof
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.diagnosis.diagnose import Explanation
from anaxis.diagnosis.returned import bare_of_work
from anaxis.formats import read_file, reader_of
from anaxis.library.returned import came_back, diagnosis_document, explained, usual_numbering
from anaxis.packages import find_profile
from anaxis.packages.model import Profile
from anaxis.public.camera import Camera

__all__ = ["Comparison", "Explanation", "compare"]
_MATCHES_PX = 0.01


@dataclass(frozen=True, eq=False)
class Comparison:
    """What happened to a camera in transit. ``proof`` is None where both have no frame in common."""

    proof: Proof | None
    explanations: tuple[Explanation, ...]
    explained: bool
    differences: tuple[Difference, ...]
    notes: tuple[str, ...]

    @property
    def matches(self) -> bool:
        """Whether every frame matches within 0.01 px, and every other value matches."""
        return self.proof is not None and self.proof.within(_MATCHES_PX)

    @property
    def explanation(self) -> str:
        """The best explanation in a sentence; where none explains what is seen, it says so and names the nearest."""
        best = self.explanations[0].sentence if self.explanations else ""
        return (
            best
            if self.explained
            else f"No known cause explains this. Closest: {best}"
            if best
            else "No known cause explains it."
        )

    def document(self) -> dict[str, Any]:
        """The same as plain JSON: what ``anaxis diagnose --json`` prints."""
        return diagnosis_document(self.explanations, self.explained, self.differences)


def compare(
    meant: Camera, came: str | Path, package: str | Profile | None = None, camera: str | None = None
) -> Comparison:
    """Measure a returned camera in pixels on every frame, and find the cause of a mismatch.

    Parameters:
        meant: the camera that was sent.
        came: the returned file; for a table, the package defines its columns.
        package: the package it came from: its key, a profile's JSON file, or a profile.
        camera: the camera of that file, by name or path, where it holds several.

    Raises BadInput for a file that cannot be read.
    """
    path, profile = Path(came), None if package is None else find_profile(package)
    going = meant._leaving().going
    back, notes = came_back(path, profile, going.leaving.picture, going.work.done, camera, read_file)
    sent = ShotCamera(going.work.done, going.work.landmarks, going.leaving.picture)
    numbering = usual_numbering(sent, back, profile, reader_of(path.name).key)
    above = bare_of_work(going.work)
    found, measured = explained(sent, sent.landmarks, above, numbering, back, profile)
    proof = None if measured is None else measured.proof
    differences = () if proof is None else tuple(d for d in proof.differences if d.matters)
    said = [*notes, *([numbering.sentence] if numbering.sentence else [])]
    return Comparison(proof, found.explanations, found.explained, differences, tuple(said))
