"""What a distortion model is: coefficients, and the map from the pinhole picture to the picture as shot.

Everything is in tangents about the distortion's centre: ``u = x / -z`` to the right and ``v = y / -z`` upward, of the
desqueezed picture. Coefficients may change over the frames: each is (n, 1) or (1, 1), points are (n, m) or (1, m).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import NamedTuple

from anaxis.core.typing import Floats

Coefficients = Mapping[str, Floats]


class Slopes(NamedTuple):
    """How a map stretches at points: its four partial derivatives."""

    uu: Floats  # of the new u by the old u
    uv: Floats  # of the new u by the old v
    vu: Floats
    vv: Floats

    @property
    def determinant(self) -> Floats:
        return self.uu * self.vv - self.uv * self.vu


@dataclass(frozen=True, eq=False)
class Bent:
    """Where points come to lie, and how the map stretches there, which ``measure`` works out when somebody asks."""

    u: Floats
    v: Floats
    measure: Callable[[], Slopes]

    @cached_property
    def slopes(self) -> Slopes:
        return self.measure()

    @property
    def determinant(self) -> Floats:
        return self.slopes.determinant


@dataclass(frozen=True)
class DistortionKind:
    """``usual`` has every coefficient with the value that leaves the picture as it is; ``bend`` is the map D. Those of
    ``not_fitted`` do what others do as well, and stay as they are when a model is fitted to a map; ``limits`` are within
    what a coefficient is looked for, where others would be the same lens said differently."""

    code: str
    label: str
    source: str
    usual: Mapping[str, float]
    bend: Callable[[Coefficients, Floats, Floats], Bent]
    not_fitted: tuple[str, ...] = ()
    limits: Mapping[str, tuple[float, float]] = field(default_factory=dict)


def radial(u: Floats, v: Floats, factor: Floats, by_r2: Callable[[], Floats]) -> Bent:
    """A map that moves points along their radius: ``factor`` of r squared, and its derivative by r squared."""

    def slopes() -> Slopes:
        by = by_r2()
        mixed = 2 * u * v * by
        return Slopes(factor + 2 * u * u * by, mixed, mixed, factor + 2 * v * v * by)

    return Bent(u * factor, v * factor, slopes)
