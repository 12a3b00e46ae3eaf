"""What cameras made from cameras cost, as ratios in one run: joining against copying, maps and rays against plain numpy.

Run with ``make bench``.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.derive import KINDS
from anaxis.core.derive.coverage import cover_of, seen_of
from anaxis.core.derive.derived import Input
from anaxis.core.derive.framed import plate_axes
from anaxis.core.derive.sphere_maps import Sphere
from anaxis.core.scene.picture import Picture
from anaxis.diagnosis.rays import caster_of
from resample import make_track, timed
from sizes import sized

IMAGE = Image(1920, 1080)


def shots(count: int, frames: int) -> tuple[dict[str, Input], dict[str, object]]:
    """A cut over ``count`` shots of ``frames`` frames each."""
    inputs, pieces = {}, []
    for i in range(count):
        name = f"shot_{i:04}"
        inputs[name] = Input(name, make_track(frames), Picture(IMAGE, "width", False, False))
        first = float(inputs[name].track.frames[0])
        pieces.append({"name": name, "role": name, "first": first, "begins": i * frames, "frames": frames})
    return inputs, {"pieces": pieces, "rate": "24", "width_px": 1920, "height_px": 1080}


def main() -> None:
    for label, sizes in (
        ("shots of 48 frames", [(n, 48) for n in sized((50, 100, 200, 400), (2, 4))]),
        ("frames of 20 shots", [(20, n) for n in sized((250, 500, 1000, 2000), (8, 16))]),
    ):
        seconds = []
        for count, frames in sizes:
            inputs, given = shots(count, frames)
            seconds.append(timed(lambda i=inputs, g=given: KINDS["joined"].derive(i, g)))  # type: ignore[misc]
        grows = ", x ".join(f"{b / a:.2f}" for a, b in pairwise(seconds))
        print(
            f"joined, twice the {label}: x {grows}; {seconds[-1] * 1000:.0f} ms for {sizes[-1][0] * sizes[-1][1]} frames"
        )
    track, plate = make_track(240), Image(*sized((4096, 2048), (256, 128)))
    box = np.array([[x, y, z] for x in (-1.0, 1.0) for y in (0.0, 2.0) for z in (-30.0, -28.0)])
    source = Input("raft", track, Picture(IMAGE, "width", False, False), objects={"box": box[None]})
    made = KINDS["framed"].derive({"plate camera": source}, {"objects": ["box"]})
    sphere = Sphere(made.track, made.image, made.fit, plate, plate_axes(track, False))
    grid = np.random.default_rng(1).normal(size=(plate.height_px, plate.width_px, 3))
    plain = timed(lambda: np.arctan2(grid[..., 0], grid[..., 2]))
    print(f"map into 4096 x 2048: {timed(lambda: sphere.map('into', 0)) / plain:.1f} times one arctangent a pixel")
    print(f"map out of it, 1920 x 1080: {timed(lambda: sphere.map('out', 0)) / plain:.1f} times the same")
    far = box + np.array([0.0, 0.0, -5000.0])
    long = Input("raft", make_track(sized(10_000, 100)), source.picture, objects={"box": far[None]})
    copied = timed(lambda: long.track.select_frames(np.arange(len(long.track))))
    took = timed(lambda: KINDS["framed"].derive({"plate camera": long}, {"objects": ["box"]}))
    print(f"framing 10,000 frames: {took / copied:.0f} times copying the track, {took * 1000:.0f} ms")
    wall = np.random.default_rng(2).uniform(-20, 20, size=(sized(100_000, 500), 1, 3)) + np.random.default_rng(
        3
    ).normal(scale=0.3, size=(sized(100_000, 500), 3, 3))
    cast = caster_of(wall)
    seen = seen_of(track, IMAGE, "width", cast)
    held = track.select_frames(np.array([0]))
    rays = seen.hit.sum()
    print(
        f"coverage of {rays} points against 100,000 triangles: {timed(lambda: cover_of(seen, held, IMAGE, 'width', cast)) * 1e6 / rays:.2f} us a point"
    )


if __name__ == "__main__":
    main()
