"""A show's plan: which packages its shots go to, what of that is missing, delivered, outdated, failed; and runs that do it."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from typing import Any, NamedTuple

from sqlalchemy import func, select, text, update
from sqlalchemy.dialects.postgresql import distinct_on
from sqlalchemy.orm import defer, joinedload, load_only
from sqlalchemy.sql.base import ExecutableOption

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import furthest_off, options_from
from anaxis.app.derived.derive import outdated_versions
from anaxis.app.roles import Role
from anaxis.core.errors import BadInput
from anaxis.delivery.options import USUAL, DeliveryOptions, changed_of
from anaxis.formats import format_of
from anaxis.queue.jobs import OPEN, ask_for_all, left_alone, many_are_in_queue, resume, stop_those
from anaxis.store.models import Camera, Delivery, Job, PlanTarget, Run, Shot, Show, Version
from anaxis.store.packages import all_packages, get_package
from anaxis.store.queries import PACKAGE_KEY, newest_recipe, on_the_list

# What a cell of the board is, the most urgent first.
STATES = ("failed", "mismatch", "outdated", "missing", "running", "warning", "matches", "not planned")
DUE = ("failed", "mismatch", "outdated", "missing")
# Which cameras a target puts into one file, in words.
TOGETHER = {
    "": "a file for each camera",
    "shot": "the cameras of each shot in one file",
    "show": "all cameras in one file",
}


@dataclass
class PlanCell:
    """A camera for a target: its ``state``, and ``why`` in words; the newest delivery and the open or failed work, if any."""

    state: str
    why: str = ""
    delivery: int | None = None
    max_px: float | None = None
    job: int | None = None


@dataclass
class PlanRow:
    """A shot's camera, a cell for each target of the plan, and one for each package that is not in the plan."""

    shot: Shot
    camera: Camera
    version: Version
    cells: list[PlanCell] = field(default_factory=list)
    unplanned: list[PlanCell] = field(default_factory=list)

    @property
    def state(self) -> str:
        return min((c.state for c in self.cells), key=STATES.index, default="not planned")


@dataclass
class PlanBoard:
    """A plan's targets with, for every camera of the show, its state for each; and the packages and formats that cameras were
    delivered in beside the plan."""

    show: Show
    targets: list[PlanTarget]
    rows: list[PlanRow]
    unplanned: list[tuple[str, str]]

    def count(self, state: str) -> int:
        return sum(c.state == state for r in self.rows for c in r.cells)

    @property
    def worst_px(self) -> float | None:
        return max((c.max_px for r in self.rows for c in r.cells if c.max_px is not None), default=None)


@use_case("plan", Role.LEAD)
def set_target(
    context: Context,
    show: Show,
    package: str,
    format_key: str,
    options: DeliveryOptions = USUAL,
    recipe: str = "",
    shots: Collection[int] | None = None,
    together: str = "",
) -> PlanTarget:
    """A show's shots (all, or those of ``shots``) go to a package in a format; what was planned of both before is replaced.
    ``together`` is one of :data:`TOGETHER`.

    Raises BadInput for a package, format or recipe that is not there, and for a format that holds one camera alone.
    """
    get_package(context, package)
    if together not in TOGETHER:
        raise BadInput(f"'{together[:40]}' is not a way to combine cameras: choose shot or show, or leave it out.")
    if together and not format_of(format_key).several:
        raise BadInput(
            f"{format_of(format_key).label} stores one camera in each file: choose another format, or a file for each camera."
        )
    format_of(format_key)
    if recipe:
        newest_recipe(context, recipe)
    drop_of(context, show, package, format_key)
    target = PlanTarget(
        show_id=show.id,
        package=package,
        format=format_key,
        options=changed_of(options),
        recipe=recipe,
        shots=None if shots is None else sorted(shots),
        together=together,
    )
    context.add(target)
    context.flush()
    return target


