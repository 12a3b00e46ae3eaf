"""A distortion model fitted to the ST maps of a plate: one of them, or both ways at once."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import product
from typing import Any

import numpy as np

from anaxis.core.camera.distortion import mapped
from anaxis.core.camera.distortion.distortion import distortion_from_document
from anaxis.core.camera.distortion.fit import Fitted, fit_model
from anaxis.core.camera.distortion.mapped import MapBend
from anaxis.core.camera.distortion.suggested import Suggested
from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.overscan import Overscan
from anaxis.core.camera.plate.window import Window, border_pixels
from anaxis.core.errors import BadInput
from anaxis.core.number_text import px_text
from anaxis.core.typing import Floats

# How the guess of a map's direction begins; the model that tells it where none is asked for; how many times better one way must
# fit than the other, and than what rounding to 16 or 32 bits leaves, as a share of the width.
_GUESSED, _TELLING, _TELLS, _ROUNDED, _ROUNDED_16 = "direction: ", "radial-tangential", 3.0, 3e-8, 1.2e-4


@dataclass(frozen=True, eq=False)
class Given:
    """A map as it was read (sandbox/pictures.py, ``safe_st_map``), with what a person corrected of the guesses."""

    name: str
    size: tuple[int, int]
    direction: str
    st: Floats  # (m, 2) from the lower left
    here_px: Floats  # (m, 2) the pixels it was read at
    shape: tuple[int, int]  # rows and columns of them
    guesses: tuple[str, ...]

    @staticmethod
    def of(name: str, read: Mapping[str, Any], direction: str = "", origin: str = "") -> Given:
        st = np.array(read["st"], dtype=np.float64).reshape(-1, 2)
        if origin and origin != read["origin"]:
            st[:, 1] = 1 - st[:, 1]
        columns, rows = np.meshgrid(np.array(read["columns"]) + 0.5, np.array(read["rows"]) + 0.5)
        told = tuple(
            f"{k}: {v}" for k, v in read["guesses"].items() if not {"direction": direction, "origin": origin}.get(k)
        )
        return Given(
            name, tuple(read["resolution"]), direction or read["direction"] or "undistort", st,
            np.stack([columns, rows], axis=-1).reshape(-1, 2), columns.shape, told,
        )  # fmt: skip


def fit_maps(
    maps: Sequence[Given],
    model: str,
    plate: Window,
    image: Image,
    with_centre: bool = False,
    render: tuple[int, int] | None = None,
    squeeze: float = 1.0,
) -> Suggested:
    """Fit a model to one map, or to two of which one undistorts. ``render`` is the undistorted picture's size, where no map
    has it. An anamorphic lens's ``squeeze`` is tried too: its models are of the squeezed picture as often as not.

    Raises BadInput for maps that are none of this plate.
    """
    if not 1 <= len(maps) <= 2:
        raise BadInput(f"{len(maps)} maps uploaded: use one map, or a pair.")
    maps, told = _directed(maps, _TELLING if model == mapped.CODE else model, plate, image, render, squeeze)
    directions = [m.direction for m in maps]
    if len(maps) == 2 and sorted(directions) != ["distort", "undistort"]:
        raise BadInput(
            f"{maps[0].name} and {maps[1].name} are both taken to {directions[0]}: a pair has one of each direction. Use one of them."
        )
    of_map = next((m.size for m in maps if m.direction == "undistort"), None)
    larger = _render(image, of_map or render or (image.width_px, image.height_px))
    guessed = []
    if of_map is None and render is None:
        guessed.append(
            f"The size of the render is guessed as that of the plate, {image.width_px} × {image.height_px} px. A distorting map does not state it. If the render was larger, type its size or add the other map."
            ""
        )
    ends = _all_ends(maps, plate, image, larger)
    if model == mapped.CODE:
        itself = _as_it_is(maps, plate, image, larger, ends)
        return replace(itself, said=[*itself.said, *told, *guessed])
    found = _fitted(model, ends, plate, image, with_centre, squeeze)
    worst = float(found.off_px.max())
    said = [
        f"Fitted to {' and '.join(m.name for m in maps)}: {found.rms_px:.4f} px RMS, up to {worst:.4f} px.",
        *(f"{m.name} is read as {m.direction}, {m.size[0]} × {m.size[1]} px." for m in maps),
        *told,
        *(f"A guess, {g}." for m in maps for g in m.guesses),
        *guessed,
    ]
    usual = {k: v for k, v in found.coefficients.items() if abs(v) > 0}
    at = plate.pixels(ends[1][None], image)[0]
    return Suggested({"model": model, **usual}, said, at, found.off_px)


def _directed(
    maps: Sequence[Given], model: str, plate: Window, image: Image, render: tuple[int, int] | None, squeeze: float
) -> tuple[list[Given], list[str]]:
    """The maps with the directions in which a model fits them best, where a direction was guessed and both are possible; and
    by how much, in words."""
    size = (image.width_px, image.height_px)
    open_here = [m.size == size and any(g.startswith(_GUESSED) for g in m.guesses) for m in maps]
    ways = [
        way
        for way in product(
            *(("distort", "undistort") if o else (m.direction,) for o, m in zip(open_here, maps, strict=True))
        )
        if len(set(way)) == len(way)
    ]
    if len(ways) < 2:
        return list(maps), []
    tried = []
    for way in ways:
        turned = [replace(m, direction=d) for m, d in zip(maps, way, strict=True)]
        of_map = next((m.size for m in turned if m.direction == "undistort"), None)
        try:
            ends = _all_ends(turned, plate, image, _render(image, of_map or render or size))
            tried.append((_fitted(model, ends, plate, image, False, squeeze).rms_px, turned))
        except BadInput:
            tried.append((np.inf, turned))
    tried.sort(key=lambda t: t[0])
    (best, chosen), (other, _) = tried[:2]
    half = any("16-bit" in g for m in maps for g in m.guesses)
    if not other > _TELLS * max(best, (_ROUNDED_16 if half else _ROUNDED) * image.width_px):
        return list(maps), [
            f"The direction of the map cannot be found by fitting: {px_text(best)} RMS in one direction and {px_text(other)} in the other."
        ]
    away = px_text(other) if np.isfinite(other) else "no model fits"
    told = [
        replace(m, guesses=tuple(g for g in m.guesses if not (o and g.startswith(_GUESSED))))
        for m, o in zip(chosen, open_here, strict=True)
    ]
    return told, [
        f"{' and '.join(f'{m.name} {m.direction}s' for m in told)}: found by fitting, with {px_text(best)} RMS and {away} in the other direction."
    ]


def _fitted(
    model: str, ends: tuple[Floats, Floats], plate: Window, image: Image, with_centre: bool, squeeze: float
) -> Fitted:
    """The model with or without the lens's squeeze, whichever fits better."""
    per_tangent = image.width_px / float((plate.right - plate.left)[0])
    tried = (fit_model(model, *ends, per_tangent, with_centre, s) for s in dict.fromkeys((1.0, squeeze)))
    return min(tried, key=lambda f: f.rms_px)


