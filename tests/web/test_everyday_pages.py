"""What people use every day on the pages: the list of shots, search, notices, the tour, times, static files."""

from __future__ import annotations

import re
import sys
from pathlib import Path

import httpx
import pytest
from playwright.sync_api import Page, expect
from sqlalchemy import Engine, select

from anaxis.app.cameras.edit import edit_version
from anaxis.app.context import Context
from anaxis.app.notices.notices import News, give_notice
from anaxis.app.people.people import add_person, link_for
from anaxis.app.people.sign_in import accept
from anaxis.app.roles import LOCAL, Role
from anaxis.app.saved import save_recipe
from anaxis.core.recipe.model import Operation
from anaxis.store.models import Camera, Shot, Show
from anaxis.web.static_files import ADDRESS, DIGEST
from pages import PASSWORD, Visitor, entered, ready, take_in
from test_shots import many
from test_store import keep

ROOT = Path(__file__).resolve().parents[2]


@pytest.mark.browser
def test_ticked_cameras_are_delivered_edited_archived_and_moved(
    page: Page, site: str, engine: Engine, demo_files: dict[str, Path]
) -> None:
    for shot in ("TW_010", "TW_020", "TW_030"):
        take_in(site, demo_files[shot], shot)
    with Context(engine, LOCAL) as store, store.begin():
        first = store.execute(select(Camera).join(Shot).where(Shot.name == "TW_030")).scalar_one()
        moved = Operation("shift", {"x_m": 1.0, "y_m": 0.0, "z_m": 0.0})
        save_recipe(store, edit_version(store, first.head, (moved,), "moved"), "one metre")
        store.add(Show(name="The Weir"))
    page.goto("/")
    page.get_by_role("button", name="Make film").click()
    expect(page.get_by_role("alert")).to_contain_text("No camera is ticked")
    for shot in ("TW_010", "TW_020"):
        page.get_by_role("checkbox", name=re.compile(shot)).check()
    page.get_by_role("button", name="Deliver cameras").click()
    expect(page.locator("#answer")).to_contain_text("All 2 match")
    page.goto("/")
    for shot in ("TW_010", "TW_020"):
        page.get_by_role("checkbox", name=re.compile(shot)).check()
    page.get_by_role("button", name="Apply recipe").click()
    expect(page.get_by_text("Recipe 'one metre' is applied to 2 of 2 cameras.")).to_be_visible()
    with Context(engine, LOCAL) as store:
        heads = {c.shot.name: c.head.label for c in store.execute(select(Camera)).scalars()}
    assert heads == {"TW_010": "1.1", "TW_020": "1.1", "TW_030": "1.1"}
    page.goto("/?show=1")
    page.get_by_role("checkbox", name=re.compile("TW_020")).check()
    page.get_by_role("button", name="Move shots").click()
    expect(page.get_by_text("1 shot moved to The Weir.")).to_be_visible()
    expect(page.locator("h1")).to_have_text("The Weir")
    page.goto("/?show=1")
    page.get_by_role("checkbox", name="Tick all cameras of this page").check()
    page.get_by_role("button", name="Archive cameras").click()
    expect(page.get_by_text("2 cameras archived.")).to_be_visible()
    expect(page.get_by_text("Archived: 2")).to_be_visible()
    with Visitor(base_url=site) as client:
        stranger = client.post("/shows/1/cameras", data={"camera": ["2"], "action": "archive"})
        assert "not in this show any more" in client.get("/?show=1").text or "not in this show" in stranger.text


@pytest.mark.browser
def test_the_list_is_dense_sorted_by_its_headings_and_has_the_columns_chosen(
    page: Page, site: str, engine: Engine, demo_files: dict[str, Path]
) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    take_in(site, demo_files["TW_020"], "TW_020")
    many(engine, 60)
    page.goto("/")
    expect(page.locator("td.eye").first).to_be_visible()
    page.get_by_role("button", name="Dense rows").click()
    expect(page.get_by_role("button", name="Large rows")).to_be_visible()
    seen = page.evaluate(
        "[...document.querySelectorAll('table.shots tbody tr')].filter(r => r.getBoundingClientRect().bottom < 800).length"
    )
    assert seen >= 18, f"{seen} rows on one screen"
    page.locator("thead").get_by_role("link", name=re.compile("^Shot")).click()
    assert page.locator("tbody th").first.inner_text() == "TW_020" and "sort=-shot" in page.url
    expect(page.locator("th[aria-sort=descending]")).to_contain_text("Shot")
    page.locator("thead").get_by_role("link", name="Frames").click()
    assert page.locator("table.shots tbody tr td:nth-last-child(3)").first.inner_text() == "1001–1120"
    expect(page.get_by_role("link", name="Next")).to_have_attribute("href", re.compile("sort=frames"))
    page.get_by_text("View and columns").click()
    page.get_by_role("checkbox", name="Rate").uncheck()
    page.get_by_role("checkbox", name="By", exact=True).check()
    page.get_by_role("button", name="Save view").click()
    heads = [h.strip(" ↑↓") for h in page.locator("table.shots thead th").all_inner_texts()]
    assert "Rate" not in heads and "By" in heads and "Through the lens" not in heads
    assert "sort=frames" in page.url, "the list stays as it was sorted"


