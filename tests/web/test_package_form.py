"""A package's form in a browser: axes turned by hand, a layout for its tables, habits switched off."""

from __future__ import annotations

from pathlib import Path

import httpx
import pytest
from playwright.sync_api import Page, expect

from pages import Visitor, fits, ready, take_in

pytestmark = pytest.mark.browser


@pytest.fixture
def attic(page: Page, site: str) -> Page:
    """The form of a package of one's own, copied from the Z-up, left-handed one in centimetres."""
    Visitor().post(f"{site}/packages/zup-lh-cm/copy", data={"new_key": "attic", "label": "Attic"}, timeout=60)
    page.goto("/packages/attic")
    return page


def drag(page: Page, side: str, arm: str, towards: str) -> None:
    ends = [
        page.locator(f".handle[data-side={side}][data-arm={arm}]").bounding_box(),
        page.locator(f".rest[data-side={side}][data-towards='{towards}']").bounding_box(),
    ]
    at = [(b["x"] + b["width"] / 2, b["y"] + b["height"] / 2) for b in ends if b]
    page.mouse.move(*at[0])
    page.mouse.down()
    page.mouse.move(*at[1], steps=4)
    with page.expect_response("**/axes?**"):
        page.mouse.up()


def axes_of(page: Page, side: str) -> list[str]:
    return [page.input_value(f"[name={side}_{k}]") for k in ("right", "up", "back")]


def test_axes_are_turned_by_dragging_and_a_wrong_handedness_says_why(attic: Page, site: str) -> None:
    page = attic
    assert axes_of(page, "world") == ["+X", "+Z", "+Y"]
    drag(page, "world", "Z", "+right")
    expect(page.locator("[name=world_right]")).to_have_value("+Z")
    assert axes_of(page, "world") == ["+Z", "-X", "+Y"]
    drag(page, "world", "Z", "-right")  # right round: the world is right-handed now, the camera is not
    expect(page.locator("#axes .sentence.bad")).to_contain_text("would mirror the camera")
    page.get_by_role("button", name="Save as version 2").click()
    expect(page.locator(".sentence.bad")).to_contain_text("would mirror the camera")
    page.goto("/packages/attic")
    drag(page, "camera", "X", "+up")
    expect(page.locator("#axes")).to_contain_text("looks along -Z")
    page.get_by_role("button", name="Save as version 2").click()
    expect(page.get_by_role("button", name="Save as version 3")).to_be_visible()
    kept = httpx.get(f"{site}/packages/attic/profile.json", timeout=60).json()
    assert kept["camera"] == {"right": "+Y", "up": "+X", "back": "+Z"}
    fits(page)
    page.select_option("[name=lens_reads_gltf_zoom]", "true")
    page.select_option("[name=time_clips_from_zero]", "true")
    page.get_by_role("button", name="Save as version 3").click()
    page.fill("[name=first_frame]", "7")  # what another version changes does not lose them
    page.get_by_role("button", name="Save as version 4").click()
    expect(page.get_by_role("button", name="Save as version 5")).to_be_visible()
    kept = httpx.get(f"{site}/packages/attic/profile.json", timeout=60).json()
    assert kept["lens"]["reads_gltf_zoom"] and kept["time"]["clips_from_zero"]
    assert kept["time"]["first_frame"] == 7
    page.goto("/packages/zup-lh-cm")
    assert page.locator(".handle").count() == 0  # a shipped one is not turned


