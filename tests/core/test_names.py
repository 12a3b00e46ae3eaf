"""Names in every script: what is refused, what a file is called, and who looks like whom."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from anaxis.core.errors import BadInput
from anaxis.core.names import file_stem_of, looks_like, spelled, visible_name, without_unseen
from anaxis.core.scene.landmarks import legal_name, node_name
from anaxis.delivery.deliver import file_stem


@pytest.mark.parametrize(
    "name",
    ["a\r\nX-Set: b", "a\0", "\u202egnp.exe", "a\u2066b", "\ufeffname", "tab\there", "\u200bname", "line\u2028two"],
)
def test_what_cannot_be_seen_is_refused_and_named(name: str) -> None:
    with pytest.raises(BadInput, match=r"U\+[0-9A-F]{4}, which is invisible"):
        visible_name(name)
    assert visible_name(without_unseen(name))


@pytest.mark.parametrize("name", ["東京", "مصنع", "Мельница", "चक्की", "Gezeitenmühle", "Windmühle", "می‌روم", "👩‍🔧"])
def test_names_of_every_script_are_names(name: str) -> None:
    assert visible_name(name) == name


def test_composed_and_decomposed_are_one_name() -> None:
    assert visible_name("Mu\u0308hle") == visible_name("Mühle")


def test_files_keep_the_script_and_packages_get_it_spelled() -> None:
    assert file_stem("主カメラ", "zup-lh-cm", "東京") == "東京.主カメラ.zup-lh-cm"
    assert file_stem("चक्की", "yup-rh-m") == "चक्की.yup-rh-m", "the marks of its vowels stay"
    assert file_stem('a"; filename="evil.exe', "yup-rh-m") == "a_filename_evil.exe.yup-rh-m"
    assert file_stem("../../etc/passwd", "x") == "etc_passwd.x" and file_stem("///", "") == "camera"
    assert legal_name("Мельница 3", set()) == "Mel_nitsa_3" and node_name("Мельница", set()) == "Mel_nitsa"
    taken: set[str] = set()
    assert [legal_name(n, taken) for n in ("東京", "东京", "東京")] == ["DongJing", "DongJing_2", "DongJing_3"]
    assert node_name("Ärger", set()) == "Arger"


@given(st.text(max_size=300))
def test_whatever_is_given_becomes_a_name_that_files_and_packages_take(text: str) -> None:
    stem = file_stem_of(text.encode("utf-8", "replace").decode())
    assert len(stem.encode()) <= 200 and not set(stem) & set('/\\:*?"<>|\0\r\n\t ') and stem not in (".", "..")
    node = node_name(text, set())
    assert node.isascii() and node.isidentifier() and spelled(text.encode("utf-8", "replace").decode()).isascii()


@pytest.mark.parametrize(("one", "other"), [("admin", "аdmin"), ("admin", "Admın"), ("lead", "1ead"), ("Ada Quay", "Ada  Quау"), ("bob", "b0b"), ("merle", "rnerle"), ("ADMIN", "admin"), ("élan", "elan")])  # fmt: skip
def test_look_alikes_look_alike(one: str, other: str) -> None:
    assert looks_like(one) == looks_like(other)


def test_others_do_not() -> None:
    names = ["admin", "adam", "東京", "大阪", "Мельница", "Мальвина", "lead", "leaf", "ada", "aida"]
    assert len({looks_like(n) for n in names}) == len(names)
