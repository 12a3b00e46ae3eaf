"""Writes docs/library-reference.md from the docstrings of the library: ``python scripts/document_library.py``."""

from __future__ import annotations

import inspect
import re
from pathlib import Path
from typing import Any

import anaxis

TARGET = Path(__file__).parents[1] / "docs" / "library-reference.md"
_HEAD = """# Reference of the library

Generated from the docstrings (`scripts/document_library.py`); a test holds it up to date. [library.md](library.md) shows how the names
are used. Frames are those of a camera's own rate, n is the number of a camera's frames.
"""


def text_of(thing: Any) -> str:
    return (
        inspect.cleandoc(thing.__doc__ or "")
        .replace("``", "`")
        .replace(":class:", "")
        .replace(":func:", "")
        .replace(":attr:", "")
        .replace(":meth:", "")
    )


def signature_of(name: str, thing: Any) -> str:
    said = f"{name}{inspect.signature(thing)}".replace("self, ", "").replace("(self)", "()")
    return re.sub(r"(: |-> )'([^']*)'", r"\1\2", said).replace("'", '"')


def members_of(thing: type) -> list[str]:
    """What a class adds to its data: properties and methods with a docstring."""
    rows = []
    for name, member in vars(thing).items():
        shown = (
            isinstance(member, property) or inspect.isfunction(member) or isinstance(member, classmethod | staticmethod)
        )
        if name.startswith("_") or not shown:
            continue
        if isinstance(member, property):
            returned = inspect.signature(member.fget).return_annotation if member.fget else ""
            rows.append(f"- **`{name}`**: `{returned}`. {' '.join(text_of(member).split())}".rstrip())
        elif inspect.isfunction(member):
            rows.append(f"- **`{signature_of(name, member)}`**. {' '.join(text_of(member).split())}")
    return rows


def document() -> str:
    lines = [_HEAD]
    for name in anaxis.__all__:
        thing = getattr(anaxis, name)
        if name.startswith("_"):
            continue
        if inspect.isclass(thing):
            lines += [f"## `{name}`", "", text_of(thing), ""]
            if name == "Camera":
                lines += [
                    "- **`apply(code, **params)`**. One operation more: [operations.md](operations.md) lists the codes and their parameters."
                ]
            lines += [*members_of(thing), ""]
        else:
            lines += [f"## `{signature_of(name, thing)}`", "", text_of(thing), ""]
    return "\n".join(lines).rstrip() + "\n"


if __name__ == "__main__":
    TARGET.write_text(document())