def drop_of(context: Context, show: Show, package: str, format_key: str) -> None:
    of = (
        PlanTarget.show_id == show.id,
        PlanTarget.package == package,
        PlanTarget.format == format_key,
        PlanTarget.removed_at.is_(None),
    )
    context.execute(update(PlanTarget).where(*of).values(removed_at=datetime.now(UTC)))


@use_case("remove from the plan", Role.LEAD)
def drop_target(context: Context, target: PlanTarget) -> PlanTarget:
    """A target is no longer planned; what was delivered for it stays."""
    target.removed_at = datetime.now(UTC)
    context.flush()
    return target


def targets_of(context: Context, show: Show) -> list[PlanTarget]:
    query = (
        select(PlanTarget).where(PlanTarget.show_id == show.id, PlanTarget.removed_at.is_(None)).order_by(PlanTarget.id)
    )
    return list(context.execute(query).scalars())


def shots_named(show: Show, names: Iterable[str]) -> list[int] | None:
    """The numbers of a show's shots by name; None, which is all of them, where none is named. Raises BadInput."""
    by_name = {s.name: s.id for s in show.shots}
    wanted = [n for name in names if (n := name.strip())]
    stranger = next((n for n in wanted if n not in by_name), None)
    if stranger is not None:
        raise BadInput(f"{show.name} has no shot '{stranger[:80]}': choose one of {', '.join(list(by_name)[:12])}.")
    return [by_name[n] for n in wanted] or None


class _Newest(NamedTuple):
    """A camera's newest delivery to a package in a format: all that a board says of it."""

    delivery: Delivery
    version_id: int


def board(context: Context, show: Show) -> PlanBoard:
    """The board of a show, in a number of queries that does not depend on how many shots it has."""
    targets, packages = targets_of(context, show), all_packages(context)
    rows = _rows(context, show)
    newest = _newest_deliveries(context, show)
    used = {t.package for t in targets} | {package for _, package, _ in newest}
    profiles = {key: packages[key].model_dump(mode="json") for key in used if key in packages}
    work = _newest_work(context, show)
    late = outdated_versions(context, show)
    recipes = {t.recipe: newest_recipe(context, t.recipe).operations for t in targets if t.recipe}
    for target in targets:
        for group in groups_of(rows, target):
            jobs = [j for r in group if (j := work.get((r.camera.id, target.id))) is not None]
            job = max(jobs, key=lambda j: j.id, default=None)
            for row in group:
                found = newest.get((row.camera.id, target.package, target.format))
                cell = _cell(
                    row.version, target, profiles.get(target.package), found, job, row.version.id in late, recipes
                )
                if (
                    cell.state in ("matches", "warning", "mismatch")
                    and found is not None
                    and _other_cameras(found.delivery, group)
                ):
                    cell.state, cell.why = "outdated", "its file needs other cameras now"
                row.cells.append(cell)
        for row in rows:
            if target.shots is not None and row.shot.id not in target.shots:
                row.cells.append(PlanCell("not planned"))
    planned = {(t.package, t.format) for t in targets}
    beside = sorted({(package, fmt) for _, package, fmt in newest} - planned)
    for row in rows:
        row.unplanned = [
            _delivered(row.version, profiles.get(p), newest.get((row.camera.id, p, f)), row.version.id in late)
            for p, f in beside
        ]
    shown = [at for at in range(len(beside)) if any(r.unplanned[at].delivery for r in rows)]
    for row in rows:
        row.unplanned = [row.unplanned[at] for at in shown]
    return PlanBoard(show, targets, rows, [beside[at] for at in shown])


def groups_of(rows: Iterable[PlanRow], target: PlanTarget) -> list[list[PlanRow]]:
    """The cameras that a target asks for, those of one file together."""
    out: dict[int, list[PlanRow]] = {}
    for row in rows:
        if target.shots is None or row.shot.id in target.shots:
            key = {"": row.camera.id, "shot": row.shot.id, "show": 0}[target.together]
            out.setdefault(key, []).append(row)
    return list(out.values())


