"""Files that a job made and that wait to be fetched: they can be made again, and are taken away after some days."""

from __future__ import annotations

import zipfile
from io import BytesIO
from pathlib import Path
from typing import Any

from anaxis.app.context import Context
from anaxis.core.errors import BadInput
from anaxis.store.contents import values_of
from anaxis.store.models import MadeFile
from anaxis.store.rows import NotFound

# What a zip that is kept to be fetched may come to; more is written by the command line, straight into a folder.
_MOST_BYTES = 1_000_000_000


def keep_made_file(context: Context, name: str, data: bytes) -> MadeFile:
    made = MadeFile(name=name, **values_of(context, data))
    context.add(made)
    context.flush()
    return made


def get_made_file(context: Context, made_id: Any) -> MadeFile:
    made = context.get(MadeFile, made_id) if isinstance(made_id, int) else None
    if made is None:
        raise NotFound("This file has expired: make it again on Deliver.")
    return made


def put_in_zip(archive: zipfile.ZipFile, out: BytesIO, path: Path) -> None:
    """Move a file into a zip that is kept to be fetched. Raises BadInput where it grows larger than such a zip may be."""
    archive.write(path, path.name)
    path.unlink()
    if out.tell() > _MOST_BYTES:
        raise BadInput(
            f"The result is larger than {_MOST_BYTES / 1e9:g} GB: write it with 'anaxis undistort', 'distort' or 'st-map make', directly into a folder, or choose fewer frames."
            ""
        )


def keep_zip(context: Context, name: str, out: BytesIO, said: str) -> dict[str, Any]:
    """Keep a zip to be fetched: the result of the job that made it."""
    data = out.getvalue()
    return {"made_file": keep_made_file(context, name, data).id, "name": name, "bytes": len(data), "said": said}
