"""Checks of a camera against the others of its file: duplicates, helpers, unused ones, shared names."""

from __future__ import annotations

import re
from collections.abc import Iterator
from weakref import WeakKeyDictionary

import numpy as np

from anaxis.core.camera.track import pose_rows
from anaxis.core.checks.subject import Check, Subject
from anaxis.core.findings import Finding, remedy
from anaxis.core.scene.bake import Baked, node_positions_m
from anaxis.core.scene.nodes import Node, Scene

# Relative to how far the cameras travel: two bakes of one motion differ by rounding and sampling.
_ALIKE = 2e-3
_TARGET = re.compile(r"(^|[^a-z])(aim|target|interest|look_?at)([^a-z]|$)")
_found_targets: WeakKeyDictionary[Scene, list[Node]] = WeakKeyDictionary()
_AIMED_DEG = 0.5
# No overscan is larger than this.
_MOST_OVERSCAN = 2.0


def _duplicate(subject: Subject) -> Iterator[Finding]:
    mine = subject.baked
    for other in subject.others:
        gap = _same_motion(mine, other)
        if gap is None:
            continue
        grown = _grown(mine, other)
        if grown is not None:
            yield from _of_the_undistorted(mine, other, grown)
            continue
        here, there = len(mine.keys), len(other.keys)
        denser = (
            "both have as many samples"
            if here == there
            else f"{(other if here < there else mine).node.path} has the denser samples"
        )
        yield Finding(
            "duplicate",
            "note",
            f"{subject.path} makes the same move as {other.node.path} (within {gap * 1000:.3g} mm): "
            f"{_made_of(mine)} here, {_made_of(other)} there.",
            f"Keep one of them; {denser}.",
            "Two copies differ as soon as one of them is changed.",
            {"gap_m": gap, "samples": len(mine.keys), "other_samples": len(other.keys), "other": other.node.path},
            None,
            subject.path,
        )


def _grown(a: Baked, b: Baked) -> tuple[float, float] | None:
    """How many times as wide and high the film back of ``b`` is as that of ``a`` on every frame both have, where focal
    length is the same and both are larger, or both smaller, as a render with overscan is against its plate."""
    _, in_a, in_b = np.intersect1d(a.track.frames, b.track.frames, return_indices=True)
    one, other = a.track.lens.select_frames(in_a), b.track.lens.select_frames(in_b)
    if not np.allclose(one.focal_mm, other.focal_mm, rtol=1e-6):
        return None
    with np.errstate(divide="ignore", invalid="ignore"):
        wide, high = other.film_width_mm / one.film_width_mm, other.film_height_mm / one.film_height_mm
    if not (np.isfinite(wide).all() and np.isfinite(high).all() and np.ptp(wide) < 1e-5 and np.ptp(high) < 1e-5):
        return None
    k = float(wide[0]), float(high[0])
    larger, smaller = min(k) > 1 + 1e-4 and max(k) < _MOST_OVERSCAN, max(k) < 1 - 1e-4 and min(k) > 1 / _MOST_OVERSCAN
    return k if larger or smaller else None


def _of_the_undistorted(mine: Baked, other: Baked, grown: tuple[float, float]) -> Iterator[Finding]:
    """Two cameras of one move, of which one has the larger film back: it stands for the plate undistorted."""
    here, there = mine.node.path, other.node.path
    if grown[0] < 1:
        yield Finding(
            "undistortion_camera", "warning",
            f"{here} makes the same move as {there} with the same focal length, on a film back {1 / grown[0]:.5f} times as wide and "
            f"{1 / grown[1]:.5f} times as high: it is for the undistorted picture with overscan.",
            f"Take {there} as the shot camera and skip this one. With distortion set on Lens, Anaxis computes and proves its overscan.",
            "Used as the shot camera, everything on the plate is too small by that factor.",
            {"wider": 1 / grown[0], "higher": 1 / grown[1]}, None, here,
        )  # fmt: skip
    else:
        yield Finding(
            "has_undistortion_camera", "note",
            f"{here} is the shot camera of two with one move: {there} has the larger film back ({grown[0]:.5f} x {grown[1]:.5f}) and is for the undistorted picture."
            "",
            "Take this one.", "The plate as shot belongs to this camera.", {"wider": grown[0], "higher": grown[1]}, None, here,
        )  # fmt: skip


def _made_of(baked: Baked) -> str:
    moving = sum(len(n.keys) > 1 for n in baked.parents)
    own = f"{len(baked.keys)} sample{'s' * (len(baked.keys) != 1)}"
    return f"{own} under {moving} moving parent{'s' * (moving != 1)}" if moving else f"{own}, baked"


