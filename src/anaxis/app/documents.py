"""What the interface over HTTP and the command line say, as one set of models: each field once, with its unit.

Lengths are in millimetres (``_mm``), deviations in pixels (``_px``), times in ISO 8601; frames are the camera's own numbers.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Any, Generic, Literal, TypeVar

from pydantic import BaseModel, Field

from anaxis.app.deliveries.deliver import furthest_off, newest_deliveries
from anaxis.app.shows.many_files import Item
from anaxis.app.shows.plan import Due, PlanBoard
from anaxis.store.models import Camera, Delivery, HistoryEntry, Job, Return, Run, Shot, Show, Version
from anaxis.store.screenshots import Screenshot

T = TypeVar("T")


class Problem(BaseModel):
    """Why something was not done: ``code`` stays the same when the sentence is worded anew; ``field`` is what it is about."""

    code: str = Field(examples=["not_found"])
    sentence: str = Field(examples=["There is no camera 12: choose one on Shots."])
    field: str | None = None


class Paged(BaseModel, Generic[T]):
    """Some of ``found`` entries, beginning at ``at``; ``next`` is where the following ones begin, null at the end."""

    entries: list[T]
    found: int
    at: int = 0
    next: int | None = None

    @classmethod
    def of(cls, entries: Iterable[T], found: int, at: int) -> Paged[T]:
        listed = list(entries)
        after = at + len(listed)
        return cls(entries=listed, found=found, at=at, next=after if listed and after < found else None)


class Me(BaseModel):
    """Whom a token acts for, and with which role where."""

    name: str
    everywhere: str
    in_shows: dict[int, str]


class ShowDocument(BaseModel):
    id: int
    name: str
    rule: str = Field(description="The naming rule of its files; empty if detected.")
    archived: bool

    @classmethod
    def of(cls, show: Show) -> ShowDocument:
        return cls(id=show.id, name=show.name, rule=show.rule, archived=show.archived_at is not None)


class ShotDocument(BaseModel):
    id: int
    show: int
    name: str
    first_frame: float | None = Field(description="The expected value; null if not set.")
    last_frame: float | None
    rate: str | None = Field(examples=["24000/1001"])
    archived: bool

    @classmethod
    def of(cls, shot: Shot) -> ShotDocument:
        return cls(
            id=shot.id, show=shot.show_id, name=shot.name, first_frame=shot.first_frame, last_frame=shot.last_frame, rate=shot.rate,
            archived=shot.archived_at is not None,
        )  # fmt: skip


class DeliveryFileDocument(BaseModel):
    name: str
    sha256: str
    size: int = Field(description="Bytes.")


class DeliveryDocument(BaseModel):
    """Files handed over, and the proof in pixels: whether it matches, and where it is worst."""

    id: int
    camera: int
    version: str
    to: str
    format: str
    matches: bool
    verdict: str = Field(examples=["Matches"])
    warnings: list[str] = Field(
        description="Codes of open warnings of the file: the file may match and still be wrong."
    )
    grade: str = Field(examples=["exact"])
    max_px: float
    worst_frame: float
    median_px: float
    test_points: int
    frames_compared: int
    frames_expected: int
    options: dict[str, Any]
    notes: list[Any]
    files: list[DeliveryFileDocument]
    made_at: datetime

    @classmethod
    def of(cls, delivery: Delivery) -> DeliveryDocument:
        compared, owed = delivery.coverage
        return cls(
            id=delivery.id, camera=delivery.version.camera_id, version=delivery.version.label, to=delivery.profile["key"], format=delivery.format,
            matches=delivery.matches, verdict=delivery.verdict,
            warnings=[f.code for f in delivery.version.open_warnings], grade=delivery.grade, max_px=delivery.max_px, worst_frame=delivery.worst_frame,
            median_px=delivery.median_px, test_points=delivery.test_points, frames_compared=compared, frames_expected=owed, options=delivery.options,
            notes=delivery.notes, files=[DeliveryFileDocument(name=f.name, sha256=f.sha256, size=f.size) for f in delivery.files],
            made_at=delivery.created_at,
        )  # fmt: skip


class VersionDocument(BaseModel):
    """A camera at one state of its recipe."""

    number: int = Field(description="The base for later edits.")
    label: str = Field(description="Take and edit as shown to people.", examples=["2.3"])
    change: str
    width_px: int
    height_px: int
    source_fit: str
    facts: dict[str, Any]
    findings: list[dict[str, Any]]
    open_warnings: list[str] = Field(description="Codes of its open warnings.")
    recipe: list[Any]
    made_at: datetime

    @classmethod
    def of(cls, version: Version) -> VersionDocument:
        return cls(
            number=version.number, label=version.label, change=version.change, width_px=version.width_px, height_px=version.height_px,
            source_fit=version.source_fit, facts=version.facts,
            findings=[f.as_dict() for f in version.noticed], open_warnings=[f.code for f in version.open_warnings], recipe=version.recipe, made_at=version.created_at,
        )  # fmt: skip


class CameraDocument(BaseModel):
    """A camera with the version worked on; ``worst`` is the newest delivery of it that is furthest off, null where none is."""

    id: int
    name: str
    shot: ShotDocument
    head: VersionDocument
    worst: DeliveryDocument | None

    @classmethod
    def of(cls, camera: Camera) -> CameraDocument:
        worst = furthest_off(newest_deliveries(camera.head))
        return cls(
            id=camera.id, name=camera.name, shot=ShotDocument.of(camera.shot), head=VersionDocument.of(camera.head),
            worst=DeliveryDocument.of(worst) if worst else None,
        )  # fmt: skip


class FileDocument(BaseModel):
    """A camera file as it is told apart from what is kept: by ``anaxis take-in``, and where one is sent."""

    file: str
    state: Literal["new", "newer take", "older", "same again", "cannot be taken in"]
    said: str
    id: int | None = Field(default=None, description="The number of the upload; null if it is not stored.")
    show: str
    shot: str
    camera: str
    version: int | None
    frames: str = ""
    cameras: list[str]
    findings: dict[str, str] = Field(description="Severity by code.")
    remedies: dict[str, str] = Field(description="The remedy of each finding, by code.")
    kept: list[int] = Field(description="The cameras it was saved as.")

    @classmethod
    def of(cls, item: Item) -> FileDocument:
        return cls.model_validate({
            "file": item.name, "state": item.state, "said": item.said, "id": item.source, **item.names._asdict(), "frames": item.frames,
            "cameras": item.cameras, "findings": item.findings, "remedies": item.remedies, "kept": item.kept,
        })  # fmt: skip


class JobDocument(BaseModel):
    """Long work: how far it is, and what came of it."""

    id: int
    kind: str
    state: Literal["waiting", "running", "stopping", "stopped", "failed", "done"]
    share: float = Field(description="0 to 1.")
    tries: int = Field(description="Number of attempts.")
    said: str = Field(description="The reason for the failure or for another attempt.")
    no_worker: bool = Field(description="True if the job is open and no worker has reported for 20 s.")
    delivery: int | None
    asked_by: str

    @classmethod
    def of(cls, job: Job, no_worker: bool = False) -> JobDocument:
        return cls.model_validate({
            "id": job.id, "kind": job.kind, "state": job.state, "share": job.share, "tries": job.tries, "said": job.said, "no_worker": no_worker,
            "delivery": job.result.get("delivery"), "asked_by": job.actor,
        })  # fmt: skip


class HandedOver(BaseModel):
    """What an order came to: deliveries that are there, work that will make the others, and what was refused, in words."""

    deliveries: list[DeliveryDocument]
    jobs: list[JobDocument]
    refused: list[str]


class ReturnDocument(BaseModel):
    """A camera that came back from a package: how far it is off, and what explains that."""

    id: int
    camera: int
    to: str
    grade: str
    max_px: float
    worst_frame: float
    median_px: float
    frames_missing: int
    as_it_was: bool = Field(description="True if every frame returned exactly and nothing that matters differs.")
    differences: list[Any] = Field(description="Differences outside the picture: rate, image, focus, stop, clips.")
    numbering: str = Field(description="The renumbering by the delivery; empty if none.")
    explained: bool
    explanations: list[Any]

    @classmethod
    def of(cls, row: Return) -> ReturnDocument:
        return cls(
            id=row.id, camera=row.version.camera_id, to=row.profile["key"], grade=row.grade, max_px=row.max_px, worst_frame=row.worst_frame,
            median_px=row.median_px, frames_missing=row.missing, as_it_was=row.as_it_was, differences=row.differences,
            numbering=row.diagnosis.get("numbering", ""), explained=bool(row.diagnosis.get("explained")),
            explanations=row.diagnosis.get("explanations", []),
        )  # fmt: skip


class ScreenshotDocument(BaseModel):
    """A screenshot of a receiving package, with its landmarks and the cause of a mismatch."""

    id: int
    camera: int
    version: int
    to: str
    name: str
    width_px: int
    height_px: int
    area: list[int] = Field(description="The part that the camera made: x, y, width, height in pixels.")
    area_found: str = Field(description="How this part was found.")
    frame: float | None = Field(description="The frame of the shot; null if it is unknown.")
    points: dict[str, list[float] | None] = Field(
        description="Pixels from the upper left, by the name of the landmark; null for one that is not visible."
    )
    found: bool = Field(description="True if Anaxis found the landmarks and nobody changed them.")
    diagnosis: dict[str, Any] = Field(description="As `anaxis picture --json` prints it; empty before it is explained.")

    @classmethod
    def of(cls, row: Screenshot) -> ScreenshotDocument:
        return cls(
            id=row.id, camera=row.version.camera_id, version=row.version.number, to=row.profile["key"], name=row.name, width_px=row.width_px,
            height_px=row.height_px, area=row.area[:4], area_found=row.area[4], frame=row.frame, points=row.points, found=row.found,
            diagnosis=row.diagnosis,
        )  # fmt: skip


class DueDocument(BaseModel):
    """A delivery that a show's plan owes."""

    shot: str
    camera: str
    version: str
    to: str
    format: str
    state: str
    why: str

    @classmethod
    def of(cls, due: Due) -> DueDocument:
        return cls(
            shot=due.row.shot.name, camera=due.row.camera.name, version=due.row.version.label, to=due.target.package, format=due.target.format,
            state=due.cell.state, why=due.cell.why,
        )  # fmt: skip