def _other_cameras(delivery: Delivery, group: Sequence[PlanRow]) -> bool:
    """Whether a delivery's file holds other cameras than a group has."""
    own = [r.camera.name for r in group]
    return (
        sorted(delivery.options.get("together", own[:1])) != sorted(own)
        if len(own) > 1
        else "together" in delivery.options
    )


def _rows(context: Context, show: Show) -> list[PlanRow]:
    query = (
        select(Shot, Camera, Version)
        .join(Camera, Camera.shot_id == Shot.id)
        .join(Version, Version.id == Camera.head_id)
        .where(*on_the_list(show))
        .order_by(Shot.name, Camera.name)
    )
    found = context.execute(query).all()
    # A projection camera stands for one frame: it is delivered by hand, where it is wanted.
    return [PlanRow(s, c, v) for s, c, v in found if v.derivation is None or v.derivation.kind != "held"]


def _newest_deliveries(context: Context, show: Show) -> dict[tuple[int, str, str], _Newest]:
    query = (
        select(Version.camera_id, PACKAGE_KEY, Delivery)
        .join(Version, Version.id == Delivery.version_id)
        .join(Camera, Camera.id == Version.camera_id)
        .join(Shot, Shot.id == Camera.shot_id)
        .where(Shot.show_id == show.id)
        .ext(distinct_on(Version.camera_id, PACKAGE_KEY, Delivery.format))
        .order_by(Version.camera_id, PACKAGE_KEY, Delivery.format, Delivery.id.desc())
        .options(defer(Delivery.notes), joinedload(Delivery.version).joinedload(Version.camera).joinedload(Camera.shot))
    )
    return {
        (camera, package, d.format): _Newest(d, d.version_id) for camera, package, d in context.execute(query).all()
    }


def _newest_work(context: Context, show: Show) -> dict[tuple[int, int], Job]:
    query = (
        select(Version.camera_id, Job)
        .join(Version, Version.id == Job.version_id)
        .join(PlanTarget, PlanTarget.id == Job.target_id)
        .where(PlanTarget.show_id == show.id)
        .ext(distinct_on(Version.camera_id, Job.target_id))
        .order_by(Version.camera_id, Job.target_id, Job.id.desc())
        .options(load_only(Job.target_id, Job.state, Job.said, Job.created_at, Job.ended_at))
    )
    return {(camera, job.target_id): job for camera, job in context.execute(query).all() if job.target_id is not None}


def _cell(
    version: Version, target: PlanTarget, profile: dict[str, Any] | None, found: _Newest | None, job: Job | None, late: bool,
    recipes: dict[str, list[Any]],
) -> PlanCell:  # fmt: skip
    if job is not None and job.state in OPEN:
        return PlanCell("running", "work is running", job=job.id)
    failed = (
        job
        if job is not None
        and job.state == "failed"
        and (found is None or (job.ended_at or job.created_at) > found.delivery.created_at)
        else None
    )
    if failed is not None:
        return PlanCell("failed", failed.said, job=failed.id)
    if profile is None:
        return PlanCell("failed", f"the package '{target.package}' no longer exists")
    if found is None:
        return PlanCell("missing", "never delivered")
    cell = _delivered(version, profile, found, late)
    if cell.state == "outdated":
        return cell
    if options_from(found.delivery.options) != DeliveryOptions(**target.options):
        cell.state, cell.why = "outdated", "delivered with other options"
    elif any(o not in version.recipe for o in recipes.get(target.recipe, [])):
        cell.state, cell.why = "outdated", f"the recipe '{target.recipe}' is not applied"
    return cell


