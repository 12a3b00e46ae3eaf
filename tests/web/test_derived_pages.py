"""Cameras made from cameras in a browser: a cut laid by hand and from an edit, an object framed, a camera held; behind, and updated."""

from __future__ import annotations

import io
import json
import re
import zipfile
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import Page, expect

import cut
import sphere
from pages import Visitor, fits, ready, take_in, until

pytestmark = pytest.mark.browser
CAMERAS = {
    "TW_010": "/TW_010/crane_base/crane_arm/crane_reach/head/shotcam",
    "TW_020": "/TW_020/rail/dolly/head/shotcam",
    "TW_030": "/TW_030/anchor/line/kite/head/shotcam",
}


@pytest.fixture
def shots(site: str, demo_files: dict[str, Path]) -> str:
    for name, path in CAMERAS.items():
        take_in(site, demo_files[name], name, path)
    return site


def pieces(page: Page) -> list[dict[str, float]]:
    return list(json.loads(page.locator("#pieces").input_value()))


def drag(page: Page, selector: str, by: float) -> None:
    box = page.locator(selector).first.bounding_box()
    assert box is not None
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + by, y, steps=4)
    page.mouse.up()


def test_a_cut_laid_by_hand_is_joined_proved_falls_behind_and_is_brought_up_to_date(page: Page, shots: str) -> None:
    page.goto("/")
    page.get_by_role("link", name="Join shots").click()
    ready(page)
    page.get_by_role("button", name="Add shot").click()
    page.select_option("#add-camera", index=2)
    page.get_by_role("button", name="Add shot").click()
    assert [(p["role"], p["frames"], p["begins"]) for p in pieces(page)] == [
        ("TW_010 shotcam", 120, 0),
        ("TW_030 shotcam", 400, 120),
    ]
    expect(page.locator("#cut-said")).to_contain_text("Resolution differs")
    # Typed: last frames; dragged: an end, a block (a gap is said), the bar beneath (another part of the shot).
    page.get_by_label("last frame of 1").fill("1060")
    page.get_by_label("last frame of 1").press("Tab")
    page.get_by_label("last frame of 2").fill("1040")
    page.get_by_label("last frame of 2").press("Tab")
    assert [p["frames"] for p in pieces(page)] == [60, 40]
    expect(page.locator("#cut-said")).to_contain_text("The edit has a gap from frame 1061 to 1120")
    scale = float(page.locator("#strip").get_attribute("data-scale") or 0)
    drag(page, "[data-piece='1'][data-part='move']", -60 * scale)
    assert pieces(page)[1]["begins"] == 60
    drag(page, "[data-piece='0'][data-part='in']", 10 * float(page.locator("#strip").get_attribute("data-scale") or 0))
    assert (pieces(page)[0]["first"], pieces(page)[0]["frames"], pieces(page)[0]["begins"]) == (1011, 50, 10)
    drag(
        page, "[data-piece='1'][data-part='slip']", -20 * float(page.locator("#strip").get_attribute("data-scale") or 0)
    )
    assert (pieces(page)[1]["first"], pieces(page)[1]["frames"]) == (1021, 40)
    page.get_by_label("Later: TW_010 shotcam").click()
    assert [p["role"] for p in pieces(page)] == ["TW_030 shotcam", "TW_010 shotcam"]
    page.get_by_label("Earlier: TW_010 shotcam").click()
    page.get_by_role("button", name="Close gaps").click()
    expect(page.locator("#cut-said .owed")).to_contain_text("1001–1090")
    fits(page)
    page.select_option("[name=film_back]", "common")
    page.fill("[name=shot]", "reel_1")
    page.get_by_role("button", name="Join shots").click()
    page.wait_for_url("**/cameras/4**")
    ready(page)
    expect(page.locator("svg.made-from")).to_contain_text("TW_030 shotcam")
    # Scrubbing says the shot and its own frame; the range typed elsewhere is held against the one owed.
    page.evaluate("location.hash = '#f=1051'")
    page.reload()
    ready(page)
    expect(page.locator("[data-live=shown]")).to_contain_text("TW_030 shotcam, frame 1021.")
    page.fill("[name=typed]", "1001-1050")
    page.get_by_role("button", name="Check range").click()
    expect(page.locator("#range-said")).to_contain_text("40 frames are missing at the end")
    page.fill("[name=typed]", "1001-1090")
    page.get_by_role("button", name="Check range").click()
    expect(page.locator("#range-said")).to_contain_text("is the expected range")
    page.goto("/cameras/4?station=deliver&to=zup-lh-cm")
    ready(page)
    page.get_by_role("button", name="Write and prove").click()
    page.wait_for_url("**/deliveries/*")
    ready(page)
    expect(page.locator("#answer strong")).to_contain_text("Matches the camera; the camera has 2 warnings")
    with Visitor(base_url=shots, follow_redirects=True) as visitor:
        files = re.findall(r"/cameras/4/edit/[^\"?]+", visitor.get("/cameras/4?station=take-in").text)
        assert len(set(files)) == 4
        for file in set(files):
            assert visitor.get(file, params={"version": 1}).status_code == 200
        # One of its shots is edited: it says so, by how much, and is updated in one step.
        moved = {
            "action": "add",
            "code": "shift",
            "param_x_m": "0.25",
            "param_y_m": "0",
            "param_z_m": "0",
            "version": "1",
            "head": "1",
        }
        assert visitor.post("/cameras/3/recipe", data=moved).status_code == 200
    page.goto("/")
    expect(page.locator("tr").filter(has_text="joined")).to_contain_text("outdated")
    page.goto("/cameras/4")
    expect(page.locator("#answer")).to_contain_text("Outdated: 1 input has a newer version")
    page.goto("/cameras/4?station=take-in")
    ready(page)
    expect(page.locator("#panel")).to_contain_text("The update changes the picture by")
    page.get_by_role("button", name="Update camera").click()
    page.wait_for_url("**version=2**")
    ready(page)
    expect(page.locator("#panel")).to_contain_text("Up to date")
    # And the cut is changed on the same strip; an input is removed only even so.
    page.get_by_role("link", name="Change cut").click()
    ready(page)
    page.get_by_label("frames of 2").fill("30")
    page.get_by_label("frames of 2").press("Tab")
    page.get_by_role("button", name="Join again").click()
    page.wait_for_url("**version=3**")
    ready(page)
    expect(page.locator("#panel")).to_contain_text("1001–1080")
    page.goto("/cameras/1?station=take-in")
    ready(page)
    expect(page.locator("#panel")).to_contain_text("reel_1 joined")
    page.get_by_role("button", name="Archive camera").click()
    expect(page.locator(".top-said")).to_contain_text("reel_1 joined is derived from shotcam")


