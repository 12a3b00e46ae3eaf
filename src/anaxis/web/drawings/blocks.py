"""A drawing's data in parts. Of a long shot, the browser first gets the curves over the whole shot, thinned to what a screen can
show. It asks for the numbers of the frames in blocks, as the ruler comes to them.

A short shot's drawing is one answer. What the browser puts together is in static/drawing.js.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Hashable, Iterator
from dataclasses import dataclass, field
from threading import Lock
from typing import Any

import numpy as np

from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats, Ints
from anaxis.web.drawings.packed import encode_drawing, is_constant

# Shots of up to WHOLE frames are sent in one answer, longer ones in blocks of BLOCK. A curve over a long shot is divided into _PARTS,
# about as many as a drawing has pixels, and the lowest and highest frame of each part are sent.
WHOLE, BLOCK, _PARTS = 2048, 512, 1000
# So many long drawings, of up to some 40 MB each, are kept for their next blocks.
_KEPT = 2


@dataclass(frozen=True, eq=False)
class Drawing:
    """``still`` arrays are of any shape; ``by_frame`` have a row for each of n frames, (n, ...).

    Of ``by_frame``, those of ``lines`` are drawn over the whole shot, the arrays of one of its groups at the same frames; those of
    ``extents`` count for its extent alone.
    ``breaks`` are the places of the frames at which a line begins anew. ``later`` computes more arrays, for the frames that are
    asked for: each (len of the slice, ...).
    """

    facts: dict[str, Any]
    still: dict[str, Floats]
    by_frame: dict[str, Floats]
    lines: tuple[tuple[str, ...], ...] = ()
    extents: tuple[str, ...] = ()
    breaks: Ints = field(default_factory=lambda: np.zeros(0, np.intp))
    later: Callable[[slice], dict[str, Floats]] = lambda frames: {}

    @property
    def frames(self) -> int:
        return len(next(iter(self.by_frame.values())))

    def part(self, block: int | None) -> bytes:
        """The first answer; with the number of a ``block``, that of its frames. Raises BadInput for a block that there is not."""
        if block is not None:
            return encode_drawing({}, self._rows(self._frames_of(block)))
        if self.frames <= WHOLE:
            return encode_drawing(self.facts, self.still | self._rows(slice(0, self.frames)))
        return self._over_the_shot()

    def _over_the_shot(self) -> bytes:
        """What does not move, and the rows that show the whole shot; ``blocks`` says which arrays come in blocks of how many frames."""
        moving = {k: a for k, a in self.by_frame.items() if a.size and not is_constant(a)}
        arrays = self.still | {k: a for k, a in self.by_frame.items() if k not in moving}
        seen: dict[str, Ints] = {}
        for group in self.lines:
            together = [k for k in group if k in moving]
            if together:
                seen |= dict.fromkeys(
                    together, _thinned(np.hstack([_columns(moving[k]) for k in together]), self.breaks)
                )
        seen |= {k: _extremes(moving[k]) for k in self.extents if k in moving}
        for name, rows in seen.items():
            arrays |= {f"{name}@": rows.astype(np.float64), f"{name}@rows": moving[name][rows]}
        shapes = {k: list(a.shape[1:]) for k, a in (moving | self.later(slice(0, 1))).items()}
        blocks = {"frames": self.frames, "size": BLOCK, "rows": shapes, "seen": list(seen)}
        return encode_drawing(self.facts | {"blocks": blocks}, arrays)

    def _frames_of(self, block: int) -> slice:
        if not 0 <= block < -(-self.frames // BLOCK):
            raise BadInput(f"The drawing has no block {block}: reload the page.")
        return slice(block * BLOCK, min((block + 1) * BLOCK, self.frames))

    def _rows(self, frames: slice) -> dict[str, Floats]:
        return {k: a[frames] for k, a in self.by_frame.items()} | self.later(frames)


def _columns(array: Floats) -> Floats:
    """(n, columns); what is not a number counts as nothing."""
    return np.nan_to_num(array.reshape(len(array), -1), posinf=0.0, neginf=0.0)


def _thinned(flat: Floats, breaks: Ints) -> Ints:
    """The places of the rows that lines through all rows (n, columns) can be drawn from: of each part of the shot the first, and
    the lowest and highest of each column, beside both sides of a break."""
    chosen = [np.array([0, len(flat) - 1]), breaks, breaks - 1]
    size = -(-len(flat) // _PARTS)
    for first, columns in _parts(flat, size):
        starts = first + np.arange(columns.shape[0]) * size
        chosen += [starts, *(starts[:, None] + find(columns, axis=1) for find in (np.argmin, np.argmax))]
    return np.unique(np.concatenate([np.ravel(c) for c in chosen]))


def _parts(flat: Floats, size: int) -> Iterator[tuple[int, Floats]]:
    """The rows in parts of equal size, (parts, size, columns), and what is left; each with its first row's place."""
    even = len(flat) // size * size
    yield 0, flat[:even].reshape(-1, size, flat.shape[1])
    if even < len(flat):
        yield even, flat[even:][None]


def _extremes(array: Floats) -> Ints:
    """The places of the first row, and of the rows that have the lowest and highest x, y and z of points (n, m, 3)."""
    points = _columns(array).reshape(len(array), -1, 3)
    found = [find(side(points, axis=1), axis=0) for find, side in ((np.argmin, np.min), (np.argmax, np.max))]
    return np.unique(np.concatenate([[0], *found]))


class KeptDrawings:
    """The last long drawings that were worked out, by what they were worked out from."""

    def __init__(self) -> None:
        self._held: OrderedDict[Hashable, Drawing] = OrderedDict()
        self._lock = Lock()

    def get(self, key: Hashable, make: Callable[[], Drawing]) -> Drawing:
        with self._lock:
            if key in self._held:
                self._held.move_to_end(key)
                return self._held[key]
        made = make()
        if made.frames > WHOLE:
            with self._lock:
                self._held[key] = made
                while len(self._held) > _KEPT:
                    self._held.popitem(last=False)
        return made
