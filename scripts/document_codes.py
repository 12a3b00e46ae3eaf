"""Writes docs/codes.md and the help page of codes, the codes of findings and errors, from the code: ``python scripts/document_codes.py [--check]``."""

from __future__ import annotations

import ast
import sys
from collections.abc import Iterator
from pathlib import Path

HERE = Path(__file__).resolve().parents[1]
SOURCE = HERE / "src" / "anaxis"
TARGETS = (HERE / "docs" / "codes.md", SOURCE / "web" / "screens" / "help" / "texts" / "codes.md")
_HEAD = """# Codes

Each finding and error has a code, which stays when its sentence changes. `scripts/document_codes.py` writes these tables from the code;
`…` is the part that differs from case to case.

## Findings

A finding is something in a file that you should know. An *error* means that the camera cannot be used. A *warning* stays open above every
"matches" until somebody fixes or allows it. A *note* is for information.

| code | severity | says |
|---|---|---|
"""
_ERRORS = """
## Errors

The `code` of a `Problem` over HTTP and of `--json` on the command line. An error without a code of its own is `bad_input`.

| code | says |
|---|---|
"""


_named: dict[str, list[ast.Assign]] = {}  # what the names of the file at hand stand for, in the order of its lines


def text_of(node: ast.expr | None) -> str:
    """A string as its reader sees it, with … for what is put in; "" where it is worked out elsewhere."""
    if isinstance(node, ast.Name):
        before = [a.value for a in _named.get(node.id, []) if (a.end_lineno or 0) < node.lineno]
        return text_of(before[-1]) if before else ""
    if isinstance(node, ast.Constant) and isinstance(node.value, str):
        return node.value
    if isinstance(node, ast.JoinedStr):
        return "".join(text_of(part) if isinstance(part, ast.Constant) else "…" for part in node.values)
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add):
        return (text_of(node.left) or "…") + (text_of(node.right) or "…")
    if isinstance(node, ast.IfExp):
        return text_of(node.body) or text_of(node.orelse)
    return ""


def calls(nodes: list[ast.AST], *names: str) -> Iterator[ast.Call]:
    for node in nodes:
        if isinstance(node, ast.Call) and getattr(node.func, "id", getattr(node.func, "attr", "")) in names:
            yield node


def argument(call: ast.Call, place: int, name: str) -> ast.expr | None:
    named = next((k.value for k in call.keywords if k.arg == name), None)
    return named if named is not None else call.args[place] if len(call.args) > place else None


def codes_in(node: ast.expr | None) -> list[str]:
    """The codes that an expression can be: one, or those of both sides of a condition."""
    if isinstance(node, ast.IfExp):
        return [*codes_in(node.body), *codes_in(node.orelse)]
    found = text_of(node)
    return [found] if found else []


def found() -> tuple[dict[str, tuple[str, str]], dict[str, str]]:
    """Findings by code, with severity and sentence, and errors by code, with their sentence."""
    findings: dict[str, tuple[str, str]] = {}
    errors: dict[str, str] = {}
    for path in sorted(SOURCE.rglob("*.py")):
        text = path.read_text()
        if not any(word in text for word in ("Finding(", "BadInput", "problem(")):
            continue
        nodes = list(ast.walk(ast.parse(text)))
        _named.clear()
        named = [n for n in nodes if isinstance(n, ast.Assign)]
        for assigned in sorted(named, key=lambda n: n.lineno):
            if isinstance(name := assigned.targets[0], ast.Name):
                _named.setdefault(name.id, []).append(assigned)
        for call in calls(nodes, "Finding"):
            for code in codes_in(argument(call, 0, "code")):
                said = text_of(argument(call, 2, "message"))
                before = findings.get(code, ("", ""))
                severity = before[0] or "/".join(codes_in(argument(call, 1, "severity")))
                findings[code] = (severity, before[1] or said)
        for call in calls(nodes, "BadInput"):
            for code in codes_in(argument(call, 1, "code")):
                errors[code] = errors.get(code) or text_of(argument(call, 0, "sentence"))
        for call in calls(nodes, "problem"):
            for code in codes_in(argument(call, 1, "code")):
                errors[code] = errors.get(code) or text_of(argument(call, 2, "sentence"))
        for node in nodes:
            if not isinstance(node, ast.ClassDef) or not any(getattr(b, "id", "") == "BadInput" for b in node.bases):
                continue
            for line in node.body:
                if isinstance(line, ast.Assign) and getattr(line.targets[0], "id", "") == "code":
                    said = (ast.get_docstring(node) or "").partition("\n")[0]
                    errors[text_of(line.value)] = said.replace("``", "`")
    return findings, errors


def document() -> str:
    findings, errors = found()

    def cell(text: str) -> str:
        return " ".join(text.split()).replace("|", "\\|") or "the sentence of the error that caused it"

    rows = [f"| `{code}` | {severity} | {cell(said)} |\n" for code, (severity, said) in sorted(findings.items())]
    return _HEAD + "".join(rows) + _ERRORS + "".join(f"| `{c}` | {cell(s)} |\n" for c, s in sorted(errors.items()))


if __name__ == "__main__":
    made = document()
    if "--check" in sys.argv:
        sys.exit(any(not t.exists() or t.read_text() != made for t in TARGETS))
    for target in TARGETS:
        target.write_text(made)
