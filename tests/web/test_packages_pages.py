"""Packages and returns in a browser: the whole loop from a delivery that arrives wrong to one that is exact."""

from __future__ import annotations

import json
import re
import zipfile
from pathlib import Path

import httpx
import numpy as np
import pytest
from playwright.sync_api import Page, expect

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.checks.examine import take_camera
from anaxis.core.outgoing import Outgoing
from anaxis.core.proof.proof import prove
from anaxis.core.scene.landmarks import NO_LANDMARKS
from anaxis.diagnosis.calibration_form import form_of
from anaxis.diagnosis.calibration_kit import FIT, made_camera
from anaxis.diagnosis.calibration_kit import IMAGE as CALIBRATED
from anaxis.formats import read_file
from anaxis.formats.tables.write import write_columns
from anaxis.packages.model import Profile
from anaxis.standin.package import open_as_package
from pages import Visitor, fits, ink, ready, take_in, until
from test_calibration import opened, random_profile
from test_habits import with_habits

pytestmark = pytest.mark.browser
IMAGE = Image(1920, 1080)


def what_comes_back(sent: Path, truth: Profile, folder: Path) -> Path:
    """The package's own table of the camera that it made of a delivered file."""
    seen = open_as_package(sent, truth, IMAGE)
    return write_columns(
        [Outgoing(seen.track, truth.convention, seen.image, truth.lens.fit, NO_LANDMARKS, ())], folder, "came_back"
    )[0]


_WORDS_DRAWN = """
window.wordsDrawn = new Set();
const fill = CanvasRenderingContext2D.prototype.fillText;
CanvasRenderingContext2D.prototype.fillText = function (text, ...at) { window.wordsDrawn.add(String(text)); return fill.call(this, text, ...at); };
"""


def test_deliver_arrive_wrong_diagnose_deliver_again_exact(
    page: Page, site: str, demo_files: dict[str, Path], tmp_path: Path
) -> None:
    truth = with_habits(
        "zup-lh-cm", {"code": "world_turn", "axis": "Z", "angle_deg": 90}, {"code": "film_factor", "factor": 0.1}
    )
    take_in(site, demo_files["TW_010"], "TW_010")
    page.goto("/cameras/1?station=deliver&to=zup-lh-cm")
    ready(page)
    page.get_by_role("button", name="Write and prove").click()
    page.wait_for_url("**/deliveries/1")
    ready(page)

    def download(number: int, name: str) -> Path:
        found = httpx.get(f"{site}/deliveries/{number}/files/{name}", timeout=60)
        path = tmp_path / f"{number}.usd"
        path.write_bytes(found.content)
        return path

    back = what_comes_back(download(1, "TW_010.shotcam.zup-lh-cm.usd"), truth, tmp_path)
    page.add_init_script(_WORDS_DRAWN)
    page.goto("/cameras/1?station=prove&to=zup-lh-cm")
    ready(page)
    page.set_input_files("#return-form input[name=file]", back)
    page.get_by_role("button", name="Measure and explain").click()
    page.wait_for_url("**/returns/1")
    ready(page)
    expect(page.locator("#answer")).to_contain_text("Returned camera differs")
    first = page.locator(".explanations li").first
    expect(first).to_contain_text("rotates the world by 90 degrees about its Z")
    expect(first).to_contain_text("makes the film back 0.1 times as large")
    assert ink(page, "overlay") > 1000 and ink(page, "curve") > 300
    drawn = page.evaluate("[...window.wordsDrawn]")
    # Every tick says how many pixels it is, on a scale of tens too.
    assert any(w.endswith("px") for w in drawn) and not any("null" in w or "NaN" in w for w in drawn)
    fits(page)
    first.get_by_role("button", name="Save as habit and deliver again").click()
    page.wait_for_url("**/deliveries/2")
    ready(page)
    expect(page.locator("#answer")).to_contain_text("Matches")
    expect(page.locator(".numbers")).to_contain_text(". The file compensates for this")
    # Nobody's word for it: the package as it is opens the new file and sees the camera meant.
    key = "zup-lh-cm-here"
    again = download(2, f"TW_010.shotcam.{key}.usd")
    track = take_camera(read_file(demo_files["TW_010"]), None).done
    seen = open_as_package(again, truth, IMAGE, track.frames)
    assert prove(track, projection_of(track, IMAGE, "width"), seen.projection, np.zeros((1, 0, 3))).max_px <= 0.01
    page.goto(f"/packages/{key}")
    expect(page.locator(".habits").first).to_contain_text("makes the film back 0.1 times as large")
    expect(page.locator("main")).to_contain_text("Shots delivered to this package: TW_010")


