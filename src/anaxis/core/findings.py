"""Findings: what was noticed about a camera, how grave it is, and what to do about it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import asdict, dataclass, field
from math import isfinite
from typing import Any, Literal

Severity = Literal["error", "warning", "note"]
SEVERITIES: tuple[Severity, ...] = ("error", "warning", "note")


@dataclass(frozen=True)
class Finding:
    """``message`` says what was seen and where, ``why`` what it does downstream, ``remedy`` what to do.

    An ``error`` makes the camera unusable as it is; a ``warning`` is likely to arrive wrong; a
    ``note`` is worth knowing. ``numbers`` are the values seen, by name; ``operation`` is the remedy
    as an operation of the recipe ({"code", "params"}), where there is one; ``node`` the path it is
    about, "" where it is about the file.
    """

    code: str
    severity: Severity
    message: str
    remedy: str
    why: str = ""
    numbers: dict[str, Any] = field(default_factory=dict)
    operation: dict[str, Any] | None = None
    node: str = ""

    def as_dict(self) -> dict[str, Any]:
        """Plain JSON: numbers that are none, or infinite, become null."""
        numbers = {k: None if isinstance(v, float) and not isfinite(v) else v for k, v in self.numbers.items()}
        return {**asdict(self), "numbers": numbers}


def remedy(code: str, **params: object) -> dict[str, Any]:
    """A remedy as an operation of the recipe."""
    return {"code": code, "params": params}


def by_severity(findings: Iterable[Finding]) -> list[Finding]:
    """The findings, gravest first; the order within a severity is kept."""
    return sorted(findings, key=lambda f: SEVERITIES.index(f.severity))
