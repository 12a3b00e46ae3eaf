"""An edit on the pages."""

from __future__ import annotations

from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from pages import Visitor, fits, ready, take_in
from test_editorial import EDL, edl  # noqa: F401  (a fixture)


@pytest.mark.browser
def test_the_edit_on_the_pages(page: Page, site: str, demo_files: dict[str, Path], edl: Path) -> None:  # noqa: F811
    for name in ("TW_010", "TW_020", "TW_030"):
        take_in(site, demo_files[name], name)
    Visitor().post(
        f"{site}/cameras/1/deliver", data={"version": "1", "to": "yup-rh-m", "format_key": "usd"}, timeout=60
    )
    page.goto("/")
    page.get_by_text("Expected ranges from an edit").click()
    page.set_input_files("[name=file]", edl)
    page.get_by_role("button", name="Import ranges").click()
    expect(page.locator("h1")).to_contain_text("Expected ranges from TIDEWRIGHT_REEL")
    rows = page.locator("tbody tr")
    expect(rows).to_have_count(2)
    # Two clips of it: 1001 to 1119, and 1124 to 1129; the camera ends at 1120.
    expect(rows.first).to_contain_text("1001–1129")
    expect(rows.first.locator(".warm")).to_contain_text("1129")
    expect(rows.last).to_contain_text("runs at 25 frames a second and the shot at 24")
    expect(page.locator("main")).to_contain_text("TW_030")
    expect(page.locator("main")).to_contain_text("TW_0101")
    fits(page)
    page.goto("/cameras/1?station=time")
    ready(page)
    # What the shot should be changes no camera; but nine frames of it are owed and were not delivered.
    expect(page.locator("#answer")).to_contain_text("Only 120 of 129 frames")
    expect(page.locator("#panel")).to_contain_text("1129")
    page.get_by_text("Cuts from the edit").click()
    page.set_input_files("#panel [name=file]", edl)
    page.get_by_role("button", name="Mark cuts of the edit").click()
    ready(page)
    expect(page.locator(".cuts")).to_contain_text("1120, marked")
    with Visitor(base_url=site, timeout=60) as client:
        answer = client.post("/shows/1/edit", files={"file": ("x.edl", b"")})
        assert answer.status_code == 422 and "empty" in answer.text
        assert client.post("/shows/9/edit", files={"file": ("x.edl", EDL.encode())}).status_code == 404
