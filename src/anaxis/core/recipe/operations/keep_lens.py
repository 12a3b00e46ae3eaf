"""The lens of an earlier version kept over a newer motion."""

from __future__ import annotations

from typing import Any

from anaxis.core.motion.edits import with_lens
from anaxis.core.parameters import Parameters, asked
from anaxis.core.recipe.model import Kind, Work


class KeepLens(Parameters):
    lens: dict[str, Any] = asked("Lens")
    of: str | None = asked("Of", default=None)


def apply(work: Work, p: KeepLens) -> Work:
    return work.with_track(with_lens(work.done, p.lens))


KIND = Kind(
    "keep_lens",
    "Keep an earlier lens",
    "track",
    KeepLens,
    apply,
    lambda p: f"that of {p.of or 'an earlier version'}",
    by_hand=False,
    once=True,
)
