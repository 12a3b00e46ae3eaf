"""What was noticed about a camera, with what its shot is expected to be by now."""

from __future__ import annotations

from typing import Any

from anaxis.core.checks import Expected
from anaxis.core.checks.times import OF_THE_SHOT, against_shot
from anaxis.core.findings import Finding
from anaxis.core.time.rates import kept_rate


def findings_now(kept: list[Any], facts: dict[str, Any], expected: Expected, path: str) -> list[Finding]:
    """Findings as they are kept with a version, those against the shot anew: by what is expected of it by now."""
    whole = (facts["first_frame"], facts["last_frame"])
    held = tuple(facts.get("held_frames") or whole)
    against = against_shot(expected, whole, (held[0], held[1]), kept_rate(facts["rate"]), path)
    return [*(Finding(**f) for f in kept if f["code"] not in OF_THE_SHOT), *against]


def expected_of(shot: Any) -> Expected:
    """What the edit expects of a shot, or of a row with a shot's first and last frame and rate."""
    return Expected(shot.first_frame, shot.last_frame, kept_rate(shot.rate) if shot.rate else None)


def is_open(finding: Finding, allowed: frozenset[str]) -> bool:
    """Whether a finding is a warning that nobody has mended or allowed; ``allowed`` are the sentences that were."""
    return finding.severity != "note" and finding.message not in allowed
