"""Proof of 240 frames against 1,000 landmarks, and diagnosis of 240 frames: ``make bench``.

The ratios: the proof to projecting its points once; diagnosis to one proof.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.proof.proof import prove
from anaxis.core.space.axes import Convention
from anaxis.diagnosis.diagnose import diagnose
from anaxis.packages.habit import Arriving
from anaxis.packages.habits import HABITS
from resample import make_track, timed
from sizes import sized


def main() -> None:
    image, track = Image(1920, 1080), make_track(sized(240, 24))
    marks = np.random.default_rng(1).uniform(-20, 20, (1, 1000, 3))
    camera = projection_of(track, image, "width")
    alone = timed(lambda: camera.project(marks))
    proof = timed(lambda: prove(track, camera, camera, marks))
    print(f"240 frames x 1,000 points: proof {proof * 1000:.0f} ms, {proof / alone:.1f} x projecting the points once")
    whole = np.tile(np.eye(4), (len(track), 1, 1))
    cases = {
        "nothing": [],
        "a world turn": [("world_turn", {"axis": "X", "angle_deg": -90.0})],
        "a turn, a scale and a frame late": [
            ("world_turn", {"axis": "Z", "angle_deg": 90.0}),
            ("scale", {"factor": 100.0}),
            ("frame_offset", {"frames": 1.0}),
        ],
    }
    for name, habits in cases.items():
        here = Arriving(track, image, "width", whole, whole)
        for code, params in habits:  # type: ignore[attr-defined]
            here = HABITS[code].arrive(here, params, Convention())
        took = timed(lambda seen=here.track: diagnose(track, seen, image, "width", Convention()))  # type: ignore[misc]
        print(f"diagnosis of 240 frames, {name}: {took:.2f} s, {took / proof:.0f} x one proof")
    bent = replace(track, position_m=track.position_m + np.linspace(0, 1, len(track))[:, None] ** 2)
    took = timed(lambda: diagnose(track, bent, image, "width", Convention()))
    print(f"diagnosis of 240 frames, what nothing explains: {took:.2f} s, {took / proof:.0f} x one proof")


if __name__ == "__main__":
    main()
