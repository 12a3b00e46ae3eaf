"""A camera that came back, read off its file apart: of a scene, or of a table in the package's own numbers."""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np

from anaxis.app.examined import Document, Examiner
from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track
from anaxis.core.scene.landmarks import NO_LANDMARKS
from anaxis.core.scene.picture import Picture
from anaxis.diagnosis.returned import track_of_table, track_that_came_back
from anaxis.packages.model import Profile, profile_from_dict
from anaxis.store.archive import scene_from_bytes, track_from_bytes, track_to_bytes


def table_came_back(
    examiner: Examiner, name: str, data: bytes, profile: Profile, picture: Picture, meant: Track
) -> Track:
    """A table in a package's own numbers; see :func:`anaxis.diagnosis.returned.track_of_table`."""
    image = picture.image
    given = {
        "name": name,
        "profile": profile.model_dump(mode="json"),
        "fit": picture.fit,
        "image": [image.width_px, image.height_px, image.pixel_aspect],
    }
    _, made = examiner.ask("anaxis.app.came_back:of_table", given, [data, _bytes(meant)], name)
    return track_from_bytes(made[0])[0]


def camera_came_back(examiner: Examiner, name: str, scene: bytes, profile: Profile | None) -> Track:
    """A file's camera as it stands; see :func:`anaxis.diagnosis.returned.track_that_came_back`."""
    given = {"profile": profile.model_dump(mode="json") if profile is not None else None}
    _, made = examiner.ask("anaxis.app.came_back:of_scene", given, [scene], name)
    return track_from_bytes(made[0])[0]


def of_table(given: Document, blocks: list[bytes]) -> tuple[Document, list[bytes]]:
    picture = Picture(Image(*given["image"]), given["fit"], False, False)
    profile = profile_from_dict(given["profile"], "the return's package")
    with TemporaryDirectory(prefix="anaxis-return-") as folder:
        path = Path(folder) / given["name"]
        path.write_bytes(blocks[0])
        return {}, [_bytes(track_of_table(path, profile, picture, track_from_bytes(blocks[1])[0]))]


def of_scene(given: Document, blocks: list[bytes]) -> tuple[Document, list[bytes]]:
    profile = profile_from_dict(given["profile"], "the return's package") if given["profile"] else None
    return {}, [_bytes(track_that_came_back(scene_from_bytes(blocks[0]), None, profile))]


def _bytes(track: Track) -> bytes:
    return track_to_bytes(track, NO_LANDMARKS, np.zeros((0, 2, 3)))
