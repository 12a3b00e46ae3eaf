"""Numbers as people read them."""

from __future__ import annotations


def px_text(value: float) -> str:
    """A deviation in pixels with its unit: enough digits to tell it from zero, never in powers of ten."""
    if value == 0:
        return "0 px"
    if value >= 100_000:  # outside the picture by far
        return "> 100000 px"
    if value < 1e-6:
        return "< 0.000001 px"
    digits = 6 if value < 1e-4 else 4 if value < 0.1 else 2 if value < 100 else 0
    return f"{value:.{digits}f} px"
