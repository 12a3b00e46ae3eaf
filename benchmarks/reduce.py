"""Fewer keys for a hand-held walk of 2,400 frames: ``make bench``.

The ratio is to one proof of the same frames, which is what a single trial over the whole range would cost.
"""

from __future__ import annotations

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.motion.keys import KeyRule
from anaxis.core.motion.reduce import reduce
from anaxis.core.proof.proof import prove
from anaxis.core.space.axes import Convention
from resample import make_track, timed
from sizes import sized


def main() -> None:
    image, marks = Image(1920, 1080), np.zeros((1, 0, 3))
    for count in sized((240, 2_400), (24,)):
        track = make_track(count)
        camera = projection_of(track, image, "width")
        proof = timed(lambda t=track, c=camera: prove(t, c, c, marks))  # type: ignore[misc]
        for way in ("linear", "bezier"):
            rule = KeyRule(Convention(), way)
            for pixels in (0.1, 1.0):
                done = reduce(track, image, "width", marks, rule, pixels)
                took = timed(lambda t=track, r=rule, p=pixels: reduce(t, image, "width", marks, r, p))  # type: ignore[misc]
                print(
                    f"{count:6d} frames, {way:6s} within {pixels:g} px: {len(done.keys):5d} keys, {took:5.2f} s, "
                    f"{took / proof:6.1f} x one proof"
                )


if __name__ == "__main__":
    main()
