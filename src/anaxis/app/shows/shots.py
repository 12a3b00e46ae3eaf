"""The cameras of a show by shot: found, filtered, sorted, paged."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from fractions import Fraction
from typing import Any, NamedTuple

from sqlalchemy import Select, func, select
from sqlalchemy.dialects.postgresql import distinct_on
from sqlalchemy.orm import joinedload, selectinload
from sqlalchemy.sql.base import ExecutableOption

from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import furthest_off, newest_deliveries
from anaxis.app.derived.derive import outdated_versions
from anaxis.core.derive import derived_kind
from anaxis.core.time.rates import kept_rate
from anaxis.packages.model import Profile, profile_from_dict
from anaxis.store.models import AllowedWarning, Camera, Delivery, Shot, Show, Version
from anaxis.store.noticed import expected_of, findings_now, is_open
from anaxis.store.queries import PACKAGE_KEY, get_show, has_words, newest_show_name, on_the_list, package_key

PAGE = 50
# What a list may be sorted by; a "-" before it turns the order round. The worst and the newest come first by themselves.
SORTS = ("shot", "camera", "state", "worst", "frames", "rate", "findings", "newest")
# A camera whose deliveries match its file, where the file has a warning that nobody has mended or allowed.
WARNED = "file has a warning"
# What a camera's state may be asked for by; "does not match" is all that is not as meant.
STATES = ("taken in", "delivered", WARNED, "does not match")


@dataclass(frozen=True)
class ShotFilter:
    """Which cameras are to be listed, and in which order; what is left empty asks nothing."""

    q: str = ""
    state: str = ""
    findings: bool = False
    outdated: bool = False
    package: str = ""
    who: str = ""
    days: int | None = None
    sort: str = "shot"
    at: int = 0


@dataclass(frozen=True)
class Row:
    """One camera on the list: ``worst`` is the delivery of the version worked on that is furthest off."""

    camera: Camera
    version: Version
    worst: Delivery | None
    packages: list[Profile]
    warnings: int
    outdated: bool

    @property
    def derived(self) -> str:
        """How it was made from other cameras; "" where it was taken in."""
        found = self.version.derivation
        return derived_kind(found.kind).label if found else ""

    @property
    def state(self) -> str:
        if self.worst is None:
            return "made" if self.derived else "taken in"
        if self.worst.matches:
            return "delivered" if self.worst.sound else WARNED
        return self.worst.verdict if self.worst.in_pixels else self.worst.grade


class Listing(NamedTuple):
    """A page of a show's cameras: ``found`` answer to what was asked, of ``whole`` there are, from the ``at``-th on."""

    rows: list[Row]
    found: int
    whole: int
    at: int


class _Light(NamedTuple):
    """A camera and its current version by number, with the time and the names to sort by."""

    camera: int
    head: int
    at: datetime
    shot: str
    name: str


class _Noted(NamedTuple):
    """From a version's findings and facts: the number of open warnings, the number of frames, the frame rate."""

    warnings: int
    frames: int
    rate: Fraction


def shown_show(context: Context, show_id: int | None) -> Show | None:
    """The show to look at: the one asked for, else the one worked in last, an archived one where there is no other; None
    where there is none. Raises NotFound."""
    if show_id is not None:
        return get_show(context, show_id)
    last = Show.name == newest_show_name(context)
    return context.execute(select(Show).order_by(Show.archived_at.is_not(None), last.desc(), Show.id).limit(1)).scalar()


def shows_of(context: Context) -> list[Show]:
    """All shows, those that are archived last."""
    return list(context.execute(select(Show).order_by(Show.archived_at.is_not(None), Show.name)).scalars())


