"""A camera that matches a file with a warning: every place says both, until somebody mends or allows the warning."""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect
from sqlalchemy import Engine, select

from anaxis.app.cameras.allowed_warnings import allow_warnings, warn_again
from anaxis.app.cameras.edit import edit_version
from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import deliver_version
from anaxis.app.roles import LOCAL
from anaxis.app.shows.plan import board, set_target
from anaxis.app.shows.shots import ShotFilter, listed
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation
from anaxis.packages import find_profile
from anaxis.store.models import Delivery, HistoryEntry, Show
from anaxis.store.queries import get_version
from pages import ready, take_in
from shell import run
from test_store import keep

# A lens that is 100 times too large: the picture is right, the numbers are not.
LENS = "float focalLength = 3500\n float horizontalAperture = 3600\n float verticalAperture = 2025"
SAID = "The film back is 3600 x 2025 mm"


@pytest.fixture
def large(usda: Callable[..., Path]) -> Path:
    return usda(lens=LENS, name="TW_090.usda")


def test_pages_say_the_warning_until_a_person_allows_it(page: Page, site: str, large: Path, engine: Engine) -> None:
    take_in(site, large, "TW_090")
    page.goto("/cameras/1?station=deliver&to=zup-lh-cm")
    ready(page)
    page.get_by_role("button", name="Write and prove").click()
    ready(page)
    answer = page.locator("#answer")
    expect(answer).to_contain_text("Matches the file; the file has a warning: The film back is 3600 x 2025 mm")
    expect(answer).to_have_class("answer off")
    page.goto("/")
    expect(page.locator("td .state")).to_have_text("file has a warning")
    page.goto("/?state=delivered")
    expect(page.locator("#count")).to_contain_text("0 of 1")
    page.goto("/matrix")  # where the board was once
    expect(page.locator("td.cell.warning")).to_have_attribute("title", re.compile("the file has a warning"))
    page.goto("/cameras/1?station=prove")
    expect(page.locator("#panel td.warm")).to_have_text("matches the file, which has a warning")
    page.goto("/cameras/1?station=take-in")
    ready(page)
    expect(answer).to_contain_text("the file has a warning")
    page.get_by_role("button", name="Allow warning").click()
    ready(page)
    expect(answer).to_have_class("answer yes")
    expect(page.locator("#panel")).to_contain_text("Allowed by demo")
    page.goto("/history?camera=1")
    expect(page.locator("body")).to_contain_text("allow warnings")
    expect(page.locator("body")).to_contain_text("sensor_factor: The film back is 3600")
    page.goto("/")
    expect(page.locator("td .state")).to_have_text("delivered")
    page.goto("/cameras/1?station=take-in")
    page.get_by_role("button", name="Warn again").click()
    expect(page.locator("#answer")).to_have_class("answer off")


def test_list_plan_sheet_zip_and_history_say_it_and_it_ends_when_it_is_mended(engine: Engine, large: Path) -> None:
    with Context(engine, LOCAL, expire_on_commit=False) as store, store.begin():
        version = keep(store, large, "TW_090", "cam")
        show = store.scalars(select(Show)).one()
        delivery = deliver_version(store, version, find_profile("zup-lh-cm"), "usd")
        set_target(store, show, "zup-lh-cm", "usd")
        assert delivery.matches and not delivery.sound
        (row,) = board(store, show).rows
        assert row.cells[0].state == "warning" and SAID in row.cells[0].why
        (on_list,) = listed(store, show, ShotFilter()).rows
        assert on_list.state == "file has a warning" and on_list.warnings == 1
        with pytest.raises(BadInput, match=r"no open warning 'no_such'.*the open ones are sensor_factor"):
            allow_warnings(store, version, ["no_such"])
        with pytest.raises(BadInput, match="nothing to undo"):
            warn_again(store, version, "sensor_factor")
        allow_warnings(store, version, ["sensor_factor"])
        store.expire_all()
        assert store.get_one(Delivery, delivery.id).verdict == "Matches"
        assert board(store, show).rows[0].cells[0].state == "matches"
        assert listed(store, show, ShotFilter(findings=True)).rows == []
        told = store.scalars(select(HistoryEntry).where(HistoryEntry.action == "allow warnings")).one()
        assert told.said.startswith("sensor_factor: ") and SAID in told.said and told.about_id == version.camera_id
    with Context(engine, LOCAL) as store, store.begin():
        version = get_version(store, 1)
        warn_again(store, version, "sensor_factor")
    with Context(engine, LOCAL) as store, store.begin():
        version = get_version(store, 1)
        remedy = version.open_warnings[0].operation
        assert remedy is not None
        mended = edit_version(store, version, (Operation(remedy["code"], remedy["params"]),), "mended")
        assert deliver_version(store, mended, find_profile("zup-lh-cm"), "usd").verdict == "Matches"


def test_the_sheet_and_manifest_of_the_command_line_say_it_too(large: Path, tmp_path: Path) -> None:
    def bundle(*more: str) -> tuple[int, str, str]:
        out = tmp_path / f"out{len(more)}"
        ran = run("transfer", large, "--to", "zup-lh-cm", "--format", "usd", "--bundle", "--out", out, *more)
        (made,) = out.glob("*.zip")
        with zipfile.ZipFile(io.BytesIO(made.read_bytes())) as held:
            sheet = re.sub(r"\s+", " ", held.read("transfer_sheet.html").decode())
            return ran.returncode, sheet, held.read("manifest.json").decode()

    code, sheet, manifest = bundle()
    assert code == 4 and "has an open warning" in sheet
    assert SAID in sheet and SAID in manifest
    code, sheet, manifest = bundle("--allow", "sensor_factor")
    assert code == 0 and SAID not in sheet and SAID not in manifest