def test_a_column_layout_is_kept_with_the_package_and_written(
    attic: Page, site: str, demo_files: dict[str, Path]
) -> None:
    page = attic
    page.get_by_text("Add column layout").click()
    columns = ["frame:", "position_x:", "position_y:", "position_z:", "rotation_x:rad", "rotation_y:deg", "rotation_z:deg"]  # fmt: skip
    for i, value in enumerate(columns):
        page.select_option(f"[name=column_{i}]", value)
    page.select_option("[name=sign_2]", "-1")
    page.select_option("[name=separator]", "tab")
    page.uncheck("[name=headings]")
    page.get_by_role("button", name="Save layout").click()
    expect(page.locator("main")).to_contain_text("7 columns, without headings, separated by tabs")
    expect(page.locator("main")).to_contain_text("−position_y")
    fits(page)
    take_in(site, demo_files["TW_010"], "TW_010")
    with Visitor(base_url=site, timeout=60) as client:
        form = {"version": "1", "to": "attic", "format_key": "columns"}
        answer = client.post("/cameras/1/deliver", data=form)
        assert answer.headers["location"] == "/deliveries/1"
        assert "exact" in client.get("/deliveries/1").text
        table = client.get("/deliveries/1/files/TW_010.shotcam.attic.csv").text
        assert len(table.splitlines()) == 120 and table.splitlines()[0].split("\t")[0] == "1001"
        # The same table, pasted as what came back, is the same camera.
        back = {"version": "1", "to": "attic", "numbers": table}
        assert client.post("/cameras/1/returns", data=back).headers["location"] == "/returns/1"
        assert "Matches on the 120 typed frames" in client.get("/returns/1").text
    page.get_by_text("Change column layout").click()
    for i in range(7):
        page.select_option(f"[name=column_{i}]", "")
    page.get_by_role("button", name="Save layout").click()
    expect(page.locator("main")).to_contain_text("No layout")


def test_a_table_taken_in_gives_a_package_its_layout(attic: Page, site: str, tmp_path: Path) -> None:
    page = attic
    table = tmp_path / "mill.tsv"
    rows = ["\t".join(str(v) for v in (i, 0.1 * i, 1.7, 5 + 0.2 * i, 2, 3 * i, 0, 35)) for i in range(1, 12)]
    table.write_text("\n".join(["frame\ttx\tty\ttz\trx\try\trz\tfocal", *rows]) + "\n")
    page.goto("/take-in")
    page.set_input_files("[name=file]", table)
    page.get_by_role("button", name="Read with this layout").click()
    page.select_option("#save_with", "attic")
    page.get_by_role("button", name="Read with this layout").click()
    expect(page.locator("#saved")).to_contain_text("Attic")
    kept = httpx.get(f"{site}/packages/attic/profile.json", timeout=60).json()["table"]
    assert [c["quantity"] for c in kept["columns"]][:4] == ["frame", "position_x", "position_y", "position_z"]
    assert kept["separator"] == "tab" and kept["headings"] is True
    page.select_option("#saved", "package:attic")
    page.get_by_role("button", name="Read with this layout").click()
    expect(page.locator("main")).to_contain_text("Z up")


def test_fields_that_are_not_kept_yet_are_not_lost(attic: Page, site: str) -> None:
    page = attic
    page.fill("[name=notes]", "Its importer asks for a unit.")
    page.select_option("#habit-code", "world_turn")
    page.get_by_role("button", name="Add habit").click()
    expect(page.get_by_role("alert")).to_contain_text("Keep what you changed here first")
    page.get_by_role("button", name="Save as version 2").click()
    expect(page.locator("main")).to_contain_text("version 2 of 2")
    page.select_option("#habit-code", "world_turn")
    page.get_by_role("button", name="Add habit").click()
    expect(page.locator("main")).to_contain_text("version 3 of 3")
    assert "asks for a unit" in httpx.get(f"{site}/packages/attic/profile.json", timeout=60).json()["notes"]


def test_a_habit_switched_off_is_kept_and_not_made_up_for(attic: Page, site: str, demo_files: dict[str, Path]) -> None:
    page = attic
    page.select_option("#habit-code", "world_turn")
    page.get_by_role("button", name="Add habit").click()
    take_in(site, demo_files["TW_010"], "TW_010")
    page.goto("/cameras/1?station=deliver&to=attic")
    ready(page)
    expect(page.locator("#panel")).to_contain_text("1 habit, compensated in the file")
    page.goto("/packages/attic")
    page.get_by_role("button", name="Switch off").click()
    expect(page.locator(".habits").first).to_contain_text("Switched off")
    page.goto("/cameras/1?station=deliver&to=attic")
    ready(page)
    expect(page.locator("#panel")).not_to_contain_text("makes up for")
    page.get_by_role("button", name="Write and prove").click()
    page.wait_for_url("**/deliveries/1")
    expect(page.locator("main")).not_to_contain_text(". The file compensates for this")
    page.goto("/packages")
    expect(page.locator("main")).to_contain_text("+ 1 off")
