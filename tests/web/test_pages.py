"""The real pages in a real browser: the whole job by mouse, by keyboard, and with bad input."""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Callable
from http.client import HTTPConnection
from pathlib import Path

import httpx
import numpy as np
import pytest
from playwright.sync_api import Page, expect

from anaxis.packages import shipped_profiles
from pages import Visitor, fits, ink, ready, take_in, until

pytestmark = pytest.mark.browser


def test_the_whole_job_by_mouse(page: Page, demo_files: dict[str, Path], tmp_path: Path) -> None:
    page.goto("/")
    expect(page.get_by_role("heading", name="No cameras yet")).to_be_visible()
    assert page.locator(".way dt").all_inner_texts() == [
        "Take in", "Clean", "Lens", "Plate", "Time", "Place", "Deliver", "Prove"
    ]  # fmt: skip
    page.get_by_role("link", name="Take in a camera file").click()
    page.set_input_files("#file", demo_files["TW_020"])
    expect(page.get_by_role("heading", name="TW_020_camera_v001.usda")).to_be_visible()
    assert "/TW_020/rail/dolly/head/shotcam" in page.inner_text("main") and "25 frames/s" in page.inner_text("main")
    fits(page)
    assert page.input_value("#shot") == "TW_020" and page.input_value("#resolution") == "1920x1080"
    page.fill("#show", "The Tidewright")
    page.get_by_role("button", name="Save cameras").click()
    ready(page)
    expect(page.locator("#answer")).to_contain_text("Not proved yet")
    for view in ("lens", "plan", "elevation"):
        assert ink(page, view) > 2000
    fits(page)
    # The ruler shows a frame in both numberings and in seconds; dragging it moves every drawing.
    box = page.locator("#ruler canvas").bounding_box()
    assert box
    page.mouse.click(box["x"] + box["width"] / 2, box["y"] + 30)
    now = page.inner_text("[data-now=ours]")
    assert 110 <= int(now) <= 130 and page.inner_text("[data-now=theirs]") == now
    assert page.inner_text("[data-now=seconds]") == f"{int(now) / 25:.3f} s"
    page.get_by_role("link", name=re.compile("Deliver")).last.click()
    page.select_option("#to", "zup-lh-cm")
    page.get_by_role("button", name="Write and prove").click()
    ready(page)
    answer = page.inner_text("#answer")
    assert answer.startswith("Matches") and "at most, at frame" in answer and "exact" in answer
    assert ink(page, "overlay") > 2000 and ink(page, "curve") > 500
    with page.expect_download() as download:
        page.get_by_role("link", name=re.compile("Download TW_020.shotcam.zup-lh-cm.usd")).click()
    saved = tmp_path / "saved.usd"
    download.value.save_as(saved)
    told = page.get_by_role("link", name=re.compile("Download")).get_attribute("title")
    assert told and hashlib.sha256(saved.read_bytes()).hexdigest() in told
    # A click on the curve moves the ruler.
    curve = page.locator("[data-view=curve]").bounding_box()
    assert curve
    page.mouse.click(curve["x"] + 93, curve["y"] + 40)
    assert page.inner_text("[data-now=ours]") == "1"
    # A drag over it looks closer: what was its left edge is a later frame then; a double click shows all again.
    page.mouse.move(curve["x"] + 400, curve["y"] + 40)
    page.mouse.down()
    page.mouse.move(curve["x"] + 600, curve["y"] + 40, steps=4)
    page.mouse.up()
    page.mouse.click(curve["x"] + 93, curve["y"] + 40)
    assert 40 < int(page.inner_text("[data-now=ours]")) < 90
    page.mouse.dblclick(curve["x"] + 300, curve["y"] + 40)
    page.mouse.click(curve["x"] + 93, curve["y"] + 40)
    assert page.inner_text("[data-now=ours]") == "1"
    page.goto("/")
    row = page.get_by_role("row", name=re.compile("TW_020"))
    expect(row).to_contain_text("delivered")
    expect(row).to_contain_text("zup-lh-cm")
    expect(row.get_by_title("Z up, left-handed, centimetres, looks along +X")).to_be_visible()