def test_an_edit_is_laid_with_its_notes(page: Page, shots: str, tmp_path: Path) -> None:
    page.goto("/shows/1/join")
    ready(page)
    page.set_input_files("[name=file]", cut.make_cut(tmp_path / "reel_1.otio"))
    page.get_by_role("button", name="Import edit").click()
    ready(page)
    assert [p["name"] for p in pieces(page)] == ["TW_010_plate_v003", "TW_030_plate_v002"]
    expect(page.locator("div.note")).to_contain_text("Without a camera; left as gaps: TW_050_plate_v001")
    expect(page.locator("#cut-said")).to_contain_text("168 frames")
    with Visitor(base_url=shots, follow_redirects=True) as visitor:
        bad = visitor.post("/shows/1/join/edit", files={"file": ("x.otio", b"no edit")}, data={"rate": "24"})
        assert bad.status_code == 422 and "cannot be read as an edit" in bad.text
        for broken in (
            "",
            "[]",
            "no json",
            '[{"name": "a"}]',
            json.dumps([{"name": "a", "role": "b", "first": 1, "begins": 0, "frames": 10**9}]),
        ):
            answer = visitor.post(
                "/shows/1/join", data={"pieces": broken, "rate": "24", "width_px": "1920", "height_px": "1080"}
            )
            assert answer.status_code == 422 and "Traceback" not in answer.text, broken


