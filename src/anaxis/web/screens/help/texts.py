"""The help texts: Markdown files, rendered once; search by words."""

from __future__ import annotations

import re
from functools import cache
from pathlib import Path
from typing import NamedTuple

from markdown_it import MarkdownIt

_FOLDER = Path(__file__).parent / "texts"
# In this order; others follow by name.
_ORDER = (
    "tour",
    "take-in",
    "clean",
    "lens",
    "plate",
    "time",
    "place",
    "deliver",
    "prove",
    "plan",
    "packages",
    "live",
    "shortcuts",
    "codes",
)


class Topic(NamedTuple):
    """A help text: the name in its address, its title, and its HTML; ``words`` are what search looks at."""

    name: str
    title: str
    html: str
    words: str


@cache
def topics() -> dict[str, Topic]:
    """Every topic by name, in order."""
    markdown = MarkdownIt("commonmark", {"html": False}).enable("table")
    names = sorted(
        (p.stem for p in _FOLDER.glob("*.md")), key=lambda n: (_ORDER.index(n) if n in _ORDER else len(_ORDER), n)
    )
    return {name: _topic(name, text_of(name), markdown) for name in names}


def text_of(name: str) -> str:
    """The Markdown of a topic."""
    return (_FOLDER / f"{name}.md").read_text(encoding="utf-8")


def _topic(name: str, text: str, markdown: MarkdownIt) -> Topic:
    title = text.partition("\n")[0].removeprefix("# ")
    body = text.partition("\n")[2]
    # A row of the codes has the code as its anchor.
    html = re.sub(r"<td><code>([\w-]+)</code></td>", r'<td id="\1"><code>\1</code></td>', markdown.render(body))
    return Topic(name, title, html, f"{title}\n{body}".lower())


def search(query: str) -> list[Topic]:
    """The topics that have every word of the query."""
    wanted = query.lower().split()
    return [t for t in topics().values() if all(w in t.words for w in wanted)]
