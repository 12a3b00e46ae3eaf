"""Many files on one page: rows as they are read, a bad one among them, a rule changed, remedies for all, all kept."""

from __future__ import annotations

import shutil
import zipfile
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect
from sqlalchemy import Engine, func, select

from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from anaxis.store.models import Camera, Show, SourceFile, Version
from pages import fits


def test_a_folder_of_files_is_read_named_mended_and_kept(
    page: Page, tmp_path: Path, demo_files: dict[str, Path], engine: Engine
) -> None:
    files = []
    for shot, of in (("MI_010", "TW_010"), ("MI_020", "TW_020"), ("MI_030", "TW_040")):
        files.append(shutil.copy(demo_files[of], tmp_path / f"layout_{shot}_v002{demo_files[of].suffix}"))
    (tmp_path / "layout_MI_040_v001.usda").write_text("#usda 1.0\n(broken")
    page.goto("/take-in")
    page.get_by_role("link", name="Take in many files").click()
    page.get_by_label("Show", exact=True).fill("The mill")
    page.wait_for_load_state("load")  # its script listens from then on
    page.locator("#files").set_input_files([*map(str, files), str(tmp_path / "layout_MI_040_v001.usda")])
    expect(page.locator("#rows tr")).to_have_count(4)
    expect(page.locator("#counts")).to_have_text("3 new, 1 cannot be taken in")
    expect(page.locator("#answer")).to_have_class("answer off")
    fits(page)
    bad = page.locator("#rows tr", has_text="MI_040")
    expect(bad).to_contain_text("layout_MI_040_v001.usda")
    # by the guess the whole stem is the shot; a rule says better, and every row follows it
    page.get_by_label("Naming rule").fill("layout_{shot}_v{version}")
    page.get_by_label("Naming rule").press("Tab")
    expect(page.locator("#rows tr td:nth-child(4)", has_text="MI_030")).to_have_text("MI_030")
    expect(page.locator("thead .finding-column").first).to_contain_text("in 1")
    page.get_by_label("Remedy of").first.check()
    page.get_by_role("button", name="Save ticked files").click()
    expect(page.locator("#told")).to_have_text("3 kept")
    expect(page.locator("#rows tr[data-kept]")).to_have_count(3)
    fits(page)
    with Context(engine, LOCAL) as store:
        assert store.execute(select(func.count()).select_from(Camera)).scalar_one() == 3
        show = store.execute(select(Show)).scalar_one()
        assert (show.name, show.rule) == ("The mill", "layout_{shot}_v{version}")
        mended = [v for v in store.execute(select(Version)).scalars() if v.recipe]
        assert len(mended) == 1 and mended[0].camera.shot.name == "MI_030"
    page.goto("/take-in/many")  # the show and its rule are there, and nothing is taken in twice
    expect(page.get_by_label("Naming rule")).to_have_value("layout_{shot}_v{version}")
    page.locator("#files").set_input_files([str(files[0])])
    expect(page.locator("#rows tr")).to_contain_text("same again")
    with Context(engine, LOCAL) as store:
        unread = store.execute(select(func.count()).select_from(SourceFile).where(~SourceFile.kept)).scalar_one()
        assert unread == 0, "the bad file and the same one leave nothing behind"
    page.get_by_label("Naming rule").fill("{nothing}")
    page.locator("#files").set_input_files([str(files[1])])
    expect(page.locator("#rows tr").last).to_contain_text("'{nothing}' is not a field")
    expect(page.get_by_role("button", name="Save ticked files")).to_be_disabled()


def test_a_zip_of_many_is_opened_in_the_browser(page: Page, tmp_path: Path, demo_files: dict[str, Path]) -> None:
    packed, files = tmp_path / "evening.zip", [demo_files["TW_010"], demo_files["TW_020"]]
    with zipfile.ZipFile(packed, "w") as out:
        for file, how in zip(files, (zipfile.ZIP_DEFLATED, zipfile.ZIP_STORED), strict=True):
            out.write(file, f"layout/{file.name}", how)
        out.writestr("layout/notes.md", "not a camera")
    page.goto("/take-in/many")
    page.get_by_label("Show", exact=True).fill("The mill")
    page.locator("#files").set_input_files([str(packed)])
    expect(page.locator("#counts")).to_have_text("2 new")
    paths = sorted(row.get_attribute("data-path") or "" for row in page.locator("#rows tr").all())
    assert paths == sorted(f"evening.zip/layout/{f.name}" for f in files)
    page.get_by_label("Zip of several camera files").select_option("whole")
    page.locator("#files").set_input_files([str(packed)])
    expect(page.locator("#rows tr")).to_have_count(3)
    expect(page.locator("thead .finding-column", has_text="more files")).to_be_visible()
    (tmp_path / "broken.zip").write_bytes(packed.read_bytes()[:-200])
    page.get_by_label("Zip of several camera files").select_option("opened")
    page.locator("#files").set_input_files([str(tmp_path / "broken.zip")])
    expect(page.locator("#rows")).to_contain_text("is not a readable .zip package")


def test_a_folder_below_a_media_root_is_read_and_watched(
    page: Page, tmp_path: Path, demo_files: dict[str, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("ANAXIS_MEDIA_ROOTS", f"layout={tmp_path}")
    monkeypatch.setenv("ANAXIS_MEDIA_SHOWS", "layout=*")
    (tmp_path / "reel 1" / "cut").mkdir(parents=True)
    (tmp_path / "empty").mkdir()
    (tmp_path / "reel 1" / "out").symlink_to(demo_files["TW_010"].parent)
    shutil.copy(demo_files["TW_010"], tmp_path / "reel 1" / "cut" / f"MI_010_v001{demo_files['TW_010'].suffix}")
    page.goto("/take-in/many")
    page.get_by_label("Show", exact=True).fill("The mill")
    page.get_by_label("Folder", exact=True).nth(0).fill("../..")
    page.get_by_role("button", name="Read folder", exact=True).click()
    expect(page.locator("#trouble")).to_contain_text("is not a name below a media root")
    page.get_by_label("Folder", exact=True).nth(0).fill("empty")
    page.get_by_role("button", name="Read folder", exact=True).click()
    expect(page.locator("#trouble")).to_contain_text("No camera files in this folder")
    page.get_by_label("Folder", exact=True).nth(0).fill("reel 1")
    page.get_by_role("button", name="Read folder", exact=True).click()
    expect(page.locator("#counts")).to_have_text("1 new")  # and nothing that a link leads to
    assert (
        page.locator("#rows tr").get_attribute("data-path")
        == "layout/reel 1/cut/MI_010_v001" + demo_files["TW_010"].suffix
    )
    page.get_by_role("button", name="Read and watch folder").click()
    shutil.copy(demo_files["TW_020"], tmp_path / "reel 1" / f"MI_020_v001{demo_files['TW_020'].suffix}")
    expect(page.locator("#counts")).to_have_text("2 new", timeout=20_000)
    page.get_by_role("button", name="Stop watching").click()
    page.get_by_role("button", name="Save ticked files").click()
    expect(page.locator("#told")).to_have_text("2 kept")
    fits(page)
