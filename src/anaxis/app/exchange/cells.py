"""What a camera's frames hold, and what of them changes: cells of frames by groups, in a package's own numbers.

A camera is a row of numbers for each of its frames (:mod:`anaxis.packages.package_values`). A change is some frames with
some groups of theirs; all else of a row is left as it is.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from anaxis.core.bounds import MAX_FRAMES
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import format_frame
from anaxis.core.typing import Bools, Floats
from anaxis.packages.package_values import COLUMNS, GROUPS, NEEDED, SLICES, columns_of, require_rows

Groups = tuple[str, ...]
EVERY: Groups = tuple(GROUPS)
# Numbers that differ by less, as a share, came through a matrix or another unit, and were changed by nobody.
ROUNDING = 1e-9
_HEAD = struct.Struct("<IIII")
_MASK = {g: 1 << i for i, g in enumerate(GROUPS)}


@dataclass(frozen=True, eq=False)
class FramePatch:
    """``rows`` (k, 16) on ``frames`` (k,) that rise; the columns of groups that are none of ``groups`` mean nothing (NaN)."""

    frames: Floats
    groups: Groups
    rows: Floats

    def __len__(self) -> int:
        return len(self.frames)

    def only(self, groups: Iterable[str]) -> FramePatch:
        kept = tuple(g for g in self.groups if g in set(groups))
        rows = np.full_like(self.rows, np.nan)
        rows[:, columns_of(kept)] = self.rows[:, columns_of(kept)]
        return FramePatch(self.frames, kept, rows)

    def where(self, keep: Bools) -> FramePatch:
        return replace(self, frames=self.frames[keep], rows=self.rows[keep])

    def moved(self, offset: float) -> FramePatch:
        return replace(self, frames=self.frames + offset)

    def packed(self) -> bytes:
        """As it is kept: frames, a bit a group, and the groups' columns."""
        mask, body = sum(_MASK[g] for g in self.groups), self.matrix().astype("<f8")
        return _HEAD.pack(1, len(self), mask, body.shape[1] - 1) + body.tobytes()

    def matrix(self) -> Floats:
        """Frames and the groups' columns, (k, 1 + c): what goes over the wire in binary."""
        return np.column_stack([self.frames, self.rows[:, columns_of(self.groups)]])

    def values(self) -> dict[str, list[list[float | None]]]:
        """The groups' numbers by frame, as JSON has them: null where a camera says nothing."""
        return {
            g: [[None if v != v else v for v in row] for row in self.rows[:, SLICES[g]].tolist()] for g in self.groups
        }

    def same_as(self, other: Floats, within: float = 0.0) -> Bools:
        """Which frames (k,) hold in the groups what the rows (k, 16) of another hold; ``within`` a share of each number, or of 1."""
        columns = columns_of(self.groups)
        a, b = self.rows[:, columns], other[:, columns]
        with np.errstate(invalid="ignore"):
            near = np.abs(a - b) <= within * np.maximum(1.0, np.abs(b))
        return np.asarray((near | (np.isnan(a) & np.isnan(b))).all(axis=1))


def unpacked(data: bytes) -> FramePatch:
    """The inverse of :meth:`FramePatch.packed`."""
    _, count, mask, wide = _HEAD.unpack_from(data)
    groups = tuple(g for g in GROUPS if mask & _MASK[g])
    body = np.frombuffer(data, "<f8", count * (1 + wide), _HEAD.size).reshape(count, 1 + wide).astype(np.float64)
    return _of_matrix(body, groups)


def _of_matrix(body: Floats, groups: Groups) -> FramePatch:
    rows = np.full((len(body), len(COLUMNS)), np.nan)
    rows[:, columns_of(groups)] = body[:, 1:]
    return FramePatch(body[:, 0].copy(), groups, rows)


def cells_of_matrix(body: Floats, groups: Iterable[str], where: str) -> FramePatch:
    """Cells that came over the wire as a matrix (k, 1 + c): the frame, then the groups' columns. Raises BadInput."""
    kept = tuple(g for g in GROUPS if g in set(groups))
    if body.ndim != 2 or body.shape[1] != 1 + len(columns_of(kept)):
        raise BadInput(f"{where}: the length of its rows does not match its groups.", "bad_message")
    return _checked(_of_matrix(body, kept), where)