def _all_ends(maps: Sequence[Given], plate: Window, image: Image, larger: Overscan) -> tuple[Floats, Floats]:
    both = [_ends(one, plate, image, larger) for one in maps]
    return np.concatenate([seen for seen, _ in both]), np.concatenate([bent for _, bent in both])


def _as_it_is(
    maps: Sequence[Given], plate: Window, image: Image, render: Overscan, ends: tuple[Floats, Floats]
) -> Suggested:
    """The map itself as the model, from the one that undistorts where it reaches over the whole plate, else from the other."""
    by_direction = {m.direction: m for m in maps}
    bend = None
    if "undistort" in by_direction:
        bend = _sampled(by_direction["undistort"], render.window(plate), render.image, plate, image)
        if not _reaches_over(bend, plate, image):
            bend = None
    if bend is None and "distort" in by_direction:
        back = _sampled(by_direction["distort"], plate, image, render.window(plate), render.image)
        bend = _turned_round(back)
    if bend is None:
        raise BadInput(f"{maps[0].name} is smaller than the plate: add the distorting map, or use a map with overscan.")
    found = distortion_from_document(bend.document())
    off = (found.distort(ends[0][None])[0] - ends[1]) * (image.width_px / float((plate.right - plate.left)[0]))
    off_px = np.linalg.norm(off, axis=-1)
    said = [
        f"The map itself, interpolated between {bend.u.shape[1]} × {bend.u.shape[0]} points: up to {float(off_px.max()):.4f} px from"
        f" {' and '.join(m.name for m in maps)}."
    ]
    return Suggested(bend.document(), said, plate.pixels(ends[1][None], image)[0], off_px)