def _delivered(version: Version, profile: dict[str, Any] | None, found: _Newest | None, late: bool) -> PlanCell:
    """What a delivery is now, whatever the plan asks: of a package that no longer exists, or is changed, it is outdated."""
    if found is None:
        return PlanCell("not planned")
    delivery = found.delivery
    cell = PlanCell("matches", "", delivery.id, delivery.max_px)
    if found.version_id != version.id:
        cell.state = "outdated"
        cell.why = f"version {delivery.version.label} was delivered, version {version.label} is current"
    elif profile is None:
        cell.state, cell.why = "outdated", "the package no longer exists"
    elif delivery.profile != profile:
        cell.state, cell.why = "outdated", "the package changed after the delivery"
    elif late:
        cell.state, cell.why = "outdated", "an input has a newer version: update the camera"
    elif not delivery.sound:
        cell.state, cell.why = "warning" if delivery.matches else "mismatch", delivery.verdict
    return cell


# Runs


class Due(NamedTuple):
    """One delivery that a run would make."""

    row: PlanRow
    target: PlanTarget
    cell: PlanCell


def due(plan: PlanBoard, states: Collection[str] = DUE, cameras: Collection[int] | None = None) -> list[Due]:
    """What a run would do: the cells in one of ``states``, of all cameras or of some."""
    out = []
    for at, target in enumerate(plan.targets):
        for group in groups_of(plan.rows, target):
            cells = [row.cells[at] for row in group]
            asked = any(cameras is None or row.camera.id in cameras for row in group)
            # What goes together is written together: where one of them is due, all are.
            if asked and any(c.state in states for c in cells) and not any(c.state == "running" for c in cells):
                out += [Due(row, target, cell) for row, cell in zip(group, cells, strict=True)]
    return sorted(out, key=lambda d: (d.row.shot.name, d.row.camera.name, d.target.id))


@use_case("run the plan")
def start_run(
    context: Context, show: Show, states: Collection[str] = DUE, cameras: Collection[int] | None = None
) -> Run:
    """Put down what is due as the work of a run. Two runs at once share nothing: what is under way is left to the first.

    Raises BadInput where nothing is due.
    """
    context.execute(select(Show.id).where(Show.id == show.id).with_for_update())
    plan = board(context, show)
    wanted = due(plan, states, cameras)
    if not wanted:
        raise BadInput(
            f"Nothing to deliver for {show.name}: every planned delivery matches or is running.", "nothing_due"
        )
    recipes = {t.recipe: newest_recipe(context, t.recipe).number for t in plan.targets if t.recipe}
    run = Run(show_id=show.id, actor=context.actor.name, recipes=recipes)
    context.add(run)
    context.flush()
    profiles = {t.package: get_package(context, t.package).model_dump(mode="json") for t in plan.targets}
    asked = {(d.row.camera.id, d.target.id) for d in wanted}
    jobs: list[dict[str, Any]] = []
    for target in plan.targets:
        for group in groups_of(plan.rows, target):
            versions = [r.version.id for r in group if (r.camera.id, target.id) in asked]
            if not versions:
                continue
            name = {"": "", "shot": "cameras", "show": show.name}[target.together] if len(versions) > 1 else ""
            params = {
                "versions": versions, "profile": profiles[target.package], "format": target.format,
                "options": {**asdict(USUAL), **target.options}, "together": name, "recipe": target.recipe,
            }  # fmt: skip
            jobs.append({"version_id": versions[0], "params": params, "run_id": run.id, "target_id": target.id})
    ask_for_all(context, "delivery", jobs)
    many_are_in_queue(context)
    return run


def jobs_of(context: Context, run: Run) -> list[Job]:
    query = (
        select(Job)
        .where(Job.run_id == run.id)
        .order_by(Job.id)
        .options(joinedload(Job.version).joinedload(Version.camera).joinedload(Camera.shot))
    )
    return list(context.execute(query).scalars())


def made_by(context: Context, jobs: Iterable[Job]) -> dict[int, Delivery]:
    """The deliveries of jobs that are done, by the job's number; of several in one file the one that is furthest off."""
    every = all_made_by(context, jobs)
    return {job: worst for job, made in every.items() if (worst := furthest_off(made)) is not None}


