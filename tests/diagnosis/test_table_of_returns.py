"""Every ordinary shot returned in every way that was ever tried, each verdict held against what was done to the camera.

``pytest -s tests/diagnosis/test_table_of_returns.py`` prints the table.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from fractions import Fraction
from typing import Any, NamedTuple

import numpy as np
import pytest

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track
from anaxis.diagnosis.returned import CameBack, explain
from lanes import LONG, pairs
from ordinary import SHOTS
from test_way_back import PICTURE, measured, moving, package, said_back


class Tried(NamedTuple):
    """What is done to a camera; one of ``words`` is what is said to be another; ``fit`` is the receiving package's."""

    done: Callable[[Track], CameBack]
    words: tuple[str, ...] = ()
    fit: str = "width"


def lens(track: Track, **values: Any) -> Track:
    return replace(
        track,
        lens=replace(track.lens, **{k: np.broadcast_to(v, (len(track),)).astype(float) for k, v in values.items()}),
    )


def stated(track: Track) -> Track:
    """With focus, stop and clips, as a file states them."""
    return lens(track, focus_m=6.0, fstop=4.0, near_m=0.1, far_m=1000.0)


def zooming(track: Track) -> Track:
    return lens(track, focal_mm=np.linspace(30.1, 61.7, len(track)))


TRIED: dict[str, Tried] = {
    "An upload, read again with new options": Tried(lambda t: said_back(t)),
    "30 frames a second": Tried(lambda t: said_back(t, rate=Fraction(30) if t.rate != 30 else Fraction(24)), ("frame rate",)),
    "another image size": Tried(lambda t: said_back(t, image=Image(2048, 1080)), ("image size",)),
    "another pixel aspect": Tried(lambda t: said_back(t, image=Image(1920, 1080, 1.5)), ("pixel aspect",)),
    "focus distance 0.3 m": Tried(lambda t: said_back(lens(t, focus_m=0.3)), ("focus distance",)),
    "clips 50 to 60 m": Tried(lambda t: said_back(lens(t, near_m=50.0, far_m=60.0)), ("near clip", "far clip")),
    "another stop": Tried(lambda t: said_back(lens(t, fstop=22.0)), ("stop",)),
    "film height 30 mm, fit by height": Tried(lambda t: said_back(lens(t, film_height_mm=t.lens.film_height_mm * 1.48)), (), "height"),
    "film width 24 mm, fit by height": Tried(lambda t: said_back(lens(t, film_width_mm=t.lens.film_width_mm * 2 / 3)), (), "height"),
    "film height 30 mm, fit by width": Tried(lambda t: said_back(lens(t, film_height_mm=t.lens.film_height_mm * 1.48))),
    "film width 24 mm, fit by width": Tried(lambda t: said_back(lens(t, film_width_mm=t.lens.film_width_mm * 2 / 3))),
    "half a metre to the right": Tried(lambda t: said_back(replace(t, position_m=t.position_m + np.eye(3)[0] / 2))),
    "100 times as large": Tried(lambda t: said_back(replace(t, position_m=t.position_m * 100))),
    "the last five frames missing": Tried(lambda t: said_back(t.select_frames(np.arange(max(1, len(t) - 5))))),
    "positions to two decimals": Tried(lambda t: said_back(replace(t, position_m=np.round(t.position_m, 2))), ("rounded",)),
}  # fmt: skip


def truly_same(sent: Track, back: CameBack, fit: str) -> bool:
    """Whether every point near the camera is seen at the same pixel, by plain sums of the pinhole."""
    if len(back.track) != len(sent):
        return False
    points = np.random.default_rng(0).uniform(-1, 1, (20, 3)) * [2, 1, 2] + [0, 0, -6]
    seen = []
    for track, by in ((sent, "width"), (back.track, fit)):
        used = track.lens.film_width_mm if by == "width" else track.lens.film_height_mm * 1920 / 1080
        world = np.einsum("nij,mj->nmi", sent.rotation, points) + sent.position_m[:, None]
        local = np.einsum("nji,nmj->nmi", track.rotation, world - track.position_m[:, None])
        focal = 1920 * (track.lens.focal_mm / used)[:, None, None]
        seen.append(focal * local[..., :2] / -local[..., 2:])
    return bool(np.abs(seen[0] - seen[1]).max() <= 0.01)


SHOT_NAMES = sorted(SHOTS) if LONG else [n for n in sorted(SHOTS) if n != "long"]


@pytest.mark.parametrize("what", TRIED)
def test_no_verdict_is_wrong(what: str) -> None:
    tried = TRIED[what]
    names = [name for tried_here, name in pairs(TRIED, SHOT_NAMES) if tried_here == what]
    wrong = []
    for name in names:
        sent = stated(moving(name))
        back = tried.done(sent)
        proof = measured(sent, back, tried.fit).proof
        matches = proof.within(0.01)
        if tried.words and tried.words != ("rounded",):
            right = not matches and any(d.what in tried.words for d in proof.differences if d.matters)
        else:
            right = matches == (truly_same(sent, back, tried.fit) and not any(d.matters for d in proof.differences))
        first = explain(sent, PICTURE, back, package(tried.fit)).explanations
        said = first[0].sentence if first else ""
        right &= matches or bool(tried.words) or "match the expected camera" not in said
        if tried.words == ("rounded",) and not matches:
            right &= "rounded" in said
        if not right:
            wrong.append((name, matches, proof.max_px, said))
    print(f"| {what} | {len(names)} | {len(names) - len(wrong)} | {len(wrong)} |")
    assert wrong == []