def test_numbers_typed_for_three_frames_are_explained(
    page: Page, site: str, demo_files: dict[str, Path], tmp_path: Path
) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    truth = with_habits("zup-lh-cm", {"code": "scale", "factor": 100})
    scene = take_camera(read_file(demo_files["TW_010"]), None)
    from anaxis.core.scene.picture import picture_of
    from anaxis.delivery.deliver import deliver

    done = deliver(
        scene.done,
        scene.landmarks,
        picture_of(read_file(demo_files["TW_010"]), None, None),
        truth.model_copy(update={"habits": ()}),
        "usd",
        tmp_path,
    )
    back = what_comes_back(done.files[0], truth, tmp_path).read_text().splitlines()
    rows = [back[i].split(",") for i in (1, 40, 80, 119)]
    typed = "\n".join(" ".join([r[0], *r[2:8]]) for r in rows)
    page.goto("/cameras/1?station=prove&to=zup-lh-cm")
    ready(page)
    page.get_by_text("Or type numbers of three frames or more").click()
    page.fill("[name=numbers]", "1001 3 4")
    page.get_by_role("button", name="Measure and explain").click()
    expect(page.get_by_role("alert")).to_contain_text("has 3 values")
    page.get_by_text("Or type numbers of three frames or more").click()
    page.fill("[name=numbers]", typed)
    page.get_by_role("button", name="Measure and explain").click()
    page.wait_for_url("**/returns/1")
    expect(page.locator(".explanations li").first).to_contain_text("scales everything by 100")
    expect(page.locator("#answer")).to_contain_text("4 frames typed")


def test_a_package_is_copied_edited_refused_exported_and_imported(page: Page, site: str, tmp_path: Path) -> None:
    page.goto("/packages")
    expect(page.locator("tbody tr")).to_have_count(9)
    page.get_by_role("link", name="Y up, left-handed, metres, looks along +Z").click()
    expect(page.locator("[name=world_up]")).to_be_disabled()
    page.fill("[name=new_key]", "Marsh Attic")
    page.get_by_role("button", name="Copy").click()
    page.wait_for_url("**/packages/marsh-attic")
    page.select_option("[name=world_back]", "+Z")
    page.get_by_role("button", name="Save as version 2").click()
    expect(page.locator(".sentence.bad")).to_contain_text("would mirror the camera")
    page.goto("/packages/marsh-attic")
    before = page.inner_text("#turns")
    page.select_option("[name=order]", "XYZ")
    expect(page.locator("#turns")).not_to_have_text(before)
    page.fill("[name=metres_per_unit]", "0.1")
    page.get_by_role("button", name="Save as version 2").click()
    expect(page.locator("main")).to_contain_text("version 2 of 2")
    page.select_option("#habit-code", "frame_offset")
    page.fill("[name=habit_frames]", "2")
    page.get_by_role("button", name="Add habit").click()
    expect(page.locator(".habits").first).to_contain_text("shows every frame 2 frames late")
    assert page.locator("svg.habit .arrived").count() >= 2
    fits(page)
    document = httpx.get(f"{site}/packages/marsh-attic/profile.json", timeout=60).json()
    assert (
        document["habits"] == [{"code": "frame_offset", "on": True, "frames": 2.0}]
        and document["metres_per_unit"] == 0.1
    )
    other = tmp_path / "other.json"
    other.write_text(json.dumps(document | {"key": "mill-loft"}))
    page.goto("/packages")
    page.set_input_files("[name=file]", other)
    page.get_by_role("button", name="Import profile", exact=True).click()
    page.wait_for_url("**/packages/mill-loft")
    page.get_by_role("button", name="Remove habit").click()
    expect(page.locator("main")).to_contain_text("No habits known")
    schema = httpx.get(f"{site}/schema/profile.json", timeout=60).json()
    assert {"world", "camera", "metres_per_unit", "habits"} <= set(schema["properties"])


def test_two_packages_side_by_side(page: Page) -> None:
    page.goto("/packages/compare?a=yup-lh-cm&b=yup-rh-unit")
    expect(page.locator(".mapping")).to_contain_text("rotation X there = -rotation X here")
    expect(page.locator(".mapping")).to_contain_text("Z there = -Z here × 0.01")
    page.select_option("#b", "zup-lh-cm")
    page.get_by_role("button", name="Compare packages").click()
    expect(page.locator("main")).to_contain_text(re.compile("rotation X there"))
    fits(page)


