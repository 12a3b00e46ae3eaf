"""What kind of camera file some bytes are, where no name says so."""

from __future__ import annotations

from anaxis.core.errors import BadInput

_BEGINNINGS: tuple[tuple[bytes, str], ...] = (
    (b"#usda", ".usda"), (b"PXR-USDC", ".usdc"), (b"Ogawa", ".abc"), (b"glTF", ".glb"), (b"PK\x03\x04", ".zip"), (b"o ", ".obj"), (b"v ", ".obj"),
)  # fmt: skip
_SAYS_GLTF = b'"asset"'
_HEAD = 4096


def suffix_of(data: bytes) -> str:
    """The suffix that a file with these bytes would have; a text that is none of the others is a table. Raises BadInput for bytes that
    are no camera file."""
    head = data[:_HEAD].lstrip(b"\xef\xbb\xbf \t\r\n")
    for beginning, suffix in _BEGINNINGS:
        if head.startswith(beginning):
            return suffix
    if head.startswith(b"<"):
        return ".dae"
    if head.startswith(b"{"):
        return ".gltf" if _SAYS_GLTF in data else ".json"
    if not head or b"\0" in head:
        raise BadInput("Standard input is not a camera file: it is empty, or its format is unknown.")
    return ".csv"
