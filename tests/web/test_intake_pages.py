"""Taking in, cleaning and placing in a real browser: remedies, columns, recipe, tree, landmarks, takes."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import Locator, Page, expect

from pages import Visitor, fits, ink, ready, take_in

pytestmark = pytest.mark.browser


def cell(page: Page, name: str) -> float:
    return float(page.locator(f"[data-cell='{name}']").first.inner_text().split()[0])


def add(page: Page, code: str, **params: str) -> None:
    """An operation added on the Clean station by its form."""
    page.select_option("#add-code", code)
    for name, value in params.items():
        field = page.locator(f"#operation [name=param_{name}]")
        (field.select_option if field.evaluate("e => e.tagName") == "SELECT" else field.fill)(value)
    page.get_by_role("button", name="Add operation").click()
    ready(page)


def test_a_camera_that_cannot_be_used_is_mended_before_it_is_kept(page: Page, usda: Callable[..., Path]) -> None:
    keys = ", ".join(f"{f}: ({'nan' if f == 4 else 5 * f}, 10, 300)" for f in range(1, 9))
    ops = f'double3 xformOp:translate.timeSamples = {{ {keys} }}\n uniform token[] xformOpOrder = ["xformOp:translate"]'
    page.goto("/take-in")
    page.set_input_files(
        "#file",
        usda(ops=ops, lens="float focalLength = 350\n float horizontalAperture = 360\n float verticalAperture = 202.5"),
    )
    expect(page.locator("[data-code=unusable_number]")).to_contain_text("at frame 4")
    assert page.get_by_role("checkbox", name="Save cam").is_disabled()
    page.locator("[data-code=unusable_number]").get_by_role("button", name="Apply remedy").click()
    expect(page.locator(".drafted")).to_contain_text("Fill gaps")
    page.locator("[data-code=sensor_factor]").get_by_role("button", name="Apply remedy").click()
    expect(page.locator(".drafted")).to_have_count(2)
    page.get_by_role("button", name="Undo remedy").first.click()  # the lens, which stands before the bake
    expect(page.locator("[data-code=sensor_factor]")).to_be_visible()
    page.locator("[data-code=sensor_factor]").get_by_role("button", name="Apply remedy").click()
    expect(page.get_by_role("cell", name="36.00 × 20.25 mm")).to_be_visible()
    page.fill("#show", "S")
    page.get_by_role("button", name="Save cameras", exact=True).click()
    ready(page)
    expect(page.locator(".stations")).to_contain_text("2 operations")
    page.keyboard.press("Home")
    for _ in range(3):
        page.keyboard.press("ArrowRight")
    assert cell(page, "ours_position.0") == 20.0


def test_guesses_are_confirmed_by_a_click(page: Page, other_files: dict[str, Path]) -> None:
    page.goto("/take-in")
    page.set_input_files("#file", other_files[".abc"])
    for left in (2, 1, 0):
        page.locator("[data-code^=guessed]").first.get_by_role("button", name="Confirm").click()
        expect(page.locator("[data-code^=guessed]")).to_have_count(left)
    expect(page.get_by_label(re.compile("Metres per unit set by hand"))).to_have_value("0.01")
    page.fill("#show", "S")
    page.get_by_role("button", name="Save cameras", exact=True).click()
    ready(page)
    expect(page.locator("#panel")).not_to_contain_text("guess")


def test_the_columns_of_a_table_are_chosen_and_the_layout_is_kept(
    page: Page, other_files: dict[str, Path], tmp_path: Path
) -> None:
    page.goto("/take-in")
    page.set_input_files("#file", other_files[".txt"])
    ready(page)
    chosen = [page.get_by_label(f"Column {i}", exact=True).input_value() for i in range(1, 9)]
    assert chosen == ["frame", *(f"position_{a}" for a in "xyz"), *(f"rotation_{a}" for a in "xyz"), "focal"]
    expect(page.locator(".picker tfoot")).to_contain_text("whole numbers that increase from row to row")
    assert min(ink(page, v) for v in ("plan", "elevation", "lens")) > 500
    fits(page)

    def drawn() -> list[float]:
        url = page.locator("#look").get_attribute("data-base") or ""
        data = page.evaluate(
            "async (url) => { const { loadDrawing } = await import('/static/drawing.js'); return [...(await loadDrawing(url)).position_m.slice(0, 3)]; }",
            url + "0",
        )
        return [float(v) for v in data]

    before = drawn()
    # A wrong guess: the second and the third place change places, at once in the drawing.
    page.get_by_label("Column 3", exact=True).select_option("nothing")
    page.wait_for_load_state("networkidle")
    page.get_by_label("Column 4", exact=True).select_option("position_y")
    page.wait_for_load_state("networkidle")
    page.get_by_label("Column 3", exact=True).select_option("position_z")
    page.wait_for_load_state("networkidle")
    ready(page)
    assert np.allclose(drawn(), [before[0], before[2], before[1]])
    page.get_by_label("Sign of column 2", exact=True).select_option("-1")
    page.wait_for_load_state("networkidle")
    page.select_option("#axes", "yup-rh-cm")
    page.wait_for_load_state("networkidle")
    ready(page)
    assert np.allclose(drawn(), [-before[0], before[2], before[1]])
    expect(page.locator("main")).not_to_contain_text("Anaxis guessed every column")
    page.fill("#save_as", "the rail's tables")
    page.get_by_role("button", name="Read with this layout").click()
    expect(page.locator("#saved")).to_contain_text("the rail's tables")
    # Two columns that are the same are refused where they stand, and nothing is lost.
    page.get_by_label("Column 8", exact=True).select_option("frame")
    expect(page.get_by_role("alert")).to_contain_text("Two columns are set to 'frame'")
    page.goto("/take-in")
    page.set_input_files("#file", other_files[".txt"])
    ready(page)
    page.select_option("#saved", "the rail's tables")
    page.wait_for_load_state("networkidle")
    ready(page)
    assert np.allclose(drawn(), [-before[0], before[2], before[1]])
    page.fill("#show", "S")
    page.get_by_role("button", name="Save cameras", exact=True).click()
    ready(page)
    assert np.isclose(cell(page, "theirs_position.0"), -before[0] * 100, atol=1e-3)
    # Kept, it can still be read another way: the same file again, as the camera's next take.
    page.locator(".stations").get_by_role("link", name=re.compile("Take in")).click()
    page.wait_for_load_state("networkidle")  # a click on a panel that is being exchanged is lost
    page.get_by_role("button", name="Take in again").click()
    page.wait_for_url("**/take-in/*")
    ready(page)
    page.get_by_label("Sign of column 2", exact=True).select_option("1")
    page.wait_for_load_state("networkidle")
    ready(page)
    page.get_by_role("button", name="Save cameras", exact=True).click()
    ready(page)
    assert np.isclose(cell(page, "theirs_position.0"), before[0] * 100, atol=1e-3)
    expect(page.locator(".titleblock")).to_contain_text("1 2")


def test_the_recipe_is_built_reordered_undone_saved_and_applied(
    page: Page, site: str, demo_files: dict[str, Path]
) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    take_in(site, demo_files["TW_020"], "TW_020")
    page.goto("/cameras/1?station=clean&to=zup-lh-cm")
    ready(page)
    add(page, "aim", node="/TW_010/landmarks/tide_bell")
    add(page, "trim", first="1011")
    expect(page.locator("[data-now=ours]")).to_have_text("1011")
    add(page, "renumber", first="1")
    expect(page.locator(".recipe li")).to_have_count(3)
    # Renumbered first, the trim would cut at a frame that is no longer there: said where it stands, nothing kept.
    page.get_by_role("button", name="Move Renumber up").click()
    expect(page.get_by_role("alert")).to_contain_text("'Trim' failed: 'shotcam' has no frames between 1011")
    expect(page.locator(".recipe li").nth(1)).to_contain_text("Trim")
    page.reload()
    ready(page)
    expect(page.get_by_role("alert")).to_have_count(0)
    page.get_by_role("button", name="Move Trim up").click()
    expect(page.get_by_role("alert")).to_contain_text(
        "'Aim at another node' works on the node tree and cannot come after"
    )
    page.locator(".recipe li").nth(0).get_by_role("button", name="Switch off").click()
    ready(page)
    expect(page.locator(".recipe li.off")).to_contain_text("Aim at another node")
    page.get_by_role("button", name="Undo").click()
    ready(page)
    expect(page.locator(".recipe li.off")).to_have_count(0)
    page.get_by_role("button", name="Redo").click()
    ready(page)
    expect(page.locator(".recipe li.off")).to_have_count(1)
    page.locator(".recipe li").nth(1).get_by_role("button", name="Change").click()
    page.fill("#operation [name=param_first]", "1101")
    page.get_by_role("button", name="Change operation").click()
    ready(page)
    expect(page.locator(".stations")).to_contain_text("20 f @ 24")
    page.get_by_text("Save or apply a recipe, copy the camera").click()
    page.fill("#recipe-name", "bell only")
    page.get_by_role("button", name="Save recipe", exact=True).click()
    ready(page)
    with page.expect_download() as download:
        page.get_by_text("Save or apply a recipe, copy the camera").click()
        page.get_by_role("link", name="Download recipe").click()
    saved = json.loads(Path(download.value.path()).read_text())
    assert [o["code"] for o in saved["operations"]] == ["aim", "trim", "renumber"]
    page.goto("/cameras/2?station=clean")
    ready(page)
    page.get_by_text("Save or apply a recipe, copy the camera").click()
    page.get_by_role("button", name="Apply").click()
    expect(page.get_by_role("alert")).to_contain_text("'Trim' failed: 'shotcam' has no frames between 1101")
    page.goto("/cameras/2?station=clean")
    ready(page)
    expect(page.locator(".recipe")).to_have_count(0)


def test_the_tree_shows_what_each_level_adds_and_is_switched_off_level_by_level(
    page: Page, site: str, demo_files: dict[str, Path]
) -> None:
    take_in(site, demo_files["TW_020"])
    page.goto("/cameras/1?station=clean#f=240")
    ready(page)
    rail = page.locator("[data-level='/TW_020/rail']")
    expect(rail.locator("[data-moved]")).to_have_text("9.000")
    page.keyboard.press("Home")
    expect(rail.locator("[data-moved]")).to_have_text("0.000")
    page.keyboard.press("End")
    before = cell(page, "ours_position.1")
    page.get_by_role("switch", name="rail").click()
    ready(page)
    page.keyboard.press("End")
    expect(page.locator("#answer")).to_contain_text("Preview only with rail held still")
    assert abs(cell(page, "ours_position.1") - before) == pytest.approx(9, abs=1e-3)
    page.get_by_role("link", name="Switch all levels on").click()
    ready(page)
    expect(page.locator("#answer")).to_contain_text("Not proved yet")
    page.get_by_role("switch", name="dolly").click()
    ready(page)
    page.get_by_role("button", name="Hold dolly still").click()
    ready(page)
    expect(page.locator(".recipe")).to_contain_text("/TW_020/rail/dolly held at its first frame")


def test_landmarks_are_typed_pasted_renamed_hidden_and_exported(
    page: Page, site: str, demo_files: dict[str, Path], other_files: dict[str, Path]
) -> None:
    take_in(site, demo_files["TW_010"])
    page.goto("/cameras/1?station=place&to=zup-lh-cm&axes=zup-lh-cm")
    ready(page)
    marks = page.locator(".marks tbody tr")

    def row(name: str) -> Locator:
        return page.get_by_role("row", name=re.compile(rf"^{name} -?\d"))

    # Z up, left-handed: (6, 3.4, -9) m is written 600, -900, 340 cm there.
    expect(row("tide_bell")).to_contain_text("600.00-900.00340.00")
    page.get_by_text("Type or correct a landmark").click()
    page.fill("details[open] [name=name]", "weather vane")
    page.fill("details[open] [name=place]", "100 200 300")
    page.get_by_role("button", name="Save landmark").click()
    ready(page)
    expect(marks.filter(has_text="weather vane")).to_contain_text("100.00200.00300.00")
    page.get_by_text("Paste landmarks").click()
    page.fill("details[open] [name=table]", "name, x, y, z\ntide_bell, 1, 2, 3\nold pier\t4\t5\t6")
    page.get_by_role("button", name="Add landmarks").click()
    ready(page)
    expect(row("tide_bell")).to_contain_text("1.002.003.00")
    page.get_by_role("button", name="Hide jetty_lamp").click()
    ready(page)
    page.get_by_text("Rename a landmark").click()
    page.select_option("details[open] select[name=name]", "old pier")
    page.fill("details[open] [name=new_name]", "new pier")
    page.get_by_role("button", name="Rename landmark").click()
    ready(page)
    expect(marks.filter(has_text="new pier")).to_be_visible()
    page.set_input_files("input[aria-label='Set file']", other_files[".obj"])
    page.get_by_role("button", name="Add set").click()
    ready(page)
    expect(marks.filter(has_text="tide_bell_2")).to_be_visible()
    expect(page.locator("#panel")).to_contain_text("968 lines are drawn")
    with Visitor(base_url=site, timeout=60) as client:
        version = re.search(r"landmarks\.csv\?version=(\d+)", page.content())
        assert version
        table = client.get(f"/cameras/1/landmarks.csv?version={version[1]}&axes=zup-lh-cm").text.splitlines()
        assert table[0] == "name,frame,x_cm,y_cm,z_cm" and any(r.startswith("weather vane,,100.0") for r in table)
        assert not any(r.startswith("jetty_lamp") for r in table)
        wrong = client.post(
            "/cameras/1/landmarks", data={"version": version[1], "action": "paste", "table": "bell 1 2\nx"}
        )
        assert wrong.status_code == 422 and "Row 1, &#39;bell 1 2&#39;, is not a landmark" in wrong.text
        document = client.get(f"/cameras/1/landmarks.json?version={version[1]}").json()
        assert document["unit"] == "cm" and len(document["landmarks"]) == len(table) - 1


def test_a_newer_file_of_a_camera_is_another_take_and_what_changed_is_shown(
    page: Page, site: str, demo_files: dict[str, Path], tmp_path: Path
) -> None:
    take_in(site, demo_files["TW_020"], "TW_020")
    newer = tmp_path / "TW_020_camera_v002.usda"
    newer.write_text(
        demo_files["TW_020"]
        .read_text()
        .replace('"shotcam"', '"shotcam_v2"')
        .replace("xformOp:translate = (0, 0, 0)", "xformOp:translate = (0, 0.1, 0)")
    )
    page.goto("/cameras/1?station=take-in")
    ready(page)
    page.get_by_role("link", name="Take in newer file").click()
    expect(page.get_by_role("heading", name="Take in a newer file of shotcam")).to_be_visible()
    page.set_input_files("#file", newer)
    ready(page)
    expect(page.locator("#targets select").first).to_have_value(re.compile("=1$"))
    expect(page.locator("#targets")).to_contain_text("The name differs, but this")
    page.select_option("#keeping", "motion")
    page.get_by_role("button", name="Save cameras", exact=True).click()
    ready(page)
    assert page.url.split("#")[0].endswith("/cameras/1")
    expect(page.locator(".titleblock")).to_contain_text("2")
    page.locator(".stations").get_by_role("link", name=re.compile("Clean")).click()
    expect(page.locator("#panel")).to_contain_text("Restore an earlier lens that of version 1")
    page.goto("/cameras/1/compare")
    ready(page)
    fits(page)
    expect(page.locator("#answer")).to_contain_text("from version 1 to 2")
    assert ink(page, "overlay") > 2000 and ink(page, "curve") > 300
    # Another shot's name typed on intake brings that shot's cameras to choose from.
    page.goto("/take-in")
    page.set_input_files("#file", newer)
    ready(page)
    page.fill("#shot", "TW_999")
    page.locator("#shot").press("Tab")
    expect(page.locator("#targets option")).to_have_count(1)


def test_what_the_shot_should_be_is_checked(page: Page, site: str, demo_files: dict[str, Path]) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    page.goto("/cameras/1?station=time")
    ready(page)
    page.fill("#first_frame", "996")
    page.fill("#last_frame", "1120")
    page.fill("#shot_rate", "25")
    page.get_by_role("button", name="Check cameras of the shot").click()
    ready(page)
    expect(page.locator("#panel")).to_contain_text("frames 996 to 1000 are missing")
    expect(page.locator("#panel")).to_contain_text("the shot at 25")
    page.fill("#first_frame", "1011")
    page.fill("#last_frame", "1110")
    page.get_by_role("button", name="Check cameras of the shot").click()
    ready(page)
    expect(page.locator("#panel")).to_contain_text("10 more frames before and 10 after the shot")
    page.fill("#last_frame", "5")
    page.get_by_role("button", name="Check cameras of the shot").click()
    expect(page.get_by_role("alert")).to_contain_text("is before its first")


def test_another_rate_is_seen_both_ways_before_it_is_taken(page: Page, site: str, demo_files: dict[str, Path]) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    page.goto("/cameras/1?station=time")
    ready(page)
    assert page.locator("#rulers .ruler-row").count() == 1
    page.fill("[name=param_rate]", "30")
    page.locator("[name=param_rate]").press("Tab")
    rulers = page.locator("#rulers")
    expect(rulers).to_contain_text("same frames 120 f @ 30 = 4.000 s")
    expect(rulers).to_contain_text("same time 150 f @ 30 = 5.000 s")
    expect(rulers).to_contain_text("Resampling costs up to")
    page.get_by_role("button", name="Retime").click()
    ready(page)
    expect(page.locator(".stations")).to_contain_text("150 f @ 30")
    page.fill("#renumber-first", "00:00:00:01")
    page.get_by_role("button", name="Renumber").click()
    ready(page)
    expect(page.locator("[data-now=ours]")).to_have_text("1")
    page.get_by_role("button", name="Add handles", exact=True).click()
    ready(page)
    expect(page.locator(".stations")).to_contain_text("166 f @ 30")
    page.fill("[name=param_frame]", "60")
    page.get_by_role("button", name="Mark").click()
    ready(page)
    expect(page.locator(".cuts")).to_contain_text("before frame 60, marked")
    page.get_by_role("button", name="No cut").click()
    ready(page)
    expect(page.locator(".cuts")).to_have_count(0)
    page.fill("#renumber-first", "99:00:00:00")
    page.get_by_role("button", name="Renumber").click()
    expect(page.get_by_role("alert")).to_contain_text("is not a timecode at 30 frames")
    page.fill("[name=param_rate]", "often")
    page.get_by_role("button", name="Retime").click()
    expect(page.get_by_role("alert")).to_contain_text("'often' is not a frame rate")
    fits(page)


NONSENSE: tuple[tuple[str, dict[str, str]], ...] = (
    ("/take-in/1/draft", {"action": "remedy:{}"}),
    ("/take-in/1/draft", {"action": 'back:{"path": "/x", "at": "first"}'}),
    ("/take-in/1/draft", {"metres_per_unit": "nan"}),
    ("/take-in/1/layout", {"saved": "guess"}),
    ("/cameras/1/recipe", {"version": "1", "action": "sail"}),
    ("/cameras/1/recipe", {"version": "1", "action": "up", "index": "99"}),
    ("/cameras/1/recipe", {"version": "1", "action": "add", "operation": "{"}),
    ("/cameras/1/recipe", {"version": "1", "action": "add", "operation": '{"code": "marks_add", "params": {"marks": 5}}'}),
    ("/cameras/1/recipe", {"version": "1", "action": "add", "operation": '{"code": "shift", "params": {"x_m": 1e300, "y_m": 0, "z_m": 0}}'}),
    ("/cameras/1/recipe", {"version": "1", "action": "add", "operation": '{"code": "renumber", "params": {"first": 1e300}}'}),
    ("/cameras/1/landmarks", {"version": "1", "action": "paste", "table": "\x00 1 2 3"}),
    ("/cameras/1/undo", {"version": "1"}),
    ("/cameras/1/recipe/apply", {"version": "1", "name": "none"}),
    ("/shots/1/expected", {"first_frame": "1e400"}),
    ("/cameras/1/lens", {"version": "1", "state": "{}"}),
    ("/cameras/1/lens", {"version": "1", "state": '{"film_width_mm": 1e400, "film_height_mm": 1, "focal_mm": 1, "offset_x_mm": 0, "offset_y_mm": 0, "squeeze": 1, "fit": "width"}'}),
    ("/cameras/1/part", {"version": "1", "width_px": "1e300"}),
    ("/cameras/1/film-backs", {"name": "x", "size": "nan"}),
    ("/cameras/1/keys", {"version": "1", "to": "nowhere", "format_key": "usd", "reduce_px": "1"}),
    ("/cameras/1/deliver", {"version": "1", "to": "zup-lh-cm", "format_key": "usd", "first_there": "1e99"}),
    ("/jobs/99/stop", {}),
)  # fmt: skip


def test_a_request_that_makes_no_sense_is_a_sentence(site: str, demo_files: dict[str, Path]) -> None:
    take_in(site, demo_files["TW_010"])
    with Visitor(base_url=site, timeout=60) as client:
        for url, data in NONSENSE:
            answer = client.post(url, data=data)
            assert answer.status_code in (404, 422), (url, data)
            assert "An error in Anaxis stopped this step. Nothing was saved. See the log" not in answer.text, (
                url,
                data,
            )
        page = client.get("/cameras/1")
        assert page.status_code == 200 and "nothing to undo" not in page.text.lower()