def cells_of_values(frames: list[float], values: dict[str, list[list[float | None]]], where: str) -> FramePatch:
    """Cells that came over the wire as JSON. Raises BadInput that names the group at fault."""
    kept = tuple(g for g in GROUPS if g in values)
    rows = np.full((len(frames), len(COLUMNS)), np.nan)
    for group in kept:
        try:
            part = np.array(values[group], dtype=np.float64).reshape(len(frames), len(GROUPS[group]))
        except (TypeError, ValueError) as error:
            raise BadInput(
                f"{where}: {group} needs {len(GROUPS[group])} numbers for each of its {len(frames)} frames.",
                "bad_message",
            ) from error
        rows[:, SLICES[group]] = part
    return _checked(FramePatch(np.array(frames, dtype=np.float64), kept, rows), where)


def _checked(cells: FramePatch, where: str) -> FramePatch:
    if not len(cells) or len(cells) > MAX_FRAMES:
        raise BadInput(f"{where}: it has {len(cells)} frames; 1 to {MAX_FRAMES} can be sent.", "bad_message")
    if not np.isfinite(cells.frames).all() or (np.diff(cells.frames) <= 0).any() or np.abs(cells.frames).max() > 1e9:
        raise BadInput(f"{where}: its frames must be increasing numbers.", "bad_message")
    if not cells.groups:
        raise BadInput(f"{where}: it has no group; choose from {', '.join(GROUPS)}.", "bad_message")
    require_rows(cells.rows, cells.groups, where)
    return cells


@dataclass(frozen=True, eq=False)
class CameraState:
    """What a side holds: ``rows`` (n, 16) on ``frames`` (n,) that rise."""

    frames: Floats
    rows: Floats

    def __len__(self) -> int:
        return len(self.frames)

    def cells(self, frames: Floats | None = None, groups: Groups = EVERY) -> FramePatch:
        """The cells on those of ``frames`` that are there; on all where none are named."""
        held = self if frames is None else self.on(frames)
        return FramePatch(held.frames, EVERY, held.rows).only(groups)

    def on(self, frames: Floats) -> CameraState:
        """The same on those of ``frames`` that are there."""
        place, there = self.places(frames)
        return CameraState(self.frames[place[there]], self.rows[place[there]])

    def places(self, frames: Floats) -> tuple[Any, Bools]:
        """Where each of ``frames`` (k,) lies, and which of them are there at all; a thousandth of a frame is none."""
        if not len(self.frames):
            return np.zeros(len(frames), dtype=np.int64), np.zeros(len(frames), dtype=np.bool_)
        place = np.clip(np.searchsorted(self.frames, frames - 1e-3), 0, len(self.frames) - 1)
        return place, np.abs(self.frames[place] - frames) <= 1e-3

    def near(self, frames: Floats) -> Floats:
        """The rows (k, 16) on ``frames`` (k,), of the nearest frame where one is not there; NaN where there is none at all."""
        if not len(self.frames):
            return np.full((len(frames), len(COLUMNS)), np.nan)
        right = np.clip(np.searchsorted(self.frames, frames), 0, len(self.frames) - 1)
        left = np.maximum(right - 1, 0)
        closer = np.abs(self.frames[left] - frames) < np.abs(self.frames[right] - frames)
        return self.rows[np.where(closer, left, right)]

    def with_cells(self, cells: FramePatch, replaces: bool = False) -> CameraState:
        """With the cells put in. ``replaces``: the camera then has the cells' frames and no others.

        Raises BadInput where a frame that is new lacks what no camera is without.
        """
        base = self
        if replaces:
            place, there = self.places(cells.frames)
            rows = np.full((len(cells), len(COLUMNS)), np.nan)
            rows[there] = self.rows[place[there]]
            base = CameraState(cells.frames, rows)
        place, there = base.places(cells.frames)
        if not there.all():
            new = cells.frames[~there]
            frames = np.concatenate([base.frames, new])
            order = np.argsort(frames, kind="stable")
            rows = np.concatenate([base.rows, np.full((len(new), len(COLUMNS)), np.nan)])[order]
            base = CameraState(frames[order], rows)
            place, _ = base.places(cells.frames)
        rows = base.rows.copy()
        columns = columns_of(cells.groups)
        rows[np.ix_(place, columns)] = cells.rows[:, columns]
        missing = ~np.isfinite(rows[place][:, columns_of(NEEDED)]).all(axis=1)
        if missing.any():
            frame = format_frame(cells.frames[int(np.argmax(missing))])
            raise BadInput(f"Frame {frame} is new: send its {', '.join(NEEDED)} with it.", "not_whole")
        return CameraState(base.frames, rows)

    def packed(self) -> bytes:
        return FramePatch(self.frames, EVERY, self.rows).packed()


NOTHING = CameraState(np.zeros(0), np.zeros((0, len(COLUMNS))))


def held_of(data: bytes | None) -> CameraState:
    if data is None:
        return NOTHING
    cells = unpacked(data)
    return CameraState(cells.frames, cells.rows)
