"""Every sentence that a person reads, with its place: pages, messages, findings, errors, command help, scripts of pages, documents.

    scripts/list_texts.py            all of them
    scripts/list_texts.py WORD...    those with any of these words

An expression within a sentence is shown as {…}.
"""

from __future__ import annotations

import ast
import re
import sys
from collections.abc import Iterator
from html.parser import HTMLParser
from pathlib import Path
from typing import NamedTuple

HERE = Path(__file__).resolve().parents[1]
SOURCE = HERE / "src" / "anaxis"
# What nobody reads but programmers: the schema of the store, and how processes are confined.
_NOT_READ = ("store/migrations", "store/models", "web/static/vendor")
_CODE = re.compile(
    r"SELECT |UPDATE |INSERT |DELETE |CREATE |pg_|[a-z]+ = |^[a-z_]+\.[a-z_]+ |^[MC][\d. -]+|^--|px solid"
)
_HIDDEN = {"script", "style", "svg", "code"}
_SPOKEN = ("aria-label", "title", "placeholder", "alt", "data-words")


class Sentence(NamedTuple):
    """A text and its place: the file as the project's folder has it, and the line."""

    file: str
    line: int
    text: str


def sentences() -> Iterator[Sentence]:
    for path in sorted(SOURCE.rglob("*")):
        name = path.relative_to(HERE).as_posix()
        if any(part in name for part in _NOT_READ):
            continue
        if path.suffix == ".py":
            found = in_python(path.read_text(encoding="utf-8"), with_help="/cli/" in name or "/web/api/" in name)
        elif path.suffix == ".html":
            found = in_template(path.read_text(encoding="utf-8"))
        elif path.suffix == ".js":
            found = in_script(path.read_text(encoding="utf-8"))
        else:
            continue
        yield from (Sentence(name, line, " ".join(text.split())) for line, text in found)
    documents = [
        HERE / "README.md",
        HERE / "CONTRIBUTING.md",
        HERE / "CHANGELOG.md",
        *sorted((HERE / "docs").glob("*.md")),
    ]
    for path in documents:
        name = path.relative_to(HERE).as_posix()
        yield from (Sentence(name, line, text) for line, text in in_document(path.read_text(encoding="utf-8")))


def in_python(code: str, with_help: bool) -> Iterator[tuple[int, str]]:
    """The texts of a module; of its docstrings those of commands, addresses and their models (``with_help``)."""
    tree = ast.parse(code)
    docstrings = {id(node) for node in _docstrings(tree, with_help)}
    inside = {
        id(part)
        for node in ast.walk(tree)
        if isinstance(node, ast.JoinedStr)
        for part in ast.walk(node)
        if part is not node
    }
    for node in ast.walk(tree):
        if id(node) in inside or id(node) in docstrings:
            continue
        text = _text_of(node)
        if text and _is_sentence(text):
            yield node.lineno, text  # type: ignore[attr-defined]


def _docstrings(tree: ast.AST, with_help: bool) -> Iterator[ast.expr]:
    """Docstrings for programmers alone: not those of what is decorated as a command or an address."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef | ast.AsyncFunctionDef):
            if with_help and getattr(node, "decorator_list", None):
                continue
            first = node.body[0] if node.body else None
            if isinstance(first, ast.Expr) and isinstance(first.value, ast.Constant):
                yield first.value


def _text_of(node: ast.AST) -> str:
    if isinstance(node, ast.Constant) and isinstance(node.value, str):
        return node.value
    if isinstance(node, ast.JoinedStr):
        return "".join(
            p.value if isinstance(p, ast.Constant) and isinstance(p.value, str) else "{…}" for p in node.values
        )
    return ""


def _is_sentence(text: str) -> bool:
    """Two words or more, and no code."""
    return len(re.findall(r"[A-Za-z]{2,}", text)) >= 2 and " " in text.strip() and not _CODE.search(text)


class _Page(HTMLParser):
    """The texts of a template, and of the attributes that are read aloud or shown."""

    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.found: list[tuple[int, str]] = []
        self._hidden = 0

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self._hidden += tag in _HIDDEN
        self.found += [(self.getpos()[0], value) for name, value in attrs if name in _SPOKEN and value]

    def handle_endtag(self, tag: str) -> None:
        self._hidden -= tag in _HIDDEN and self._hidden > 0

    def handle_data(self, data: str) -> None:
        if not self._hidden and re.search("[A-Za-z]{2}", data):
            self.found.append((self.getpos()[0] + data[: len(data) - len(data.lstrip())].count("\n"), data))


def in_template(text: str) -> list[tuple[int, str]]:
    """The texts of a page, from one tag to the next; the template's own expressions are left out."""
    keep_lines = lambda m: "{…}" + "\n" * m[0].count("\n")  # noqa: E731
    plain = re.sub(r"{#.*?#}|{%.*?%}", lambda m: "\n" * m[0].count("\n"), text, flags=re.DOTALL)
    plain = re.sub(r"{{.*?}}", keep_lines, plain, flags=re.DOTALL)
    quoted = re.findall(r"{[{%].*?[%}]}", text, flags=re.DOTALL)
    page = _Page()
    page.feed(plain)
    words = [m for q in quoted for m in re.findall(r'"([^"]*[A-Za-z]{2,} [^"]*)"', q)]
    return page.found + [(_line_of(text, w), w) for w in words]


def _line_of(text: str, part: str) -> int:
    return text[: max(0, text.find(part))].count("\n") + 1


def in_script(code: str) -> Iterator[tuple[int, str]]:
    """The quoted texts of a page's script."""
    for number, line in enumerate(code.splitlines(), 1):
        without = re.sub(r"(?<!:)//.*", "", line)
        for quote in re.findall(r'"([^"]*)"|`([^`]*)`|\'([^\']*)\'', without):
            text = re.sub(r"\${[^}]*}", "{…}", next((q for q in quote if q), ""))
            if _is_sentence(text) and not re.search(r"[<#\[=]|^\.|^[a-z-]+ \d", text):
                yield number, text


def in_document(text: str) -> Iterator[tuple[int, str]]:
    """The paragraphs of a document without its blocks of code."""
    code = False
    for number, line in enumerate(text.splitlines(), 1):
        if line.startswith("```"):
            code = not code
        elif not code and line.strip():
            yield number, line


if __name__ == "__main__":
    wanted = [re.compile(rf"\b{re.escape(w)}\b", re.IGNORECASE) for w in sys.argv[1:]]
    for s in sentences():
        if not wanted or any(w.search(s.text) for w in wanted):
            print(f"{s.file}:{s.line}: {s.text}")
