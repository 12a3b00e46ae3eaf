"""A cut laid out: which piece is on screen on every frame, with gaps and overlaps said."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from anaxis.core.bounds import MAX_FRAME, MAX_FRAMES
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.parameters import Number, Parameters, parameter
from anaxis.core.time.rates import format_frame
from anaxis.core.typing import Floats, Ints

MAX_PIECES = 5_000


class Piece(Parameters):
    """A part of a shot on screen for ``frames`` frames: it begins ``begins`` frames into the cut with the source's frame
    ``first`` and goes on by ``speed`` source frames a frame. ``role`` names the camera; ``mixed_in`` and
    ``mixed_out`` say over how many frames a transition mixes it with what stands before and behind it."""

    name: str = parameter("Shot")
    role: str = parameter("Camera")
    first: Number = parameter("First source frame")
    begins: int = parameter("Begins")
    frames: int = parameter("Frames")
    speed: Number = parameter("Speed", default=1.0)
    mixed_in: Number = parameter("Transition in", default=0.0)
    mixed_out: Number = parameter("Transition out", default=0.0)

    @property
    def end(self) -> int:
        return self.begins + self.frames

    @property
    def last(self) -> float:
        """The source's frame on its last frame on screen."""
        return self.first + (self.frames - 1) * self.speed


@dataclass(frozen=True, eq=False)
class Pieces:
    """``which`` (n,) piece is on screen on each frame of the cut and the source's ``frames`` (n,) there; a gap is held
    by what stood before it, ``gap`` (n,)."""

    pieces: tuple[Piece, ...]
    which: Ints
    frames: Floats
    gap: np.ndarray

    @property
    def count(self) -> int:
        return len(self.which)

    @property
    def cuts(self) -> Ints:
        """The places (k,) at which another picture begins: a piece that goes on where the one before it ended is none."""
        step = np.flatnonzero(np.diff(self.which)) + 1
        goes_on = [
            self.pieces[a].role == self.pieces[b].role
            and self.pieces[a].speed == self.pieces[b].speed
            and abs(self.frames[at] - self.frames[at - 1] - self.pieces[a].speed) < 1e-9
            for at, a, b in zip(step.tolist(), self.which[step - 1].tolist(), self.which[step].tolist(), strict=True)
        ]
        return step[~np.array(goes_on, dtype=np.bool_)]

    @cached_property
    def _by_piece(self) -> list[Ints]:
        order = np.argsort(self.which, kind="stable")
        return np.split(order, np.searchsorted(self.which[order], np.arange(1, len(self.pieces))))

    def on_screen(self, piece: int) -> Ints:
        """The places (m,) at which a piece is seen, or held in a gap."""
        return self._by_piece[piece]

    def source_frames(self, piece: int) -> Floats:
        return self.frames[self._by_piece[piece]]

    def findings(self, first: float) -> Iterator[Finding]:
        """Gaps, overlaps, retimes and transitions, by the frames of the joined camera that begins at ``first``."""
        yield from self._gaps(first)
        yield from self._overlaps(first)
        for piece in self.pieces:
            yield from _retime(piece, first)
            yield from _transitions(piece, first)

    def _gaps(self, first: float) -> Iterator[Finding]:
        edges = np.flatnonzero(np.diff(np.concatenate([[False], self.gap, [False]]).astype(np.int8)))
        for low, high in edges.reshape(-1, 2).tolist():
            what = f"the last frame of '{self.pieces[self.which[low]].name}'"
            yield Finding(
                "join_gap", "warning",
                f"The edit has a gap from frame {_span(first + low, first + high - 1)} ({high - low} frames): {what} is held in the gap.",
                "Close the gap, or keep the hold if these frames are black.",
                "A render of these frames shows a shot that the edit does not show.", {"first": first + low, "frames": high - low},
            )  # fmt: skip

    def _overlaps(self, first: float) -> Iterator[Finding]:
        ordered = sorted(range(len(self.pieces)), key=lambda i: (self.pieces[i].begins, i))
        a = ordered[0]  # of those before, the one that reaches furthest
        for b in ordered[1:]:
            one, other = self.pieces[a], self.pieces[b]
            both, later = min(one.end, other.end) - other.begins, b > a
            if other.end > one.end:
                a = b
            if both > 0:
                seen, covered = (other, one) if later else (one, other)
                yield Finding(
                    "join_overlap", "warning",
                    f"'{one.name}' and '{other.name}' overlap from frame "
                    f"{_span(first + other.begins, first + other.begins + both - 1)} ({both} frames): '{seen.name}' is visible, '{covered.name}' is covered.",
                    "Trim one of them, or close the gaps.",
                    "One camera shows one shot at a time.", {"first": first + other.begins, "frames": both},
                )  # fmt: skip


