"""Two stills compared in the browser."""

from __future__ import annotations

from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from anaxis.diagnosis.stills import to_png
from pages import fits, ready, take_in
from test_stills import drawn, moved


@pytest.mark.browser
def test_two_stills_on_the_page(page: Page, site: str, demo_files: dict[str, Path], tmp_path: Path) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    ours = drawn()
    (tmp_path / "ours.png").write_bytes(to_png(ours))
    (tmp_path / "theirs.png").write_bytes(to_png(moved(ours, 6.5, -3.0, 1, 0)))
    page.goto("/cameras/1?station=prove&to=zup-lh-cm")
    ready(page)
    page.set_input_files("[name=ours]", tmp_path / "ours.png")
    page.set_input_files("[name=theirs]", tmp_path / "theirs.png")
    page.fill("#stills-form [name=frame]", "1060")
    page.get_by_role("button", name="Overlay stills").click()
    page.wait_for_url("**/stills/1")
    ready(page)
    expect(page.locator("#answer")).to_contain_text("frame 1060: The returned still is shifted 6.5")
    assert page.locator(".stills .marks text").count() >= 2
    for mode in ("wipe", "difference", "flicker", "opacity"):
        page.select_option("#still-mode", mode)
        expect(page.locator("#stills")).to_have_attribute("data-mode", mode)
    fits(page)
    (tmp_path / "bad.png").write_bytes(b"nothing")
    page.goto("/cameras/1?station=prove&to=zup-lh-cm")
    ready(page)
    page.set_input_files("[name=ours]", tmp_path / "ours.png")
    page.set_input_files("[name=theirs]", tmp_path / "bad.png")
    page.get_by_role("button", name="Overlay stills").click()
    expect(page.get_by_role("alert")).to_contain_text("bad.png is not a readable image")