@pytest.mark.browser
def test_search_opens_by_a_key_on_any_page_and_works_without_scripts(
    page: Page, site: str, demo_files: dict[str, Path]
) -> None:
    take_in(site, demo_files["TW_040"], "TW_040")
    page.goto("/packages")
    page.keyboard.press("/")
    dialog = page.get_by_role("dialog", name="Search")
    expect(dialog).to_be_visible()
    page.keyboard.type("tw_0")
    expect(dialog.get_by_role("link", name="TW_040", exact=True)).to_be_visible()
    page.keyboard.press("Control+a")
    page.keyboard.type("handedness")
    expect(dialog.get_by_role("heading", name="Help")).to_be_visible()
    page.keyboard.press("Escape")
    expect(dialog).to_be_hidden()
    found = httpx.get(f"{site}/search", params={"q": "<i>tw"}).text
    assert "<i>tw" not in found and "Search" in found
    assert "Nothing matches" in httpx.get(f"{site}/search", params={"q": "qqq"}).text
    assert "/shots/1" in httpx.get(f"{site}/search", params={"q": "tw_040"}).text


@pytest.mark.browser
def test_notices_are_counted_opened_and_marked_as_read(
    page: Page, site: str, engine: Engine, demo_files: dict[str, Path]
) -> None:
    page.goto("/notices")
    expect(page.get_by_text("No notices yet.")).to_be_visible()
    with Context(engine, LOCAL) as store, store.begin():
        show = keep(store, demo_files["TW_010"], "TW_010").camera.shot.show_id
        for n in range(3):
            give_notice(store, ["demo"], News("run", show, f"Run {n} ended: 1 delivered.", "/packages", f"run {n}"))
    page.goto("/")
    expect(page.locator("#unread")).to_contain_text("3")
    page.get_by_role("link", name=re.compile("Notices")).click()
    page.get_by_role("link", name="Run 1 ended: 1 delivered.").click()
    expect(page.locator("h1")).to_have_text("Packages")
    expect(page.locator("#unread")).to_contain_text("2")
    page.goto("/notices")
    page.get_by_role("button", name="Mark all as read").click()
    expect(page.locator("#unread")).to_have_count(0)
    expect(page.locator("table.notices tr.new")).to_have_count(0)
    expect(page.locator("table.notices time").first).to_have_text(re.compile(r"^(today|yesterday), \d\d:\d\d$"))
    assert httpx.get(f"{site}/notices/999").status_code == 404


@pytest.mark.browser
def test_the_tour_leads_from_a_file_to_its_proof_and_is_left_at_any_time(page: Page, site: str) -> None:
    page.goto("/help/tour")
    page.get_by_role("button", name="Take the tour").click()
    expect(page.get_by_text("Tour, step 1 of 9: File")).to_be_visible()
    page.get_by_role("button", name="Apply remedy").click()
    page.get_by_role("button", name="Save cameras").last.click()
    for number, station in enumerate(("Take in", "Clean", "Lens", "Plate", "Time", "Place"), 2):
        expect(page.get_by_text(f"Tour, step {number} of 9: {station}")).to_be_visible()
        page.get_by_role("link", name=re.compile("^Next: ")).click()
    ready(page)
    expect(page.get_by_text("Tour, step 8 of 9: Deliver")).to_be_visible()
    page.get_by_role("button", name="Write and prove").click()
    expect(page.get_by_text("Tour, step 9 of 9: Prove")).to_be_visible()
    expect(page.locator("#answer")).to_contain_text("Matches")
    page.get_by_role("button", name="End tour").click()
    expect(page).to_have_url(f"{site}/")  # going on at once would stop the request that ends the tour
    page.goto("/cameras/1?station=lens")
    expect(page.locator(".tour")).to_have_count(0)
    page.goto("/")
    expect(page.locator(".tour")).to_have_count(0)


