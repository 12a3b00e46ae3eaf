"""A zip of deliveries put into a folder, each file held against its checksum."""

from __future__ import annotations

import hashlib
import json
import zipfile
from pathlib import Path, PurePosixPath
from typing import Any

from anaxis.core.errors import BadInput


def unpacked(archive: Path, out: Path) -> dict[str, Any]:
    """The manifest of a zip whose files are below ``out`` now. Raises BadInput for one that did not arrive whole, or whose names lead out
    of the folder."""
    try:
        with zipfile.ZipFile(archive) as held:
            manifest: dict[str, Any] = json.loads(held.read("manifest.json"))
            for file in (f for d in manifest["deliveries"] for f in d["files"]):
                place, data = PurePosixPath(file["path"]), held.read(file["path"])
                if place.is_absolute() or ".." in place.parts:
                    raise BadInput(
                        f"The zip holds '{file['path']}', which leads outside the folder: nothing more was written."
                    )
                if hashlib.sha256(data).hexdigest() != file["sha256"]:
                    raise BadInput(f"{file['path']} is incomplete: download it again.")
                path = out / place
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_bytes(data)
    except (zipfile.BadZipFile, KeyError, ValueError, EOFError) as error:
        if isinstance(error, BadInput):
            raise
        raise BadInput("The download is incomplete: download it again.") from error
    (out / "manifest.json").write_text(json.dumps(manifest, indent=1, sort_keys=True), encoding="utf-8")
    return manifest
