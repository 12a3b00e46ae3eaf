"""The order of the rooms: what the code imports, against the contracts in pyproject.toml."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

from importlinter.cli import lint_imports

HERE = Path(__file__).resolve().parents[1]


def test_every_import_points_down(capsys: object) -> None:
    """Imports inside functions count as well, so no circle hides in one."""
    assert lint_imports(config_filename=str(HERE / "pyproject.toml"), no_cache=True) == 0


def test_the_picture_of_the_rooms_is_that_of_the_code() -> None:
    script = HERE / "scripts" / "document_architecture.py"
    assert subprocess.run([sys.executable, str(script), "--check"], check=False).returncode == 0


def test_the_templates_can_be_read() -> None:
    """No line of a template is so long that a change in it cannot be seen."""
    templates = [p for p in (HERE / "src").rglob("*") if p.suffix in (".html", ".svg") and p.parent.name != "static"]
    long = [
        f"{p.name}:{i}" for p in templates for i, line in enumerate(p.read_text().splitlines(), 1) if len(line) > 200
    ]
    assert len(templates) > 40 and not long
