"""The order of the rooms: what the code imports, against the contracts in pyproject.toml."""

from __future__ import annotations

import ast
import re
import subprocess
import sys
from pathlib import Path

import document_architecture
import document_codes
import document_roles

HERE = Path(__file__).resolve().parents[1]
SOURCE = HERE / "src" / "anaxis"
# The commands are loaded when they are used: the command line's own table names them.
LAZY = {"__init__.py"}


def test_every_import_points_down() -> None:
    """Imports inside functions count as well, so no circle hides in one. In a process of its own: it silences our loggers."""
    linter = Path(sys.executable).with_name("lint-imports")
    done = subprocess.run([linter, "--no-cache"], cwd=HERE, check=False, capture_output=True, text=True)
    assert done.returncode == 0, done.stdout


def test_the_picture_of_the_rooms_is_that_of_the_code() -> None:
    text, drawn = document_architecture.document()
    assert document_architecture.TARGET.read_text() == text and document_architecture.PICTURE.read_text() == drawn


def test_who_may_do_what_is_as_documented() -> None:
    """A role check that is taken away, or is for a lower role, changes the document."""
    assert document_roles.TARGET.read_text() == document_roles.document(), "run scripts/document_roles.py"


def test_every_code_and_setting_stands_in_the_documents() -> None:
    made = document_codes.document()
    assert all(target.read_text() == made for target in document_codes.TARGETS), "run scripts/document_codes.py"
    code = "".join(p.read_text() for p in SOURCE.rglob("*.py"))
    documents = "".join(p.read_text() for p in (HERE / "docs").glob("*.md"))
    settings = set(re.findall(r"\bANAXIS_[A-Z_]+\b", code))
    assert len(settings) > 20 and not {s for s in settings if s not in documents}


def test_nothing_is_pickled_and_no_module_of_ours_is_imported_by_a_string() -> None:
    """What the contracts cannot see: an import that is written as a string may run back up the house."""
    hidden = []
    for path in SOURCE.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Import | ast.ImportFrom):
                names = [getattr(node, "module", ""), *(a.name for a in node.names)]
                hidden += [f"{path.name}: {n}" for n in names if n in ("pickle", "marshal", "shelve", "runpy")]
            elif isinstance(node, ast.Call) and getattr(node.func, "id", getattr(node.func, "attr", "")) in (
                "import_module", "__import__",
            ):  # fmt: skip
                hidden.append(f"{path.name}:{node.lineno}")
    assert not [h for h in hidden if h.partition(":")[0] not in LAZY], hidden


def test_the_templates_can_be_read() -> None:
    """No line of a template is so long that a change in it cannot be seen."""
    templates = [p for p in (HERE / "src").rglob("*") if p.suffix in (".html", ".svg") and p.parent.name != "static"]
    long = [
        f"{p.name}:{i}" for p in templates for i, line in enumerate(p.read_text().splitlines(), 1) if len(line) > 200
    ]
    assert len(templates) > 40 and not long
