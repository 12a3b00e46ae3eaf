"""An order: cameras for packages, in formats, written at once or put down as long work."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, field
from typing import Any

from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import deliver_versions, written_for
from anaxis.app.deliveries.hand_over import bundles_of
from anaxis.core.errors import BadInput
from anaxis.delivery.options import DeliveryOptions, moved_along
from anaxis.formats import WRITTEN, format_of
from anaxis.library.made import WrittenDelivery
from anaxis.packages.model import Profile
from anaxis.queue.jobs import ask_for
from anaxis.store.models import Delivery, Job, Version

# Frames written in all, above which nobody should wait for them.
_QUICK_FRAMES = 3000


@dataclass(frozen=True)
class Order:
    """What is asked for; the first of ``versions`` numbers the frames, ``together`` names the file that holds them all."""

    versions: list[Version]
    profiles: list[Profile]
    formats: list[str]
    options: DeliveryOptions
    together: str


@dataclass(frozen=True)
class OneFile:
    """One file of an order: the versions in it, for a package, in a format."""

    versions: list[Version]
    profile: Profile
    format: str
    options: DeliveryOptions
    together: str = ""


@dataclass
class Fulfilled:
    """What an order came to: deliveries that are there, work that will make some, and what was refused, in words."""

    files: int
    deliveries: list[Delivery] = field(default_factory=list)
    jobs: list[Job] = field(default_factory=list)
    refused: list[str] = field(default_factory=list)


def files_of(order: Order) -> list[OneFile]:
    """A file for each package and format, and for each camera where they do not go together."""
    out = []
    first = _first(order.versions[0])
    for profile in order.profiles:
        for key in order.formats:
            if order.together and format_of(key).several:
                out.append(OneFile(order.versions, profile, key, order.options, order.together))
                continue
            out += [OneFile([v], profile, key, moved_along(order.options, first, _first(v))) for v in order.versions]
    return out


def fulfil(context: Context, order: Order) -> Fulfilled:
    """Write and prove an order's files, or put them down as work where that takes long.

    One format that is refused stops no other; raises BadInput where it is the only one.
    """
    files = files_of(order)
    slow = order.options.reduce_px is not None or sum(_frames(f.versions) for f in files) > _QUICK_FRAMES
    done = Fulfilled(len(files))
    ready: list[tuple[OneFile, list[WrittenDelivery]]] = []
    for one in files:
        if slow:
            params = _params(one, profile=one.profile.model_dump(mode="json"), format=one.format)
            done.jobs.append(ask_for(context, "delivery", one.versions[0].id, params))
            continue
        try:
            asked = (one.versions, one.profile, one.format, one.options)
            ready.append((one, written_for(context, *asked, together=one.together)))
        except BadInput as error:
            if len(files) == 1:
                raise
            done.refused.append(f"{one.format} for {one.profile.key}: {error.sentence}")
    for one, of_it in ready:  # kept all together, when nothing has to be waited for any more
        done.deliveries += deliver_versions(
            context, one.versions, one.profile, one.format, one.options, together=one.together, ready=of_it
        )
    return done


def zip_of(context: Context, order: Order) -> tuple[str, bytes] | Job:
    """The package of files in every format, by name and bytes; the work that makes it, where that takes long."""
    formats = [f.key for f in WRITTEN]
    count = _frames(order.versions) * len(formats) * len(order.profiles)
    if order.options.reduce_px is None and count <= _QUICK_FRAMES:
        return bundles_of(context, order.versions, order.profiles, formats, order.options, order.together)
    params = _params(order, profiles=[p.model_dump(mode="json") for p in order.profiles], formats=formats)
    return ask_for(context, "bundle", order.versions[0].id, params)


def _params(asked: Order | OneFile, **rest: Any) -> dict[str, Any]:
    """An order as the worker takes it."""
    return {
        "versions": [v.id for v in asked.versions], "options": asdict(asked.options), "together": asked.together, **rest
    }  # fmt: skip


def _first(version: Version) -> float:
    return float(version.facts["first_frame"])


def _frames(versions: Sequence[Version]) -> int:
    return sum(round(v.facts["last_frame"] - v.facts["first_frame"]) + 1 for v in versions)