def test_the_whole_job_by_keyboard(page: Page, demo_files: dict[str, Path]) -> None:
    # Listened to from the start: the browser takes a moment until it hands its file choosers over.
    page.on("filechooser", lambda chooser: None)
    page.goto("/take-in")
    expect(page.locator("#file")).to_be_focused()
    with page.expect_file_chooser() as chooser:
        page.keyboard.press("Space")
    chooser.value.set_files(demo_files["TW_010"])
    page.wait_for_url("**/take-in/*")

    def tab_to(what: str) -> None:
        for _ in range(60):
            if page.evaluate("(what) => document.activeElement.matches(what)", what):
                return
            page.keyboard.press("Tab")
        raise AssertionError(f"the keyboard does not reach {what}")

    tab_to("#show")
    page.keyboard.type("The Tidewright")
    page.keyboard.press("Enter")
    page.wait_for_url("**/cameras/*")
    ready(page)
    ours = page.locator("[data-now=ours]")
    position = page.locator("[data-cell='theirs_position.0']")
    before = position.inner_text()
    page.keyboard.press("End")
    expect(ours).to_have_text("1120")
    assert position.inner_text() != before
    page.keyboard.press("ArrowLeft")
    expect(ours).to_have_text("1119")
    page.keyboard.press("Home")
    page.keyboard.press("ArrowRight")
    expect(ours).to_have_text("1002")
    page.keyboard.press("Space")
    until(page, "Number(document.querySelector('[data-now=ours]').textContent) > 1006")
    page.keyboard.press("Space")
    tab_to("a[href*='station=deliver'][hx-get]")
    page.keyboard.press("Enter")
    expect(page.locator("#panel")).to_be_focused()
    tab_to("#to")
    page.keyboard.press("End")
    page.wait_for_url("**to=ydown-px*")
    ready(page)
    tab_to("#deliver-form [type=submit]")
    page.keyboard.press("Enter")
    page.wait_for_url("**/deliveries/*")
    ready(page)
    expect(page.locator("#answer")).to_contain_text("Matches in Y down, right-handed, pixels")


def test_stations_open_their_panels_and_the_drawing_stays(page: Page, site: str, demo_files: dict[str, Path]) -> None:
    take_in(site, demo_files["TW_030"])
    page.goto("/cameras/1")
    ready(page)
    page.keyboard.press("End")
    for station, said in (
        ("Take in", "The film back's aspect is 2.360"),
        ("Clean", "Nodes that move the camera"),
        ("Lens", "2x"),
        ("Time", "16.667 s"),
        ("Prove", "No deliveries yet. Deliver"),
    ):
        page.locator(".stations").get_by_role("link", name=re.compile(station)).click()
        # The line of stations is swapped with the panel: a click in that moment would go to a link that is no longer there.
        expect(page).to_have_url(re.compile("station=" + station.lower().replace(" ", "-")))
        expect(page.locator("#panel")).to_contain_text(said)
        assert page.inner_text("[data-now=ours]") == "1400"
    # A guess is corrected where it stands, which makes a new version.
    page.locator(".stations").get_by_role("link", name=re.compile("Lens")).click()
    expect(page.locator("#panel .guess")).to_contain_text("width")
    page.select_option("#source_fit", "height")
    page.get_by_role("button", name="Save as version 2").click()
    expect(page.locator("#panel")).to_contain_text("the image takes the film back's height")
    assert page.locator("#panel .guess").count() == 0


def test_both_conventions_stand_side_by_side(page: Page, site: str, demo_files: dict[str, Path]) -> None:
    take_in(site, demo_files["TW_010"])
    page.goto("/cameras/1?to=zup-lh-cm#f=1050")
    ready(page)

    def cell(name: str) -> float:
        return float(page.locator(f"[data-cell='{name}']").inner_text().split()[0])

    ours = [cell(f"ours_position.{i}") for i in range(3)]
    # Y up to Z up, left-handed, both in centimetres: Y and Z change places.
    assert np.allclose([cell(f"theirs_position.{i}") for i in range(3)], [ours[0], ours[2], ours[1]])


@pytest.mark.parametrize("name", ("empty.usda", "cut.usda", "notes.usdc", "set.usda", "tide.txt"))
def test_a_bad_file_is_a_sentence_in_the_page(page: Page, usda: Callable[..., Path], tmp_path: Path, name: str) -> None:
    good = usda().read_text()
    text = {
        "empty.usda": "",
        "cut.usda": good[:150],
        "notes.usdc": "tide tables",
        "set.usda": "#usda 1.0\n",
        "tide.txt": "high water",
    }[name]
    (tmp_path / name).write_text(text)
    page.goto("/take-in")
    page.set_input_files("#file", tmp_path / name)
    sentence = page.get_by_role("alert")
    expect(sentence).to_contain_text(name)
    assert sentence.inner_text().count(". ") == 0
    page.goto("/")
    expect(page.get_by_role("heading", name="No cameras yet")).to_be_visible()


