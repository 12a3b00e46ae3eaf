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
from anaxis.core.time.rates import parse_rate, rate_text
from anaxis.diagnosis.returned import CameBack, of_scene, of_table
from anaxis.packages.model import Profile, profile_from_dict
from anaxis.store.archive import scene_from_bytes, track_from_bytes, track_to_bytes


def table_came_back(
    examiner: Examiner, name: str, data: bytes, profile: Profile, picture: Picture, meant: Track
) -> CameBack:
    """A table in a package's own numbers; see :func:`anaxis.diagnosis.returned.of_table`."""
    image = picture.image
    given = {
        "name": name,
        "profile": profile.model_dump(mode="json"),
        "fit": picture.fit,
        "image": [image.width_px, image.height_px, image.pixel_aspect],
    }
    return _read(*examiner.ask("anaxis.app.came_back:table_apart", given, [data, _bytes(meant)], name))


def camera_came_back(examiner: Examiner, name: str, scene: bytes, profile: Profile | None, meant: Track) -> CameBack:
    """A file's camera as it stands; see :func:`anaxis.diagnosis.returned.of_scene`."""
    given = {"profile": profile.model_dump(mode="json") if profile is not None else None}
    return _read(*examiner.ask("anaxis.app.came_back:scene_apart", given, [scene, _bytes(meant)], name))


def table_apart(given: Document, blocks: list[bytes]) -> tuple[Document, list[bytes]]:
    picture = Picture(Image(*given["image"]), given["fit"], False, False)
    profile = profile_from_dict(given["profile"], "the return's package")
    with TemporaryDirectory(prefix="anaxis-return-") as folder:
        path = Path(folder) / given["name"]
        path.write_bytes(blocks[0])
        return _written(of_table(path, profile, picture, track_from_bytes(blocks[1])[0]))


def scene_apart(given: Document, blocks: list[bytes]) -> tuple[Document, list[bytes]]:
    profile = profile_from_dict(given["profile"], "the return's package") if given["profile"] else None
    return _written(of_scene(scene_from_bytes(blocks[0]), None, profile, track_from_bytes(blocks[1])[0]))


def _written(back: CameBack) -> tuple[Document, list[bytes]]:
    image = back.image
    said = {
        "image": None if image is None else [image.width_px, image.height_px, image.pixel_aspect],
        "rate": None if back.rate is None else rate_text(back.rate),
        "lens": back.lens_said,
    }
    return said, [_bytes(back.track)]


def _read(said: Document, blocks: list[bytes]) -> CameBack:
    image, rate = said["image"], said["rate"]
    return CameBack(
        track_from_bytes(blocks[0])[0],
        Image(*image) if image else None,
        parse_rate(rate) if rate else None,
        said["lens"],
    )


def _bytes(track: Track) -> bytes:
    return track_to_bytes(track, NO_LANDMARKS, np.zeros((0, 2, 3)))