class TargetDocument(BaseModel):
    id: int
    to: str
    format: str
    options: dict[str, Any]
    recipe: str
    shots: int | None = Field(description="Number of shots; null for all.")
    together: str = Field(
        description="'shot' or 'show' for one file with their cameras; empty for a file for each camera."
    )


class CellDocument(BaseModel):
    state: str
    why: str
    max_px: float | None
    delivery: int | None


class PlannedCamera(BaseModel):
    shot: str
    camera: str
    version: str
    cells: list[CellDocument] = Field(description="One for each target, in order.")


class PlanDocument(BaseModel):
    show: str
    targets: list[TargetDocument]
    counts: dict[str, int]
    worst_px: float | None
    cameras: list[PlannedCamera]

    @classmethod
    def of(cls, found: PlanBoard, states: Sequence[str]) -> PlanDocument:
        return cls(
            show=found.show.name, counts={s: n for s in states if (n := found.count(s))}, worst_px=found.worst_px,
            targets=[
                TargetDocument(id=t.id, to=t.package, format=t.format, options=t.options, recipe=t.recipe, shots=len(t.shots) if t.shots else None, together=t.together)
                for t in found.targets
            ],
            cameras=[
                PlannedCamera(
                    shot=r.shot.name, camera=r.camera.name, version=r.version.label,
                    cells=[CellDocument(state=c.state, why=c.why, max_px=c.max_px, delivery=c.delivery) for c in r.cells],
                )
                for r in found.rows
            ],
        )  # fmt: skip


class RunDocument(BaseModel):
    id: int
    show: int
    started_by: str
    states: dict[str, int] = Field(description="Number of deliveries by state.")
    share: float = Field(description="0 to 1.")
    open: bool
    left_s: float | None = Field(description="Seconds left; null if unknown.")
    no_worker: int = Field(description="Number of open deliveries without a report of a worker for 20 s.")

    @classmethod
    def of(cls, run: Run, progress: Any) -> RunDocument:
        return cls(
            id=run.id, show=run.show_id, started_by=run.actor, states=dict(progress.states), share=progress.share, open=bool(progress.open),
            left_s=progress.left_s, no_worker=progress.no_worker,
        )  # fmt: skip


class HistoryDocument(BaseModel):
    id: int
    at: datetime
    who: str
    did: str
    kind: str
    about: int
    said: str
    detail: dict[str, Any]

    @classmethod
    def of(cls, entry: HistoryEntry) -> HistoryDocument:
        return cls(
            id=entry.id, at=entry.at, who=entry.actor, did=entry.action, kind=entry.kind, about=entry.about_id, said=entry.said, detail=entry.detail
        )  # fmt: skip
