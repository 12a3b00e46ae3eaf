"""The line of stations: the steps of the job, each with its state and key figure."""

from __future__ import annotations

from dataclasses import dataclass

from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import furthest_off, newest_deliveries
from anaxis.app.plates.plates import plates_of
from anaxis.core.number_text import px_text
from anaxis.core.recipe.operations import kind_of
from anaxis.core.time.rates import format_frame, kept_rate, rate_label
from anaxis.store.models import Version


@dataclass(frozen=True)
class Station:
    """One step of the job: its state ("read", "guess", "warning", "open", "done", "off") and key figure."""

    key: str
    label: str
    state: str
    figure: str


def stations_of(store: Context, version: Version) -> list[Station]:
    """The steps of the job, in the order people work, each with its state and key figure."""
    facts = version.facts
    count = facts.get("frames") or round(facts["last_frame"] - facts["first_frame"]) + 1
    rate = rate_label(kept_rate(facts["rate"]))
    warned = bool(version.open_warnings)
    active = sum(bool(o.get("on", True)) for o in version.recipe)
    stray = abs(facts["scale"][0] - 1) > 1e-6 or abs(facts["scale"][1] - 1) > 1e-6
    guess = version.fit_guessed or version.image_guessed
    newest = newest_deliveries(version)
    worst = furthest_off(newest)
    packages = len({d.profile["key"] for d in newest})
    film = facts["film_mm"]
    span = f"{format_frame(facts['first_frame'])}–{format_frame(facts['last_frame'])}"
    placed = sum(kind_of(o["code"]).station == "place" for o in version.recipe)
    bent = any(o["code"] == "distortion" and o.get("on", True) for o in version.recipe)
    return [
        Station(
            "take-in",
            "Made from" if version.derivation else "Take in",
            "warning" if warned else "done",
            f"{count} f @ {rate}",
        ),
        Station("clean", "Clean", "warning" if stray else "done", f"{active} operation{'s' * (active != 1)}"),
        Station("lens", "Lens", "guess" if guess else "done", f"{film[0]:.2f} × {film[1]:.2f} mm"),
        _plate(store, version, bent),
        Station("time", "Time", "done", span),
        Station("place", "Place", "done", f"{placed} change{'s' * (placed != 1)}" if placed else "as taken in"),
        Station("deliver", "Deliver", "done" if newest else "open", f"{packages} package{'s' * (packages != 1)}"),
        Station(
            "prove",
            "Prove",
            "open" if worst is None else "done" if worst.sound else "warning" if worst.matches else "off",
            "not proved" if worst is None else px_text(worst.max_px),
        ),
    ]


def _plate(store: Context, version: Version, bent: bool) -> Station:
    """The shot's plates; without any there is nothing to say."""
    plates = plates_of(store, version.camera.shot)
    if not plates:
        return Station("plate", "Plate", "open", "none")
    first = plates[0]
    fits = (first.facts["width_px"], first.facts["height_px"]) == (version.width_px, version.height_px)
    wrong = bool(first.seen.get("broken") or first.seen.get("missing")) or (
        first.kind == "as shot" and not (fits and bent)
    )
    figure = f"{len(first.numbers)} f, {first.facts['width_px']} × {first.facts['height_px']}"
    return Station("plate", "Plate", "warning" if wrong else "done", figure)
