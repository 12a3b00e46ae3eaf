"""Delivering on the page: several cameras, one file or a file each, below a root, the zip as long work, the sheet."""

from __future__ import annotations

import io
import json
import re
import zipfile
from collections.abc import Callable
from pathlib import Path

import httpx
import pytest
from playwright.sync_api import Page, expect
from pypdf import PdfReader
from sqlalchemy import Engine

from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from anaxis.formats import read_file
from anaxis.store.models import Job
from pages import Visitor, fits, ready, take_in

pytestmark = pytest.mark.browser


def test_two_cameras_go_together_in_one_file_below_their_roots(
    page: Page, site: str, demo_files: dict[str, Path], tmp_path: Path
) -> None:
    for name in ("TW_010", "TW_030"):
        take_in(site, demo_files[name], name)
    page.goto("/cameras/1?station=deliver&to=zup-lh-cm")
    ready(page)
    page.get_by_text("Node name").click()
    expect(page.locator("#panel")).to_contain_text("Letters, digits and _ stay")
    page.get_by_text("More cameras, formats or packages").click()
    page.get_by_label("shotcam TW_030").check()
    page.get_by_label("One file for all cameras").check()
    page.get_by_label("Parent the camera to a root node").check()
    page.get_by_label("also json").check()
    fits(page)
    page.get_by_role("button", name="Write and prove").click()
    page.wait_for_url("**/handed-over**")
    expect(page.locator("table.list tbody tr")).to_have_count(4)
    expect(page.locator("#answer")).to_contain_text("All 4 match")
    # One USD for both, and a JSON each.
    with Visitor(base_url=site, timeout=60) as client:
        pages = [client.get(f"/deliveries/{i}").text for i in (1, 2, 3, 4)]
        assert all("grade exact" in p for p in pages)
        names = [re.findall(r'/files/([^"]+)" download', p)[0] for p in pages]
        assert names[0] == names[1] == "TW_010.zup-lh-cm.usd" and names[2][:6] + names[3][:6] == "TW_010TW_030"
        data = client.get(f"/deliveries/1/files/{names[0]}").content
        assert data == client.get(f"/deliveries/2/files/{names[0]}").content
    path = tmp_path / "both.usd"
    path.write_bytes(data)
    scene = read_file(path)
    assert [c.path for c in scene.cameras] == ["/shotcam_root/shotcam", "/shotcam_2_root/shotcam_2"]
    page.goto("/deliveries/2")
    ready(page)
    expect(page.locator(".numbers")).to_contain_text("is the node shotcam_2")
    page.get_by_role("link", name="Transfer sheet", exact=True).click()
    expect(page.locator("h1")).to_contain_text("shotcam for Z up, left-handed")
    pdf = httpx.get(f"{site}/deliveries/2/sheet.pdf", timeout=60)
    reader = PdfReader(io.BytesIO(pdf.content))
    assert len(reader.pages) == 1 and "shotcam_2" in reader.pages[0].extract_text()


def test_a_zip_that_takes_long_is_work_of_its_own(page: Page, site: str, demo_files: dict[str, Path]) -> None:
    take_in(site, demo_files["TW_030"], "TW_030")
    page.goto("/cameras/1?station=deliver&to=yup-rh-m")
    ready(page)
    page.fill("#reduce_px", "0.5")
    page.get_by_role("button", name="Download everything as a zip").click()
    page.wait_for_url("**/jobs/*")
    link = page.get_by_role("link", name="Download TW_030.shotcam.yup-rh-m.zip")
    expect(link).to_be_visible(timeout=60_000)
    with page.expect_download() as download:
        link.click()
    names = zipfile.ZipFile(download.value.path()).namelist()
    assert {"transfer_sheet.pdf", "transfer_sheet.html", "manifest.json"} <= set(names)
    assert sum(n.startswith("camera/") for n in names) == 6


def test_several_packages_get_a_zip_each_in_one(site: str, demo_files: dict[str, Path]) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    form = {"version": "1", "to": "yup-rh-m", "format_key": "usd", "more_packages": ["zup-lh-cm"]}
    with Visitor(base_url=site, timeout=60) as client:
        answer = client.post("/cameras/1/bundle", data=form)
        assert answer.content == client.post("/cameras/1/bundle", data=form).content
    assert "shotcam.2-packages.zip" in answer.headers["content-disposition"]
    outer = zipfile.ZipFile(io.BytesIO(answer.content))
    assert sorted(outer.namelist()) == ["TW_010.shotcam.yup-rh-m.zip", "TW_010.shotcam.zup-lh-cm.zip"]
    inner = zipfile.ZipFile(io.BytesIO(outer.read("TW_010.shotcam.zup-lh-cm.zip")))
    assert "camera/TW_010.shotcam.zup-lh-cm.usd" in inner.namelist()


def test_a_camera_that_begins_below_frame_0_there_goes_out_in_every_format(
    site: str, demo_files: dict[str, Path]
) -> None:
    """TW_010 begins at 1001 and TW_020 at 1: moved by as much, the second lies below frame 0, and files that have no time
    before 0 begin with it; the manifest says where."""
    for name in ("TW_010", "TW_020"):
        take_in(site, demo_files[name], name)
    form = {"version": "1", "to": "yup-rh-m", "format_key": "usd", "more_cameras": "2", "first_there": "0"}
    with Visitor(base_url=site, timeout=60) as client:
        answer = client.post("/cameras/1/bundle", data=form)
    bundle = zipfile.ZipFile(io.BytesIO(answer.content))
    names = [n for n in bundle.namelist() if n.startswith("camera/")]
    assert {Path(n).suffix for n in names} == {".usd", ".abc", ".json", ".csv", ".glb", ".dae"}
    cameras = json.loads(bundle.read("manifest.json"))["cameras"]
    zero = {
        n: p.get("frame_at_zero_s", 0) for c in cameras for n, p in c["proof"].items() if n.endswith((".glb", ".dae"))
    }
    assert sorted(zero.values()) == [-1000, -1000, 0, 0], zero


