"""What pictures say of a camera, in sentences and as a document."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from anaxis.core.names import listed
from anaxis.core.number_text import px_text
from anaxis.core.time.rates import format_frame, plain_frame
from anaxis.diagnosis.diagnose import aside_of
from anaxis.diagnosis.picture.candidates import OTHER_FIT
from anaxis.diagnosis.picture.evidence import Hypothesis, PictureCase
from anaxis.diagnosis.picture.explain import Weighed, weighed
from anaxis.diagnosis.picture.solve import FoundCamera
from anaxis.diagnosis.picture.views import Deciding, deciding_frame
from anaxis.diagnosis.time import Cause
from anaxis.packages.habits import HABITS

# A landmark that lies further off than so many times how well the others are placed is at a wrong place.
_MISPLACED = 6.0
_FEW_MARKS = 6


@dataclass(frozen=True, eq=False)
class PictureExplanation:
    """One explanation: its causes, a sentence, how likely it is among all (0 to 1), and what it leaves in pixels.

    ``same_picture`` are sentences about other causes that make the same picture on every frame of the shot; ``frames`` are those
    of the shot that the pictures show by it.
    """

    sentence: str
    causes: tuple[Cause, ...]
    probability: float
    residual_px: float
    rests_on: int
    frames: tuple[float, ...]
    same_picture: tuple[str, ...]

    def as_dict(self) -> dict[str, Any]:
        return {
            "sentence": self.sentence,
            "causes": [{"code": code, **params} for code, params in self.causes],
            "probability": round(self.probability, 4),
            "residual_px": self.residual_px,
            "rests_on": self.rests_on,
            "frames": [plain_frame(f) for f in self.frames],
            "same_picture": list(self.same_picture),
        }


@dataclass(frozen=True, eq=False)
class Misplaced:
    """A landmark that lies where no camera of the best explanation sees it."""

    picture: str
    landmark: str
    off_px: float

    @property
    def sentence(self) -> str:
        return f"{self.picture}: {self.landmark} is {px_text(self.off_px)} away from the position that the other landmarks give. Check it."


@dataclass(frozen=True, eq=False)
class PictureDiagnosis:
    """What pictures from a package say of the camera that took them.

    ``explained``: a known cause makes these pictures; ``decided``: the pictures tell it from all others. ``camera`` has the camera
    of each picture as its landmarks alone show it, None where they are too few; ``second_picture`` says which further picture would
    decide between the first two explanations.
    """

    explanations: tuple[PictureExplanation, ...]
    explained: bool
    decided: bool
    pictures: tuple[str, ...]
    cameras: tuple[FoundCamera | None, ...]
    marks: tuple[tuple[str, ...], ...]
    placed_within_px: float
    misplaced: tuple[Misplaced, ...]
    second_picture: Deciding | None
    notes: tuple[str, ...]

    @property
    def sentence(self) -> str:
        """The answer in a sentence or two."""
        best = self.explanations[0] if self.explanations else None
        if best is None or not self.explained:
            return f"No known cause explains this picture.{f' Closest: {best.sentence}' if best else ''}"
        if self.decided:
            return best.sentence
        others = [f"{e.sentence} ({e.probability:.0%})" for e in self.explanations[:2]]
        return f"The picture does not decide between two causes. {' '.join(others)} {self.second_sentence}"

    @property
    def second_sentence(self) -> str:
        """Which picture would decide; "" where one cause is named."""
        if self.decided or len(self.explanations) < 2:
            return ""
        if self.second_picture is None:
            return "No frame of this shot tells them apart."
        found = self.second_picture
        return (
            f"A picture at frame {format_frame(found.frame)} decides: there the two show {found.landmark} "
            f"{px_text(found.apart_px)} apart."
        )

    def as_dict(self) -> dict[str, Any]:
        second = self.second_picture
        return {
            "explained": self.explained,
            "decided": self.decided,
            "sentence": self.sentence,
            "explanations": [e.as_dict() for e in self.explanations],
            "cameras": [
                {"picture": name, **({"found": False} if c is None else camera_document(c, marks))}
                for name, c, marks in zip(self.pictures, self.cameras, self.marks, strict=True)
            ],
            "placed_within_px": self.placed_within_px,
            "misplaced": [{"picture": m.picture, "landmark": m.landmark, "off_px": m.off_px} for m in self.misplaced],
            "second_picture": None
            if second is None
            else {"frame": plain_frame(second.frame), "landmark": second.landmark, "apart_px": second.apart_px},
            "notes": list(self.notes),
        }


def camera_document(found: FoundCamera, marks: Sequence[str]) -> dict[str, Any]:
    """The camera that took a picture, in canonical space, as plain JSON."""
    return {
        "found": True,
        "position_m": found.position_m.tolist(),
        "rotation": found.rotation.tolist(),
        "focal_px": found.lens.focal_px,
        "principal_point_px": found.lens.centre_px.tolist(),
        "k1": found.lens.k1,
        "hfov_deg": found.hfov_deg,
        "free": list(found.free),
        "residual_px": dict(zip(marks, found.residual_px.tolist(), strict=True)),
        "position_within_m": found.position_within_m,
        "rotation_within_deg": found.rotation_within_deg,
        "hfov_within_deg": found.hfov_within_deg,
        "words": found.words,
        "doubts": list(found.doubts),
    }


def diagnosed(case: PictureCase) -> PictureDiagnosis:
    """What happened to the camera before the pictures were taken, best first. Raises BadInput."""
    found = weighed(case)
    explanations = tuple(_explanation(case, h) for h in found.hypotheses[:3])
    sigma = float(np.median(found.sigma_px))
    second = None
    if found.explained and not found.decided and len(found.hypotheses) > 1:
        second = deciding_frame(case, found.hypotheses[0], found.hypotheses[1], sigma)
    return PictureDiagnosis(
        explanations, found.explained, found.decided, tuple(p.name for p in case.pictures), found.cameras,
        tuple(tuple(case.landmarks.names[int(m)] for m in p.marks) for p in case.pictures), 2 * sigma,
        tuple(_misplaced(case, found)) if found.explained else (), second, tuple(_notes(case, found)),
    )  # fmt: skip


def words_of(case: PictureCase, causes: tuple[Cause, ...]) -> str:
    """Causes as what the package does."""
    parts = []
    for code, params in causes:
        if code == OTHER_FIT:
            parts.append(f"fits the image to the film back by '{params['fit']}' instead of '{case.fit}'")
        else:
            parts.append(HABITS[code].says(params) + aside_of(code, params, case.meant))
    return ", and ".join(parts)


def _explanation(case: PictureCase, found: Hypothesis) -> PictureExplanation:
    off = found.residual_px
    worst = float(off.max()) if len(off) else 0.0
    landmarks = f"{len(off)} landmarks" + (f" in {len(case.pictures)} pictures" if len(case.pictures) > 1 else "")
    said = (
        "Pose, lens and frame match the expected camera"
        if not found.causes
        else f"The package {words_of(case, found.causes)}"
    )
    unknown = [f for f, p in zip(found.shown, case.pictures, strict=True) if p.frame is None]
    shown = f"; the picture shows frame {listed([format_frame(f) for f in unknown])} of the shot" if unknown else ""
    sentence = f"{said}{shown}; from {landmarks}, up to {px_text(worst)} remain."
    same = tuple(words_of(case, causes) or "nothing" for causes in found.alike)
    return PictureExplanation(sentence, found.causes, found.probability, worst, len(off), found.shown, same)


def _misplaced(case: PictureCase, found: Weighed) -> list[Misplaced]:
    """Landmarks that lie far from where the best explanation shows them."""
    best, out, at = found.hypotheses[0], [], 0
    for picture, sigma in zip(case.pictures, found.sigma_px, strict=True):
        for mark in picture.marks:
            off = float(best.residual_px[at])
            at += 1
            if off > _MISPLACED * sigma:
                out.append(Misplaced(picture.name, case.landmarks.names[int(mark)], off))
    return out


def _notes(case: PictureCase, found: Weighed) -> list[str]:
    """What cannot be told from these pictures."""
    out = []
    for picture, camera in zip(case.pictures, found.cameras, strict=True):
        if len(picture) < _FEW_MARKS:
            out.append(
                f"{picture.name} has {len(picture)} landmarks: with 6 or more, Anaxis finds the camera automatically."
            )
        elif camera is None and not found.explained:
            out.append(f"{picture.name}: no camera sees all placed landmarks like this. Check each of them.")
        out += [f"{picture.name}: {doubt}" for doubt in (camera.doubts if camera is not None else ())]
        if picture.frame is None and len(case.landmarks.position_m) > 1:
            out.append(f"{picture.name}: the landmarks move, so its frame should be known.")
    return out
