"""Delivering: cameras, packages, formats and ways chosen in one form, written at once or as long work."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Annotated, Any

from fastapi import APIRouter, Depends, File, Form, Request, UploadFile
from fastapi.responses import RedirectResponse, Response

from anaxis.app.deliver import deliver_versions, get_delivery
from anaxis.app.hand_over import bundles_of
from anaxis.core.errors import BadInput
from anaxis.core.scene.landmarks import unique_name
from anaxis.delivery.handover import zipped
from anaxis.delivery.sending import Options, moved_along
from anaxis.formats import FORMATS, has_nodes
from anaxis.packages.model import Profile, profile_from_text
from anaxis.store.models import Version
from anaxis.store.packages import all_packages, get_package
from anaxis.store.queries import get_version
from anaxis.web.pages import Store, download_answer, number_or_none, page, say_next
from anaxis.web.screens.jobs.routes import start_work
from anaxis.work.queue import get_job

router = APIRouter(prefix="/cameras")
several = APIRouter()
_MAX_PROFILE_BYTES = 100_000
# Frames written in all, above which a page would be waited for too long.
_QUICK_FRAMES = 3000


@dataclass(frozen=True)
class Asking:
    """What the form asks for; the first of ``versions`` is the camera on the page."""

    versions: list[Version]
    profiles: list[Profile]
    formats: list[str]
    options: Options
    together: str


@dataclass(frozen=True)
class Order:
    """One file: the versions in it, for a package, in a format."""

    versions: list[Version]
    profile: Profile
    format: str
    options: Options
    together: str = ""


def _form(
    store: Store, camera_id: int,
    version: Annotated[int, Form()], to: Annotated[str, Form()], format_key: Annotated[str, Form()],
    reduce_px: Annotated[str, Form()] = "", first_there: Annotated[str, Form()] = "", under_root: Annotated[bool, Form()] = False,
    more_formats: Annotated[list[str] | None, Form()] = None, more_packages: Annotated[list[str] | None, Form()] = None,
    more_cameras: Annotated[list[int] | None, Form()] = None, together: Annotated[bool, Form()] = False,
    samples: Annotated[str, Form()] = "1", shutter_open: Annotated[str, Form()] = "-0.25", shutter_close: Annotated[str, Form()] = "0.25",
    between: Annotated[str, Form()] = "1", own_profile: Annotated[UploadFile | None, File()] = None,
) -> Asking:  # fmt: skip
    kept = get_version(store, camera_id, version)
    if own_profile is not None and own_profile.filename:
        profile = profile_from_text(own_profile.file.read(_MAX_PROFILE_BYTES), own_profile.filename)
    else:
        packages = all_packages(store)
        if to not in packages:
            raise BadInput(f"'{to}' is no package profile: choose one of {', '.join(packages)}.")
        profile = packages[to]
    others = [get_version(store, c) for c in dict.fromkeys(more_cameras or []) if c != camera_id]
    more = [get_package(store, k) for k in dict.fromkeys(more_packages or []) if k != profile.key]
    return Asking(
        [kept, *others],
        [profile, *more],
        list(dict.fromkeys([format_key, *(more_formats or [])])),
        Options(
            number_or_none(reduce_px, "pixels that fewer keys may cost"),
            number_or_none(first_there, "a first frame"),
            under_root,
            _count(samples, "the samples a frame"),
            _number(shutter_open, "where the shutter opens"),
            _number(shutter_close, "where the shutter closes"),
            _count(between, "the places a frame"),
        ),
        kept.camera.shot.name if together and others else "",
    )


def _number(text: str, what: str) -> float:
    value = number_or_none(text, what)
    if value is None:
        raise BadInput(f"'{text}' is no number for {what}: fill it in.")
    return value


def _count(text: str, what: str) -> int:
    value = _number(text or "1", what)
    if not value.is_integer():
        raise BadInput(f"'{text}' cannot be {what}: write a whole number.")
    return int(value)


Asked = Annotated[Asking, Depends(_form)]


def orders_of(asked: Asking) -> list[Order]:
    """A file for each package and format, and for each camera where they do not go together."""
    out = []
    for profile in asked.profiles:
        for key in asked.formats:
            if asked.together and has_nodes(key):
                out.append(Order(asked.versions, profile, key, asked.options, asked.together))
                continue
            out += [
                Order([v], profile, key, moved_along(asked.options, _first(asked.versions[0]), _first(v)))
                for v in asked.versions
            ]
    return out


def _first(version: Version) -> float:
    return float(version.facts["first_frame"])


def _frames(versions: Sequence[Version]) -> int:
    return sum(round(v.facts["last_frame"] - v.facts["first_frame"]) + 1 for v in versions)


@router.post("/{camera_id}/deliver")
def make_delivery(request: Request, store: Store, camera_id: int, asked: Asked) -> Any:
    """Write and prove at once, or as work of its own where that takes longer than a page should."""
    orders = orders_of(asked)
    slow = asked.options.reduce_px is not None or sum(_frames(o.versions) for o in orders) > _QUICK_FRAMES
    at, made, asked_for, refused = "", list[int](), list[int](), list[str]()
    for order in orders:
        if slow:
            profile = order.profile.model_dump(mode="json")
            params = _params(order.versions, order.options, order.together, profile=profile, format=order.format)
            asked_for.append(start_work(request, store, "delivery", order.versions[0].id, params).id)
            at = f"/jobs/{asked_for[-1]}"
            continue
        try:
            with store.begin_nested():
                done = deliver_versions(
                    store, order.versions, order.profile, order.format, order.options, together=order.together
                )
        except BadInput as error:  # one format that is refused stops no other
            if len(orders) == 1:
                raise
            refused.append(f"{order.format} for {order.profile.key}: {error.sentence}")
            continue
        made += [d.id for d in done]
        at = f"/deliveries/{done[0].id}"
    if len(orders) > 1:
        parts = {"d": made, "j": asked_for}
        query = "&".join(f"{k}={','.join(map(str, v))}" for k, v in parts.items() if v)
        at = f"/handed-over?camera={camera_id}&{query}"
    answer = RedirectResponse(at, status_code=303)
    if refused:
        say_next(answer, " ".join(["Not written:", *refused]))
    return answer


@several.get("/handed-over")
def handed_over(request: Request, store: Store, camera: int, d: str = "", j: str = "") -> Any:
    """What several deliveries at once came to, on one page, with all of their files to be fetched together."""
    version = get_version(store, camera)
    deliveries = [get_delivery(store, n) for n in _numbers(d)]
    jobs = [get_job(store, n) for n in _numbers(j)]
    deliveries += [get_delivery(store, job.result["delivery"]) for job in jobs if "delivery" in job.result]
    waiting = [job for job in jobs if "delivery" not in job.result]
    deliveries.sort(key=lambda x: (x.matches, -x.max_px))
    return page(
        request, "deliver/index.html", deliveries=deliveries, jobs=waiting, camera=version.camera, shot=version.camera.shot, version=version,
        off=[x for x in deliveries if not x.matches], ids=",".join(str(x.id) for x in deliveries),
    )  # fmt: skip


@several.get("/handed-over/files.zip")
def handed_over_files(store: Store, d: str = "") -> Response:
    """The files of several deliveries in one zip, each once."""
    deliveries = [get_delivery(store, n) for n in _numbers(d)]
    taken: set[str] = set()
    each = {file.sha256: file for delivery in deliveries for file in delivery.files}
    entries = {unique_name(file.name, taken): file.data for file in each.values()}
    if not entries:
        raise BadInput("None of these deliveries has a file: deliver again.")
    return download_answer(f"{deliveries[0].version.camera.shot.name}.zip", zipped(entries), "application/zip")


def _numbers(text: str) -> list[int]:
    """The numbers of a list in an address. Raises BadInput."""
    try:
        return [int(part) for part in text.split(",") if part][:500]
    except ValueError as error:
        raise BadInput("That list of deliveries cannot be read: go back to the camera.") from error


@router.post("/{camera_id}/bundle")
def bundle(request: Request, store: Store, camera_id: int, asked: Asked) -> Response:
    """The package of files: every format, landmarks, set, axis check, sheet, manifest; a zip in a zip for each of several."""
    options, versions = asked.options, asked.versions
    formats = [f.key for f in FORMATS if f.write]
    if options.reduce_px is not None or _frames(versions) * len(formats) * len(asked.profiles) > _QUICK_FRAMES:
        profiles = [p.model_dump(mode="json") for p in asked.profiles]
        params = _params(versions, options, asked.together, profiles=profiles, formats=formats)
        return RedirectResponse(
            f"/jobs/{start_work(request, store, 'bundle', versions[0].id, params).id}", status_code=303
        )
    made = bundles_of(versions, asked.profiles, formats, options, asked.together)
    return download_answer(*made, "application/zip")


def _params(versions: Sequence[Version], options: Options, together: str, **rest: Any) -> dict[str, Any]:
    """An order as the worker takes it."""
    return {"versions": [v.id for v in versions], "options": asdict(options), "together": together, **rest}
