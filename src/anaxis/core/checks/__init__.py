"""The checks a camera goes through on intake, and their registry CHECKS.

A check takes a :class:`Subject` and yields findings. To add one, write it in the file of its subject
matter and add it to that file's CHECKS.
"""

from __future__ import annotations

from anaxis.core.checks import cameras, lens, motion, projection, times, transforms
from anaxis.core.checks.subject import Check, Expected, Subject, is_still, moving_lens_channels
from anaxis.core.findings import Finding, by_severity

__all__ = ["CHECKS", "Expected", "Subject", "is_still", "moving_lens_channels", "run_checks"]

CHECKS: tuple[Check, ...] = (
    *motion.CHECKS,
    *lens.CHECKS,
    *transforms.CHECKS,
    *times.CHECKS,
    *cameras.CHECKS,
    *projection.CHECKS,
)


def run_checks(subject: Subject) -> list[Finding]:
    """Every finding about a camera, the file's own included, gravest first."""
    about_file = [f for f in subject.scene.findings if _concerns(f, subject)]
    found = [finding for check in CHECKS for finding in check(subject)]
    return by_severity([*about_file, *found])


def _concerns(finding: Finding, subject: Subject) -> bool:
    """Whether a file's finding is about the file, this camera, or something that moves it."""
    return finding.node in ("", subject.path, *(n.path for n in subject.baked.parents))
