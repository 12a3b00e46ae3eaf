"""Tables. Versions and deliveries are immutable once kept: the database refuses to update them.

A camera's versions form a tree: each take (a file taken in) starts one, each edit of the recipe adds a
version whose parent is the one it was made from. The camera's head says which version is worked on, so
that undo and redo move the head and lose nothing.
"""

from __future__ import annotations

import math
from datetime import datetime
from typing import Any, ClassVar, NamedTuple

from sqlalchemy import BigInteger, ForeignKey, UniqueConstraint, func
from sqlalchemy.orm import Mapped, mapped_column, relationship

from anaxis.core.findings import Finding, by_severity
from anaxis.store.base import Base
from anaxis.store.content_rows import Content, OwnBytes
from anaxis.store.noticed import expected_of, findings_now, is_open

EXACT_PX = 0.01


class Coverage(NamedTuple):
    """Frames compared, of the frames owed."""

    compared: int
    owed: int

    @property
    def whole(self) -> bool:
        return self.compared >= self.owed


class Show(Base):
    __tablename__ = "shows"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    rule: Mapped[str] = mapped_column(default="")  # how its files are named, see app/file_names
    archived_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    shots: Mapped[list[Shot]] = relationship(back_populates="show", order_by="Shot.name")


class Shot(Base):
    __tablename__ = "shots"
    belongs_to = "show"
    __table_args__ = (UniqueConstraint("show_id", "name"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    show_id: Mapped[int] = mapped_column(ForeignKey("shows.id"))
    name: Mapped[str]
    first_frame: Mapped[float | None]  # what the edit expects of the shot; None where nobody has said
    last_frame: Mapped[float | None]
    rate: Mapped[str | None]
    archived_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    show: Mapped[Show] = relationship(back_populates="shots")
    cameras: Mapped[list[Camera]] = relationship(back_populates="shot", order_by="Camera.name")


class SourceFile(Base):
    """An uploaded file with the scene read from it; ``kept`` once a camera of it was kept.

    ``draft`` holds what was set on the intake page and not kept yet: recipes by camera path;
    ``layout`` what the columns of column text are, where a person said so.
    """

    __tablename__ = "source_files"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    sha256: Mapped[str] = mapped_column(ForeignKey("contents.sha256"), index=True)
    scene_sha256: Mapped[str] = mapped_column(ForeignKey("contents.sha256"), index=True)
    size: Mapped[int] = mapped_column(BigInteger)
    kept: Mapped[bool] = mapped_column(default=False)
    draft: Mapped[dict[str, Any]] = mapped_column(default=dict)
    layout: Mapped[dict[str, Any] | None]
    actor: Mapped[str] = mapped_column(default="local")  # who put it aside
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    derivation: Mapped[Derivation | None] = relationship(lazy="joined")
    content: Mapped[Content] = relationship(foreign_keys=[sha256])
    scene_content: Mapped[Content] = relationship(foreign_keys=[scene_sha256])

    @property
    def data(self) -> bytes:
        """The file."""
        return self.content.data

    @property
    def scene(self) -> bytes:
        """What was read from it, as library/archive writes it."""
        return self.scene_content.data


class Derivation(Base):
    """How a camera was made from others: the ``kind``, its ``settings``; what came out is kept as a file of our own, the
    inputs as those of its versions."""

    __tablename__ = "derivations"
    source_file_id: Mapped[int] = mapped_column(ForeignKey("source_files.id"), primary_key=True)
    kind: Mapped[str]
    settings: Mapped[dict[str, Any]]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())


class Camera(Base):
    __tablename__ = "cameras"
    belongs_to = "shot"
    __table_args__ = (UniqueConstraint("shot_id", "name"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    shot_id: Mapped[int] = mapped_column(ForeignKey("shots.id"))
    name: Mapped[str]
    head_id: Mapped[int | None] = mapped_column(ForeignKey("versions.id", use_alter=True))
    made_here: Mapped[bool] = mapped_column(default=False)  # a copy: no file says whether it is still there
    missing_from_id: Mapped[int | None] = mapped_column(ForeignKey("source_files.id"))
    removed_at: Mapped[datetime | None]  # off the lists; nothing of it is lost
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    shot: Mapped[Shot] = relationship(back_populates="cameras")
    versions: Mapped[list[Version]] = relationship(
        back_populates="camera", order_by="Version.number", foreign_keys="Version.camera_id"
    )
    missing_from: Mapped[SourceFile | None] = relationship()
    allowed: Mapped[list[AllowedWarning]] = relationship(
        back_populates="camera", order_by="AllowedWarning.id", lazy="selectin"
    )
    head_version: Mapped[Version | None] = relationship(foreign_keys=[head_id], viewonly=True)

    @property
    def head(self) -> Version:
        """The version worked on: the one undo and redo led to, else the newest."""
        return self.head_version or self.versions[-1]

    @property
    def takes(self) -> list[Version]:
        """The newest version of every take, in order."""
        return list({v.take: v for v in self.versions}.values())


class AllowedWarning(Base):
    """A warning of a camera's that a person knows of and lets go out: the sentence, as it was read."""

    __tablename__ = "allowed_warnings"
    belongs_to = "camera"
    __table_args__ = (UniqueConstraint("camera_id", "sentence"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    camera_id: Mapped[int] = mapped_column(ForeignKey("cameras.id"), index=True)
    code: Mapped[str]
    sentence: Mapped[str]
    actor: Mapped[str]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    camera: Mapped[Camera] = relationship(back_populates="allowed")


class Version(Base):
    """A camera at one state of its recipe: the baked track and how its picture is made.

    ``take`` counts the files taken in, ``edit`` the recipe's changes since; ``parent_id`` is the version
    an edit was made from, ``change`` says what it changed.
    """

    __tablename__ = "versions"
    belongs_to = "camera"
    __table_args__ = (UniqueConstraint("camera_id", "number"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    camera_id: Mapped[int] = mapped_column(ForeignKey("cameras.id"))
    number: Mapped[int]
    take: Mapped[int]
    edit: Mapped[int] = mapped_column(default=0)
    parent_id: Mapped[int | None] = mapped_column(ForeignKey("versions.id"))
    recipe: Mapped[list[Any]] = mapped_column(default=list)
    change: Mapped[str] = mapped_column(default="")
    actor: Mapped[str] = mapped_column(default="")  # who made it
    width_px: Mapped[int]
    height_px: Mapped[int]
    pixel_aspect: Mapped[float]
    image_guessed: Mapped[bool]
    source_fit: Mapped[str]
    fit_guessed: Mapped[bool]
    facts: Mapped[dict[str, Any]]
    findings: Mapped[list[Any]]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    track: Mapped[bytes] = mapped_column(deferred=True)
    camera: Mapped[Camera] = relationship(back_populates="versions", foreign_keys=[camera_id])
    inputs: Mapped[list[VersionInput]] = relationship(
        order_by="VersionInput.place", foreign_keys="VersionInput.version_id", lazy="selectin"
    )
    deliveries: Mapped[list[Delivery]] = relationship(back_populates="version", order_by="Delivery.id.desc()")

    @property
    def made_of(self) -> list[VersionInput]:
        """The versions of other cameras that a derived camera is made from; none for all others."""
        return [i for i in self.inputs if i.input_id is not None]

    @property
    def derivation(self) -> Derivation | None:
        return self.source_file.derivation

    @property
    def source(self) -> VersionInput:
        """The camera of a file that it begins with."""
        return next(i for i in self.inputs if i.source_file_id is not None)

    @property
    def source_file(self) -> SourceFile:
        found = self.source.source_file
        assert found is not None
        return found

    @property
    def source_file_id(self) -> int:
        return self.source_file.id

    @property
    def camera_path(self) -> str:
        return self.source.camera_path or ""

    @property
    def noticed(self) -> list[Finding]:
        """What was noticed when it was made, and where it is not as its shot is expected to be by now; gravest first."""
        return by_severity(findings_now(self.findings, self.facts, expected_of(self.camera.shot), self.camera_path))

    @property
    def open_warnings(self) -> list[Finding]:
        """Its warnings that nobody has mended or allowed."""
        allowed = frozenset(a.sentence for a in self.camera.allowed)
        return [f for f in self.noticed if is_open(f, allowed)]

    @property
    def called(self) -> str:
        """As people say it: shot, camera, take and edit."""
        return f"{self.camera.shot.name} {self.camera.name} {self.label}"

    @property
    def label(self) -> str:
        """Take and edit as people say it: 2, or 2.3 after three edits."""
        return f"{self.take}.{self.edit}" if self.edit else str(self.take)


class VersionInput(Base):
    """Something a version is made from, in a role: a camera of a file, or another version."""

    __tablename__ = "version_inputs"
    belongs_to = "version"
    __table_args__ = (UniqueConstraint("version_id", "place"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    version_id: Mapped[int] = mapped_column(ForeignKey("versions.id"), index=True)
    place: Mapped[int] = mapped_column(default=0)
    role: Mapped[str] = mapped_column(default="camera")
    source_file_id: Mapped[int | None] = mapped_column(ForeignKey("source_files.id"), index=True)
    camera_path: Mapped[str | None]
    input_id: Mapped[int | None] = mapped_column(ForeignKey("versions.id"), index=True)
    version: Mapped[Version] = relationship(back_populates="inputs", foreign_keys=[version_id])
    source_file: Mapped[SourceFile | None] = relationship(lazy="joined")
    input: Mapped[Version | None] = relationship(foreign_keys=[input_id], viewonly=True)

    def again(self) -> VersionInput:
        """The same input, for another version."""
        same = ("place", "role", "source_file_id", "camera_path", "input_id")
        return VersionInput(**{k: getattr(self, k) for k in same})


class Delivery(Base):
    """Files handed over, with the profile as it was then and the proof."""

    __tablename__ = "deliveries"
    belongs_to = "version"
    id: Mapped[int] = mapped_column(primary_key=True)
    version_id: Mapped[int] = mapped_column(ForeignKey("versions.id"), index=True)
    profile: Mapped[dict[str, Any]]
    format: Mapped[str]
    options: Mapped[dict[str, Any]] = mapped_column(default=dict)
    notes: Mapped[list[Any]]
    max_px: Mapped[float]
    worst_frame: Mapped[float]
    median_px: Mapped[float]
    grade: Mapped[str]
    test_points: Mapped[int]
    arrival: Mapped[dict[str, Any]] = mapped_column(default=dict)  # what arrived beside the picture
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    proof: Mapped[bytes] = mapped_column(deferred=True)
    version: Mapped[Version] = relationship(back_populates="deliveries")
    files: Mapped[list[DeliveryFile]] = relationship(back_populates="delivery", order_by="DeliveryFile.name")

    @property
    def chosen_px(self) -> float | None:
        """How many pixels fewer keys may cost, where they were asked for."""
        return self.options.get("reduce_px")

    @property
    def coverage(self) -> Coverage:
        """How many frames the proof rests on, of those owed: the shot's, where its range is known, else those that the file states, else the
        camera's."""
        facts, shot = self.version.facts, self.version.camera.shot
        first, last, lost = facts["first_frame"], facts["last_frame"], self.arrival.get("missing", [])
        if shot.first_frame is not None and shot.last_frame is not None:
            begins, ends = shot.first_frame, shot.last_frame
        elif facts.get("stated"):
            begins, ends = facts["stated"]
        else:
            return Coverage(int(facts["frames"]) - len(lost), int(facts["frames"]))
        low, high = max(first, begins), min(last, ends)
        gone = sum(begins <= f <= ends for f in lost)
        there = max(0, math.floor(high) - math.ceil(low) + 1) - gone
        return Coverage(max(0, there), round(ends - begins) + 1)

    @property
    def differences(self) -> list[dict[str, Any]]:
        """What is there otherwise than meant, beside the picture: what, meant, arrived, matters."""
        return list(self.arrival.get("differences", []))

    @property
    def in_pixels(self) -> bool:
        """Whether the picture is within what was asked: exact, or the pixels chosen for fewer keys."""
        in_plate = self.arrival.get("plate", {}).get("max_px", 0.0)
        return max(self.max_px, in_plate) <= max(EXACT_PX, self.chosen_px or 0.0)

    @property
    def matches(self) -> bool:
        """Whether the picture is within what was asked, on every frame owed, and nothing else is another."""
        return self.in_pixels and self.coverage.whole and not self.arrival.get("missing") and not self.changed

    @property
    def sound(self) -> bool:
        """Whether it matches, and no warning of what it was made of is open."""
        return self.matches and not self.version.open_warnings

    @property
    def proved_against(self) -> str:
        """What it is compared with, as verdicts say it: a derived camera, or a camera's file."""
        return "camera" if self.version.derivation else "file"

    @property
    def changed(self) -> list[str]:
        """What arrived as another, beside the picture: frame rate, image size, a channel of the lens."""
        return [str(d["what"]) for d in self.differences if d["matters"]]

    @property
    def verdict(self) -> str:
        """The answer in a few words."""
        if not self.in_pixels:
            return "Does not match"
        if self.changed:
            return f"Not as meant: {', '.join(self.changed)}"
        compared, owed = self.coverage
        if not self.matches:
            return f"Only {compared} of {owed} frames"
        within = f" within {self.chosen_px:g} px" if self.chosen_px else ""
        warnings = self.version.open_warnings
        if not warnings:
            return f"Matches{within}"
        first = warnings[0].message.rstrip(".")
        if len(warnings) == 1:
            return f"Matches the {self.proved_against}{within}; the {self.proved_against} has a warning: {first}"
        return f"Matches the {self.proved_against}{within}; the {self.proved_against} has {len(warnings)} warnings, the first: {first}"

    @property
    def in_short(self) -> str:
        """The answer for a cell of a table: the grade of the picture, else what is wrong beside the picture."""
        if self.sound or not self.in_pixels:
            return self.grade
        return f"matches the {self.proved_against}, which has a warning" if self.matches else self.verdict


class DeliveryFile(Base):
    __tablename__ = "delivery_files"
    belongs_to = "delivery"
    __table_args__ = (UniqueConstraint("delivery_id", "name"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    delivery_id: Mapped[int] = mapped_column(ForeignKey("deliveries.id"))
    name: Mapped[str]
    sha256: Mapped[str] = mapped_column(ForeignKey("contents.sha256"), index=True)
    size: Mapped[int] = mapped_column(BigInteger)
    delivery: Mapped[Delivery] = relationship(back_populates="files")
    content: Mapped[Content] = relationship()

    @property
    def data(self) -> bytes:
        return self.content.data


class SavedRecipe(Base):
    """One version of a recipe under a name, to be applied to other cameras; the highest number is the one in force."""

    __tablename__ = "saved_recipes"
    __table_args__ = (UniqueConstraint("name", "number"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    number: Mapped[int] = mapped_column(default=1)
    operations: Mapped[list[Any]]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())


class SavedLayout(Base):
    """What the columns of a kind of table are, under a name."""

    __tablename__ = "saved_layouts"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    layout: Mapped[dict[str, Any]]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())


class SavedFilmBack(Base):
    """A film back under a name, beside the nominal ones."""

    __tablename__ = "saved_film_backs"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    width_mm: Mapped[float]
    height_mm: Mapped[float]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())


class Job(Base):
    """Long work on a version: ``state`` is waiting, running, stopping, stopped, failed or done.

    ``share`` of it is done, ``said`` is why it failed or waits for another attempt, ``result`` is its result. ``run_id`` is the
    run that asked for it, for the plan's target ``target_id``; ``worker_id`` is the worker of the newest attempt, which began
    at ``begun_at``; ``tries`` counts the attempts.
    """

    __tablename__ = "jobs"
    belongs_to = "version"
    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str]
    version_id: Mapped[int] = mapped_column(ForeignKey("versions.id"))
    params: Mapped[dict[str, Any]] = mapped_column(default=dict)
    actor: Mapped[str] = mapped_column(default="local")  # who asked for it
    request_id: Mapped[str] = mapped_column(default="")  # by which request, for the logs
    revision: Mapped[str] = mapped_column(default="")  # the store revision of the program that requested it
    state: Mapped[str] = mapped_column(default="waiting")
    share: Mapped[float] = mapped_column(default=0.0)
    tries: Mapped[int] = mapped_column(default=0)
    said: Mapped[str] = mapped_column(default="")
    result: Mapped[dict[str, Any]] = mapped_column(default=dict)
    run_id: Mapped[int | None] = mapped_column(ForeignKey("runs.id"), index=True)
    target_id: Mapped[int | None] = mapped_column(ForeignKey("plan_targets.id"), index=True)
    worker_id: Mapped[int | None] = mapped_column(ForeignKey("workers.id", ondelete="SET NULL"))
    begun_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    version: Mapped[Version] = relationship()


class PlanTarget(Base):
    """What a show owes a package: its shots (all of them where ``shots`` is None) in a format, with options, after the
    recipe saved under a name, if any. ``together``: the cameras of each "shot", or of the "show", in one file; "" for a file each."""

    __tablename__ = "plan_targets"
    belongs_to = "show"
    id: Mapped[int] = mapped_column(primary_key=True)
    show_id: Mapped[int] = mapped_column(ForeignKey("shows.id"), index=True)
    package: Mapped[str]
    format: Mapped[str]
    options: Mapped[dict[str, Any]] = mapped_column(default=dict)
    recipe: Mapped[str] = mapped_column(default="")
    shots: Mapped[list[Any] | None]
    together: Mapped[str] = mapped_column(default="")
    removed_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    show: Mapped[Show] = relationship()

    @property
    def name(self) -> str:
        return f"{self.package}, {self.format}"


class Run(Base):
    """One execution of a show's plan; its jobs say how far it is. ``recipes`` are the saved ones it used, with their numbers."""

    __tablename__ = "runs"
    belongs_to = "show"
    id: Mapped[int] = mapped_column(primary_key=True)
    show_id: Mapped[int] = mapped_column(ForeignKey("shows.id"), index=True)
    actor: Mapped[str]
    recipes: Mapped[dict[str, Any]] = mapped_column(default=dict)
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    show: Mapped[Show] = relationship()

    @property
    def name(self) -> str:
        return f"run {self.id}"


class Worker(Base):
    """A worker process on some machine, heard of now and then while it lives."""

    __tablename__ = "workers"
    id: Mapped[int] = mapped_column(primary_key=True)
    host: Mapped[str]
    pid: Mapped[int]
    at_once: Mapped[int] = mapped_column(default=1)
    begun_at: Mapped[datetime] = mapped_column(server_default=func.now())
    heard_at: Mapped[datetime] = mapped_column(server_default=func.now())


class MadeFile(OwnBytes, Base):
    """A file that took long to make, kept to be fetched."""

    __tablename__ = "made_files"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())


class Package(Base):
    """One version of a package profile of one's own; the highest number of a key is the one in force."""

    __tablename__ = "packages"
    __table_args__ = (UniqueConstraint("key", "number"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    key: Mapped[str]
    number: Mapped[int]
    document: Mapped[dict[str, Any]]
    change: Mapped[str] = mapped_column(default="")
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())


class Return(Base):
    """A camera that came back from a package, measured against the version meant and diagnosed."""

    __tablename__ = "returns"
    belongs_to = "version"
    id: Mapped[int] = mapped_column(primary_key=True)
    version_id: Mapped[int] = mapped_column(ForeignKey("versions.id"), index=True)
    profile: Mapped[dict[str, Any]]
    name: Mapped[str]
    sha256: Mapped[str]
    data: Mapped[bytes] = mapped_column(deferred=True)
    track: Mapped[bytes] = mapped_column(deferred=True)
    max_px: Mapped[float]
    worst_frame: Mapped[float]
    median_px: Mapped[float]
    grade: Mapped[str]
    missing: Mapped[int] = mapped_column(default=0)
    diagnosis: Mapped[dict[str, Any]] = mapped_column(default=dict)
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    proof: Mapped[bytes] = mapped_column(deferred=True)
    version: Mapped[Version] = relationship()

    @property
    def differences(self) -> list[dict[str, Any]]:
        """What of it is another beside the picture: ``what``, as ``meant`` and as ``arrived``, and whether it ``matters``."""
        found: list[dict[str, Any]] = self.diagnosis.get("differences", [])
        return found

    @property
    def as_it_was(self) -> bool:
        """Whether all of it came back, no frame further off than is exact, and nothing that matters is another."""
        return self.max_px <= EXACT_PX and not self.missing and not any(d["matters"] for d in self.differences)


class Still(Base):
    """Two pictures of one frame, ``ours`` and ``theirs`` as PNG, and what was measured between them."""

    __tablename__ = "stills"
    belongs_to = "version"
    id: Mapped[int] = mapped_column(primary_key=True)
    version_id: Mapped[int] = mapped_column(ForeignKey("versions.id"), index=True)
    frame: Mapped[float]
    our_name: Mapped[str]
    their_name: Mapped[str]
    ours: Mapped[bytes] = mapped_column(deferred=True)
    theirs: Mapped[bytes] = mapped_column(deferred=True)
    measured: Mapped[dict[str, Any]] = mapped_column(default=dict)
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    version: Mapped[Version] = relationship()


class Plate(Base):
    """The image sequence or movie that a shot's cameras belong to.

    Its ``files`` (names by their numbers, as text) lie in ``folder`` below the media root of the name ``root``.
    ``facts`` are those of its first picture, ``seen`` what is wrong with some of its files; ``frame_offset`` added to a
    number gives the camera's frame. ``view`` and ``stops`` say how it is shown.
    """

    __tablename__ = "plates"
    belongs_to = "shot"
    id: Mapped[int] = mapped_column(primary_key=True)
    shot_id: Mapped[int] = mapped_column(ForeignKey("shots.id"), index=True)
    name: Mapped[str]
    kind: Mapped[str]
    root: Mapped[str]
    folder: Mapped[str]
    files: Mapped[dict[str, Any]]
    facts: Mapped[dict[str, Any]]
    seen: Mapped[dict[str, Any]] = mapped_column(default=dict)
    frame_offset: Mapped[int] = mapped_column(default=0)
    view: Mapped[str] = mapped_column(default="plain")
    stops: Mapped[float] = mapped_column(default=0.0)
    removed_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = mapped_column(server_default=func.now())
    shot: Mapped[Shot] = relationship()

    @property
    def look(self) -> str:
        """By what its proxies are from those that show it otherwise."""
        return f"{self.view} {self.stops:g}"

    @property
    def numbers(self) -> list[int]:
        """The numbers of its pictures: a movie's are counted from 0."""
        movie = self.seen.get("movie_frames", 0)
        return list(range(movie)) if movie else sorted(int(n) for n in self.files)


class PlateProxy(OwnBytes, Base):
    """A small picture of a plate's; made again where it is not there."""

    __tablename__ = "plate_proxies"
    belongs_to = "plate"
    plate_id: Mapped[int] = mapped_column(ForeignKey("plates.id"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    look: Mapped[str] = mapped_column(primary_key=True)
    plate: Mapped[Plate] = relationship()


class HistoryEntry(Base):
    """Who did what, when, on what: rows are only ever added. ``kind`` is the table of the row that was changed, and ``show_id``
    the show that the row belonged to at that time. The database stores each month in a table of its own."""

    __tablename__ = "history"
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    at: Mapped[datetime] = mapped_column(server_default=func.now())
    actor: Mapped[str]
    action: Mapped[str]
    kind: Mapped[str]
    about_id: Mapped[int] = mapped_column(BigInteger)
    said: Mapped[str] = mapped_column(default="")
    detail: Mapped[dict[str, Any]] = mapped_column(default=dict)
    show_id: Mapped[int | None]


class HistoryWord(Base):
    """An ``actor`` or ``action`` that occurs in the history of a show. The database writes these rows.

    Show 0 stands for entries of no show, show ``RESERVED`` for entries that only administrators may read.
    """

    RESERVED: ClassVar[int] = -1
    __tablename__ = "history_words"
    show_id: Mapped[int] = mapped_column(primary_key=True)
    what: Mapped[str] = mapped_column(primary_key=True)
    word: Mapped[str] = mapped_column(primary_key=True)