def test_a_long_name_and_five_thousand_frames(page: Page, site: str, usda: Callable[..., Path]) -> None:
    name = "camera_of_the_very_long_walk_over_the_marsh_at_low_water_v12"
    path = usda(
        ops="double3 xformOp:translate.timeSamples = { 1: (0, 10, 300), 5000: (50, 20, 250) }\n"
        ' uniform token[] xformOpOrder = ["xformOp:translate"]',
        head='upAxis = "Y"\n metersPerUnit = 0.01',
    )
    path.write_text(path.read_text().replace('"cam"', f'"{name}"'))
    take_in(site, path, shot="SHOT_" + "X" * 55)
    asked: list[str] = []
    page.on("request", lambda request: asked.append(request.url) if "/drawing?" in request.url else None)
    page.goto("/cameras/1")
    ready(page)
    across = page.locator("[data-cell='ours_position.0']")
    expect(across).to_have_text(re.compile(r"^0\.0000 cm"))
    page.keyboard.press("End")
    expect(page.locator("[data-now=ours]")).to_have_text("5000")
    expect(across).to_have_text(re.compile(r"^50\.0000 cm"))
    ruler = page.locator("#ruler canvas").bounding_box()
    assert ruler
    page.mouse.click(ruler["x"] + ruler["width"] / 2, ruler["y"] + ruler["height"] / 2)
    frame = int(page.inner_text("[data-now=ours]"))
    expect(across).to_have_text(re.compile(rf"^{50 * (frame - 1) / 4999:.4f} cm"))
    with Visitor(base_url=site) as client:
        sizes = [len(client.get(url).content) for url in asked]
    assert len(sizes) >= 4 and max(sizes) < 300_000, sizes
    page.route("**/drawing?*block=2", lambda route: route.fulfill(status=422))
    page.evaluate("location.hash = '#f=1200'")
    page.reload()
    expect(page.locator(".not-loaded").first).to_contain_text("could not be loaded")
    expect(page.locator("#answer")).to_contain_text("Not proved yet")
    page.unroute("**/drawing?*block=2")
    page.goto("/cameras/1#f=5000")
    page.reload()
    ready(page)
    expect(across).to_have_text(re.compile(r"^50\.0000 cm"))
    with Visitor(base_url=site) as client:
        form = {"version": "1", "to": "yup-rh-m", "format_key": "gltf"}
        page.goto(
            client.post("/cameras/1/deliver", data=form).headers["location"]
        )  # so many frames are work of its own
        page.wait_for_url("**/deliveries/1**")
        asked.clear()
        page.goto("/deliveries/1?look#f=3700")
        ready(page)
        expect(page.locator("[data-cell='theirs_position.0']")).to_have_text(re.compile(rf"^{0.5 * 3699 / 4999:.4f} m"))
        page.keyboard.press("Home")
        expect(page.locator("[data-cell='theirs_position.2']")).to_have_text(re.compile(r"^3\.0000 m"))
        sizes = [len(client.get(url).content) for url in asked]
        assert len(sizes) >= 3 and max(sizes) < 700_000, sizes
        assert client.get("/deliveries/1/drawing?block=10").status_code == 422
    page.goto("/cameras/1")
    ready(page)
    fits(page)
    page.goto("/")
    fits(page)
    page.set_viewport_size({"width": 1920, "height": 1080})
    page.goto("/cameras/1")
    ready(page)
    fits(page)
    panel = page.locator("#panel").bounding_box()
    ruler = page.locator("#ruler").bounding_box()
    assert panel and ruler and panel["y"] + panel["height"] <= ruler["y"]


def test_a_guessed_axis_and_unit_are_corrected_where_they_stand(page: Page, usda: Callable[..., Path]) -> None:
    page.goto("/take-in")
    page.set_input_files("#file", usda(head="timeCodesPerSecond = 24"))
    expect(page.get_by_label(re.compile("Up axis a guess"))).to_have_value("Y")
    page.select_option("#up_axis", "Z")
    page.fill("#metres_per_unit", "1")
    page.get_by_role("button", name="Update preview").click()
    expect(page.get_by_label(re.compile("Up axis set by hand"))).to_have_value("Z")
    expect(page.locator("main")).to_contain_text("3600.00 × 2025.00 mm")  # the lens follows the unit
    page.fill("#metres_per_unit", "wide")
    page.get_by_role("button", name="Update preview").click()
    expect(page.get_by_role("alert")).to_contain_text("'wide' is not a unit")
    page.fill("#metres_per_unit", "0.1")
    page.fill("#show", "S")
    page.get_by_role("button", name="Save cameras").click()
    ready(page)
    assert page.locator("[data-cell='ours_position.0']").inner_text().split()[0] == "0.0000"
    expect(page.locator("#panel")).to_contain_text("1 = 0.1 m")
    expect(page.locator("#panel")).not_to_contain_text("Correct guesses")


def test_several_cameras_of_one_file_are_kept_under_their_own_names(page: Page, usda: Callable[..., Path]) -> None:
    page.goto("/take-in")
    page.set_input_files("#file", usda('def Xform "a" {\n CAMERA\n}\ndef Xform "b" {\n CAMERA\n}'))
    page.fill("#show", "S")
    expect(page.locator("table.list").first).to_contain_text("skipped: an exact copy of /a/cam")
    page.get_by_label("Save all cameras").check()
    page.get_by_role("button", name="Save cameras").click()
    page.wait_for_url(lambda url: url.endswith("/"))
    expect(page.get_by_role("link", name="cam", exact=True)).to_be_visible()
    expect(page.get_by_role("link", name="cam_2")).to_be_visible()


