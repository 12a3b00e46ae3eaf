"""Recordings of a tracker: begun, stopped, looked at, and kept as takes."""

from __future__ import annotations

from datetime import UTC, datetime

import numpy as np
from pydantic import BaseModel, Field, ValidationError
from sqlalchemy import select
from sqlalchemy.orm import Session

from anaxis.app.acting import actor_of, use_case
from anaxis.app.exchange.kept import As, keep_as, require_shot
from anaxis.app.exchange.passing import locked, notify
from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.motion.recorded import GAP_WORDS, Gaps, Kept, Samples, Taken, samples_of, taken
from anaxis.core.outgoing import make_outgoing
from anaxis.core.scene.landmarks import NO_LANDMARKS, legal_name
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import format_frame, parse_rate
from anaxis.store.exchange import Party, Recording, RecordingBlock
from anaxis.store.models import Version
from anaxis.store.queries import get_version


class Settings(BaseModel):
    """How a camera is made of a recording. ``heal`` are the places of jumps; ``stand`` is right, height and back in metres."""

    shot: str = ""
    camera: str = ""
    rate: str = "24/1"
    first_frame: float = 1001
    gaps: Gaps = "bridge"
    heal: list[int] = Field(default=[], max_length=1000)
    smooth_px: float = Field(default=0.0, ge=0, le=1000)
    aspect: float | None = Field(default=None, gt=0.05, lt=20)
    keep: Kept = "width"
    film_width_mm: float = Field(default=36.0, gt=0.01, lt=100_000)
    stand: tuple[float, float, float] | None = None
    heading_deg: float | None = None
    stand_at: float | None = None


def settings_of(document: object) -> Settings:
    """Raises BadInput that names the field at fault."""
    try:
        return Settings.model_validate(document)
    except ValidationError as error:
        first = error.errors()[0]
        raise BadInput(
            f"The field '{' '.join(str(p) for p in first['loc']).replace('_', ' ')}' cannot be read: {first['msg']}."
        ) from error


@use_case("record")
def start_recording(session: Session, party: Party, name: str = "") -> Recording:
    """A tracker records from now on. Raises BadInput for what is none, or records already."""
    if party.kind != "tracker":
        raise BadInput(f"{party.name} is a package: pull its camera instead.")
    locked(session, [party.id])
    if open_recording(session, party) is not None:
        raise BadInput(f"{party.name} is recording already: stop that first.")
    row = Recording(
        show_id=party.show_id, party_id=party.id, name=name.strip()[:120] or "take", actor=actor_of(session).name
    )
    session.add(row)
    session.flush()
    session.refresh(row)
    notify(session, f"p{party.id}", f"s{party.show_id}")
    return row


@use_case("stop recording")
def stop_recording(session: Session, row: Recording) -> Recording:
    """The tracker is asked to stop; what it measured until then comes, also if it is away just now."""
    if row.stopped_at is None:
        row.stopped_at = datetime.now(UTC)
        session.flush()
        notify(session, f"p{row.party_id}", f"s{row.show_id}")
    return row


def open_recording(session: Session, party: Party) -> Recording | None:
    query = (
        select(Recording)
        .where(Recording.party_id == party.id, Recording.stopped_at.is_(None))
        .order_by(Recording.id.desc())
    )
    return session.execute(query).scalars().first()


def recording_wanted(session: Session, party_id: int, records: int) -> list[tuple[int, bool]]:
    """What a tracker is to be told: which recording to begin, and which to end, by number, where it does not do so yet."""
    query = select(Recording).where(Recording.party_id == party_id, Recording.ended_at.is_(None)).order_by(Recording.id)
    rows = list(session.execute(query).scalars())
    ending = [(r.id, False) for r in rows if r.stopped_at is not None]
    return ending + [(r.id, True) for r in rows if r.stopped_at is None and r.id != records][-1:]


def recordings_of(session: Session, show_id: int) -> list[Recording]:
    query = select(Recording).where(Recording.show_id == show_id).order_by(Recording.id.desc()).limit(50)
    return list(session.execute(query).scalars())


