"""Search over everything that whoever searches may see: shots, cameras, packages, files, findings, people."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any, NamedTuple

from sqlalchemy import BigInteger, ColumnElement, Select, any_, case, func, literal, select
from sqlalchemy.dialects.postgresql import ARRAY
from sqlalchemy.orm import InstrumentedAttribute

from anaxis.app.context import Context
from anaxis.app.roles import Role
from anaxis.store.base import Base
from anaxis.store.models import Camera, Delivery, DeliveryFile, Shot, Show, SourceFile, Version, VersionInput
from anaxis.store.packages import all_packages
from anaxis.store.people import Person
from anaxis.store.search import findings_vector, name_vector, query_of, words_of

MOST = 12
_MOST_QUERY, _MOST_WORDS, _LEAST_CHECKSUM = 200, 8, 6
# Rows that are ranked, where every show is seen, and where some are.
_MOST_OF_ALL, _MOST_OF_SOME = 2_000, 10_000


class Hit(NamedTuple):
    """Something found: its name, where it belongs, and the page that shows it."""

    name: str
    place: str
    link: str


class Hits(NamedTuple):
    """What was found of one kind, best first; ``more`` says whether there are others."""

    kind: str
    hits: list[Hit]
    more: bool


def search(context: Context, asked: str) -> list[Hits]:
    """Everything that has all words of a search, or the beginning of its checksum; kinds without a hit are left out."""
    asked = asked.replace("\0", " ").strip()[:_MOST_QUERY]
    words = words_of(asked)[:_MOST_WORDS]
    if not words:
        return []
    found = [
        ("Shots", _shots(context, asked, words)),
        ("Cameras", _cameras(context, asked, words)),
        ("Packages", _packages(context, words)),
        ("Files taken in", _source_files(context, asked, words)),
        ("Files delivered", _delivered_files(context, asked, words)),
        ("Cameras with a finding", _findings(context, words)),
        ("People", _people(context, asked, words)),
    ]
    return [Hits(kind, f.hits[:MOST], f.cut or len(f.hits) > MOST) for kind, f in found if f.hits or f.cut]


class _Found(NamedTuple):
    """Hits of one kind; ``cut``: too many rows have the words to look at all of them."""

    hits: list[Hit]
    cut: bool = False


def _numbers(
    context: Context, model: type[Base], vector: ColumnElement[Any], words: list[str]
) -> tuple[list[int], bool]:
    """The numbers of rows with all words, a few thousand at most, and whether there may be more: a short word may be in millions of names.
    They are of every show; the query for the rows leaves out shows that the searcher does not see. For people of some shows the limit is higher."""
    most = _MOST_OF_ALL if context.shows is None else _MOST_OF_SOME
    query = select(model.__table__.c.id).where(vector.op("@@")(query_of(words))).limit(most)
    numbers = list(context.execute(query).scalars())
    return numbers, len(numbers) == most


def _ranked(
    context: Context, query: Select[*tuple[Any, ...]], name: InstrumentedAttribute[str], asked: str, words: list[str]
) -> tuple[Sequence[Any], bool]:  # fmt: skip
    """The rows that match, and whether there may be more: the very name first, then by PostgreSQL's rank, short names before long ones."""
    model: Any = name.class_
    numbers, cut = _numbers(context, model, name_vector(model.__table__.c.name), words)
    very = func.lower(name) == asked.lower()
    if cut:
        numbers += context.execute(select(model.id).where(very).limit(MOST + 1)).scalars()
    order = (case((very, 0), else_=1), func.ts_rank(name_vector(name), query_of(words)).desc(), func.length(name), name)
    query = query.where(_one_of(model.id, numbers)).order_by(*order).limit(MOST + 1)
    return context.execute(query).all() if numbers else (), cut


def _one_of(number: InstrumentedAttribute[int], numbers: list[int]) -> ColumnElement[bool]:
    """One parameter, however many numbers there are."""
    return number == any_(literal(numbers, ARRAY(BigInteger)))


def _shots(context: Context, asked: str, words: list[str]) -> _Found:
    query = select(Shot.id, Shot.name, Show.name.label("show"), Shot.archived_at).join(Show, Show.id == Shot.show_id)
    rows, cut = _ranked(context, query, Shot.name, asked, words)
    return _Found(
        [Hit(r.name, f"{r.show}, archived" if r.archived_at else r.show, f"/shots/{r.id}") for r in rows], cut
    )


