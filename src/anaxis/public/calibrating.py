"""A package whose conventions nobody knows, learned from a made camera and what arrived of it there."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from anaxis.diagnosis.calibration import learned
from anaxis.diagnosis.calibration_form import returned_from_file
from anaxis.diagnosis.calibration_kit import write_start
from anaxis.packages.model import Profile


@dataclass(frozen=True)
class Calibration:
    """The profile of a package that was learned; ``confidence`` (0 to 1) for each of its fields, ``second_round`` what another round
    would settle."""

    profile: Profile
    confidence: dict[str, float]
    residual_px: float
    second_round: tuple[str, ...]
    explained: bool


def calibration_kit(out: str | Path, format: str = "usd") -> list[Path]:
    """Write the test camera, its points and the form to fill in. Raises BadInput."""
    return list(write_start(Path(out), format))


def calibrate(
    returned: str | Path,
    key: str,
    label: str = "",
    *,
    second: str | Path | None = None,
    third: str | Path | None = None,
) -> Calibration:
    """The profile of the package that filled in a form.

    Parameters:
        returned: the form of the first camera, filled in.
        key, label: of the new profile.
        second: the form of calibration_second, which has another unit and another axis up.
        third: the form of calibration_third, which has another film aspect.

    Raises BadInput for a form that cannot be read, or lacks what it must hold.
    """
    found = learned(
        returned_from_file(Path(returned)), key, label or key,
        None if second is None else returned_from_file(Path(second), "camera"),
        None if third is None else returned_from_file(Path(third), "pixels"),
    )  # fmt: skip
    return Calibration(
        found.profile, dict(found.confidence), found.residual_px, tuple(found.second_round), found.explained
    )
