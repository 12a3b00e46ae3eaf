"""How large the benchmarks are: as measured, or with ANAXIS_BENCH_SMALL=1 as small as can be, to see that each of them runs."""

from __future__ import annotations

import os
from typing import TypeVar

T = TypeVar("T")


def sized(full: T, small: T) -> T:
    return small if os.environ.get("ANAXIS_BENCH_SMALL") else full