def _cameras(context: Context, asked: str, words: list[str]) -> _Found:
    query = (
        select(Camera.id, Camera.name, Shot.name.label("shot"), Show.name.label("show"), Camera.removed_at)
        .join(Shot, Shot.id == Camera.shot_id)
        .join(Show, Show.id == Shot.show_id)
    )
    rows, cut = _ranked(context, query, Camera.name, asked, words)
    hits = [Hit(r.name, f"{r.shot}, {r.show}{', archived' if r.removed_at else ''}", f"/cameras/{r.id}") for r in rows]
    return _Found(hits, cut)


def _packages(context: Context, words: list[str]) -> _Found:
    packages = all_packages(context).items()
    return _Found([Hit(k, p.label, f"/packages/{k}") for k, p in packages if _has_all(f"{k} {p.label}", words)])


def _has_all(text: str, words: Iterable[str]) -> bool:
    there = words_of(text)
    return all(any(t.startswith(w) for t in there) for w in words)


def _checksum(asked: str) -> str:
    """What is searched as the beginning of a checksum; "" for anything else."""
    text = asked.lower()
    return text if len(text) >= _LEAST_CHECKSUM and all(c in "0123456789abcdef" for c in text) else ""


def _source_files(context: Context, asked: str, words: list[str]) -> _Found:
    """Files that cameras were taken in from. Versions are those of shows that are seen, in every query."""
    query = (
        select(SourceFile.name, SourceFile.sha256, Camera.id, Camera.name.label("camera"), Shot.name.label("shot"))
        .join(VersionInput, VersionInput.source_file_id == SourceFile.id)
        .join(Version, Version.id == VersionInput.version_id)
        .join(Camera, Camera.id == Version.camera_id)
        .join(Shot, Shot.id == Camera.shot_id)
        .group_by(SourceFile.id, Camera.id, Shot.id)
    )
    return _files(context, query, SourceFile, "cameras", asked, words)


def _delivered_files(context: Context, asked: str, words: list[str]) -> _Found:
    query = (
        select(
            DeliveryFile.name, DeliveryFile.sha256, Delivery.id, Camera.name.label("camera"), Shot.name.label("shot")
        )
        .join(Delivery, Delivery.id == DeliveryFile.delivery_id)
        .join(Version, Version.id == Delivery.version_id)
        .join(Camera, Camera.id == Version.camera_id)
        .join(Shot, Shot.id == Camera.shot_id)
    )
    return _files(context, query, DeliveryFile, "deliveries", asked, words)


def _files(context: Context, query: Select[*tuple[Any, ...]], file: type[SourceFile] | type[DeliveryFile], page: str, asked: str, words: list[str]) -> _Found:  # fmt: skip
    """Files by the beginning of their checksum, then by name; ``page`` is where their number leads."""
    found, cut = _ranked(context, query, file.name, asked, words)
    if beginning := _checksum(asked):
        found = [*context.execute(query.where(file.sha256.startswith(beginning)).limit(MOST + 1)), *found]
    return _Found([Hit(r.name, f"{r.shot} {r.camera}, SHA-256 {r.sha256[:12]}", f"/{page}/{r.id}") for r in found], cut)


def _findings(context: Context, words: list[str]) -> _Found:
    """Cameras whose current version has a finding with these words."""
    numbers, cut = _numbers(context, Version, findings_vector(Version.__table__.c.findings), words)
    rank = func.ts_rank(findings_vector(Version.findings), query_of(words))
    query = (
        select(Camera.id, Camera.name, Shot.name.label("shot"), Version.findings)
        .join(Version, Version.id == Camera.head_id)
        .join(Shot, Shot.id == Camera.shot_id)
        .where(_one_of(Version.id, numbers), Camera.removed_at.is_(None))
        .order_by(rank.desc(), Shot.name, Camera.name)
        .limit(MOST + 1)
    )
    hits = [
        Hit(f"{r.shot} {r.name}", _sentence(r.findings, words), f"/cameras/{r.id}?station=take-in")
        for r in (context.execute(query) if numbers else ())
    ]
    return _Found(hits, cut)


def _sentence(findings: list[dict[str, Any]], words: list[str]) -> str:
    """The finding that has most of the words."""

    def count(finding: dict[str, Any]) -> int:
        there = words_of(" ".join(str(v) for v in finding.values()))
        return sum(any(t.startswith(w) for t in there) for w in words)

    return str(max(findings, key=count)["message"])


def _people(context: Context, asked: str, words: list[str]) -> _Found:
    """Only for those who may see the list of people."""
    if context.actor.of_studio < Role.ADMINISTRATOR:
        return _Found([])
    rows, cut = _ranked(context, select(Person.name, Person.disabled_at), Person.name, asked, words)
    return _Found([Hit(r.name, "disabled" if r.disabled_at else "", "/people") for r in rows], cut)