def listed(context: Context, show: Show, asked: ShotFilter, *also: ExecutableOption) -> Listing:
    """Cameras of a show, in a number of queries that does not depend on how many there are. ``also`` loads more of the cameras."""
    late = outdated_versions(context, show)
    whole = context.execute(_on_the_list(select(func.count(Camera.id)), show)).scalar_one()
    query = _asked_for(show, asked, late)
    by, turned = asked.sort.removeprefix("-"), asked.sort.startswith("-")
    if by == "shot" and not asked.state and not asked.findings:  # the database finds the page
        narrowed = replace(asked, sort="shot", at=0) != ShotFilter()
        counted = query.with_only_columns(func.count(Camera.id))
        count = context.execute(counted).scalar_one() if narrowed else whole
        at = _start_of_page(asked.at, count)
        page = _lights(context, query.limit(PAGE).offset(at), turned)
        return Listing(_rows(context, page, _noted(context, show, page), late, *also), count, whole, at)
    found = _lights(context, query)
    noted = _noted(context, show, found) if asked.findings or by in ("findings", "frames", "rate") else {}
    found = [c for c in found if not asked.findings or noted[c.head].warnings]
    worst = _worst(context, [c.head for c in found]) if asked.state or by in ("worst", "state") else {}
    found = [c for c in found if not asked.state or _is(worst.get(c.head), asked.state)]
    _sort(found, by, turned, worst, noted)
    at = _start_of_page(asked.at, len(found))
    page = found[at : at + PAGE]
    return Listing(_rows(context, page, noted or _noted(context, show, page), late, *also), len(found), whole, at)


# What the documents of cameras name of their deliveries, and the page does not.
WITH_FILES = selectinload(Camera.head_version).selectinload(Version.deliveries).selectinload(Delivery.files)


