"""Buttons that whoever looks may not use: shown, switched off, and saying which role they need."""

from __future__ import annotations

import re
from functools import lru_cache
from html import escape
from typing import Any

from fastapi import FastAPI
from fastapi.routing import APIRoute
from starlette.routing import Match

from anaxis.app.roles import Actor, Role

_FORM = re.compile(r"<form\b([^>]*)>(.*?)</form>", re.DOTALL)
_BUTTON = re.compile(r"<button\b([^>]*)>", re.DOTALL)
_ATTRIBUTE = re.compile(r'([a-z-]+)="([^"]*)"')
# Rights that go with the person and not with a show.
_OWN = ("/account", "/sign-out", "/notices", "/views/", "/tour/end", "/guides")


def with_rights_said(html: str, app: FastAPI, actor: Actor, show: int | None) -> str:
    """A page on which every button that needs a role the actor lacks is switched off and says so in its tip.

    The server refuses what these buttons ask for in any case; this tells it before.
    """
    lacking: dict[str, Role] = {}

    def form(found: re.Match[str]) -> str:
        attributes = dict(_ATTRIBUTE.findall(found[1]))
        if attributes.get("method") != "post":
            return found[0]
        needs = _lacks(app, actor, show, attributes.get("action", ""))
        if needs is not None and "id" in attributes:
            lacking[attributes["id"]] = needs
        inside = _BUTTON.sub(lambda b: _button(b, app, actor, show, needs, lacking), found[2])
        return f"<form{found[1]}>{inside}</form>"

    marked = _FORM.sub(form, html)
    # Buttons that stand outside of their form.
    return _BUTTON.sub(lambda b: _button(b, app, actor, show, None, lacking), marked)


def _button(
    found: re.Match[str], app: FastAPI, actor: Actor, show: int | None, needs: Role | None, lacking: dict[str, Role]
) -> str:
    attributes = dict(_ATTRIBUTE.findall(found[1]))
    if attributes.get("type") == "button" or "data-needs" in attributes:
        return found[0]
    if "form" in attributes:
        needs = lacking.get(attributes["form"])
    if "formaction" in attributes:
        needs = _lacks(app, actor, show, attributes["formaction"])
    if needs is None:
        return found[0]
    tip = escape(f"Only {needs.article} may do this. Ask an administrator for the role.")
    rest = re.sub(r'\s(?:title|disabled|autofocus)(?:="[^"]*")?', "", found[1])
    return f'<button{rest} disabled data-needs="{needs.called}" title="{tip}">'


def _lacks(app: FastAPI, actor: Actor, show: int | None, action: str) -> Role | None:
    path = action.partition("?")[0]
    if not path.startswith("/") or path.startswith(_OWN):
        return None
    needs = _role_of(re.sub(r"/\d+", "/1", path), app)
    return needs if needs is not None and actor.role(show) < needs else None


@lru_cache(maxsize=2000)
def _role_of(path: str, app: FastAPI) -> Role | None:
    """The role that a POST to an address needs; None for an address that takes none."""
    scope: dict[str, Any] = {"type": "http", "method": "POST", "path": path, "headers": [], "root_path": ""}
    for route in app.routes:
        if isinstance(route, APIRoute) and route.matches(scope)[0] is Match.FULL:
            roles = [
                d.call.role("POST")
                for d in route.dependant.dependencies
                if d.call is not None and hasattr(d.call, "role")
            ]
            return max(roles, default=None)
    return None
