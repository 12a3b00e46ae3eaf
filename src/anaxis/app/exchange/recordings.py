"""Recordings of a tracker: begun, stopped, looked at, and kept as takes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

import numpy as np
from sqlalchemy import select

from anaxis.app.acting import use_case
from anaxis.app.context import Context
from anaxis.app.exchange.kept import As, keep_as, require_shot
from anaxis.app.exchange.passing import locked, notify
from anaxis.core.camera.lens import Image
from anaxis.core.checks.recorded import recorded_findings, recorded_words
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.motion.recorded import GAP_WORDS, Gaps, RecordingSettings
from anaxis.core.motion.samples import ROW, Samples, samples_of
from anaxis.core.outgoing import make_outgoing
from anaxis.core.parameters import read
from anaxis.core.scene.landmarks import NO_LANDMARKS, legal_name
from anaxis.core.space.axes import Convention
from anaxis.library.recorded import Recorded
from anaxis.store.exchange import Client, Recording, RecordingBlock
from anaxis.store.models import Version
from anaxis.store.queries import get_version


class Settings(RecordingSettings):
    """How a recording is kept: as which camera of which shot."""

    shot: str = ""
    camera: str = ""

    @staticmethod
    def gap_words() -> dict[Gaps, str]:
        """What can be done with gaps, in words."""
        return GAP_WORDS


def settings_of(document: Mapping[str, Any]) -> Settings:
    """Raises BadInput that names the field at fault."""
    return read(Settings, dict(document), "a recording")


@use_case("record")
def start_recording(context: Context, client: Client, name: str = "") -> Recording:
    """Start a recording of a tracker. Raises BadInput for what is none, or records already."""
    if client.kind != "tracker":
        raise BadInput(f"{client.name} is a package: pull its camera instead.")
    locked(context, [client.id])
    if open_recording(context, client) is not None:
        raise BadInput(f"{client.name} is recording already: stop that first.")
    row = Recording(
        show_id=client.show_id, client_id=client.id, name=name.strip()[:120] or "take", actor=context.actor.name
    )
    context.add(row)
    context.flush()
    context.refresh(row)
    notify(context, f"p{client.id}", f"s{client.show_id}")
    return row


@use_case("stop recording")
def stop_recording(context: Context, row: Recording) -> Recording:
    """The tracker is asked to stop; what it measured until then comes, also if it is away just now."""
    if row.stopped_at is None:
        row.stopped_at = datetime.now(UTC)
        context.flush()
        notify(context, f"p{row.client_id}", f"s{row.show_id}")
    return row


def open_recording(context: Context, client: Client) -> Recording | None:
    query = (
        select(Recording)
        .where(Recording.client_id == client.id, Recording.stopped_at.is_(None))
        .order_by(Recording.id.desc())
    )
    return context.execute(query).scalars().first()


def recording_wanted(context: Context, client_id: int, records: int) -> list[tuple[int, bool]]:
    """What a tracker is to be told: which recording to begin, and which to end, by number, where it does not do so yet."""
    query = (
        select(Recording).where(Recording.client_id == client_id, Recording.ended_at.is_(None)).order_by(Recording.id)
    )
    rows = list(context.execute(query).scalars())
    ending = [(r.id, False) for r in rows if r.stopped_at is not None]
    return ending + [(r.id, True) for r in rows if r.stopped_at is None and r.id != records][-1:]


def recordings_of(context: Context, show_id: int) -> list[Recording]:
    query = select(Recording).where(Recording.show_id == show_id).order_by(Recording.id.desc()).limit(50)
    return list(context.execute(query).scalars())


def samples_in(context: Context, row: Recording) -> Samples:
    """What was recorded. Raises BadInput where nothing came."""
    query = select(RecordingBlock.data).where(RecordingBlock.recording_id == row.id).order_by(RecordingBlock.number)
    return _samples_of(row, context.execute(query).scalars().all())


def newest_samples(context: Context, row: Recording, blocks: int = 100) -> Samples:
    """The samples of a recording's newest blocks. Raises BadInput where none has arrived."""
    query = (
        select(RecordingBlock.data).where(RecordingBlock.recording_id == row.id).order_by(RecordingBlock.number.desc())
    )
    return _samples_of(row, list(context.execute(query.limit(blocks)).scalars())[::-1])


def _samples_of(row: Recording, blocks: Sequence[bytes]) -> Samples:
    data = b"".join(blocks)
    if not data:
        raise BadInput("This recording has no samples yet. The tracker sends them when it connects.")
    return samples_of(
        np.frombuffer(data, "<f8").reshape(-1, ROW).astype(np.float64), Image(row.width_px, row.height_px)
    )


def recorded_in(context: Context, row: Recording) -> Recorded:
    """What was recorded, with its tracking jumps. Raises BadInput where nothing came."""
    return Recorded.of(samples_in(context, row))


@use_case("save a recording")
def keep_recording(context: Context, row: Recording, settings: Settings) -> Version:
    """A recording as a camera of a shot, as its next take where it has been kept before. Raises BadInput.

    Asked for again by the same settings it is the same version: a form that is sent twice makes no second take.
    """
    context.refresh(row, ["camera_id", "settings"], with_for_update={"of": Recording})
    asked = settings.model_dump(mode="json")
    if row.camera_id is not None and row.settings == asked:
        return get_version(context, row.camera_id)
    require_shot(settings.shot)
    name = legal_name(settings.camera.strip() or row.device, set())
    made = recorded_in(context, row).camera(settings, name)
    outgoing = make_outgoing(made.track, Convention(), made.image, "width", "width", NO_LANDMARKS)
    to = As(row.camera_id, row.show.name, settings.shot, name)
    version = keep_as(
        context, outgoing, f"{row.name}_{row.id}.recording", to, recorded_words(made), lambda path: [*recorded_findings(made, settings.gaps, path), *(Finding(**{**f, "node": path}) for f in row.findings)]
    )  # fmt: skip
    row.camera_id = version.camera_id
    row.settings = asked
    notify(context, f"s{row.show_id}")
    return version
