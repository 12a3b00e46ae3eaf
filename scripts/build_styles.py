"""Writes what the pages use of two packages into src/anaxis/web/static/vendor: the rules of Bootstrap for the classes in
templates and scripts, and uPlot as a module. Run it after ``npm ci`` and after a page uses another class of Bootstrap."""

from __future__ import annotations

import re
from pathlib import Path
from typing import NamedTuple

ROOT = Path(__file__).resolve().parent.parent
WEB = ROOT / "src" / "anaxis" / "web"
VENDOR = WEB / "static" / "vendor"
MODULES = ROOT / "node_modules"
_CLASS = re.compile(r"\.((?:\\.|[\w-])+)")
_QUOTED = re.compile(r"[\"'`]([^\"'`]*)[\"'`]")
# Parts of a page that no page has.
_ABSENT = (
    "::-moz-focus-inner",
    "::-webkit-date",
    "::-webkit-datetime",
    "[type=date",
    "[type=datetime",
    "[type=time",
    ":-moz-focusring",
)


class Rule(NamedTuple):
    """A style rule, or a group of rules under a condition such as ``@media``: what stands before its braces, and in them."""

    head: str
    body: str


def rules_of(styles: str) -> list[Rule]:
    """The rules at the outermost level of a minified style sheet."""
    styles = re.sub(r"/\*.*?\*/", "", styles, flags=re.DOTALL).removeprefix('@charset "UTF-8";')
    found, depth, begun, opened = [], 0, 0, 0
    for at, sign in enumerate(styles):
        if sign == "{":
            opened = at if depth == 0 else opened
            depth += 1
        elif sign == "}":
            depth -= 1
            if depth == 0:
                found.append(Rule(styles[begun:opened].strip(), styles[opened + 1 : at]))
                begun = at + 1
    return found


def words_used() -> set[str]:
    """Every word that stands in quotes in a template or script: the classes are among them."""
    texts = [p.read_text(encoding="utf-8") for p in (*WEB.rglob("*.html"), *(WEB / "static").glob("*.js"))]
    return {word for text in texts for quoted in _QUOTED.findall(text) for word in quoted.split()}


def part_of(styles: str, used: set[str]) -> str:
    """The rules of a style sheet whose selectors name no class but those in ``used``."""
    kept = []
    for rule in rules_of(styles):
        if rule.head.startswith(("@keyframes", "@font-face")):
            continue
        if rule.head.startswith("@"):
            within = part_of(rule.body, used)
            kept += [f"{rule.head}{{{within}}}"] if within else []
            continue
        selectors = [s for s in rule.head.split(",") if _is_used(s, used)]
        if selectors and ("--bs-" not in rule.body or not _only_of_other_colours(selectors)):
            kept.append(f"{','.join(selectors)}{{{rule.body}}}")
    return "\n".join(kept)


def _is_used(selector: str, used: set[str]) -> bool:
    return set(_CLASS.findall(selector)) <= used and not any(part in selector for part in _ABSENT)


def _only_of_other_colours(selectors: list[str]) -> bool:
    """Whether a rule is for a dark page: none is."""
    return all("[data-bs-theme=dark]" in s for s in selectors)


def bootstrap_part() -> str:
    whole = (MODULES / "bootstrap" / "dist" / "css" / "bootstrap.min.css").read_text(encoding="utf-8")
    notice = re.search(r"/\*!.*?\*/", whole, flags=re.DOTALL)
    assert notice is not None
    return f'@charset "UTF-8";{notice[0]}\n{_with_variables_used(part_of(whole, words_used()))}\n'


def _with_variables_used(styles: str) -> str:
    """Without the variables that no rule reads, until none is left to drop."""
    ours = (WEB / "static" / "anaxis.css").read_text(encoding="utf-8")
    while True:
        read = set(re.findall(r"var\((--bs-[\w-]+)", styles + ours))

        def where_read(found: re.Match[str], read: set[str] = read) -> str:
            return found[0] if found[1] in read else ""

        kept = re.sub(r"(--bs-[\w-]+):(?:[^;{}\"]|\"[^\"]*\")*;?", where_read, styles)
        if kept == styles:
            return kept
        styles = kept


def uplot_module() -> str:
    whole = (MODULES / "uplot" / "dist" / "uPlot.iife.min.js").read_text(encoding="utf-8")
    return f"{whole.rstrip()}\nexport default uPlot;\n"


if __name__ == "__main__":
    for name, text in (("bootstrap.part.css", bootstrap_part()), ("uplot.js", uplot_module())):
        (VENDOR / name).write_text(text, encoding="utf-8")
        print(f"{name}: {len(text)} bytes")
