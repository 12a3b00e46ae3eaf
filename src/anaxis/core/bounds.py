"""How far numbers may go, in one place: for files, forms, addresses, recipes and profiles alike.

Behind each lies no use but a mistake or an attack; what a request asks for is held against these before it is made.
"""

from __future__ import annotations

import math
from fractions import Fraction

from anaxis.core.errors import BadInput

MAX_FRAMES = 100_000  # of one camera
MAX_FRAME = 10_000_000  # a frame number, either side of 0
MIN_RATE, MAX_RATE = Fraction(1, 100), Fraction(100_000)
# 24000/1001 needs four digits below the line; a float is brought below this one.
MAX_RATE_DENOMINATOR = 1_000_000
MAX_NUMBER = 1e9  # whatever a number is of: metres, degrees, a factor
MAX_SIDE_PX = 65_536
MAX_PIXEL_ASPECT = 100.0


def require_frame(frame: float) -> None:
    """Raise BadInput for a frame number that no package counts to."""
    if not abs(frame) <= MAX_FRAME:
        raise BadInput(
            f"Frame {frame:g} is not possible: frame numbers must be within ten million of 0.", "out_of_bounds"
        )


def require_rate(rate: Fraction, where: str = "") -> None:
    """Raise BadInput for a frame rate that nothing runs at, naming ``where`` it stands."""
    if not (MIN_RATE <= rate <= MAX_RATE and rate.denominator <= MAX_RATE_DENOMINATOR):
        said = f"{float(rate):g}" if rate.numerator < 10**300 and rate.denominator < 10**300 else "That"
        raise BadInput(
            f"{where + ': ' if where else ''}{said} is not a usable frame rate: it must be between {float(MIN_RATE):g} and {int(MAX_RATE)} frames a "
            "second; write 24, 25 or 24000/1001.",
            "out_of_bounds",
        )


def require_image(width_px: float, height_px: float, pixel_aspect: float) -> None:
    """Raise BadInput for a picture that cannot be."""
    if not (0 < width_px <= MAX_SIDE_PX and 0 < height_px <= MAX_SIDE_PX):
        raise BadInput(
            f"The resolution {width_px}x{height_px} is not usable: both sides must be 1 to {MAX_SIDE_PX} pixels.",
            "out_of_bounds",
        )
    if not (math.isfinite(pixel_aspect) and 1 / MAX_PIXEL_ASPECT <= pixel_aspect <= MAX_PIXEL_ASPECT):
        raise BadInput(
            f"The pixel aspect {pixel_aspect:g} is not usable: it must be a positive number, {1 / MAX_PIXEL_ASPECT:g} to "
            f"{MAX_PIXEL_ASPECT:g}.",
            "out_of_bounds",
        )
