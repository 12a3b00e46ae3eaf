"""Findings: something noticed about a camera, said so that it can be acted on."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Literal

if TYPE_CHECKING:
    from anaxis.core.bake import Baked
    from anaxis.core.scene import Scene

Severity = Literal["error", "warning", "note"]
SEVERITIES: tuple[Severity, ...] = ("error", "warning", "note")


@dataclass(frozen=True)
class Finding:
    """``message`` says what was seen, where, and why it matters; ``remedy`` what to do about it.

    An ``error`` makes the camera unusable as it is; a ``warning`` is likely to arrive wrong; a
    ``note`` is worth knowing.
    """

    code: str
    severity: Severity
    message: str
    remedy: str

    def as_dict(self) -> dict[str, str]:
        return asdict(self)


Check = Callable[["Scene", "Baked"], Iterable[Finding]]


def by_severity(findings: Iterable[Finding]) -> list[Finding]:
    return sorted(findings, key=lambda f: SEVERITIES.index(f.severity))