def test_a_camera_is_held_where_it_covers_most(page: Page, shots: str) -> None:
    page.goto("/cameras/1/derive")
    page.get_by_role("button", name="Suggest frames").click()
    rows = page.locator("#best tbody tr")
    expect(rows).to_have_count(3)
    rows.nth(1).get_by_role("button", name="Make projection camera").click()
    page.wait_for_url("**/cameras/5**")
    ready(page)
    expect(page.locator("#panel")).to_contain_text("projection camera")
    page.get_by_role("link", name="Show coverage").click()
    expect(page.locator("#answer strong")).to_contain_text("% covered")
    expect(page.locator("svg.on-set rect.covered").first).to_be_visible()
    before = page.locator("svg.on-set").inner_html()
    page.locator("svg.covered a").nth(3).click()
    until(
        page,
        f"document.querySelector('svg.on-set') && document.querySelector('svg.on-set').innerHTML !== {json.dumps(before)}",
    )
    page.get_by_role("link", name="exclude").first.click()
    expect(page.get_by_role("link", name="include", exact=True)).to_have_count(1)
    fits(page)


def test_an_object_is_framed_in_its_sphere_and_the_maps_are_fetched(
    page: Page, site: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = tmp_path / "TW_060"
    file = sphere.make_sphere(folder, np.arange(0, 6))
    monkeypatch.setenv("ANAXIS_MEDIA_ROOTS", f"mill={tmp_path}")
    monkeypatch.setenv("ANAXIS_MEDIA_SHOWS", "mill=*")
    monkeypatch.setenv("ANAXIS_PLATES", str(tmp_path / "plates"))
    take_in(site, file, "TW_060", "/TW_060/raft/shotcam")
    with Visitor(base_url=site, follow_redirects=True) as visitor:
        plate = {
            "version": "1",
            "root": "mill",
            "folder": "TW_060/plate",
            "sequence": "TW_060_sphere.####.png",
            "kind": "equirectangular",
        }
        assert visitor.post("/cameras/1/plates", data=plate).status_code == 200
        trimmed = {
            "action": "add",
            "code": "trim",
            "param_first": "1001",
            "param_last": "1006",
            "version": "1",
            "head": "1",
        }
        assert visitor.post("/cameras/1/recipe", data=trimmed).status_code == 200
    page.goto("/cameras/1/derive")
    page.get_by_label("tide_bell_body").check()
    page.fill("[name=border]", "15")
    page.fill("[name=width_px]", "640")
    page.fill("[name=height_px]", "360")
    page.get_by_role("button", name="Make framing camera").click()
    page.wait_for_url("**/cameras/2/sphere")
    ready(page)
    expect(page.locator("#answer strong")).to_have_text("Round trip matches")
    until(
        page,
        """(() => { const c = document.querySelector('canvas[data-view=sphere]'); const d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data;
        let n = 0; for (let i = 0; i < d.length; i += 4) n += d[i + 2] - d[i] > 6; return n > 2000; })()""",
    )
    fits(page)
    page.get_by_role("button", name="Write view of the plate").click()
    page.get_by_role("link", name=re.compile(r"\.zip")).wait_for(timeout=60_000)
    with Visitor(base_url=site, follow_redirects=True) as visitor:
        held = zipfile.ZipFile(io.BytesIO(visitor.get(page.url.split(site)[1] + "/file").content))
        assert len(held.namelist()) == 6
    page.goto("/cameras/2/sphere")
    ready(page)
    page.get_by_role("button", name="Write maps of 6 frames").click()
    expect(page.locator("main")).to_contain_text("18 maps", timeout=60_000)
    # Other settings make it anew; one that cannot be is a sentence, and nothing changes.
    page.goto("/cameras/2/sphere")
    ready(page)
    page.fill("[name=border]", "60")
    page.get_by_role("button", name="Update camera").click()
    expect(page.locator(".top-said")).to_contain_text("leaves no picture")