def _span(low: float, high: float) -> str:
    return format_frame(low) if low == high else f"{format_frame(low)} to {format_frame(high)}"


def _retime(piece: Piece, first: float) -> Iterator[Finding]:
    if piece.speed == 1:
        return
    where = _span(first + piece.begins, first + piece.end - 1)
    if piece.speed == 0:
        said, code = f"'{piece.name}' holds frame {format_frame(piece.first)} from frame {where}.", "join_freeze"
    elif piece.speed < 0:
        said, code = (
            f"'{piece.name}' runs backwards from frame {where}: {format_frame(piece.first)} down to {format_frame(piece.last)}.",
            "join_backwards",
        )
    else:
        whole = float(piece.speed).is_integer()
        said = (
            f"'{piece.name}' is retimed: {piece.speed:g} of its frames play in one, {format_frame(piece.first)} to "
            f"{format_frame(round(piece.last, 4))}{'' if whole else '; frames between its samples are drawn within the shot'}."
        )
        code = "join_retime"
    yield Finding(
        code, "note", said, "Check a frame in the middle of the clip with the edit.",
        "Retime the plate in the same way.", {"speed": piece.speed},
    )  # fmt: skip


def _transitions(piece: Piece, first: float) -> Iterator[Finding]:
    if piece.mixed_out <= 0:
        return
    at = first + piece.end
    half = piece.mixed_out / 2
    yield Finding(
        "join_transition", "warning",
        f"A transition of {piece.mixed_out:g} frames is around frame {format_frame(at)}, behind '{piece.name}': it shows two shots at once, and the joined camera cuts.",
        f"Deliver both shots with handles of {np.ceil(half):g} frames or more, and blend their renders.",
        "One camera shows one shot at a time.", {"frame": at, "frames": piece.mixed_out},
    )  # fmt: skip


def laid_out(pieces: tuple[Piece, ...], close: bool) -> Pieces:
    """Pieces on the frames of the cut, from the first that begins; of two that overlap the later one of the list is seen.

    With ``close`` each begins where the one before it ended. Raises BadInput for a cut that shows nothing.
    """
    if not 1 <= len(pieces) <= MAX_PIECES:
        raise BadInput(f"The cut has {len(pieces)} pieces; possible are 1 to {MAX_PIECES}.")
    for piece in pieces:
        if piece.frames < 1 or abs(piece.begins) > MAX_FRAME or abs(piece.speed) > 1000:
            raise BadInput(
                f"'{piece.name}' shows {piece.frames} frames from {piece.begins} on at {piece.speed:g}: it needs at least one frame."
            )
    if close:
        at, closed = 0, []
        for piece in sorted(pieces, key=lambda p: p.begins):
            closed.append(piece.model_copy(update={"begins": at}))
            at += piece.frames
        pieces = tuple(closed)
    low = min(p.begins for p in pieces)
    pieces = tuple(p.model_copy(update={"begins": p.begins - low}) for p in pieces)
    count = max(p.end for p in pieces)
    if count > MAX_FRAMES:
        raise BadInput(
            f"The cut is {count} frames long; at most {MAX_FRAMES} are possible: join a part of it.", "out_of_bounds"
        )
    which = np.full(count, -1, dtype=np.int64)
    for i, piece in enumerate(pieces):
        which[piece.begins : piece.end] = i
    gap = which < 0
    # A gap is held by the last frame before it; the first frame is never one.
    source = np.maximum.accumulate(np.where(gap, 0, np.arange(count)))
    which = which[source]
    begins, first, speed = (
        np.array([getattr(p, k) for p in pieces], dtype=np.float64) for k in ("begins", "first", "speed")
    )
    frames = first[which] + (source - begins[which]) * speed[which]
    return Pieces(pieces, which, np.round(frames, 9), gap)


def ranges_of(pieces: Pieces) -> Iterator[tuple[str, float, float, int, int]]:
    """Of each piece that is seen, every run of it: name, first and last source frame, first and last place; gaps left out."""
    runs = np.flatnonzero(np.diff(np.where(pieces.gap, -1, pieces.which), prepend=-2))
    ends = np.append(runs[1:], pieces.count)
    for low, end in zip(runs.tolist(), ends.tolist(), strict=True):
        if not pieces.gap[low]:
            at = int(pieces.which[low])
            yield pieces.pieces[at].name, float(pieces.frames[low]), float(pieces.frames[end - 1]), low, end - 1
