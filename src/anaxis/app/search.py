"""Search over everything that whoever searches may see: shots, cameras, packages, files, findings, people."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, NamedTuple

from sqlalchemy import ColumnElement, Select, case, func, select
from sqlalchemy.orm import InstrumentedAttribute

from anaxis.app.context import Context
from anaxis.app.roles import Role
from anaxis.store.models import Camera, Delivery, DeliveryFile, Shot, Show, SourceFile, Version, VersionInput
from anaxis.store.packages import all_packages
from anaxis.store.people import Person
from anaxis.store.search import findings_vector, name_vector, query_of, words_of

MOST = 12
_MOST_QUERY, _MOST_WORDS, _LEAST_CHECKSUM = 200, 8, 6


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
    return [Hits(kind, hits[:MOST], len(hits) > MOST) for kind, hits in found if hits]


def _ranked(query: Select[*tuple[Any, ...]], vector: ColumnElement[Any], name: InstrumentedAttribute[str], asked: str, words: list[str]) -> Any:  # fmt: skip
    """The rows that match: the very name first, then by PostgreSQL's rank, short names before long ones."""
    wanted = query_of(words)
    exact = case((func.lower(name) == asked.lower(), 0), else_=1)
    return query.where(vector.op("@@")(wanted)).order_by(exact, func.ts_rank(vector, wanted).desc(), func.length(name), name).limit(MOST + 1)  # fmt: skip


def _shots(context: Context, asked: str, words: list[str]) -> list[Hit]:
    query = select(Shot.id, Shot.name, Show.name.label("show"), Shot.archived_at).join(Show, Show.id == Shot.show_id)
    rows = context.execute(_ranked(query, name_vector(Shot.name), Shot.name, asked, words))
    return [Hit(r.name, f"{r.show}, archived" if r.archived_at else r.show, f"/shots/{r.id}") for r in rows]


def _cameras(context: Context, asked: str, words: list[str]) -> list[Hit]:
    query = (
        select(Camera.id, Camera.name, Shot.name.label("shot"), Show.name.label("show"), Camera.removed_at)
        .join(Shot, Shot.id == Camera.shot_id)
        .join(Show, Show.id == Shot.show_id)
    )
    rows = context.execute(_ranked(query, name_vector(Camera.name), Camera.name, asked, words))
    return [Hit(r.name, f"{r.shot}, {r.show}{', archived' if r.removed_at else ''}", f"/cameras/{r.id}") for r in rows]


def _packages(context: Context, words: list[str]) -> list[Hit]:
    return [
        Hit(key, profile.label, f"/packages/{key}")
        for key, profile in all_packages(context).items()
        if _has_all(f"{key} {profile.label}", words)
    ][: MOST + 1]


def _has_all(text: str, words: Iterable[str]) -> bool:
    there = words_of(text)
    return all(any(t.startswith(w) for t in there) for w in words)


def _checksum(asked: str) -> str:
    """What is searched as the beginning of a checksum; "" for anything else."""
    text = asked.lower()
    return text if len(text) >= _LEAST_CHECKSUM and all(c in "0123456789abcdef" for c in text) else ""


def _source_files(context: Context, asked: str, words: list[str]) -> list[Hit]:
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


def _delivered_files(context: Context, asked: str, words: list[str]) -> list[Hit]:
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


def _files(context: Context, query: Select[*tuple[Any, ...]], file: type[SourceFile] | type[DeliveryFile], page: str, asked: str, words: list[str]) -> list[Hit]:  # fmt: skip
    """Files by the beginning of their checksum, then by name; ``page`` is where their number leads."""
    found = context.execute(_ranked(query, name_vector(file.name), file.name, asked, words)).all()
    if beginning := _checksum(asked):
        found = [*context.execute(query.where(file.sha256.startswith(beginning)).limit(MOST + 1)), *found]
    return [Hit(r.name, f"{r.shot} {r.camera}, SHA-256 {r.sha256[:12]}", f"/{page}/{r.id}") for r in found]


def _findings(context: Context, words: list[str]) -> list[Hit]:
    """Cameras whose current version has a finding with these words."""
    vector, wanted = findings_vector(Version.findings), query_of(words)
    query = (
        select(Camera.id, Camera.name, Shot.name.label("shot"), Version.findings)
        .join(Version, Version.id == Camera.head_id)
        .join(Shot, Shot.id == Camera.shot_id)
        .where(vector.op("@@")(wanted), Camera.removed_at.is_(None))
        .order_by(func.ts_rank(vector, wanted).desc(), Shot.name, Camera.name)
        .limit(MOST + 1)
    )
    return [
        Hit(f"{r.shot} {r.name}", _sentence(r.findings, words), f"/cameras/{r.id}?station=take-in")
        for r in context.execute(query)
    ]


def _sentence(findings: list[dict[str, Any]], words: list[str]) -> str:
    """The finding that has most of the words."""

    def count(finding: dict[str, Any]) -> int:
        there = words_of(" ".join(str(v) for v in finding.values()))
        return sum(any(t.startswith(w) for t in there) for w in words)

    return str(max(findings, key=count)["message"])


def _people(context: Context, asked: str, words: list[str]) -> list[Hit]:
    """Only for those who may see the list of people."""
    if context.actor.of_studio < Role.ADMINISTRATOR:
        return []
    query = _ranked(select(Person.name, Person.disabled_at), name_vector(Person.name), Person.name, asked, words)
    return [Hit(r.name, "disabled" if r.disabled_at else "", "/people") for r in context.execute(query)]