def _sampled(one: Given, of: Window, size: Image, within: Window, target: Image) -> MapBend:
    """What a map says on its samples: tangents of the picture it has, to tangents of the picture it fetches in."""
    here = of.tangents(one.here_px, size)[0].reshape(*one.shape, 2)
    fetched = np.stack([one.st[:, 0] * target.width_px, (1 - one.st[:, 1]) * target.height_px], axis=-1)
    to = within.tangents(fetched, target)[0].reshape(*one.shape, 2)
    # Rows come from the top, tangents rise.
    return MapBend(here[0, :, 0], here[::-1, 0, 1], to[::-1, :, 0], to[::-1, :, 1])


def _reaches_over(bend: MapBend, plate: Window, image: Image) -> bool:
    border = plate.tangents(border_pixels(image, 64), image)
    found = distortion_from_document(bend.document()).undistort(border)[0]
    u, v = found[:, 0], found[:, 1]
    inside = (u >= bend.across[0]) & (u <= bend.across[-1]) & (v >= bend.up[0]) & (v <= bend.up[-1])
    return bool(np.isfinite(found).all() and inside.all())


def _turned_round(back: MapBend) -> MapBend:
    """The map the other way, on as many points over all that it leads to."""
    low, high = (np.array([f(back.u), f(back.v)]) for f in (np.min, np.max))
    margin = 0.02 * (high - low)
    across, up = (np.linspace(low[i] - margin[i], high[i] + margin[i], n) for i, n in enumerate(back.u.shape[::-1]))
    points = np.stack(np.meshgrid(across, up), axis=-1).reshape(1, -1, 2)
    found = distortion_from_document(back.document()).undistort(points)[0].reshape(*back.u.shape, 2)
    if not np.isfinite(found).all():
        raise BadInput("The distorting map folds over and cannot be inverted: use the undistorting map.")
    return MapBend(across, up, found[..., 0], found[..., 1])


def _render(image: Image, size: tuple[int, int]) -> Overscan:
    """An undistorted picture of the plate's own pixels, about its middle."""
    width, height = size
    return Overscan(
        image, Image(width, height, image.pixel_aspect), (image.width_px - width) / 2, (image.height_px - height) / 2
    )


def _ends(one: Given, plate: Window, image: Image, render: Overscan) -> tuple[Floats, Floats]:
    """What a map says of the pinhole picture and of the picture as shot, as tangents (m, 2) each."""
    size = Image(*one.size, image.pixel_aspect)
    undistorts = one.direction == "undistort"
    if not undistorts and one.size != (image.width_px, image.height_px):
        raise BadInput(
            f"{one.name} is {one.size[0]} x {one.size[1]} px and the plate {image.width_px} x {image.height_px}: a distorting map has the size of the plate. Correct the resolution, or set its direction to undistort."
            ""
        )
    inside = (one.st >= 0).all(axis=1) & (one.st <= 1).all(axis=1)
    of, within, target = (
        (render.window(plate), plate, image) if undistorts else (plate, render.window(plate), render.image)
    )
    fetched = np.stack([one.st[:, 0] * target.width_px, (1 - one.st[:, 1]) * target.height_px], axis=-1)
    ends = of.tangents(one.here_px, size)[0][inside], within.tangents(fetched, target)[0][inside]
    return ends if undistorts else ends[::-1]