def test_what_cannot_be_is_said_and_nothing_breaks(site: str, demo_files: dict[str, Path]) -> None:
    take_in(site, demo_files["TW_040"])
    with Visitor(base_url=site, follow_redirects=True, timeout=60) as client:
        for url in ("/cameras/99", "/deliveries/7", "/cameras/1?version=8", "/nowhere", "/take-in/77"):
            answer = client.get(url)
            assert answer.status_code == 404 and "Traceback" not in answer.text, url
        wrong = client.post("/cameras/1/deliver", data={"version": 1, "to": "nothing", "format_key": "usd"})
        assert wrong.status_code == 422 and "is not a package profile" in wrong.text
        assert client.post("/cameras/1/deliver", data={}).status_code == 422
        cross = client.post("/cameras/1/deliver", data={}, headers={"Sec-Fetch-Site": "cross-site"})
        assert cross.status_code == 403
        nothing = client.post("/take-in/1", data={"show": "S", "shot": "", "resolution": "1x1", "source_fit": "width"})
        assert nothing.status_code == 422 and "No camera chosen" in nothing.text
        assert client.get("/schema/track.json").json()["title"] == "Anaxis track"


def test_a_package_of_ones_own_is_delivered_to_and_a_mirrored_one_refused(
    page: Page, site: str, demo_files: dict[str, Path], tmp_path: Path
) -> None:
    take_in(site, demo_files["TW_010"])
    profile = json.loads(shipped_profiles()["zup-lh-cm"].model_dump_json()) | {"key": "attic", "label": "The attic"}
    (tmp_path / "attic.json").write_text(json.dumps(profile))
    mirrored = profile | {"camera": {"right": "+X", "up": "+Y", "back": "+Z"}}
    (tmp_path / "mirrored.json").write_text(json.dumps(mirrored))
    for name in ("mirrored.json", "attic.json"):
        page.goto("/cameras/1?station=deliver")
        ready(page)
        page.get_by_text("Package not in the list").click()
        page.set_input_files("#own_profile", tmp_path / name)
        page.get_by_role("button", name="Write and prove").click()
        if name == "mirrored.json":
            expect(page.get_by_role("alert")).to_contain_text("mirrored.json: The world axes are left-handed but")
    ready(page)
    expect(page.locator("#answer")).to_contain_text("Matches in The attic")


def test_a_file_over_the_limit_is_refused_before_it_is_sent(site: str) -> None:
    sender = HTTPConnection(site.removeprefix("http://"), timeout=10)
    sender.putrequest("POST", "/take-in")
    sender.putheader("Content-Length", "300000000")
    sender.putheader("Origin", site)
    sender.putheader("Content-Type", "multipart/form-data; boundary=b")
    sender.endheaders()
    answer = sender.getresponse()
    assert answer.status == 413 and "300 MB and the limit is 200 MB" in answer.read().decode()
    sender.close()


def test_an_empty_store_offers_files_to_try_with_and_the_list_of_shots_shows_them(page: Page) -> None:
    page.goto("/")
    fits(page)
    page.get_by_role("button", name="TW_010_camera_v001.usdc").click()
    expect(page.get_by_role("heading", name="TW_010_camera_v001.usdc")).to_be_visible()
    page.fill("#show", "The Tidewright")
    page.get_by_role("button", name="Save cameras").click()
    ready(page)
    page.goto("/cameras/1?station=deliver&to=zup-lh-cm")
    ready(page)
    page.get_by_label("glTF 2.0").check()
    page.get_by_role("button", name="Write and prove").click()
    ready(page)
    page.goto("/")
    picture = page.locator("td.eye img")
    until(page, "document.querySelector('td.eye img').naturalWidth > 0")
    assert picture.evaluate("e => [e.naturalWidth, e.naturalHeight]") == [160, 90]
    # What it draws, against where the camera sees the landmarks by plain sums.
    drawn = httpx.get(page.url + "cameras/1/thumbnail.svg?version=1", timeout=60).text
    assert drawn.count("h6M") >= 2 and drawn.count("L") > 100
    share = page.locator(".bar i").evaluate("e => e.offsetWidth / e.parentElement.clientWidth")
    worst = float(page.inner_text(".bar >> xpath=..").split()[0])
    assert share == pytest.approx((np.log10(worst) + 5) / 7, abs=0.02)
    assert page.locator(".receivers svg.axes").count() == 1 and "zup-lh-cm" in page.inner_text(".receivers")
    fits(page)
    assert Visitor().post(page.url + "samples", data={"name": "../secret"}, timeout=60).status_code == 422
