"""Everything that a run delivered, or that a show's cameras were delivered as, in one zip that is made while it is sent."""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Engine, select
from sqlalchemy.orm import joinedload, selectinload

from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import newest_deliveries
from anaxis.app.documents import DeliveryDocument
from anaxis.app.roles import LOCAL
from anaxis.app.shows.plan import all_made_by, jobs_of
from anaxis.core.errors import BadInput
from anaxis.core.names import file_stem_of
from anaxis.core.scene.landmarks import unique_name
from anaxis.delivery.handover import zip_entry
from anaxis.store.models import Camera, Delivery, DeliveryFile, Run, Shot, Show, Version

_MANIFEST = "manifest.json"


@dataclass(frozen=True)
class Everything:
    """A zip by its name: the ids of delivered files by their place in it, and what is said of all of them."""

    name: str
    files: dict[str, int]
    manifest: dict[str, Any]


def everything_of_run(context: Context, run: Run) -> Everything:
    """What a run has delivered by now, and what of it failed or is still open. Raises BadInput where nothing was delivered."""
    jobs = jobs_of(context, run)
    left = [
        {"shot": j.version.camera.shot.name, "camera": j.version.camera.name, "to": j.params["profile"]["key"], "format": j.params["format"],
         "state": j.state, "said": j.said}
        for j in jobs if j.state != "done"
    ]  # fmt: skip
    made = [d for of_job in all_made_by(context, jobs, selectinload(Delivery.files)).values() for d in of_job]
    return _everything(f"run_{run.id}", made, {"run": run.id, "show": run.show.name, "not_delivered": left})


def everything_of_show(context: Context, show: Show) -> Everything:
    """The newest deliveries of the version that is worked on, of every camera of a show. Raises BadInput where nothing was delivered."""
    query = (
        select(Camera).join(Shot).where(Shot.show_id == show.id).order_by(Shot.name, Camera.name)
        .options(joinedload(Camera.shot), selectinload(Camera.head_version).selectinload(Version.deliveries).selectinload(Delivery.files))
    )  # fmt: skip
    # The session keeps only the rows that somebody refers to: without this list it would load each camera and shot again.
    cameras = list(context.execute(query).scalars())
    heads = [c.head for c in cameras]
    made = [d for v in heads for d in newest_deliveries(v)]
    without = [{"shot": v.camera.shot.name, "camera": v.camera.name} for v in heads if not v.deliveries]
    return _everything(file_stem_of(show.name) or "show", made, {"show": show.name, "not_delivered": without})


def _everything(name: str, made: list[Delivery], said: dict[str, Any]) -> Everything:
    if not made:
        raise BadInput("There are no deliveries to download yet.", "nothing_delivered")
    taken: dict[str, set[str]] = {}
    files: dict[str, int] = {}
    # Cameras that went together share a file.
    known: dict[tuple[str, str, str], str] = {}
    listed = []
    for delivery in made:
        folder = delivery.profile["key"]
        document = DeliveryDocument.of(delivery).model_dump(mode="json")
        for row, file in zip(delivery.files, document["files"], strict=True):
            same = (folder, row.name, row.sha256)
            if same not in known:
                known[same] = f"{folder}/{unique_name(row.name, taken.setdefault(folder, set()))}"
                files[known[same]] = row.id
            file["path"] = known[same]
        version: Version = delivery.version
        listed.append({"shot": version.camera.shot.name, "camera_name": version.camera.name, **document})
    return Everything(f"{name}.zip", files, {**said, "deliveries": listed})


def sent_as_zip(engine: Engine, what: Everything) -> Iterator[bytes]:
    """The zip, a part at a time: one file of it is held at once, and no connection of the database while it is sent. The same to the byte
    for the same deliveries."""
    sink = _Sink()
    with zipfile.ZipFile(sink, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:
        for place, data in _contents(engine, what):
            archive.writestr(zip_entry(place), data)
            yield sink.taken()
    yield sink.taken()


def _contents(engine: Engine, what: Everything) -> Iterable[tuple[str, bytes]]:
    yield _MANIFEST, json.dumps(what.manifest, indent=1, sort_keys=True).encode()
    for place, number in what.files.items():
        with Context(engine, LOCAL) as store:  # the address has checked who may see the run or the show
            data = store.get_one(DeliveryFile, number).data
        yield place, data


class _Sink(io.RawIOBase):
    """What a zip was written into, until it is taken."""

    def __init__(self) -> None:
        self._parts: list[bytes] = []

    def writable(self) -> bool:
        return True

    def write(self, data: Any) -> int:
        self._parts.append(bytes(data))
        return len(data)

    def taken(self) -> bytes:
        out = b"".join(self._parts)
        self._parts.clear()
        return out