def test_requests_that_make_no_sense_are_sentences(site: str, demo_files: dict[str, Path]) -> None:
    take_in(site, demo_files["TW_010"])
    with Visitor(base_url=site, timeout=60) as client:
        assert client.post("/packages/zup-lh-cm/copy", data={"new_key": "attic"}).status_code == 303
        for url, data in (
            ("/packages/attic", {"action": "add", "code": "sulk"}), ("/packages/attic", {"action": "out", "index": "9"}),
            ("/packages/attic", {"action": "fields", "metres_per_unit": "wide"}), ("/packages/attic", {"action": "add", "code": "scale", "habit_factor": "nan"}),
            ("/packages/zup-lh-cm", {"action": "fields", "metres_per_unit": "1"}), ("/packages/nowhere/copy", {}), ("/returns/7/habit", {"which": "0"}),
            ("/cameras/1/returns", {"version": "1", "to": "nowhere", "numbers": "1 2 3"}), ("/cameras/1/returns", {"version": "1", "to": "zup-lh-cm", "numbers": "a b c"}),
            ("/cameras/1/returns", {"version": "1", "to": "zup-lh-cm", "numbers": "1 0 0 0 0 0 0\n2 0 0 0 0 0 0\n3 0 0 0 0 0 nan"}),
        ):  # fmt: skip
            answer = client.post(url, data=data)
            assert answer.status_code in (404, 422), (url, data, answer.status_code)
            assert "An error in Anaxis stopped this step. Nothing was saved. See the log" not in answer.text, (
                url,
                data,
            )
        for url in (
            "/packages/nowhere",
            "/packages/attic?number=77",
            "/packages/attic/turns?order=QQQ",
            "/packages/compare?a=x",
            "/returns/5",
            "/packages/attic/habit?code=x",
        ):
            assert client.get(url).status_code in (404, 422), url


def test_everything_for_a_package_and_cameras_by_packages(page: Page, site: str, demo_files: dict[str, Path]) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    page.goto("/cameras/1?station=deliver&to=zup-lh-cm")
    ready(page)
    with page.expect_download() as download:
        page.get_by_role("button", name="Download everything as a zip").click()
    names = zipfile.ZipFile(download.value.path()).namelist()
    assert download.value.suggested_filename == "TW_010.shotcam.zup-lh-cm.zip" and "transfer_sheet.html" in names
    assert sum(n.startswith("camera/") for n in names) == 6
    page.get_by_role("button", name="Write and prove").click()
    page.wait_for_url("**/deliveries/1")
    expect(page.locator(".marktable")).to_contain_text("tide_bell")
    expect(page.locator(".numbers")).not_to_contain_text("curved")  # every frame has a key
    ready(page)
    whole = ink(page, "overlay")
    page.locator("#wipe").fill("40")
    until(page, "document.querySelector('[data-view=overlay]') !== null")
    assert ink(page, "overlay") != whole
    page.goto("/shows/1/plan")
    expect(page.locator("td.cell.matches")).to_have_count(1)
    expect(page.locator("thead")).to_contain_text("zup-lh-cm")
    fits(page)


def test_several_at_once_and_an_unknown_package_learned(
    page: Page, site: str, demo_files: dict[str, Path], tmp_path: Path
) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    page.goto("/cameras/1?station=deliver&to=zup-lh-cm")
    ready(page)
    page.get_by_text("More cameras, formats or packages").click()
    page.get_by_label("also alembic").check()
    page.get_by_label("yup-rh-m", exact=True).check()
    page.get_by_role("button", name="Write and prove").click()
    page.wait_for_url("**/handed-over**")
    expect(page.locator("table.list tbody tr")).to_have_count(4)
    page.goto("/shows/1/plan")
    expect(page.locator("thead th small")).to_have_text(["alembic, not planned", "usd, not planned"] * 2)
    expect(page.locator("td.cell.matches")).to_have_count(4)
    page.goto("/packages/calibrate")
    with page.expect_download() as download:
        page.get_by_role("button", name="Download").click()
    assert {"calibration.usd", "points.csv", "return.json", "README.txt"} <= set(
        zipfile.ZipFile(download.value.path()).namelist()
    )
    truth = random_profile(4)
    form = tmp_path / "return.json"
    form.write_text(
        json.dumps(form_of(opened(made_camera(), truth, FIT), truth.convention, CALIBRATED, truth.lens.fit, "usd"))
    )
    page.set_input_files("[name=file]", form)
    page.fill("[name=label]", "Mill loft")
    page.get_by_role("button", name="Calibrate").click()
    expect(page.locator("h1")).to_have_text("Calibrated: Mill loft")
    expect(page.locator("main")).to_contain_text("habits")
    page.get_by_role("link", name="Show package").click()
    page.wait_for_url("**/packages/mill-loft")
    assert page.input_value("[name=world_up]") == truth.world.up and page.input_value("[name=order]") in page.content()
    fits(page)