def test_static_files_are_kept_for_a_year_by_their_digest_and_small(site: str) -> None:
    text = httpx.get(f"{site}/").text
    addresses = re.findall(r'(?:href|src)="(/static/[^"]+)"', text)
    assert addresses and all(a.startswith(f"{ADDRESS}/") for a in addresses)
    sizes = 0
    for address in addresses:
        answer = httpx.get(f"{site}{address}")
        assert answer.status_code == 200 and "immutable" in answer.headers["cache-control"], address
        with httpx.stream("GET", f"{site}{address}") as raw:
            sizes += sum(map(len, raw.iter_raw()))
    assert sizes < 45_000, f"{sizes} bytes of styles and scripts"
    plain = httpx.get(f"{site}/static/anaxis.css")
    assert plain.headers["cache-control"] == "no-cache" and "--paper" in plain.text
    for wrong in (f"{ADDRESS}/../app.py", "/static/%2e%2e/app.py", f"{ADDRESS}/nothing.js", f"/static/{DIGEST}"):
        assert httpx.get(f"{site}{wrong}").status_code == 404, wrong
    unpacked = httpx.get(f"{site}{ADDRESS}/anaxis.css", headers={"accept-encoding": "identity"})
    assert "content-encoding" not in unpacked.headers and unpacked.text == plain.text


@pytest.mark.browser
def test_a_first_load_is_small_and_a_later_one_smaller(page: Page, site: str, demo_files: dict[str, Path]) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    session = page.context.new_cdp_session(page)
    session.send("Network.enable")
    asked: dict[str, str] = {}
    received: list[float] = []
    session.on("Network.requestWillBeSent", lambda e: asked.update({e["requestId"]: e["request"]["url"]}))
    session.on(
        "Network.loadingFinished",
        # The drawing's data is what the page shows, and grows with the shot.
        lambda e: received.append(e["encodedDataLength"] if "/drawing" not in asked[e["requestId"]] else 0),
    )
    sizes = []
    for _ in range(2):
        received.clear()
        page.goto("/cameras/1?station=lens")
        ready(page)
        page.wait_for_load_state("networkidle")
        sizes.append(sum(received))
    assert sizes[0] < 150_000 and sizes[1] < 30_000, sizes


def test_the_part_of_the_styles_that_ships_is_what_the_pages_use(tmp_path: Path) -> None:
    sys.path.insert(0, str(ROOT / "scripts"))
    try:
        import build_styles
    finally:
        sys.path.pop(0)
    assert build_styles.bootstrap_part() == (build_styles.VENDOR / "bootstrap.part.css").read_text(encoding="utf-8"), (
        "run scripts/build_styles.py"
    )
    assert build_styles.uplot_module() == (build_styles.VENDOR / "uplot.js").read_text(encoding="utf-8")


def test_a_button_that_one_may_not_use_is_off_and_says_which_role_it_needs(
    site: str, engine: Engine, demo_files: dict[str, Path]
) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    with Context(engine, LOCAL) as store, store.begin():
        for role in (Role.VIEWER, Role.ARTIST):
            person = add_person(store, role.called, role)
            accept(store, link_for(store, person), PASSWORD)
    for who, off, on in (
        ("viewer", ("Rename show", "Archive show", "Deliver camera"), ("Apply filters", "Save view")),
        ("artist", ("Rename show", "Archive show"), ("Archive cameras", "Make film", "Save view")),
    ):
        client = entered(site, who)
        text = client.get("/?show=1").text
        buttons = {
            re.sub(r"\s+", " ", label).strip(): head
            for head, label in re.findall(r"<button\b([^>]*)>([^<]*)</button>", text)
        }
        for label in off:
            head = buttons.get(label)
            assert head is None or ("disabled" in head and "may do this" in head), (who, label)
        assert "Only a lead may do this" in buttons["Rename show"]
        for label in on:
            assert "disabled" not in buttons[label], (who, label)
        deliver = client.get("/cameras/1?station=deliver").text
        write = re.search(r"<button\b([^>]*)>\s*Write and prove", deliver)
        assert write is not None and ("disabled" in write[1]) == (who == "viewer"), who
        assert 'action="/sign-out"' in (account := client.get("/account").text) and "may do this" not in account