def _start_of_page(at: int, count: int) -> int:
    """Where the page begins that holds the ``at``-th of ``count`` rows, or the last row."""
    return max(0, min(at, max(0, count - 1)) // PAGE * PAGE)


def _sort(found: list[_Light], by: str, turned: bool, worst: dict[int, Delivery], noted: dict[int, _Noted]) -> None:
    """In place. Rows that are alike in it stay by shot and name."""
    keys: dict[str, Callable[[_Light], Any]] = {
        "camera": lambda c: (c.name.lower(), c.shot.lower()),
        "state": lambda c: _how_bad(worst.get(c.head)),
        "worst": lambda c: _how_bad(worst.get(c.head)),
        "frames": lambda c: noted[c.head].frames,
        "rate": lambda c: noted[c.head].rate,
        "findings": lambda c: noted[c.head].warnings,
        "newest": lambda c: c.at,
    }
    if by in keys:
        found.sort(key=keys[by], reverse=(by in ("worst", "newest")) != turned)
    elif turned:
        found.reverse()


def _on_the_list(query: Select[*tuple[Any, ...]], show: Show) -> Select[*tuple[Any, ...]]:
    joined = query.select_from(Camera).join(Shot, Shot.id == Camera.shot_id).join(Version, Version.id == Camera.head_id)
    return joined.where(*on_the_list(show))


def _asked_for(show: Show, asked: ShotFilter, late: Collection[int]) -> Select[*tuple[Any, ...]]:
    """The cameras of a show that match the filters on columns of the database, as :class:`_Light`."""
    query = _on_the_list(select(Camera.id, Version.id, Version.created_at, Shot.name, Camera.name), show)
    query = query.where(*has_words(asked.q))
    if asked.package:
        query = query.where(Version.deliveries.any(package_key(Delivery.profile) == asked.package))
    if asked.who:
        query = query.where(Version.actor == asked.who)
    if asked.days is not None:
        query = query.where(Version.created_at >= datetime.now(UTC) - timedelta(days=asked.days))
    return query.where(Version.id.in_(late)) if asked.outdated else query


def _lights(context: Context, query: Select[*tuple[Any, ...]], turned: bool = False) -> list[_Light]:
    """Sorted by shot and name, or in reverse."""
    order = (Shot.name, Camera.name, Camera.id)
    return [_Light(*row) for row in context.execute(query.order_by(*(c.desc() if turned else c for c in order)))]


def _noted(context: Context, show: Show, cameras: list[_Light]) -> dict[int, _Noted]:
    """By current version. This reads two JSON documents for each camera, so a page of the list asks for its own cameras alone."""
    sentences = select(func.array_agg(AllowedWarning.sentence)).where(AllowedWarning.camera_id == Camera.id)
    columns = (Version.id.label("head"), Version.findings, Version.facts, sentences.scalar_subquery().label("allowed"))
    query = _on_the_list(select(*columns, Shot.first_frame, Shot.last_frame, Shot.rate), show)
    found = {}
    for row in context.execute(query.where(Camera.id.in_([c.camera for c in cameras]))):
        now = findings_now(row.findings, row.facts, expected_of(row), "")
        known = frozenset(row.allowed or ())
        warnings = sum(is_open(f, known) for f in now)
        found[row.head] = _Noted(warnings, int(row.facts["frames"]), kept_rate(row.facts["rate"]))
    return found


def _worst(context: Context, heads: list[int]) -> dict[int, Delivery]:
    """For each version the delivery that is furthest off, of the newest to each package in each format."""
    query = (
        select(Delivery)
        .where(Delivery.version_id.in_(heads))
        .ext(distinct_on(Delivery.version_id, PACKAGE_KEY, Delivery.format))
        .order_by(Delivery.version_id, PACKAGE_KEY, Delivery.format, Delivery.id.desc())
        .options(joinedload(Delivery.version).joinedload(Version.camera).joinedload(Camera.shot))
    )
    by_version: dict[int, list[Delivery]] = {}
    for delivery in context.execute(query).scalars():
        by_version.setdefault(delivery.version_id, []).append(delivery)
    return {version: worst for version, found in by_version.items() if (worst := furthest_off(found)) is not None}


def _is(worst: Delivery | None, state: str) -> bool:
    if worst is None:
        return state == "taken in"
    if not worst.matches:
        return state == "does not match"
    return state == ("delivered" if worst.sound else WARNED)


def _how_bad(worst: Delivery | None) -> tuple[int, float]:
    if worst is None:
        return (0, -1.0)
    return (0 if worst.sound else 1 if worst.matches else 2, worst.max_px)


def _rows(context: Context, wanted: list[_Light], noted: dict[int, _Noted], late: Collection[int], *also: ExecutableOption) -> list[Row]:  # fmt: skip
    """The rows of a page, in its order."""
    loading = (joinedload(Camera.shot), joinedload(Camera.missing_from), selectinload(Camera.head_version).selectinload(Version.deliveries))  # fmt: skip
    query = select(Camera).where(Camera.id.in_([c.camera for c in wanted])).options(*loading, *also)
    cameras = {c.id: c for c in context.execute(query).scalars()}
    rows = []
    for light in wanted:
        camera = cameras[light.camera]
        newest = newest_deliveries(camera.head)
        packages = {d.profile["key"]: profile_from_dict(d.profile, "a delivery's profile") for d in newest}
        rows.append(
            Row(
                camera, camera.head, furthest_off(newest), list(packages.values()), noted[light.head].warnings, light.head in late,
            )
        )  # fmt: skip
    return rows


def asked_of(context: Context, show: Show) -> tuple[list[str], list[str]]:
    """What a show's cameras may be filtered by: the packages they went to, and who made the versions worked on."""
    packages = _on_the_list(select(PACKAGE_KEY).distinct(), show).join(Delivery, Delivery.version_id == Version.id)
    who = _on_the_list(select(Version.actor).distinct(), show)
    return sorted(context.execute(packages).scalars()), sorted(filter(None, context.execute(who).scalars()))


class OffList(NamedTuple):
    """What is off a show's list, and can be brought back."""

    shots: list[Shot]
    cameras: list[Camera]


def away(context: Context, show: Show) -> OffList:
    shots = select(Shot).where(Shot.show_id == show.id, Shot.archived_at.is_not(None)).order_by(Shot.name)
    cameras = (
        select(Camera)
        .join(Shot)
        .where(Shot.show_id == show.id, Shot.archived_at.is_(None), Camera.removed_at.is_not(None))
        .order_by(Shot.name, Camera.name)
        .options(joinedload(Camera.shot))
    )
    return OffList(list(context.execute(shots).scalars()), list(context.execute(cameras).scalars()))
