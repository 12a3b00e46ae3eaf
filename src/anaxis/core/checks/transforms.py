"""Checks of the tree above a camera: scale, shear, mirrors, parents shut out, distance, roll."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from anaxis.core.camera.lens import Image, zoom_px
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import is_moving
from anaxis.core.checks.subject import Check, Subject
from anaxis.core.findings import Finding, remedy
from anaxis.core.number_text import px_text
from anaxis.core.proof.proof import grid_pixels
from anaxis.core.scene.bake import world_matrices
from anaxis.core.scene.tree import roll_deg
from anaxis.core.time.rates import format_frame

_SCALE_MATTERS = 1e-6
_SHEAR_MATTERS = 1e-6
_TREMBLE_PX = 0.05
_ROLLED_DEG, _LEVEL_DEG = 1.0, 0.05


def _scale(subject: Subject) -> Iterator[Finding]:
    baked = subject.baked
    for node in (baked.node, *baked.parents):
        linear = node.local[:, :3, :3]
        with np.errstate(invalid="ignore"):
            lengths = np.linalg.norm(linear, axis=1)
            off = np.abs(lengths - 1) > _SCALE_MATTERS
        if not off.any():
            continue
        at = int(np.argmax(off.any(axis=1)))
        x, y, z = (float(v) for v in lengths[at])
        own = node is baked.node
        yield Finding(
            "scale",
            "note" if own else "warning",
            f"{node.path} is scaled by {x:g}, {y:g}, {z:g}"
            f"{'' if len(node.local) == 1 else f' at frame {format_frame(node.frames[at])}'}.",
            "Nothing to do: Anaxis removes the scale from the camera axes."
            if own
            else "Check the distance travelled. If it is wrong by this factor, remove the scale.",
            "Packages disagree on the view of a scaled camera, so Anaxis removes the scale from the camera axes (positions keep it)."
            "",
            {"x": x, "y": y, "z": z},
            None if own else remedy("drop_scale", node=node.path),
            node.path,
        )
    if (baked.shear > _SHEAR_MATTERS).any():
        at = int(np.nanargmax(baked.shear))
        angle = float(np.degrees(np.arcsin(min(1.0, baked.shear[at]))))
        frame = float(baked.track.frames[at])
        off_px = float(_squared_up_px(subject)[at])
        lopsided = next((n.path for n in baked.parents if _is_lopsided(n.local[:, :3, :3])), "")
        yield Finding(
            "shear",
            "warning",
            f"The camera axes are not perpendicular at frame {format_frame(frame)} (off by {angle:.2f} degrees), "
            f"from a non-uniform scale above a rotation{f' ({lopsided})' if lopsided else ''}.",
            "Remove the non-uniform scale from the parents in the source, or apply the remedy.",
            f"A camera cannot be sheared. Anaxis keeps the look axis and makes the others perpendicular; that differs by {px_text(off_px)} "
            "at the edge of the picture from a package that shows the shear.",
            {"angle_deg": angle, "frame": frame, "off_px": off_px},
            remedy("drop_scale", node=lopsided) if lopsided else None,
            subject.path,
        )


def _squared_up_px(subject: Subject) -> np.ndarray:
    """By how many pixels squaring up a sheared camera moves the picture's grid at most, (n,)."""
    baked, image = subject.baked, subject.image or Image(1920, 1080)
    track = baked.track
    world = world_matrices(subject.scene, subject.path, track.frames)
    linear = subject.scene.convention.rotation_to_canonical(np.broadcast_to(world, (len(track), 4, 4))[:, :3, :3])
    used, focal = track.lens.used(image, "width"), track.lens.focal_mm
    with np.errstate(invalid="ignore", divide="ignore"):
        axes = linear / np.linalg.norm(linear, axis=1, keepdims=True)
        into = np.linalg.pinv(np.nan_to_num(axes)) @ track.rotation  # what is seen square, as the sheared axes count it
        grid = grid_pixels(image) / (image.width_px, image.height_px) - 0.5
        rays = np.stack(
            [
                grid[:, 0] * (used.width_mm / focal)[:, None],
                grid[:, 1] * (used.height_mm / focal)[:, None],
                np.full((len(track), len(grid)), -1.0),
            ],
            axis=2,
        )
        seen = np.einsum("nij,nmj->nmi", into, rays)
        moved = seen[..., :2] / -seen[..., 2:] - rays[..., :2]
        px = np.hypot(*np.moveaxis(moved, 2, 0)) * (image.width_px * focal / used.width_mm)[:, None]
    return np.nan_to_num(px).max(axis=1)


def _is_lopsided(linear: np.ndarray) -> bool:
    lengths = np.linalg.norm(linear, axis=1)
    return bool((np.ptp(lengths, axis=1) > _SCALE_MATTERS * lengths.max()).any())