def test_cameras_to_go_along_are_found_by_their_names_among_many(
    page: Page, site: str, usda: Callable[..., Path]
) -> None:
    names = [f"cam_{k:02}" for k in range(31)]
    path = usda("\n".join(f'def Xform "of_{name}" {{ CAMERA }}' for name in names))
    for name in names:
        path.write_text(path.read_text().replace('Camera "cam"', f'Camera "{name}"', 1))
    with Visitor(base_url=site, timeout=60) as client:
        review = client.post("/take-in", files={"file": ("many.usda", path.read_bytes())}).headers["location"]
        fields = {"show": "S", "shot": "SH_010", "source_fit": "width", "resolution": "1920x1080"}
        kept = client.post(review, data={**fields, "cameras": [f"/of_{name}/{name}" for name in names]})
        assert kept.status_code == 303, kept.text
    page.goto("/cameras/1?station=deliver&to=yup-rh-m")
    ready(page)
    page.get_by_text("More cameras, formats or packages").click()
    shown = page.locator("#other-cameras label")
    expect(shown).to_have_count(24)
    expect(page.locator("#other-cameras")).to_contain_text("24 of 30 cameras shown")
    page.get_by_label("cam_03").check()
    page.get_by_label("Find by shot or camera name").fill("CAM_29")
    expect(shown).to_have_text(["cam_03", "cam_29"])
    expect(page.get_by_label("cam_03")).to_be_checked()
    page.get_by_label("cam_29").check()
    page.get_by_label("Find by shot or camera name").fill("wheel")
    page.keyboard.press("Enter")  # searches, and delivers nothing
    expect(page.locator("#other-cameras")).to_contain_text("No other camera of the show has these words")
    expect(shown).to_have_text(["cam_03", "cam_29"])
    page.get_by_role("button", name="Write and prove").click()
    expect(page.get_by_role("row").filter(has_text="Matches")).to_have_count(3)
    with Visitor(base_url=site, timeout=60) as client:
        delivered = [k for k in range(1, 32) if "/deliveries/" in client.get(f"/cameras/{k}?station=deliver").text]
    assert delivered == [1, 4, 30]


def test_what_cannot_be_delivered_is_said_where_it_was_asked(
    page: Page, site: str, demo_files: dict[str, Path]
) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    page.goto("/cameras/1?station=deliver&to=yup-rh-m")
    ready(page)
    page.fill("#reduce_px", "-3")
    page.get_by_role("button", name="Write and prove").click()
    expect(page.get_by_role("alert")).to_contain_text("Keyframe reduction within -3 px")
    with Visitor(base_url=site, timeout=60) as client:
        form = {"version": "1", "to": "yup-rh-m", "format_key": "usd"}
        assert client.post("/cameras/1/deliver", data=form | {"more_cameras": "77"}).status_code == 404
        assert client.post("/cameras/1/bundle", data=form | {"to": "nowhere"}).status_code == 422
        assert client.get("/jobs/1/file").status_code == 404


def test_a_wrong_number_is_said_at_its_field_and_what_was_typed_stays(
    page: Page, site: str, demo_files: dict[str, Path]
) -> None:
    take_in(site, demo_files["TW_010"])
    page.goto("/cameras/1?station=deliver&to=zup-lh-cm")
    ready(page)
    page.get_by_label("Track JSON").check()
    for name, typed in (("overscan", "10%"), ("plane_m", "ten")):
        page.locator("details", has=page.locator(f"[name={name}]")).locator("summary").click()
        page.fill(f"[name={name}]", typed)
    page.get_by_role("button", name="Write and prove").click()
    wrong = page.locator("#wrong-field")
    expect(wrong).to_have_text("'ten' is not a number: type one, or leave the field empty. Nothing was changed.")
    expect(page.locator("[name=plane_m]")).to_be_focused()
    assert (
        page.input_value("[name=plane_m]") == "ten" and page.get_attribute("[name=plane_m]", "aria-invalid") == "true"
    )
    assert page.input_value("[name=overscan]") == "10%" and page.get_by_label("Track JSON").is_checked()
    expect(page.locator(".top-said")).to_have_count(0)
    fits(page)
    page.fill("[name=plane_m]", "10")
    page.get_by_role("button", name="Write and prove").click()
    page.wait_for_url("**/deliveries/*", timeout=30_000)
    page.goto("/cameras/1?station=deliver&to=zup-lh-cm")  # the sentence is said once
    expect(page.locator("#wrong-field, .top-said")).to_have_count(0)


def test_work_of_another_kind_is_no_delivery(site: str, engine: Engine, demo_files: dict[str, Path]) -> None:
    """An address of deliveries that names a job of maps: found by scripts/attack.py."""
    take_in(site, demo_files["TW_010"], "TW_010")
    with Context(engine, LOCAL) as store, store.begin():
        store.add(Job(kind="maps", version_id=1, state="done"))
    with Visitor(base_url=site) as visitor:
        assert visitor.get("/handed-over", params={"camera": "1", "d": "", "j": "1"}).status_code == 200
