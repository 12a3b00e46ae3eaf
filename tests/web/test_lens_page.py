"""The Lens station in a browser: typed, dragged, compared, taken; curves, parts of the plate, film backs."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from pages import fits, ink, ready, take_in, until

pytestmark = pytest.mark.browser


def opened(page: Page, site: str, path: Path, shot: str, at: str = "") -> None:
    take_in(site, path, shot)
    page.goto(f"/cameras/1?station=lens{at}")
    ready(page)
    until(page, "document.querySelector('[data-lens=focal_mm]').value !== ''")
    page.evaluate("document.fonts.ready.then(() => true)")


def value(page: Page, name: str) -> float:
    return float(page.input_value(f"[data-lens={name}]"))


def picture(page: Page) -> str:
    return str(page.evaluate("document.querySelector('[data-view=lens]').toDataURL()"))


def settled(page: Page, name: str, wanted: float) -> None:
    until(page, f"Math.abs(document.querySelector('[data-lens={name}]').value - {wanted}) < 2e-3")


def test_a_number_typed_moves_every_other_and_the_picture(page: Page, site: str, demo_files: dict[str, Path]) -> None:
    opened(page, site, demo_files["TW_030"], "TW_030")
    expect(page.locator("[data-live=uses]")).to_contain_text("The image crops its height by 1.1%.")
    before, wedge = picture(page), page.locator(".wedges").inner_html()
    page.fill("[data-lens=hfov_deg]", "30")
    settled(page, "focal_mm", 81.917)
    assert value(page, "equivalent_35_mm") == pytest.approx(74.45, abs=0.2)
    assert picture(page) != before and page.locator(".wedges").inner_html() != wedge
    expect(page.locator(".tried-mark")).to_be_visible()
    page.get_by_role("button", name="Reset lens").click()
    settled(page, "focal_mm", 50)
    expect(page.locator(".view.lens.tried")).to_have_count(0)
    # Another film back, keeping the view; the nominal sizes fill both fields.
    page.select_option("[data-lens=keep]", "field of view")
    page.locator("[data-lens=film]").select_option(label="Super 35, 24.89 × 18.66")
    settled(page, "focal_mm", 56.697)
    expect(page.locator("[data-live=uses]")).to_contain_text("The image pads its height by 11.8%.")
    page.fill("[data-lens=vfov_deg]", "200")
    expect(page.locator("#lens-form .said-here")).to_contain_text("between 0 and 180")
    page.fill("[data-lens=vfov_deg]", "20")
    expect(page.locator("#lens-form .said-here")).to_have_count(0)
    page.get_by_role("button", name="Use this lens").click()
    page.wait_for_url("**station=lens**")
    ready(page)
    expect(page.locator(".stations")).to_contain_text("24.89 × 18.66 mm")
    settled(page, "vfov_deg", 20)
    page.goto("/cameras/1?station=clean")
    expect(page.locator(".recipe")).to_contain_text("Set the film back 24.890 × 18.660 mm")
    expect(page.locator(".recipe")).to_contain_text("Lens curve focal length set to")


def test_the_drawings_are_dragged(page: Page, site: str, demo_files: dict[str, Path]) -> None:
    opened(page, site, demo_files["TW_030"], "TW_030")
    before = picture(page)

    def drag(selector: str, right: int, down: int) -> None:
        box = page.locator(selector).first.bounding_box()
        assert box
        x, y = box["x"] + min(6, box["width"] / 2), box["y"] + min(6, box["height"] / 2)
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + right, y + down, steps=5)
        page.mouse.up()
        page.wait_for_selector("#lens-form[aria-busy=false]")  # drawn once more when the drag ends

    drag("#lens-form rect.image", 25, -12)
    until(page, "document.querySelector('[data-lens=offset_x_mm]').value > 1")
    assert value(page, "offset_x_mm") / value(page, "offset_y_mm") == pytest.approx(25 / 12, rel=0.05)
    assert picture(page) != before
    slow = "const f = window.fetch; window.fetch = (...asked) => new Promise((done) => setTimeout(() => done(f(...asked)), 250))"
    page.evaluate(slow)  # answers come slower than the hand moves
    drag("#lens-form rect.grip", -40, 0)
    until(page, "document.querySelector('[data-lens=film_width_mm]').value < 20")
    wide = value(page, "hfov_deg")
    x, y = page.evaluate(
        """() => { const p = document.querySelector('[data-drag=hfov_deg]'), at = p.getPointAtLength(20), m = p.getScreenCTM();
        const on = new DOMPoint(at.x, at.y).matrixTransform(m); return [on.x, on.y]; }"""
    )
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x, y - 25, steps=5)
    page.mouse.up()
    until(page, f"document.querySelector('[data-lens=hfov_deg]').value > {wide + 3}")
    fits(page)


def test_one_frame_a_range_and_a_curve(page: Page, site: str, demo_files: dict[str, Path]) -> None:
    opened(page, site, demo_files["TW_020"], "TW_020", "#f=60")
    expect(page.locator("[data-lens-frame]")).to_have_text("frame 60")
    settled(page, "focal_mm", 27.971)
    assert ink(page, "curves") > 300
    page.fill("[data-lens=focal_mm]", "55.942")
    page.get_by_role("button", name="Use this lens").click()
    page.wait_for_url("**station=lens**")
    ready(page)
    settled(page, "focal_mm", 48)  # frame 1: the curve was scaled by two
    # Frames chosen by dragging over the curves, and only they take one value.
    box = page.locator("[data-view=curves]").bounding_box()
    assert box
    page.mouse.move(box["x"] + 130, box["y"] + 80)
    page.mouse.down()
    page.mouse.move(box["x"] + 200, box["y"] + 80, steps=4)
    page.mouse.up()
    first, last = page.input_value("[name=first]"), page.input_value("[name=last]")
    assert 1 < int(first) < int(last) < 240
    page.fill("[data-lens=focal_mm]", "33")
    page.select_option("[name=way]", "set")
    page.get_by_role("button", name="Use this lens").click()
    page.wait_for_url("**station=lens**")
    ready(page)
    page.get_by_role("button", name="Numbers").click()
    page.goto(f"/cameras/1?station=lens#f={first}")
    page.reload()
    ready(page)
    settled(page, "focal_mm", 33)
    page.get_by_text("Set, scale or trim a curve").click()
    page.select_option("[name=param_channel]", "stop")
    page.fill("[name=param_value]", "8")
    page.get_by_role("button", name="Change curve").click()
    page.wait_for_url("**station=lens**")
    ready(page)
    expect(page.locator(".sheet-table").last).to_contain_text("8.00 f")


def test_fits_parts_and_film_backs_of_ones_own(page: Page, site: str, demo_files: dict[str, Path]) -> None:
    opened(page, site, demo_files["TW_030"], "TW_030")
    expect(page.locator(".fit")).to_have_count(5)
    expect(page.locator(".fit[data-fit=height]")).to_contain_text("pads its width by 1.1%")
    assert page.locator(".fit[data-fit=width]").get_attribute("aria-pressed") == "true"
    drawn = {
        page.evaluate(f"document.querySelector('.fit[data-fit={fit}] canvas').toDataURL()")
        for fit in ("width", "height", "stretch")
    }
    assert len(drawn) == 3
    page.locator(".fit[data-fit=height]").click()
    expect(page.locator(".fit[data-fit=height]")).to_have_attribute("aria-pressed", "true")
    page.get_by_role("button", name="Use this lens").click()
    page.wait_for_url("**station=lens**")
    ready(page)
    expect(page.locator(".view.lens figcaption")).to_contain_text("source fit height")
    expect(page.locator(".view.lens figcaption .guess")).to_have_count(0)
    page.get_by_text("Part of a larger plate, or overscan").click()
    page.fill("[name=width_px]", "1024")
    page.fill("[name=height_px]", "429")
    expect(page.locator("#part-drawing")).to_contain_text("render 1024 × 429 px")
    page.get_by_role("button", name="Use this part as the image").click()
    page.wait_for_url("**station=lens**")
    ready(page)
    expect(page.locator(".view.lens figcaption")).to_contain_text("1024 × 429 px")
    page.get_by_text("Film backs of your own").click()
    page.fill("[name=name]", "Marsh 4K crop")
    page.fill("[name=size]", "21.1x11.9")
    page.get_by_role("button", name="Save film back", exact=True).click()
    page.wait_for_url("**station=lens**")
    ready(page)
    page.locator("[data-lens=film]").select_option(label="Marsh 4K crop, 21.1 × 11.9")
    settled(page, "film_width_mm", 21.1)
    # Undone, the part is gone from the picture too.
    page.goto("/cameras/1?station=clean")
    page.get_by_role("button", name="Remove").first.click()
    ready(page)
    expect(page.locator(".view.lens figcaption")).to_contain_text(re.compile("2048 × 858 px"))
    fits(page)
