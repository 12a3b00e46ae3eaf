"""Files that are handed over by mistake: closed scene files, pictures, movies, edits. Each is refused with what to export."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

from anaxis.core.errors import BadInput

_TRACK = "export the shot camera from it, baked on every frame, as USD (.usd) or Alembic (.abc)"
_VALUES = (
    "export its camera as USD (.usd) or Alembic (.abc), or the camera's values on every frame as column text (.csv)"
)


class OtherFile(NamedTuple):
    """A kind of file that holds no camera Anaxis can read: what it is, and what to do."""

    what: str
    instead: str


_SCENE = OtherFile("the closed scene file of an animation package", f"open it there and {_TRACK}")
_EXCHANGE = OtherFile("a closed exchange file between 3D packages", f"open it in a 3D package and {_TRACK}")
_COMPOSITE = OtherFile("the project of a compositing package", f"open it there and {_VALUES}")
_ENGINE = OtherFile("a level or asset of a game engine", f"open it there and {_VALUES}")
_SOLVE = OtherFile("the project of a camera solver", f"open it there and {_VALUES}")
_PICTURE = OtherFile("a picture", "take in the camera first, then attach the pictures as a plate on its Plate station")
_MOVIE = OtherFile("a movie", "take in the camera first, then attach the movie as a plate on its Plate station")
_EDIT = OtherFile("an edit", "load it on Shots, under Expected ranges from an edit")

_BY_SUFFIX: dict[str, OtherFile] = {
    **dict.fromkeys(
        (".ma", ".mb", ".blend", ".max", ".c4d", ".hip", ".hipnc", ".hiplc", ".lws", ".scn", ".xsi"), _SCENE
    ),
    **dict.fromkeys((".fbx", ".3ds", ".bvh"), _EXCHANGE),
    **dict.fromkeys((".nk", ".nknc", ".aep", ".aepx", ".comp", ".ntp", ".shk"), _COMPOSITE),
    **dict.fromkeys((".uasset", ".umap", ".prefab", ".tscn"), _ENGINE),
    **dict.fromkeys((".3de", ".sni", ".pfp", ".mmproj"), _SOLVE),
    **dict.fromkeys((".exr", ".png", ".jpg", ".jpeg", ".tif", ".tiff", ".dpx", ".tga"), _PICTURE),
    **dict.fromkeys((".mov", ".mp4", ".mxf", ".avi", ".mkv"), _MOVIE),
    **dict.fromkeys((".edl", ".otio", ".aaf"), _EDIT),
}
# A file that was given another suffix still begins like this.
_BY_HEAD: tuple[tuple[bytes, OtherFile], ...] = (
    (b"FOR4", _SCENE), (b"FOR8", _SCENE), (b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", _SCENE), (b"RIFX", _COMPOSITE),
    (b"\x76\x2f\x31\x01", _PICTURE), (b"\x89PNG", _PICTURE), (b"\xff\xd8\xff", _PICTURE), (b"SDPX", _PICTURE), (b"XPDS", _PICTURE),
    (b"\x1aE\xdf\xa3", _MOVIE),
)  # fmt: skip
HEAD_BYTES = 16


def refuse_other_files(name: str, head: bytes = b"") -> None:
    """Raise BadInput for a file that its suffix or its first ``HEAD_BYTES`` bytes show to be of another kind."""
    found = _BY_SUFFIX.get(Path(name).suffix.lower()) or next((o for b, o in _BY_HEAD if head.startswith(b)), None)
    if head[4:8] == b"ftyp":
        found = found or _MOVIE
    if found is not None:
        raise BadInput(
            f"{name} is {found.what}, which Anaxis does not read as a camera: {found.instead}.", "other_file"
        )
