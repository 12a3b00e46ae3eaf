"""Files of other kinds are refused by kind, with what to export: by their suffix, and under another suffix by their first bytes."""

from __future__ import annotations

from pathlib import Path

import pytest

from anaxis.core.errors import BadInput
from anaxis.formats import read_file, require_readable


@pytest.mark.parametrize(
    ("name", "kind", "instead"),
    [
        ("shot.mb", "closed scene file of an animation package", "as USD"),
        ("shot.FBX", "closed exchange file", "as USD"),
        ("comp.nk", "project of a compositing package", "column text"),
        ("level.umap", "level or asset of a game engine", "column text"),
        ("plate.0001.exr", "a picture", "attach the pictures as a plate"),
        ("take.mov", "a movie", "attach the movie as a plate"),
        ("reel.edl", "an edit", "Expected ranges"),
    ],
)
def test_a_file_is_refused_by_its_kind(name: str, kind: str, instead: str) -> None:
    with pytest.raises(BadInput) as refused:
        require_readable(name)
    assert kind in refused.value.sentence and instead in refused.value.sentence and name in refused.value.sentence
    assert refused.value.code == "other_file"


@pytest.mark.parametrize(
    ("head", "kind"),
    [
        (b"FOR8\0\0\0\x10", "animation package"),
        (b"\x89PNG\r\n\x1a\n", "picture"),
        (b"\0\0\0\x20ftypisom", "movie"),
        (b"RIFX\0\0", "compositing"),
    ],
)
def test_a_file_under_a_readable_name_is_known_by_its_first_bytes(tmp_path: Path, head: bytes, kind: str) -> None:
    path = tmp_path / "shot.abc"
    path.write_bytes(head + b"\0" * 100)
    with pytest.raises(BadInput, match=f"shot.abc is .*{kind}"):
        read_file(path)


def test_an_unknown_suffix_is_still_refused_with_what_can_be_read() -> None:
    with pytest.raises(BadInput, match=r"ends in '\.xyz'"):
        require_readable("shot.xyz")
