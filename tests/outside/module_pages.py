"""Pages in headless Chromium that use the modules of node_modules; nothing is fetched from anywhere."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from playwright.sync_api import Page, Route

# Development dependencies (package.json): scripts/setup.sh installs them.
MODULES = Path(__file__).resolve().parents[2] / "node_modules"
_HOST = "http://modules.invalid"


def open_page(page: Page, first: str, **others: str) -> None:
    """Show the HTML ``first`` once its script has set ``window.ready``; ``others`` are pages by the name that it opens them by."""
    pages: Mapping[str, str] = {"": first, **others}

    def served(route: Route) -> None:
        path = route.request.url.removeprefix(_HOST).lstrip("/")
        if path in pages:
            route.fulfill(body=pages[path], content_type="text/html")
        elif (MODULES / path).is_file():
            route.fulfill(path=MODULES / path, content_type="text/javascript")
        else:
            route.abort()

    page.route("**/*", served)
    page.goto(_HOST + "/")
    page.wait_for_function("window.ready === true")