def samples_in(session: Session, row: Recording) -> Samples:
    """What was recorded. Raises BadInput where nothing came."""
    query = select(RecordingBlock.data).where(RecordingBlock.recording_id == row.id).order_by(RecordingBlock.number)
    data = b"".join(session.execute(query).scalars())
    if not data:
        raise BadInput("Nothing of this recording has come yet: the tracker sends what it measured when it is there.")
    return samples_of(np.frombuffer(data, "<f8").reshape(-1, 12).astype(np.float64), Image(row.width_px, row.height_px))


def taken_by(samples: Samples, settings: Settings, name: str) -> Taken:
    """The camera that settings make of a recording. Raises BadInput."""
    return taken(
        samples, name, parse_rate(settings.rate), settings.first_frame, settings.gaps, settings.heal, settings.smooth_px, settings.aspect, settings.keep,
        settings.film_width_mm, settings.stand, settings.heading_deg, settings.stand_at,
    )  # fmt: skip


@use_case("keep a recording")
def keep_recording(session: Session, row: Recording, settings: Settings) -> Version:
    """A recording as a camera of a shot, as its next take where it has been kept before. Raises BadInput.

    Asked for again by the same settings it is the same version: a form that is sent twice makes no second take.
    """
    session.refresh(row, ["camera_id", "settings"], with_for_update={"of": Recording})
    asked = settings.model_dump(mode="json")
    if row.camera_id is not None and row.settings == asked:
        return get_version(session, row.camera_id)
    require_shot(settings.shot)
    name = legal_name(settings.camera.strip() or row.party.name, set())
    made = taken_by(samples_in(session, row), settings, name)
    outgoing = make_outgoing(made.track, Convention(), made.image, "width", "width", NO_LANDMARKS)
    to = As(row.camera_id, row.show.name, settings.shot, name)
    version = keep_as(
        session, outgoing, f"{row.name}_{row.id}.recording", to, said_of(made, settings), lambda path: findings_of(made, settings, path)
    )  # fmt: skip
    row.camera_id = version.camera_id
    row.settings = asked
    notify(session, f"s{row.show_id}")
    return version


def said_of(made: Taken, settings: Settings) -> str:
    """What was done to a recording, in a few words."""
    parts = [f"recorded, {len(made.track)} frames"]
    if made.drawn.size:
        parts.append(f"{made.drawn.size} in gaps")
    if made.healed:
        parts.append(f"{len(made.healed)} jump{'s' * (len(made.healed) > 1)} healed")
    if made.smoothing is not None:
        parts.append(f"smoothed by {made.smoothing.max_px:.2f} px at most")
    return ", ".join(parts)


def findings_of(made: Taken, settings: Settings, path: str) -> list[Finding]:
    """What of the camera was not measured."""
    out = []
    if made.drawn.size:
        listed = ", ".join(format_frame(f) for f in made.drawn[:8].tolist()) + (
            f" and {made.drawn.size - 8} more" if made.drawn.size > 8 else ""
        )
        out.append(
            Finding(
                "recorded_gap", "note", f"The tracker sent nothing about {made.drawn.size} of {len(made.track)} frames ({listed}): they are {GAP_WORDS[settings.gaps]}.",
                "Look at these frames, or record again.", "What was not measured is a guess, however smooth it looks.",
                {"frames": int(made.drawn.size), "gaps": len(made.gaps)}, None, path,
            )
        )  # fmt: skip
    for jump in made.healed:
        frame = float(made.track.frames[0]) + jump.at_s * float(made.track.rate)
        out.append(
            Finding(
                "recorded_jump", "note", f"At frame {format_frame(round(frame))} the tracker took itself to be {jump.metres:.3g} m and {jump.degrees:.3g} degrees elsewhere; "
                "what follows was put back to where the motion goes on.",
                "Check against the set whether the first or the second place was the right one.", "The camera is as far off after the jump as the tracker was before it.",
                {"frame": round(frame), "jump_m": jump.metres, "jump_deg": jump.degrees}, None, path,
            )
        )  # fmt: skip
    return out
