"""Habits about the lens and the film back."""

from __future__ import annotations

import numpy as np

from anaxis.core.camera.channels import CHANNELS, FRAMING
from anaxis.core.parameters import Parameters, Positive, parameter
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import format_frame
from anaxis.packages.film_back import on_film_back
from anaxis.packages.habit import Arriving, HabitKind, Outbound, number


class FilmFactor(Parameters):
    """The film back off by a factor."""

    factor: Positive = parameter("Factor", default=1.0)


def _film_factor_arrives(a: Arriving, p: FilmFactor, convention: Convention) -> Arriving:
    lens = a.track.lens
    return a.with_lens(film_width_mm=lens.film_width_mm * p.factor, film_height_mm=lens.film_height_mm * p.factor)


def _film_factor_undone(s: Outbound, p: FilmFactor) -> Outbound:
    lens = s.track.lens
    return s.with_lens(film_width_mm=lens.film_width_mm / p.factor, film_height_mm=lens.film_height_mm / p.factor)


FILM_FACTOR = HabitKind(
    "film_factor",
    "Film back by a factor",
    FilmFactor,
    _film_factor_arrives,
    _film_factor_undone,
    lambda p: f"makes the film back {number(p.factor)} times as large",
)


class FilmDefault(Parameters):
    """The film back left at the package's own."""

    width_mm: Positive = parameter("Width", "mm", default=36.0)
    height_mm: Positive = parameter("Height", "mm", default=24.0)


def _film_default_arrives(a: Arriving, p: FilmDefault, convention: Convention) -> Arriving:
    n = len(a.track)
    return a.with_lens(film_width_mm=np.full(n, p.width_mm), film_height_mm=np.full(n, p.height_mm), squeeze=np.ones(n))


def _film_default_undone(s: Outbound, p: FilmDefault) -> Outbound:
    """The field of view of the default film back made right by the focal length."""
    lens, n = s.track.lens, len(s.track)
    return on_film_back(s, np.full(n, p.width_mm), np.full(n, p.height_mm), np.ones(n)) or s.but(
        f"The package leaves its film back at {p.width_mm:g} x {p.height_mm:g} mm, which has another aspect: type"
        f" {lens.film_width_mm[0]:.4f} x {lens.film_height_mm[0]:.4f} mm in the package."
    )


FILM_DEFAULT = HabitKind(
    "film_default",
    "Film back left at its default",
    FilmDefault,
    _film_default_arrives,
    _film_default_undone,
    lambda p: f"leaves the film back at {number(p.width_mm)} x {number(p.height_mm)} mm",
    1.1,
)


class StillFilm(Parameters):
    """The film back read once, on the first frame."""


def _still_film_arrives(a: Arriving, p: StillFilm, convention: Convention) -> Arriving:
    lens, n = a.track.lens, len(a.track)
    held = ("film_width_mm", "film_height_mm", "squeeze")
    return a.with_lens(**{k: np.full(n, getattr(lens, k)[0]) for k in held})


def _still_film_undone(s: Outbound, p: StillFilm) -> Outbound:
    """The same picture on the first frame's film back."""
    lens, n = s.track.lens, len(s.track)
    first = [np.full(n, v[0]) for v in (lens.film_width_mm, lens.film_height_mm, lens.squeeze)]
    return on_film_back(s, *first) or s.but(
        "The package reads the film back once, but its aspect changes over the frames: join with a common film back, or set one on Lens."
        ""
    )


STILL_FILM = HabitKind(
    "still_film",
    "Film back read once",
    StillFilm,
    _still_film_arrives,
    _still_film_undone,
    lambda p: "reads the film back on the first frame only",
    1.15,
)


class FocalFactor(Parameters):
    """The focal length off by a factor."""

    factor: Positive = parameter("Factor", default=1.0)


def _focal_factor_arrives(a: Arriving, p: FocalFactor, convention: Convention) -> Arriving:
    return a.with_lens(focal_mm=a.track.lens.focal_mm * p.factor)


def _focal_factor_undone(s: Outbound, p: FocalFactor) -> Outbound:
    return s.with_lens(focal_mm=s.track.lens.focal_mm / p.factor)


FOCAL_FACTOR = HabitKind(
    "focal_factor",
    "Focal length by a factor",
    FocalFactor,
    _focal_factor_arrives,
    _focal_factor_undone,
    lambda p: f"makes the focal length {number(p.factor)} times as long",
    1.05,
)


class VerticalAsHorizontal(Parameters):
    """The horizontal field of view becomes what the vertical one was."""


def _vfov_as_hfov_arrives(a: Arriving, p: VerticalAsHorizontal, convention: Convention) -> Arriving:
    lens = a.track.lens
    used = lens.used(a.image, a.fit)
    return a.with_lens(focal_mm=lens.focal_mm * used.width_mm / used.height_mm)


def _vfov_as_hfov_undone(s: Outbound, p: VerticalAsHorizontal) -> Outbound:
    lens = s.track.lens
    used = lens.used(s.image, s.fit)
    return s.with_lens(focal_mm=lens.focal_mm * used.height_mm / used.width_mm)


VFOV_AS_HFOV = HabitKind(
    "vfov_as_hfov",
    "Vertical field of view read as horizontal",
    VerticalAsHorizontal,
    _vfov_as_hfov_arrives,
    _vfov_as_hfov_undone,
    lambda p: "reads the vertical field of view as horizontal",
)


STILL = 1e-9


class NoLensAnimation(Parameters):
    """The lens held as on the first frame."""


def lens_moves(s: Outbound) -> bool:
    return any(np.ptp(getattr(s.track.lens, k)) > STILL for k in FRAMING)


def _no_lens_animation_arrives(a: Arriving, p: NoLensAnimation, convention: Convention) -> Arriving:
    return a.with_lens(**{k: np.full(len(a.track), getattr(a.track.lens, k)[0]) for k in CHANNELS})


def _no_lens_animation_undone(s: Outbound, p: NoLensAnimation) -> Outbound:
    if not lens_moves(s):
        return s
    focal = s.track.lens.focal_mm
    return s.but(
        f"The package drops the lens animation: key the focal length in the package, {focal[0]:.4f} mm at frame "
        f"{format_frame(s.intended[0])} to {focal[-1]:.4f} mm at frame {format_frame(s.intended[-1])} (all frames: 'anaxis values')."
    )


NO_LENS_ANIMATION = HabitKind(
    "no_lens_animation",
    "Drops lens animation",
    NoLensAnimation,
    _no_lens_animation_arrives,
    _no_lens_animation_undone,
    lambda p: "keeps the lens of the first frame throughout",
    1.1,
)


class NoOffsets(Parameters):
    """The film back's offsets dropped."""


def _no_offsets_arrives(a: Arriving, p: NoOffsets, convention: Convention) -> Arriving:
    nothing = np.zeros(len(a.track))
    return a.with_lens(offset_x_mm=nothing, offset_y_mm=nothing)


def _no_offsets_undone(s: Outbound, p: NoOffsets) -> Outbound:
    lens = s.track.lens
    if max(np.abs(lens.offset_x_mm).max(), np.abs(lens.offset_y_mm).max()) < STILL:
        return s
    return s.but(
        f"The package drops the offsets: type {lens.offset_x_mm[0]:.4f} mm right and {lens.offset_y_mm[0]:.4f} mm up in the package."
    )


NO_OFFSETS = HabitKind(
    "no_offsets",
    "Drops offsets",
    NoOffsets,
    _no_offsets_arrives,
    _no_offsets_undone,
    lambda p: "drops the film back offsets",
    1.1,
)
