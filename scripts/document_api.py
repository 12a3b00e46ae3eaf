"""Writes docs/openapi.json, the interface's description of itself; a test holds it against the code.

Run after an address, a field or an answer has changed: ``.venv/bin/python scripts/document_api.py``.
"""

from __future__ import annotations

import json
from pathlib import Path

from starlette.datastructures import State

from anaxis.web.api.application import api_of

PATH = Path(__file__).resolve().parent.parent / "docs" / "openapi.json"


def described() -> str:
    """The description as it is kept: sorted, a line an entry."""
    return json.dumps(api_of(State()).openapi(), indent=1, sort_keys=True) + "\n"


if __name__ == "__main__":
    PATH.write_text(described())
