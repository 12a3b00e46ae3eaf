"""Media roots: nothing outside them is ever opened, whatever leads there."""

from __future__ import annotations

import io
import os
from pathlib import Path

import pytest

from anaxis.core.errors import BadInput
from anaxis.store.media_folders import HANDED_IN, listed, media_roots, opened, put_aside


@pytest.fixture
def roots(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    root = tmp_path / "root"
    (root / "shot" / "plate").mkdir(parents=True)
    (root / "shot" / "plate" / "bg.1001.exr").write_bytes(b"inside")
    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / "secret.exr").write_bytes(b"outside")
    (root / "shot" / "plate" / "link.exr").symlink_to(outside / "secret.exr")
    (root / "shot" / "away").symlink_to(outside)
    os.mkfifo(root / "shot" / "plate" / "pipe.exr")
    monkeypatch.setenv("ANAXIS_MEDIA_ROOTS", f"mill={root}")
    monkeypatch.setenv("ANAXIS_PLATES", str(tmp_path / "plates"))
    return root


def test_links_pipes_and_hidden_files_are_not_listed(roots: Path) -> None:
    assert list(media_roots()) == ["mill", HANDED_IN]
    inside = listed("mill", "shot")
    assert inside.folders == ["plate"]
    assert listed("mill", "shot/plate").files == ["bg.1001.exr"]
    with opened("mill", "shot/plate", "bg.1001.exr") as file:
        assert file.read() == b"inside"


@pytest.mark.parametrize(
    ("folder", "name"),
    [
        ("shot/plate", "link.exr"), ("shot/away", "secret.exr"), ("..", "outside"), ("shot/../../outside", "secret.exr"),
        ("shot/plate", "../plate/bg.1001.exr"), ("shot/plate", "pipe.exr"), ("shot", "plate"), ("nowhere", "a.exr"), ("shot/plate", "gone.exr"),
        ("shot/plate", "a\0b"), ("shot/plate", ""),
    ],
)  # fmt: skip
def test_nothing_outside_is_opened(roots: Path, folder: str, name: str) -> None:
    with pytest.raises(BadInput):
        opened("mill", folder, name)


def test_an_unknown_root_and_a_wrong_setting_are_said(roots: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    with pytest.raises(BadInput, match="no media root 'other'"):
        listed("other", "")
    monkeypatch.setenv("ANAXIS_MEDIA_ROOTS", "/no/such/folder")
    with pytest.raises(BadInput, match="not a folder on this machine"):
        media_roots()


def test_what_is_handed_in_lies_whole_or_not_at_all(roots: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    put_aside("TW", "bg.1.exr", io.BytesIO(b"data"))
    assert listed(HANDED_IN, "TW").files == ["bg.1.exr"]

    class Breaks(io.BytesIO):
        def read(self, size: int | None = -1) -> bytes:
            raise OSError("the line went dead")

    with pytest.raises(OSError, match="dead"):
        put_aside("TW", "bg.2.exr", Breaks())
    assert listed(HANDED_IN, "TW").files == ["bg.1.exr"]
    for folder, name in (("..", "a"), ("TW", "../a"), ("a/b", "c")):
        with pytest.raises(BadInput):
            put_aside(folder, name, io.BytesIO(b""))
    monkeypatch.delenv("ANAXIS_PLATES")
    with pytest.raises(BadInput, match="ANAXIS_PLATES"):
        put_aside("TW", "a.exr", io.BytesIO(b""))
