"""Writes docs/operations.md from the registry of operations: ``python scripts/document_operations.py``."""

from __future__ import annotations

from pathlib import Path

from anaxis.core.parameters import Field
from anaxis.core.recipe.operations import KINDS

TARGET = Path(__file__).parents[1] / "docs" / "operations.md"
_HEAD = """# Operations of a recipe

Generated from the registry (`scripts/document_operations.py`); a test holds it up to date. A recipe is
`{"operations": [{"code": "trim", "params": {"first": 1010}, "on": true}]}`: `on` is `true` or `false`, and a parameter
that an operation does not have is refused with the nearest one it has. Operations on the tree are done first, then the
bake, then those on the track, each stage in the order given.
"""
_STAGES = {"tree": "On the node tree", "bake": "The bake", "track": "On the baked track"}


def type_of(field: Field) -> str:
    if field.kind == "choice":
        return "one of " + ", ".join(f"`{c}`" for c in field.choices)
    if field.kind == "data":
        return {dict: "an object", list: "a list", str: "text"}[field.holds] + ", made by the application"
    return {"number": "number", "node": "path of a node", "text": "text"}[field.kind]


def rows_of(fields: tuple[Field, ...]) -> list[str]:
    if not fields:
        return ["No parameters.", ""]
    rows = ["| parameter | is | unit | |", "|---|---|---|---|"]
    for field in fields:
        rows.append(
            f"| `{field.name}` | {field.label}: {type_of(field)} | {field.unit} | {'may be left out' if field.optional else ''} |"
        )
    return [*rows, ""]


def document() -> str:
    lines = [_HEAD]
    for stage, title in _STAGES.items():
        lines += [f"## {title}", ""]
        for kind in KINDS.values():
            if kind.stage == stage:
                lines += [f"### `{kind.code}`: {kind.label}", "", *rows_of(kind.fields)]
    return "\n".join(lines).rstrip() + "\n"


if __name__ == "__main__":
    TARGET.write_text(document())