def all_made_by(context: Context, jobs: Iterable[Job], *also: ExecutableOption) -> dict[int, list[Delivery]]:
    """Every delivery of jobs that are done, by the job's number; ``also`` says what else of them is needed."""
    of_job = {j.id: j.result.get("deliveries", [j.result["delivery"]]) for j in jobs if "delivery" in j.result}
    query = (
        select(Delivery)
        .where(Delivery.id.in_([d for ids in of_job.values() for d in ids]))
        .options(joinedload(Delivery.version).joinedload(Version.camera).joinedload(Camera.shot), *also)
    )
    made = {d.id: d for d in context.execute(query).scalars()}
    return {job: [made[d] for d in ids] for job, ids in of_job.items()}


@use_case("stop a run")
def stop_run(context: Context, run: Run) -> Run:
    """Work that has not begun is stopped at once, work under way when it next tells its progress."""
    stop_those(context, Job.run_id == run.id)
    return run


@use_case("resume a run")
def resume_run(context: Context, run: Run, states: Sequence[str] = ("stopped",)) -> Run:
    """Work of a run that was stopped (or failed, where ``states`` say so) put down again. Raises BadInput where there is none."""
    if not resume(context, Job.run_id == run.id, states):
        raise BadInput(f"No delivery of {run.name} was {' or '.join(states)}, so there is nothing to repeat.")
    return run


class Progress(NamedTuple):
    """How far a run is: counts by state, the share of all, seconds left where that can be told, and how many of its open
    jobs no worker does."""

    states: dict[str, int]
    share: float
    left_s: float | None
    no_worker: int

    @property
    def open(self) -> bool:
        return any(self.states.get(s) for s in OPEN)


def progress_of(context: Context, run: Run) -> Progress:
    """From the run's jobs; the time left by how many have ended since the first began."""
    rows = context.execute(
        select(Job.state, func.count(), func.coalesce(func.sum(Job.share), 0.0))
        .where(Job.run_id == run.id)
        .group_by(Job.state)
    ).all()
    states = {state: count for state, count, _ in rows}
    count = sum(states.values())
    over = sum(states.get(s, 0) for s in ("done", "failed", "stopped"))
    done = over + sum(share for state, _, share in rows if state in OPEN)
    begun, now = context.execute(select(func.min(Job.begun_at), func.now()).where(Job.run_id == run.id)).one()
    left = None
    if begun is not None and 0 < done < count:
        left = (now - begun).total_seconds() / done * (count - done)
    return Progress(states, done / count if count else 1.0, left, len(left_alone(context, Job.run_id == run.id)))


_WORKERS = text(
    "SELECT w.id, w.host, w.pid, w.at_once, w.begun_at, extract(epoch FROM now() - w.heard_at) AS ago_s, "
    "coalesce(jsonb_agg(jsonb_build_object('job', j.id, 'kind', j.kind, 'what', s.name || ' ' || c.name, 'since_s', "
    "extract(epoch FROM now() - j.begun_at)) ORDER BY j.id) FILTER (WHERE j.id IS NOT NULL), '[]') AS doing "
    "FROM workers w LEFT JOIN jobs j ON j.worker_id = w.id AND j.state IN ('running', 'stopping') "
    "LEFT JOIN versions v ON v.id = j.version_id LEFT JOIN cameras c ON c.id = v.camera_id LEFT JOIN shots s ON s.id = c.shot_id "
    "WHERE w.heard_at > now() - interval '5 minutes' GROUP BY w.id ORDER BY w.host, w.pid"
)


def workers(context: Context) -> list[dict[str, Any]]:
    """The workers heard of lately: what each does, since when, and how long ago it was heard of."""
    return [dict(row._mapping) for row in context.execute(_WORKERS)]
