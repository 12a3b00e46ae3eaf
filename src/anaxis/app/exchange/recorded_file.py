"""An uploaded file opened as a tracker's recording: from then on it is one like any that was recorded live."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime
from typing import Any

from pydantic import BaseModel

from anaxis.app.acting import use_case
from anaxis.app.cameras.draft import Draft, corrections_typed
from anaxis.app.cameras.names import show_for
from anaxis.app.cameras.scene_report import file_camera, looked_at
from anaxis.app.cameras.take_in import require_one_reading, typed_picture
from anaxis.app.context import Context
from anaxis.app.exchange.kept import require_shot
from anaxis.app.exchange.recordings import Settings
from anaxis.core.camera.lens import parse_image
from anaxis.core.checks.recorded import guesses_left
from anaxis.core.motion.recorded import usual_settings
from anaxis.core.motion.tracking_jumps import jumps_of
from anaxis.core.scene.landmarks import legal_name
from anaxis.core.time.rates import rate_text
from anaxis.library.scene_report import own_samples
from anaxis.store.exchange import Recording, RecordingBlock
from anaxis.store.models import SourceFile
from anaxis.store.noticed import expected_of
from anaxis.store.queries import find_shot, staged_scene


class RecordedFile(BaseModel):
    """Which camera of an uploaded file is opened as a recording: its path, the show and shot, and its picture as typed; ``stated``
    is what the file does not state, ``new_show`` says that a show of nearly an existing name is meant."""

    camera: str = ""
    show: str = ""
    shot: str = ""
    resolution: str = ""
    source_fit: str = ""
    stated: dict[str, str] = {}
    new_show: bool = False


@use_case("open a file as a recording")
def record_from_file(context: Context, source: SourceFile, asked: RecordedFile) -> Recording:
    """A camera of an uploaded file as a recording, with the file's own samples at their own times. Raises BadInput."""
    source, read = staged_scene(context, source.id)
    require_one_reading(read)
    draft = Draft.of(source)
    draft = replace(draft, correct=corrections_typed(draft, read, asked.stated))
    scene = draft.corrected(read)
    path = scene.camera(asked.camera or None).path
    picture = typed_picture(scene, parse_image(asked.resolution), asked.source_fit)
    recipe = draft.recipe(path)
    samples = context.calculators.run(source.name, own_samples, file_camera(context, source, path, recipe), picture)
    (report,) = looked_at(context, source.name, source.scene, {path: recipe}, tracks=[], only=path)
    require_shot(asked.shot)
    show = show_for(context, asked.show.strip(), asked.new_show)
    draft.kept_in(source)
    now = datetime.now(UTC)
    row = Recording(
        show_id=show.id, source_file_id=source.id, name=source.name[:120], actor=context.actor.name, samples=len(samples),
        width_px=picture.image.width_px, height_px=picture.image.height_px, stopped_at=now, ended_at=now,
    )  # fmt: skip
    row.findings = [f.as_dict() for f in guesses_left(report.findings, scene.in_seconds)]
    context.add(row)
    context.flush()
    context.add(RecordingBlock(recording_id=row.id, number=1, data=samples.rows.astype("<f8").tobytes()))
    usual = usual_settings(samples, jumps_of(samples)).model_dump() | _of_the_shot(
        context, show.name, asked.shot.strip()
    )
    row.settings = Settings(
        **usual, shot=asked.shot.strip(), camera=legal_name(path.rpartition("/")[2], set())
    ).model_dump(mode="json")
    context.flush()
    context.refresh(row)
    return row


def _of_the_shot(context: Context, show: str, shot: str) -> dict[str, Any]:
    """The rate and first frame of a recording's camera, where the show says what the shot should be."""
    found = find_shot(context, show, shot)
    expected = expected_of(found) if found is not None else None
    out: dict[str, Any] = {}
    if expected is not None and expected.rate is not None:
        out["rate"] = rate_text(expected.rate)
    if expected is not None and expected.first_frame is not None:
        out["first_frame"] = expected.first_frame
    return out