def _same_motion(a: Baked, b: Baked) -> float | None:
    """How far two bakes are apart at most, in metres, where they are one motion; else None."""
    # Most pairs differ on the first frame that both have: that comparison is enough for them.
    first, alike_m = max(a.start[0], b.start[0]), _ALIKE * max(a.travel_m, 1e-3)
    here, there = a.place_m(first), b.place_m(first)
    if here and there and any(abs(p - q) >= alike_m for p, q in zip(here, there, strict=True)):
        return None
    if not (a.moves and b.moves):
        return None
    frames, in_a, in_b = np.intersect1d(a.track.frames, b.track.frames, return_indices=True)
    if len(frames) < 3:
        return None
    rows_a, rows_b = pose_rows(a.track)[in_a], pose_rows(b.track)[in_b]
    if not (np.isfinite(rows_a).all() and np.isfinite(rows_b).all()):
        return None
    travel = max(float(np.ptp(rows_a[:, :3], axis=0).max()), 1e-3)
    gap = float(np.abs(rows_a[:, :3] - rows_b[:, :3]).max())
    turn = float(np.abs(rows_a[:, 3:] - rows_b[:, 3:]).max())
    return gap if gap < _ALIKE * travel and turn < _ALIKE else None


def _helper(subject: Subject) -> Iterator[Finding]:
    mine = subject.baked
    if not np.isfinite(mine.track.position_m).all() or mine.moves:
        return
    moving = [o.node.path for o in subject.others if o.moves]
    if not moving:
        return
    position = mine.track.position_m[0]
    untouched = (
        not len(mine.keys)
        and np.abs(position).max() < 1e-9
        and np.allclose(mine.track.rotation[0], mine.track.rotation[0].round())
    )
    yield Finding(
        "unused_camera" if untouched else "helper_camera",
        "note",
        f"{subject.path} {'is unchanged at the origin' if untouched else 'stands still'} while {moving[0]} moves.",
        f"Take {moving[0]} for the shot, and skip this camera unless it should be still.",
        "The most common wrong delivery is a default or helper camera in place of the shot camera.",
        {"moving": len(moving)},
        None,
        subject.path,
    )


def _same_name(subject: Subject) -> Iterator[Finding]:
    name = subject.baked.node.name
    same = [o.node.path for o in subject.others if o.node.name == name]
    if same:
        yield Finding(
            "same_name",
            "note",
            f"{len(same) + 1} cameras of the file are called {name}: {', '.join([subject.path, *same][:4])}.",
            "Anaxis saves them under unique names. Check which one is the shot camera.",
            "Packages that look up cameras by name may use any of them.",
            {"count": len(same) + 1},
            None,
            subject.path,
        )


def _targets(scene: Scene) -> list[Node]:
    """The nodes that are aim targets by their names: found once for all cameras of a scene."""

    def words(name: str) -> str:
        return re.sub(r"([a-z])([A-Z])", r"\1_\2", name).lower()

    if scene not in _found_targets:
        named = [n for n in scene.nodes if n.kind in ("landmark", "transform") and _TARGET.search(words(n.name))]
        _found_targets[scene] = named
    return _found_targets[scene]


def _aim_target(subject: Subject) -> Iterator[Finding]:
    """A node that by its name is what the camera aims at, while the camera looks elsewhere."""
    track = subject.track
    if not np.isfinite(track.position_m).all() or not np.isfinite(track.rotation).all():
        return
    for node in _targets(subject.scene):
        if node.path == subject.path or node.path in [n.path for n in subject.baked.parents]:
            continue
        towards = (
            node_positions_m(subject.scene, node.path, subject.baked.track.frames) - subject.baked.track.position_m
        )
        distance = np.linalg.norm(towards, axis=1)
        if not np.isfinite(towards).all() or (distance < 1e-6).any():
            continue
        ahead = -subject.baked.track.rotation[:, :, 2]
        off = np.degrees(np.arccos(np.clip(np.sum(ahead * towards, axis=1) / distance, -1.0, 1.0)))
        if off.max() < _AIMED_DEG:
            continue
        at = int(np.argmax(off))
        yield Finding(
            "aim_target",
            "note",
            f"The file holds {node.path}, by its name the target of {subject.path}, and the camera looks up to "
            f"{off[at]:.1f} degrees past it (frame {subject.baked.track.frames[at]:g}).",
            "If the camera should aim at it, apply the remedy; the roll stays.",
            "Few formats store that a camera aims at a node. If the aim is not baked, it is lost.",
            {"off_deg": float(off[at])},
            remedy("aim", node=node.path),
            subject.path,
        )
        return


CHECKS: tuple[Check, ...] = (_duplicate, _helper, _same_name, _aim_target)
