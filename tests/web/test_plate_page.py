"""A plate behind the camera in a browser: attached, its proxies made, seen; the distortion drawn and taken; overscan delivered."""

from __future__ import annotations

import io
import json
import re
import shutil
import zipfile
from pathlib import Path

import cv2
import numpy as np
import OpenImageIO as oiio
import pytest
from playwright.sync_api import Page, expect
from sqlalchemy import Engine, select

import solve
from anaxis.app.cameras.edit import edit_version
from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from anaxis.core.recipe.model import Operation
from anaxis.store.models import Job, Plate
from anaxis.store.queries import get_version
from jobs import ended
from pages import Visitor, ready, take_in, until

pytestmark = pytest.mark.browser
SHOTCAM = "/TW_050/jib_base/jib_arm/head/shotcam"


@pytest.fixture(autouse=True)
def roots(solved: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("ANAXIS_MEDIA_ROOTS", f"mill={solved.parent}")
    monkeypatch.setenv("ANAXIS_MEDIA_SHOWS", "mill=*")
    monkeypatch.setenv("ANAXIS_PLATES", str(tmp_path / "plates"))


def has_picture(page: Page, view: str) -> bool:
    """Whether colours other than paper and ink lie on the drawing: those of the plate."""
    return bool(
        page.evaluate(
            """(view) => { const c = document.querySelector(`canvas[data-view=${view}]`); const d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data;
            let n = 0; for (let i = 0; i < d.length; i += 4) n += d[i + 2] - d[i] > 12; return n > 2000; }""",
            view,
        )
    )


def test_from_a_media_root_to_a_delivery_with_overscan(page: Page, site: str, solved: Path) -> None:
    take_in(site, solved / "TW_050_camera_v001.usda", "TW_050", SHOTCAM)
    page.goto("/cameras/1?station=plate#f=1044")
    ready(page)
    page.get_by_role("button", name="TW_050/").click()
    page.get_by_role("button", name="plate/").click()
    row = page.locator(".sequence").filter(has_text="TW_050_plate.####.exr")
    expect(row).to_contain_text("1041 to 1048")
    row.get_by_role("button", name="Attach").click()
    page.wait_for_url("**station=plate**")
    expect(page.locator(".proxies")).to_contain_text("8 proxies", timeout=60_000)
    expect(page.locator(".findings")).to_contain_text("ends before the camera does")
    page.goto("/cameras/1?station=lens#f=1044")
    ready(page)
    until(page, "true")
    page.wait_for_timeout(500)
    assert has_picture(page, "lens")
    # The distortion, typed: it redraws, says what it asks of a render, and says where it folds over.
    page.select_option("#distortion [name=model][form]", "radial-tangential")
    page.fill("[name=c_k1]", "-0.12")
    expect(page.locator("#distortion-drawing")).to_contain_text("px of the plate")
    before = page.locator("svg.bent").inner_html()
    page.fill("[name=c_k1]", "-0.3")
    until(page, f"document.querySelector('svg.bent').innerHTML !== {json.dumps(before)}")
    page.fill("[name=c_k1]", "-9")
    expect(page.locator("#distortion-drawing")).to_contain_text("folds over")
    page.fill("[name=c_k1]", "lots")
    expect(page.locator("#distortion-drawing")).to_contain_text("type a number (k1)")
    # From its document, as it was handed over.
    page.get_by_text("Import from a file, ST maps or images").click()
    page.set_input_files("#distortion input[name=file]", solved / "TW_050_lens.json")
    page.get_by_role("button", name="Read file").click()
    expect(page.locator("[name=c_a1]")).to_have_value("-0.19")
    expect(page.locator("#distortion-drawing")).to_contain_text("788 × 660 px")
    page.get_by_role("button", name="Use this distortion").click()
    page.wait_for_url("**station=lens**")
    ready(page)
    expect(page.locator(".plate-bar")).to_contain_text("draw with distortion")
    page.goto("/cameras/1?station=deliver&to=zup-lh-cm")
    ready(page)
    expect(page.locator("[name=overscan]")).to_have_value("auto")
    page.get_by_role("button", name="Write and prove").click()
    page.wait_for_url("**/deliveries/*")
    ready(page)
    expect(page.locator("#answer")).to_contain_text("in the plate as shot")
    expect(page.locator("#answer strong")).to_have_text("Matches")
    page.goto("/deliveries/1#f=1044")
    ready(page)
    page.wait_for_timeout(500)
    assert has_picture(page, "overlay")


def test_only_what_is_empty_of_the_plate_is_hatched(page: Page, site: str, solved: Path) -> None:
    """A barrel leaves a margin of the plate empty; a cushion reaches beyond the plate and leaves none."""
    take_in(site, solved / "TW_050_camera_v001.usda", "TW_050", SHOTCAM)
    page.goto("/cameras/1?station=lens#f=1044")
    ready(page)
    page.select_option("#distortion [name=model][form]", "radial-tangential")
    hatched = page.locator("#distortion-drawing path.empty")
    for k1, render, shown in (("-0.2", "1.09230 × 1.09392", True), ("0.2", "1.00000 × 1.00000", False)):
        with page.expect_response("**/distortion/drawing*"):
            page.fill("#distortion [name=c_k1]", k1)
        expect(page.locator("#distortion-drawing")).to_contain_text(render)
        drawing = page.locator("#distortion-drawing svg.bent")
        seen = drawing.screenshot()
        hatched.evaluate("e => e.remove()")
        assert (drawing.screenshot() != seen) is shown


def test_maps_are_fitted_and_written_and_a_render_is_checked(
    page: Page, site: str, solved: Path, tmp_path: Path
) -> None:
    take_in(site, solved / "TW_050_camera_v001.usda", "TW_050", SHOTCAM)
    with Visitor(base_url=site, follow_redirects=True) as visitor:
        asked = {
            "version": "1",
            "root": "mill",
            "folder": "TW_050/plate",
            "sequence": "TW_050_plate.####.exr",
            "kind": "as shot",
        }
        assert visitor.post("/cameras/1/plates", data=asked).status_code == 200
    page.goto("/cameras/1?station=lens")
    ready(page)
    page.get_by_text("Import from a file, ST maps or images").click()
    page.set_input_files(
        "#distortion input[name=files][accept='.exr']",
        [solved / "maps" / f"TW_050_{k}.exr" for k in ("undistort", "distort")],
    )
    form = page.locator("form[hx-post$='/distortion/maps']")
    form.locator("[name=model]").select_option("anamorphic")
    form.get_by_role("button", name="Fit model").click()
    expect(page.locator("#distortion")).to_contain_text("Preview: not saved yet", timeout=60_000)
    expect(page.locator("#distortion")).to_contain_text("px RMS")
    assert page.locator("svg.bent .residual").count() > 100
    said = page.locator("#distortion").inner_text()
    assert float(re.search(r"up to ([\d.]+) px", said)[1]) < 0.5  # type: ignore[index]
    page.get_by_role("button", name="Use this distortion").click()
    page.wait_for_url("**station=lens**")
    ready(page)
    page.get_by_text("Write ST maps, the undistorted plate or").click()
    page.get_by_role("button", name="Make maps").click()
    page.wait_for_url("**/jobs/*")
    with page.expect_download() as coming:
        page.get_by_role("link", name=re.compile("Download")).click(timeout=60_000)
    with zipfile.ZipFile(coming.value.path()) as archive:
        assert sorted(n.rsplit(".", 2)[1] for n in archive.namelist()) == ["distort", "undistort"]
    expect(page.locator(".job")).to_contain_text("read back within")
    # A render that came back: the painter's own pinhole picture of frame 1044, at the size that was asked for.
    shot, place = solve.jib(), 43
    truth = solve.Painter(shot).draw(solve.camera_matrices(shot)[place], place / 95)
    width, height = 788, 660
    y, x = (truth.shape[0] - height) // 2, (truth.shape[1] - width) // 2
    good, smeared = tmp_path / "render.exr", tmp_path / "smeared.exr"
    grain = np.random.default_rng(3).normal(0, 0.02, (height, width, 3))
    inside = truth[y : y + height, x : x + width] + grain.astype(np.float32)
    solve.write_exr(good, inside, oiio.HALF, "zip")
    inside[:, :9] = inside[:, 9:10]
    solve.write_exr(smeared, inside, oiio.HALF, "zip")
    for file, sentence in (
        (good, "The edges are neither smeared nor empty."),
        (smeared, "It is smeared at the left, 10 px deep"),
    ):
        page.goto("/cameras/1?station=plate#f=1044")
        ready(page)
        page.get_by_text("Check a returned render").click()
        page.set_input_files("form[action$='/renders'] [name=file]", file)
        expect(page.locator("form[action$='/renders'] [name=frame]")).to_have_value("1044")
        page.get_by_role("button", name="Check render").click()
        page.wait_for_url("**/stills/*")
        expect(page.locator(".checks")).to_contain_text(sentence)
        shift = [
            float(page.locator(f"dt:text-is('Shift {way}') + dd").inner_text().split()[0]) for way in ("right", "down")
        ]
        assert np.hypot(*shift) < 0.3, shift  # type: ignore[call-overload]
        expect(page.locator("#answer strong")).to_contain_text("Matches the plate")
    small = tmp_path / "small.png"
    cv2.imwrite(str(small), np.zeros((64, 64, 3), np.uint8))
    page.goto("/cameras/1?station=plate#f=1044")
    ready(page)
    page.get_by_text("Check a returned render").click()
    page.set_input_files("form[action$='/renders'] [name=file]", small)
    page.get_by_role("button", name="Check render").click()
    expect(page.get_by_role("alert")).to_contain_text("64 x 64 px instead of 788 x 660")


def test_a_solvers_zip_is_told_apart_and_taken_along(
    page: Page, site: str, engine: Engine, solved: Path, tmp_path: Path
) -> None:
    path = tmp_path / "solve.zip"
    shutil.make_archive(str(path.with_suffix("")), "zip", solved.parent, "TW_050")
    with zipfile.ZipFile(path, "a") as archive:
        for kind in ("undist", "clean"):
            for f in sorted((solved / "plate").iterdir())[:3]:
                archive.write(f, f"TW_050/{kind}/TW_050_{kind}.{f.name.split('.')[1]}.exr")
    page.goto("/take-in")
    page.set_input_files("#file", path)
    page.wait_for_url("**/take-in/*")
    expect(page.get_by_label("Save shotcam", exact=True)).to_be_checked()
    expect(page.get_by_label("Save shotcam_undistort")).not_to_be_checked()
    table = page.locator("#with-it tbody")
    expect(table.locator("tr").filter(has_text="TW_050_plate")).to_contain_text("8 pictures", timeout=60_000)
    expect(table.locator("tr").filter(has_text="TW_050_distort.exr")).to_contain_text("direction distort")
    expect(table.locator("tr").filter(has_text="TW_050_lens.json")).to_contain_text("anamorphic")
    straight = page.get_by_label("Kind of TW_050/undist/TW_050_undist")
    expect(straight.locator("option:checked")).to_have_text("undistorted")
    expect(table.locator("tr").filter(has_text="undist/")).to_contain_text("'undist' in its name: undistorted")
    page.get_by_label("Kind of TW_050/clean/TW_050_clean").select_option(label="undistorted")
    page.get_by_label("Use TW_050/TW_050_lens.json").uncheck()
    page.fill("#show", "The Tidewright")
    page.fill("#shot", "TW_050")
    page.get_by_role("button", name="Save cameras").last.click()
    page.wait_for_url("**/cameras/*")
    ready(page)
    with Context(engine, LOCAL) as store:
        kinds = sorted((p.name.split(".")[0], p.kind) for p in store.scalars(select(Plate)))
    assert kinds == [("TW_050_clean", "undistorted"), ("TW_050_plate", "as shot"), ("TW_050_undist", "undistorted")]
    with Visitor(base_url=site) as visitor:
        recipe = visitor.get("/cameras/1?station=clean").text
    assert "fitted within" in recipe  # of the maps, for the document was left out


def test_a_plate_is_handed_in_changed_and_taken_away(site: str, solved: Path, tmp_path: Path) -> None:
    take_in(site, solved / "TW_050_camera_v001.usda", "TW_050", SHOTCAM)
    frames = sorted((solved / "plate").iterdir())[:3]
    with Visitor(base_url=site, follow_redirects=True) as visitor:
        files = [("files", (f.name, f.read_bytes())) for f in frames]
        answer = visitor.post("/cameras/1/plates/files", data={"version": "1", "kind": "as shot"}, files=files)
        assert answer.status_code == 200 and "TW_050_plate" in answer.text and "1041 to 1043" in answer.text
        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w") as archive:
            for f in frames:
                archive.write(f, f"deep/und.{f.name.split('.')[1]}.exr")
        files = [("files", ("und.zip", packed.getvalue()))]
        assert (
            "und"
            in visitor.post("/cameras/1/plates/files", data={"version": "1", "kind": "undistorted"}, files=files).text
        )
        changed = {"camera": "1", "version": "1", "kind": "as shot", "offset": "-40", "view": "film", "stops": "1.5"}

        def base() -> str:
            page = visitor.get("/cameras/1?station=plate").text
            found = re.search(r'action="/plates/1"[^>]*><input type="hidden" name="base" value="(\w+)"', page)
            assert found
            return found[1]

        answer = visitor.post("/plates/1", data=changed | {"base": base()})
        assert "1001 to 1003 here" in answer.text and 'value="1.5"' in answer.text
        for wrong, said in (
            ({"offset": "x"}, "not a whole number"),
            ({"offset": "0.5"}, "whole number"),
            ({"stops": "99"}, "stops within"),
            ({"view": "no"}, "from the lists"),
        ):
            assert said in visitor.post("/plates/1", data=changed | wrong | {"base": base()}).text
        refused = visitor.post(
            "/cameras/1/plates/files", data={"version": "1", "kind": "as shot"}, files=[("files", ("a.txt", b"x"))]
        )
        assert "is not a readable image" in refused.text
        twice = io.BytesIO()
        with zipfile.ZipFile(twice, "w") as archive:
            for folder in ("a", "b"):
                archive.write(frames[0], f"{folder}/{frames[0].name}")
        refused = visitor.post(
            "/cameras/1/plates/files",
            data={"version": "1", "kind": "as shot"},
            files=[("files", ("two.zip", twice.getvalue()))],
        )
        assert "was uploaded twice" in refused.text
        assert len(list((tmp_path / "plates").iterdir())) == 2  # of what was refused nothing is left
        for folder in ("..", "../..", "TW_050/../../.."):
            assert (
                "is not a name below a media root"
                in visitor.get("/cameras/1/plates/browse", params={"version": 1, "root": "mill", "folder": folder}).text
            )
        answer = visitor.post("/plates/2/remove", data={"camera": "1", "version": "1"})
        assert 'aria-label="und"' not in answer.text and 'aria-label="TW_050_plate"' in answer.text
        assert visitor.get("/plates/1/proxies/1041.jpg?look=never").status_code in (200, 404)
        assert visitor.get("/plates/99/shown?camera=1&version=1").status_code == 404


def test_the_undistorted_plate_that_a_worker_wrote_is_the_shots(site: str, engine: Engine, solved: Path) -> None:
    take_in(site, solved / "TW_050_camera_v001.usda", "TW_050", SHOTCAM)
    frames = sorted((solved / "plate").iterdir())[:3]
    with Context(engine, LOCAL) as store, store.begin():
        lens = {"document": {"model": "radial-tangential", "k1": -0.05}}
        version = edit_version(store, get_version(store, 1), (Operation("distortion", lens),), "bent").number
    with Visitor(base_url=site, follow_redirects=True) as visitor:
        files = [("files", (f.name, f.read_bytes())) for f in frames]
        asked = {"version": str(version), "kind": "as shot"}
        assert visitor.post("/cameras/1/plates/files", data=asked, files=files).status_code == 200
        asked = {"version": str(version), "plate": "1", "size": "overscan", "filter": "cubic"}
        answer = visitor.post("/cameras/1/distortion/undistorted", data=asked)
        assert answer.status_code == 200, answer.text
    with Context(engine, LOCAL) as store:
        number = store.scalars(select(Job.id).where(Job.kind == "warped")).one()
    done = ended(engine, number, 120)
    assert done.state == "done", done.said
    assert "Attached to the shot as plate 'TW_050_plate_undistorted'" in done.result["said"]
    assert "lacks 93 of the camera's 96 frames" in done.result["said"]
    with Context(engine, LOCAL) as store:
        plates = {p.name: p for p in store.scalars(select(Plate))}
        straight = plates["TW_050_plate_undistorted"]
        assert straight.kind == "undistorted" and straight.numbers == plates["TW_050_plate"].numbers
