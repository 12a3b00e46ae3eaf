"""Nominal film backs by size, to choose from; any other can be typed."""

from __future__ import annotations

from typing import NamedTuple


class FilmBack(NamedTuple):
    label: str
    width_mm: float
    height_mm: float


FILM_BACKS: tuple[FilmBack, ...] = (
    FilmBack("full frame", 36.0, 24.0),
    FilmBack("full frame, 16:9", 36.0, 20.25),
    FilmBack("Super 35", 24.89, 18.66),
    FilmBack("Super 35, 16:9", 24.89, 14.0),
    FilmBack("Super 35, 2:1", 24.89, 12.445),
    FilmBack("Academy", 21.95, 16.0),
    FilmBack("anamorphic, 2x", 21.95, 18.6),
    FilmBack("Super 16", 12.52, 7.41),
    FilmBack("65 mm", 52.48, 23.01),
    FilmBack("four thirds", 17.3, 13.0),
    FilmBack("one inch", 13.2, 8.8),
)
