"""Two pictures of one frame, one from each side: read apart, measured, kept."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path

from sqlalchemy import select

from anaxis.app.acting import use_case
from anaxis.app.cameras.take_in import on_disk
from anaxis.app.context import Context
from anaxis.core.errors import BadInput
from anaxis.diagnosis.stills import SUFFIXES, measure, read_png
from anaxis.sandbox.pictures import safe_png
from anaxis.store.models import Still, Version
from anaxis.store.queries import track_of


def require_picture(name: str) -> None:
    """Raise BadInput for a name that ends in nothing that is read as a picture."""
    if Path(name).suffix.lower() not in SUFFIXES:
        raise BadInput(f"'{name or 'nothing'}' is not a readable image: use two of {', '.join(SUFFIXES)}.")


@use_case("compare stills")
def compare_stills(context: Context, version: Version, at: int, pictures: Sequence[tuple[str, bytes]]) -> Still:
    """Ours and theirs, by name and bytes, of the sample ``at`` of the version's track. Raises BadInput."""
    data = [safe_png(path) for path in on_disk(pictures)]
    read = [read_png(d) for d in data]
    row = Still(
        version_id=version.id,
        frame=float(track_of(version)[0].frames[at]),
        our_name=pictures[0][0],
        their_name=pictures[1][0],
        ours=data[0],
        theirs=data[1],
        measured=asdict(measure(*read)) | {"width_px": read[0].shape[1], "height_px": read[0].shape[0]},
    )
    context.add(row)
    context.flush()
    return row


def stills_of(context: Context, version: Version) -> list[Still]:
    return list(
        context.execute(select(Still).where(Still.version_id == version.id).order_by(Still.id.desc())).scalars()
    )