def _mirrored(subject: Subject) -> Iterator[Finding]:
    baked = subject.baked
    if not baked.mirrored.any():
        return
    frame = float(baked.track.frames[int(np.argmax(baked.mirrored))])
    with np.errstate(invalid="ignore"):
        culprit = next(
            (n.path for n in (baked.node, *baked.parents) if (np.linalg.det(n.local[:, :3, :3]) < 0).any()), ""
        )
    yield Finding(
        "mirrored",
        "warning",
        f"The camera is mirrored by a negative scale{f' on {culprit}' if culprit else ''} at frame {format_frame(frame)}.",
        "Remove the negative scale in the source. Anaxis flips the right axis back.",
        "Packages flip different axes of a mirrored camera.",
        {"frame": frame},
        remedy("drop_scale", node=culprit) if culprit else None,
        subject.path,
    )


def _parents_shut_out(subject: Subject) -> Iterator[Finding]:
    """A node that resets its transform under parents that move: their motion is in the file and lost."""
    by_path = subject.scene.by_path
    for node in (subject.baked.node, *subject.baked.parents):
        if not node.resets:
            continue
        above = by_path.get(node.parent or "")
        moving: list[str] = []
        while above is not None and len(moving) < 100:
            if len(above.keys) > 1:
                moving.append(above.path)
            above = by_path.get(above.parent or "")
        if moving and not is_moving(subject.track):
            yield Finding(
                "still_under_parents",
                "warning",
                f"{subject.path} is still although {moving[0]} above it moves. {node.path} states that its parents do not move it.",
                "If the parents carry the move, inherit their transforms.",
                "The camera is delivered without the motion of its parents.",
                {"moving_parents": len(moving)},
                remedy("inherit", node=node.path),
                node.path,
            )


def _far_from_origin(subject: Subject) -> Iterator[Finding]:
    """Single precision trembles: how many pixels, at the distance where it is worst."""
    track = subject.track
    image = subject.image or Image(1920, 1080)
    if not np.isfinite(track.position_m).all():
        return
    used = track.lens.used(image, "width")
    depth = np.where(track.lens.focus_m > 0, track.lens.focus_m, np.nan)
    if len(subject.landmarks):
        with np.errstate(invalid="ignore", over="ignore"):
            _, seen = projection_of(track, image, "width").project(subject.landmarks.position_m)
        nearest = np.min(np.where(seen > 0.1, seen, np.inf), axis=1)
        depth = np.where(np.isnan(depth) & np.isfinite(nearest), nearest, depth)
    depth = np.where(np.isnan(depth), 5.0, depth)
    distance = np.abs(track.position_m).max(axis=1)
    # Half a unit in the last place of single precision, on each of three axes.
    with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
        error_m = np.sqrt(3) * np.spacing(distance.astype(np.float32)).astype(np.float64) / 2
        tremble = error_m * zoom_px(track.lens.focal_mm, used.width_mm, image) / depth
    tremble = np.nan_to_num(tremble)
    at = int(np.argmax(tremble))
    if tremble[at] <= _TREMBLE_PX:
        return
    middle = -np.round(track.position_m.mean(axis=0))
    yield Finding(
        "far_from_origin",
        "warning",
        f"At frame {format_frame(track.frames[at])} the camera is {distance[at]:,.0f} m from the origin: in single precision it jitters by"
        f" {tremble[at]:.2g} px there.",
        f"Move camera, landmarks and set by {middle[0]:g}, {middle[1]:g}, {middle[2]:g} m together.",
        "Real-time packages and several file formats store positions in single precision.",
        {"distance_m": float(distance[at]), "tremble_px": float(tremble[at])},
        remedy("shift", x_m=float(middle[0]), y_m=float(middle[1]), z_m=float(middle[2])),
        subject.path,
    )


def _roll(subject: Subject) -> Iterator[Finding]:
    """A camera that leans all through while the file's other cameras have a level horizon."""
    if not subject.others or not np.isfinite(subject.track.rotation).all():
        return
    roll = float(np.median(roll_deg(subject.track.rotation)))
    if abs(roll) < _ROLLED_DEG:
        return
    others = [o for o in subject.others if np.isfinite(o.track.rotation).all()]
    if not others or any(np.abs(roll_deg(o.track.rotation)).max() > _LEVEL_DEG for o in others):
        return
    yield Finding(
        "roll",
        "note",
        f"{subject.path} rolls by {roll:.2f} degrees in the middle of its frames; the other "
        f"{'camera of the file has' if len(others) == 1 else f'{len(others)} cameras of the file have'} a level horizon.",
        "If the roll is not intended, level the horizon.",
        "A roll from mixed-up axes shows only when pictures are overlaid.",
        {"roll_deg": roll},
        remedy("level_horizon"),
        subject.path,
    )


CHECKS: tuple[Check, ...] = (_scale, _mirrored, _parents_shut_out, _far_from_origin, _roll)
