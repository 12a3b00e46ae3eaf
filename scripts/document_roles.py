"""Writes docs/roles.md, who may do what, from the code: ``python scripts/document_roles.py [--check]``."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from importlib import import_module
from pathlib import Path
from pkgutil import walk_packages

from fastapi.routing import APIRoute, APIWebSocketRoute
from starlette.datastructures import State
from starlette.routing import BaseRoute

import anaxis.app
from anaxis.app.acting import USE_CASES
from anaxis.app.roles import Role
from anaxis.web.access import Needs
from anaxis.web.api.application import PREFIX, api_of
from anaxis.web.app import ROUTERS

TARGET = Path(__file__).resolve().parents[1] / "docs" / "roles.md"
_HEAD = """# Who may do what

A person has a role everywhere or in a show: *viewer*, *artist*, *lead*, *administrator*; each may do what those before it may. Two checks
stand one behind the other: an address needs a role in the show that it names, and the use case behind it needs one in the shows of all rows
that it is given and of what it makes. Somebody without a role in a show finds nothing of that show in any list, page or query.
`scripts/document_roles.py` writes these tables from the code.

## Use cases

Each leaves an entry in the history under its name.

| use case | function | needs |
|---|---|---|
"""
_ADDRESSES = """
## Addresses

*Anybody* is every person who is signed in.

| address | needs |
|---|---|
"""


def _role(role: Role, studio: bool = False, own: bool = False) -> str:
    if own:
        return "one's own, or administrator"
    return f"{role.called if role else 'anybody'}{' everywhere' if studio else ''}"


def _needs_of(before: str, route: BaseRoute) -> Iterator[tuple[str, str]]:
    """An address with what it needs, a line for each of its methods."""
    if isinstance(route, APIWebSocketRoute):
        yield route.path, f"| WebSocket {before}{route.path} | asked again with every message |"
    elif isinstance(route, APIRoute):
        stated = [d.dependency for d in route.dependencies if isinstance(d.dependency, Needs)]
        for method in sorted(route.methods or ()):
            need = _role(max(need.role(method) for need in stated)) if stated else "open to all"
            yield before + route.path, f"| {method} {before}{route.path} | {need} |"


def document() -> str:
    """The two tables, sorted."""
    for module in walk_packages(anaxis.app.__path__, "anaxis.app."):
        import_module(module.name)
    cases = [
        f"| {case.action} | `{name.removeprefix('anaxis.app.')}` | {_role(case.needs, case.studio, case.own)} |"
        for name, case in sorted(USE_CASES.items(), key=lambda item: (item[1].action, item[0]))
        if name.startswith("anaxis.")
    ]
    routes = [("", r) for router in ROUTERS for r in router.routes] + [(PREFIX, r) for r in api_of(State()).routes]
    addresses = [line for before, route in routes for line in _needs_of(before, route)]
    return _HEAD + "\n".join(cases) + "\n" + _ADDRESSES + "\n".join(line for _, line in sorted(addresses)) + "\n"


if __name__ == "__main__":
    text = document()
    if "--check" in sys.argv:
        sys.exit(
            0
            if TARGET.read_text() == text
            else "docs/roles.md is not what the code says: run scripts/document_roles.py"
        )
    TARGET.write_text(text)
