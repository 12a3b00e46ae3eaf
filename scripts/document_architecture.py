"""Writes docs/architecture.md and its picture from the code's imports: ``python scripts/document_architecture.py``."""

from __future__ import annotations

import ast
import sys
import tomllib
from collections import Counter
from html import escape
from pathlib import Path

HERE = Path(__file__).resolve().parents[1]
SOURCE = HERE / "src" / "anaxis"
PICTURE = HERE / "docs" / "pictures" / "rooms.svg"
TARGET = HERE / "docs" / "architecture.md"

ROOMS = {
    "monitoring": "logs and metrics",
    "core": "the rules and all computation: camera, space, time, scene, motion, recipe, proof, checks",
    "formats": "one folder a format, reader and writer; tables, editorial",
    "packages": "profiles: what a package writes, its habits, and how deliveries compensate for them",
    "standin": "opens a delivered file as a package would; shares no conversion with formats",
    "diagnosis": "what happened on the way; calibration; what two pictures say",
    "delivery": "a camera made ready, written, proved; the package of files and its sheet",
    "library": "all that can be done with camera files without a store: look, recipe, write, compare, derive; scenes as bytes",
    "public": "what `import anaxis` gives: cameras as objects that never change",
    "store": "PostgreSQL: tables, migrations, queries",
    "sandbox": "files and pictures read, and cameras worked out, in confined processes",
    "queue": "work asked for, in the transaction that asks; jobs and queue compared",
    "app": "the use cases: take in, edit, deliver, compare; who may, and what is left in the history",
    "conformance": "plays the server to a package, and says what of the exchange holds there",
    "worker": "does the work in the queue: attempts at jobs, the process that makes them, and what starts processes again",
    "web": "screens, a folder each with its templates; drawings; static",
    "cli": "the same from a shell, a command a file",
}
WAY = (
    "file",
    "formats",
    "scene",
    "bake",
    "track",
    "recipe",
    "track",
    "outgoing",
    "formats",
    "file",
    "stand-in",
    "proof",
)


def room_of(module: str) -> str:
    return module.split(".")[1] if module.count(".") else ""


def imports() -> Counter[tuple[str, str]]:
    """How many import statements of one room name another."""
    found: Counter[tuple[str, str]] = Counter()
    for path in SOURCE.rglob("*.py"):
        here = path.relative_to(SOURCE).parts[0].removesuffix(".py")
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("anaxis."):
                there = room_of(node.module or "")
                if here in ROOMS and there in ROOMS and here != there:
                    found[here, there] += 1
    return found


def order() -> list[str]:
    """The rooms from the top, as the contract in pyproject.toml has them; one in several layers where its lowest part is."""
    contracts = tomllib.loads((HERE / "pyproject.toml").read_text())["tool"]["importlinter"]["contracts"]
    layers = next(c for c in contracts if c["name"] == "rooms")["layers"]
    names = [n.strip().split(".")[0] for layer in layers for n in layer.split("|")]
    return list(reversed(dict.fromkeys(reversed(names))))


def picture(rows: list[str], found: Counter[tuple[str, str]]) -> str:
    """The rooms one above the other, a line for each room that another imports; thick from 40 imports."""
    width, step, top = 1000, 54, 16
    place = {name: (40, top + i * step) for i, name in enumerate(rows)}
    boxes = [
        f'<rect x="{x}" y="{y}" width="150" height="34" fill="#fffdf8" stroke="#1d2a33"/>'
        f'<text x="{x + 75}" y="{y + 22}" text-anchor="middle" font-weight="600">{name}</text>'
        f'<text x="{x + 290}" y="{y + 22}" font-size="12.5">{escape(ROOMS[name])}</text>'
        for name, (x, y) in place.items()
    ]
    lines = []
    for (a, b), count in sorted(found.items()):
        (x1, y1), (x2, y2) = place[a], place[b]
        out = 12 + 9 * abs(round((y2 - y1) / step))
        x1, x2 = x1 + 150, x2 + 150
        lines.append(
            f'<path d="M{x1} {y1 + 17}C{x1 + out} {y1 + 17} {x2 + out} {y2 + 17} {x2} {y2 + 17}" fill="none" '
            f'stroke="#5b6f7a" stroke-width="{1 if count < 10 else 2 if count < 40 else 3}" opacity="0.7"/>'
        )
    height = top + len(rows) * step
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width} {height}" font-family="sans-serif" font-size="14" '
        f'fill="#1d2a33" role="img" aria-label="The rooms of the code, each importing only those below it">{"".join(lines + boxes)}</svg>\n'
    )


def document() -> tuple[str, str]:
    rows, found = order(), imports()
    listed = "\n".join(f"- **{name}**: {ROOMS[name]}" for name in rows)
    text = f"""# Architecture

Generated from the code's imports (`scripts/document_architecture.py`); a test holds it up to date, and another that every
import points down (contracts in `pyproject.toml`; imports inside functions count).

![The rooms, from the command line at the top to the core at the bottom](pictures/rooms.svg)

{listed}

A line stands for the imports of one room by another, thicker where there are more. `delivery` is a room between the proof's
parts and what keeps them: pages, command line and workers all make, write and prove a camera through it, and it knows no
database. Work is put in the queue below `app` (in the transaction that asks for it) and done above it, by `worker`.

A camera flows one way: {", ".join(WAY)}.
"""
    return text, picture(rows, found)


if __name__ == "__main__":
    text, drawn = document()
    if "--check" in sys.argv:
        sys.exit(TARGET.read_text() != text or PICTURE.read_text() != drawn)
    TARGET.write_text(text)
    PICTURE.write_text(drawn)
