"""Another rate for 2,400 and 24,000 frames, split by step: ``make bench``.

The ratio is to the spline alone: scipy's cubic spline on the positions and its rotation spline on the turns,
built and evaluated once in the same run.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from fractions import Fraction

import numpy as np
from scipy.interpolate import CubicSpline
from scipy.spatial.transform import Rotation, RotationSpline

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track, make_lens
from anaxis.core.motion.resample import at_rate, resampling_error
from sizes import sized


def make_track(count: int) -> Track:
    t = np.arange(count) / 24.0
    place = np.stack([np.sin(t), 1.7 + 0.1 * np.cos(3 * t), -t], axis=1)
    turn = Rotation.from_rotvec(np.stack([0.1 * np.sin(2 * t), np.sin(t / 3), 0 * t], axis=1)).as_matrix()
    return Track("walk", 1.0 + np.arange(count), Fraction(24), place, turn, make_lens(count, focal_mm=30 + np.sin(t)))  # type: ignore[arg-type]


def splines_alone(track: Track, at: np.ndarray) -> None:
    CubicSpline(track.frames, track.position_m)(at)
    RotationSpline(track.frames, Rotation.from_matrix(track.rotation))(at).as_matrix()


def timed(what: Callable[[], object]) -> float:
    best = np.inf
    for _ in range(sized(3, 1)):
        began = time.perf_counter()
        what()
        best = min(best, time.perf_counter() - began)
    return float(best)


def main() -> None:
    image = Image(1920, 1080)
    for count in sized((2_400, 24_000), (48,)):
        track = make_track(count)
        made = at_rate(track, Fraction(25), "time")
        alone = timed(
            lambda t=track, m=made: splines_alone(t, np.minimum(t.frames[0] + 0.96 * np.arange(len(m)), t.frames[-1]))  # type: ignore[misc]
        )
        print(f"\n{count} frames at 24 to {len(made)} at 25")
        print(f"  {'splines alone':16}{alone:9.3f} s   1.00")
        for label, what in (
            ("same time", lambda t=track: at_rate(t, Fraction(25), "time")),
            ("its error, px", lambda t=track, m=made: resampling_error(t, m, image, "width")),
        ):
            seconds = timed(what)
            print(f"  {label:16}{seconds:9.3f} s {seconds / alone:6.2f}")


if __name__ == "__main__":
    main()
