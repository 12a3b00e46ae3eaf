"""The sentences that people read: the words that are retired, and the list of all sentences."""

from __future__ import annotations

import html
import importlib.util
import re
from pathlib import Path
from types import ModuleType

import pytest

ROOT = Path(__file__).resolve().parents[1]
SCRIPT = ROOT / "scripts" / "list_texts.py"
HELP = ROOT / "src/anaxis/web/screens/help/texts"
# A retired word and what to write instead.
RETIRED = {
    r"\bowed\b": "missing, expected",
    r"\bma[dk]es? up for\b": "compensates for",
    r"\bhand(?:ed|s)? (?:in|over)\b": "uploaded, delivered",
    r"\bput aside\b": "uploaded, not saved yet",
    r"\b(?:came|comes|come) back\b": "returned",
    r"\belsewhere\b": "name the place",
    r"\bby (?:itself|themselves)\b": "automatically",
    r"\bso many\b": "a number",
    r"\bthinnest\b": "5th percentile",
    r"\bwhoever\b": "name the person",
    r"\beven so\b": "say what happens",
    r"\bfor ever\b": "always",
    r"\btak(?:e|es|en|ing) (?:it|them) (?:out|off|away)\b": "remove",
    r"(?<![Tt]here )\bis no (?!longer)": "is not a",
    r"cannot be:": "is not possible:",
}
# The name of the media root of uploaded plates, which is stored.
ALLOWED = {("src/anaxis/store/media_folders.py", "handed in")}


@pytest.fixture(scope="module")
def texts() -> ModuleType:
    spec = importlib.util.spec_from_file_location("list_texts", SCRIPT)
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


def test_no_sentence_of_the_application_has_a_retired_word(texts: ModuleType) -> None:
    found = [
        f"{s.file}:{s.line}: {instead!r} instead of {word}: {s.text}"
        for s in texts.sentences()
        if s.file.startswith("src/") and (s.file, s.text) not in ALLOWED
        for word, instead in RETIRED.items()
        if re.search(word, s.text)
    ]
    assert not found, "\n".join(found)


def test_no_document_has_a_retired_word() -> None:
    found = [
        f"{document.name}:{number}: {instead!r} instead of {word}: {line.strip()}"
        for document in [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md")), *HELP.glob("*.md")]
        for number, line in enumerate(document.read_text().splitlines(), 1)
        for word, instead in RETIRED.items()
        if re.search(word, re.sub(r"`[^`]*`", "", line))
    ]
    assert not found, "\n".join(found)


def test_the_documents_name_labels_that_the_pages_have() -> None:
    """What a document prints in italics is a label: it stands on a page, in a script or in a sentence of the application."""
    shown = [
        p
        for suffix in ("html", "js", "py")
        for p in (ROOT / "src/anaxis").rglob(f"*.{suffix}")
        if "vendor" not in p.parts
    ]
    said = re.sub(r"\s+", " ", html.unescape(" ".join(p.read_text() for p in shown))).lower()
    missing = []
    for document in [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]:
        text = re.sub(r"```.*?```|`[^`]*`", "", document.read_text(), flags=re.S)
        for found in re.findall(r"(?<![*\w])\*([^*\n][^*]{1,60}?)\*(?!\*)", text):
            label = re.sub(r"\s+", " ", found).strip(" :.,…")
            if label.lower() not in said:
                missing.append(f"{document.name}: {label}")
    assert not missing, "No page has these labels:\n" + "\n".join(missing)


def test_every_kind_of_sentence_is_listed_with_its_place(texts: ModuleType) -> None:
    python = '''
import click
def plain():
    """Not help."""
    raise BadInput(f"Frame {n} is missing in {name}: render it again.")
@click.command()
def command():
    """Show the frames of a plate."""
'''
    assert sorted(texts.in_python(python, with_help=True)) == [
        (5, "Frame {…} is missing in {…}: render it again."),
        (8, "Show the frames of a plate."),
    ]
    page = '<h1>Shots of\n{{ show }}</h1>{% if x == "a b" %}<p title="All shots">{{ "No shots yet" if y }}</p>{% endif %}<style>p q</style>'
    found = {" ".join(text.split()) for _, text in texts.in_template(page)}
    assert found == {"Shots of {…}", "All shots", "No shots yet"}
    assert [t for _, t in texts.in_script("say(`${n} frames only`); // a comment here")] == ["{…} frames only"]
    assert [n for n, _ in texts.in_document("One.\n```\ncode here\n```\nTwo.")] == [1, 5]
