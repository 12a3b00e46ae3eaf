"""A camera that came back, read off its file: of a scene, or of a table in the package's own numbers."""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory

from anaxis.core.camera.track import Track
from anaxis.core.scene.picture import Picture
from anaxis.core.typing import Archive
from anaxis.diagnosis.returned import CameBack, of_scene, of_table
from anaxis.library.archive import scene_from_bytes
from anaxis.packages.model import Profile


def table_came_back(name: str, data: Archive, profile: Profile, picture: Picture, meant: Track) -> CameBack:
    """A table in a package's own numbers; see :func:`anaxis.diagnosis.returned.of_table`."""
    with TemporaryDirectory(prefix="anaxis-return-") as folder:
        path = Path(folder) / name
        path.write_bytes(data)
        return of_table(path, profile, picture, meant)


def camera_came_back(scene: Archive, profile: Profile | None, meant: Track) -> CameBack:
    """A file's camera as it stands; see :func:`anaxis.diagnosis.returned.of_scene`."""
    return of_scene(scene_from_bytes(scene), None, profile, meant)
