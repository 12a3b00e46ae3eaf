"""Every main view: help beside it, readable without sight, and no wider than a phone."""

from __future__ import annotations

import re
from pathlib import Path

import httpx
import pytest
from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import Page, expect

from pages import Visitor, ready, take_in

STATIONS = ("take-in", "clean", "lens", "plate", "time", "place", "deliver", "prove")
VIEWS = {
    "application": [
        "/",
        "/take-in",
        "/packages",
        "/packages/zup-lh-cm",
        "/people",
        "/account",
        "/workers",
        "/help",
        "/help/codes",
        "/help/tour",
        "/notices",
    ],
    "show": [
        *("/shows/1/plan", "/shows/1/live", "/shows/1/derive", "/shows/1/join", "/history?show=1", "/search?q=tw_010"),
        *("/shots/1", "/deliveries/1", "/deliveries/1/sheet", "/cameras/1/film"),
    ],
    "stations": [f"/cameras/1?station={station}" for station in STATIONS],
}
RULES = {"runOnly": ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "best-practice"]}


@pytest.mark.browser
@pytest.mark.parametrize("views", VIEWS)
def test_every_view_meets_the_rules_of_accessibility_and_fits_a_phone(
    page: Page, site: str, demo_files: dict[str, Path], views: str
) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    with Visitor(base_url=site) as client:
        form = {"to": "zup-lh-cm", "format_key": "usd", "version": "1"}
        answer = client.post("/cameras/1/deliver", data=form)
        assert answer.status_code == 303, answer.text
    broken = []
    for view in VIEWS[views]:
        page.set_viewport_size({"width": 1280, "height": 800})
        page.goto(view)
        found = Axe().run(page, options=RULES).response["violations"]
        broken += [f"{view}: {v['id']}: {v['nodes'][0]['html'][:120]}" for v in found]
        if view != "/deliveries/1/sheet":  # a sheet of paper
            page.set_viewport_size({"width": 390, "height": 844})
            wide_px = page.evaluate("document.documentElement.scrollWidth")
            broken += [f"{view}: {wide_px} px wide"] if wide_px > 390 else []
    assert not broken, "\n".join(broken)


@pytest.mark.browser
def test_help_is_one_click_away_and_keys_are_listed_by_a_key(
    page: Page, site: str, demo_files: dict[str, Path]
) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    page.goto("/cameras/1?station=lens")
    ready(page)
    page.keyboard.press("?")
    expect(page.get_by_role("dialog", name="Keys of this page")).to_be_visible()
    expect(page.get_by_role("dialog")).to_contain_text("one frame back")
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog")).to_be_hidden()
    page.locator("[data-lens=focal_mm]").focus()
    page.keyboard.press("?")  # typed into a field, a question mark is a question mark
    expect(page.get_by_role("dialog")).to_be_hidden()
    page.get_by_role("link", name=re.compile("Help on")).first.click()
    expect(page.locator("h1")).to_have_text("Lens")
    page.get_by_label("Search help", exact=True).fill("MIRRORED handedness")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_contain_text("MIRRORED handedness")


def test_help_has_every_topic_that_a_page_refers_to_and_a_row_for_every_code(site: str) -> None:
    screens = Path(__file__).resolve().parents[2] / "src" / "anaxis" / "web"
    named = {n for p in screens.rglob("*.html") for n in re.findall(r'm\.help\("([\w-]+)"', p.read_text())} | {"codes"}
    assert len(named) >= len(STATIONS)
    for topic in sorted(named):
        assert httpx.get(f"{site}/help/{topic}").status_code == 200, topic
    codes = httpx.get(f"{site}/help/codes").text
    documented = re.findall(r"^\| `([\w-]+)` \|", (screens.parents[2] / "docs" / "codes.md").read_text(), re.M)
    assert len(documented) > 50
    assert [c for c in documented if f'id="{c}"' not in codes] == []
    assert httpx.get(f"{site}/help/nothing").status_code == 404
    assert "No help topics match" in httpx.get(f"{site}/help", params={"q": "<b>qwxz"}).text
    assert "<b>qwxz" not in httpx.get(f"{site}/help", params={"q": "<b>qwxz"}).text
