"""One picture of a film: what a camera sees of its set and landmarks, with hidden surfaces removed, guides and a burn-in."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import cv2
import numpy as np

from anaxis.core.camera.guides import GuideShape
from anaxis.core.camera.projection import Projection
from anaxis.core.derive.coverage import Caster
from anaxis.core.motion.set_objects import SetObject
from anaxis.core.names import spelled
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.mesh import fans
from anaxis.core.typing import Bytes, Floats, Ints
from anaxis.diagnosis.rays import caster_of
from anaxis.formats.set_lines import mesh_edges

# Blue, green, red, as OpenCV draws.
_PAPER, _INK, _SOFT, _COOL, _SURFACE = (232, 244, 247), (48, 37, 28), (150, 140, 130), (130, 94, 18), (205, 220, 226)
_NEAR_M = 0.05
# A ray for every so many pixels each way; what lies between is drawn from the nearest.
_RAY_PX = 3
# Places along a line that are tested against the surfaces, one for so many pixels.
_TEST_PX, _MOST_TESTS = 5.0, 64
_FONT = cv2.FONT_HERSHEY_SIMPLEX

Style = Literal["shaded", "lines"]


@dataclass(frozen=True)
class Overlay:
    """What lies over the picture: the shapes of guides, and ``text`` at the lower edge, a row each."""

    shapes: Sequence[GuideShape] = ()
    text: tuple[str, ...] = ()


class FilmSet:
    """The set of a shot made ready to be drawn: triangles and edges of each object, and lines that belong to no mesh."""

    def __init__(self, objects: Sequence[SetObject], lines_m: Floats) -> None:
        self._objects = [(o, fans(o.counts, o.corners), self._edges(o)) for o in objects]
        self._lines_m = lines_m
        self._moves = any(o.moves for o in objects)
        self._still: Caster | None = None

    @staticmethod
    def _edges(one: SetObject) -> Ints:
        edges = mesh_edges(one.points[0], one.counts, one.corners)
        return np.zeros((0, 2), dtype=np.int64) if edges is None else edges

    def lines_m(self, at: int) -> Floats:
        """The lines (s, 2, 3) on the frame at a place."""
        return np.concatenate([self._lines_m, *(o.points_m(at)[edges] for o, _, edges in self._objects)])

    def caster(self, at: int) -> Caster | None:
        """Casts against the surfaces on the frame at a place; None where there are none."""
        if not any(len(triangles) for _, triangles, _ in self._objects):
            return None
        if self._still is None or self._moves:
            self._still = caster_of(np.concatenate([o.points_m(at)[t] for o, t, _ in self._objects]))
        return self._still


def draw_frame(
    sees: Projection, at: int, around: FilmSet, marks: Landmarks, style: Style, plate: Bytes | None = None,
    arrived: Projection | None = None, magnify: float = 1.0, overlay: Overlay = Overlay(),
) -> Bytes:  # fmt: skip
    """The picture (h, w, 3; blue, green, red) that a camera sees on the frame at a place.

    ``sees`` and ``arrived`` are cameras for the film's own size; ``arrived`` is drawn over it in another ink, its deviation
    ``magnify`` times as large. ``plate`` is a picture of that size that lies below.
    """
    one = sees.select_frames(slice(at, at + 1))
    height, width = sees.image.height_px, sees.image.width_px
    canvas = np.full((height, width, 3), _PAPER, dtype=np.uint8) if plate is None else plate.copy()
    cast = around.caster(at)
    away = None if cast is None else _surfaces(one, cast, canvas if style == "shaded" and plate is None else None)
    lines = around.lines_m(at)
    _draw_lines(canvas, one, lines, away if style == "shaded" else None, _INK)
    if arrived is not None:
        other = _Magnified(one, arrived.select_frames(slice(at, at + 1)), magnify)
        _draw_lines(canvas, one, lines, None, _COOL, other)
    _draw_marks(canvas, one, marks, at)
    _draw_overlay(canvas, overlay)
    return canvas


class _Magnified:
    """Where a camera that arrived sees points, its deviation from the one meant so many times as large."""

    def __init__(self, meant: Projection, arrived: Projection, magnify: float) -> None:
        self._meant, self._arrived, self._magnify = meant, arrived, magnify

    def project(self, points_m: Floats) -> tuple[Floats, Floats]:
        seen, depth = self._arrived.project(points_m)
        if self._magnify == 1.0:
            return seen, depth
        meant = self._meant.project(points_m)[0]
        return meant + self._magnify * (seen - meant), depth


def _eye(one: Projection) -> Floats:
    """Where a pinhole camera of one frame stands, (3,)."""
    return np.asarray(-np.linalg.solve(one.matrices[0, :, :3], one.matrices[0, :, 3]))


def _surfaces(one: Projection, cast: Caster, canvas: Bytes | None) -> Floats:
    """How far away the nearest surface is, for every :data:`_RAY_PX` pixels (h, w); shades them into a canvas where one is given."""
    rows, columns = (
        np.arange(n // 2 if n < 2 else _RAY_PX / 2, n, _RAY_PX) for n in (one.image.height_px, one.image.width_px)
    )
    pixels = np.stack(np.meshgrid(columns, rows), axis=-1).reshape(-1, 2)
    eye = _eye(one)
    rays = one.unproject(pixels, np.ones((1, len(pixels))))[0] - eye
    rays /= np.linalg.norm(rays, axis=1, keepdims=True)
    hits = cast(eye, rays)
    away = hits.away_m.reshape(len(rows), len(columns))
    if canvas is not None:
        facing = np.abs(np.einsum("mi,mi->m", hits.normals, rays)).reshape(away.shape)
        above = np.abs(hits.normals[:, 1]).reshape(away.shape)
        shade = (0.62 + 0.26 * facing + 0.12 * above)[..., None] * np.array(_SURFACE, dtype=np.float64)
        small = np.where(np.isfinite(away)[..., None], shade, np.array(_PAPER, dtype=np.float64)).astype(np.uint8)
        canvas[:] = cv2.resize(small, (canvas.shape[1], canvas.shape[0]), interpolation=cv2.INTER_LINEAR)
    return away


def _draw_lines(
    canvas: Bytes, one: Projection, lines_m: Floats, away: Floats | None, ink: tuple[int, int, int], other: _Magnified | None = None
) -> None:  # fmt: skip
    """Lines (s, 2, 3) in front of the camera, those parts alone that no surface hides; where ``other`` sees them, if given."""
    if not len(lines_m):
        return
    sees = other or one
    depth = one.depths_m(lines_m.reshape(1, -1, 3))[0].reshape(-1, 2)
    lines_m, depth = lines_m[(depth > _NEAR_M).any(axis=1)], depth[(depth > _NEAR_M).any(axis=1)]
    # Ends behind the camera move along the line to just in front of it.
    share = np.clip((_NEAR_M - depth) / np.where(depth[:, ::-1] == depth, 1.0, depth[:, ::-1] - depth), 0.0, 1.0)
    share = np.where(depth < _NEAR_M, share, 0.0)[..., None]
    lines_m = (1 - share) * lines_m + share * lines_m[:, ::-1]
    ends = sees.project(lines_m.reshape(-1, 3))[0][0].reshape(-1, 2, 2)
    size = np.array([one.image.width_px, one.image.height_px])
    inside = (
        np.isfinite(ends).all(axis=(1, 2)) & (ends.max(axis=1) > 0).all(axis=1) & (ends.min(axis=1) < size).all(axis=1)
    )
    lines_m, ends = lines_m[inside], ends[inside]
    if not len(lines_m):
        return
    length = np.linalg.norm(np.clip(ends[:, 1], -size, 2 * size) - np.clip(ends[:, 0], -size, 2 * size), axis=1)
    runs = []
    for tests in np.unique(steps := np.clip((length / _TEST_PX).astype(np.int64) + 1, 2, _MOST_TESTS)).tolist():
        which = steps == tests
        t = np.linspace(0.0, 1.0, tests + 1)[None, :, None]
        places = (1 - t) * lines_m[which, None, 0] + t * lines_m[which, None, 1]
        seen = sees.project(places.reshape(-1, 3))[0][0].reshape(len(places), tests + 1, 2)
        shown = np.ones((len(places), tests), dtype=np.bool_)
        if away is not None:
            middle = (places[:, 1:] + places[:, :-1]) / 2
            pixels = (seen[:, 1:] + seen[:, :-1]) / 2
            shown = _is_seen(np.linalg.norm(middle - _eye(one), axis=2), pixels, away)
        runs.append(np.stack([seen[:, :-1], seen[:, 1:]], axis=2)[shown])
    segments = np.concatenate(runs)
    with np.errstate(invalid="ignore"):
        segments = segments[(np.abs(segments) < 30_000).all(axis=(1, 2))]
    fixed = np.round(segments * 16).astype(np.int32)
    cv2.polylines(canvas, list(fixed), False, ink, 1, cv2.LINE_AA, 4)


def _is_seen(distance_m: Floats, pixels: Floats, away: Floats) -> Bytes:
    """Whether places at these distances and pixels have no surface in front of them, by most of the nine rays about each."""
    row, column = (np.clip((pixels[..., i] / _RAY_PX).astype(np.int64), 0, away.shape[1 - i] - 1) for i in (1, 0))
    clear = np.zeros(distance_m.shape, dtype=np.int64)
    for down in (-1, 0, 1):
        for across in (-1, 0, 1):
            near = away[np.clip(row + down, 0, away.shape[0] - 1), np.clip(column + across, 0, away.shape[1] - 1)]
            clear += distance_m <= near * 1.006 + 0.01
    return np.asarray(clear >= 5)


def _draw_marks(canvas: Bytes, one: Projection, marks: Landmarks, at: int) -> None:
    if not len(marks):
        return
    place = marks.position_m[at if len(marks.position_m) > 1 else 0]
    seen, depth = one.project(place)
    scale = max(0.4, canvas.shape[0] / 1080 * 0.55)
    arm = max(3, round(canvas.shape[0] / 180))
    for name, (x, y), ahead in zip(marks.names, seen[0], depth[0], strict=True):
        if ahead > _NEAR_M and 0 <= x < canvas.shape[1] and 0 <= y < canvas.shape[0]:
            cv2.drawMarker(canvas, (round(x), round(y)), _INK, cv2.MARKER_CROSS, 2 * arm, 1, cv2.LINE_AA)
            cv2.putText(canvas, spelled(name), (round(x) + arm, round(y) - arm), _FONT, scale, _INK, 1, cv2.LINE_AA)


def _draw_overlay(canvas: Bytes, overlay: Overlay) -> None:
    height, width = canvas.shape[:2]
    scale = max(0.35, height / 1080 * 0.5)
    for shape in overlay.shapes:
        one, other = ((round(x * width), round(y * height)) for x, y in ((shape.x0, shape.y0), (shape.x1, shape.y1)))
        if shape.kind == "mask":
            kept = canvas[one[1] : other[1], one[0] : other[0]].copy()
            canvas[:] = (canvas * 0.35).astype(np.uint8)
            canvas[one[1] : other[1], one[0] : other[0]] = kept
        elif shape.kind == "line":
            cv2.line(canvas, one, other, _SOFT, 1)
        elif shape.kind == "rect":
            cv2.rectangle(canvas, one, other, _SOFT, 1)
        if shape.label:
            at = (max(2, one[0] + 4), max(12, one[1] + round(24 * scale)))
            cv2.putText(canvas, spelled(shape.label), at, _FONT, scale, _SOFT, 1, cv2.LINE_AA)
    if overlay.text:
        scale, row = max(0.4, height / 1080 * 0.6), max(16, round(height / 40))
        top = height - row * len(overlay.text) - row // 2
        canvas[top:] = (canvas[top:] * 0.25).astype(np.uint8)
        for i, text in enumerate(overlay.text):
            at = (row // 2, top + row * (i + 1) - row // 4)
            cv2.putText(canvas, spelled(text), at, _FONT, scale, (240, 240, 240), 1, cv2.LINE_AA)
