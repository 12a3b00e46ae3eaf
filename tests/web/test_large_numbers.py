"""Numbers that no drawing can hold: refused in a sentence as they come in, or the camera's page is there all the same."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, expect

from anaxis.web.drawings import svg
from lanes import sized
from other_formats import write_in_every_format
from pages import Visitor, opened_page, take_in

PAGES = sized(
    ("", "?station=lens", "?station=place", "?station=prove", "?station=deliver", "?station=time"),
    ("?station=lens", "?station=deliver"),
)


_PLACES = re.compile(r'<(matrix|translate|rotate|scale|xfov|znear|zfar|aspect_ratio)( sid="\w+")?>([^<]+)<')


@pytest.fixture(scope="module")
def scene(tmp_path_factory: pytest.TempPathFactory) -> str:
    return write_in_every_format(tmp_path_factory.mktemp("collada"))[".dae"].read_text()


@pytest.mark.parametrize("number", sized(["1e308", "-1e300", "1e40", "1e-300", "NaN"], ["1e308", "NaN"]))
def test_a_camera_is_refused_or_shown(site: str, scene: str, number: str) -> None:
    places = _PLACES.finditer(scene)
    seen: set[str] = set()
    with Visitor(base_url=site, follow_redirects=True, timeout=60) as client:
        for place in places:
            words = place[3].split()
            for at in sized({0, len(words) - 1, len(words) // 2}, {len(words) // 2}):
                kind = f"{place[1]} {at}"
                if kind in seen:
                    continue
                seen.add(kind)
                changed = " ".join(number if i == at else w for i, w in enumerate(words))
                text = scene[: place.start(3)] + changed + scene[place.end(3) :]
                answer = client.post("/take-in", files={"file": ("large.dae", text.encode())})
                assert answer.status_code in (200, 422), (kind, answer.status_code)
                if answer.status_code == 422 or "/take-in/" not in str(answer.url):
                    assert "Traceback" not in answer.text
                    continue
                paths = re.findall(r'name="cameras"\s+value="([^"]+)"|value="([^"]+)"[^>]*name="cameras"', answer.text)
                fields = {"show": "S", "shot": "LARGE", "source_fit": "width", "resolution": "1920x1080"}
                for path in {a or b for a, b in paths} or {""}:
                    kept = client.post(str(answer.url), data=fields | ({"cameras": path} if path else {}))
                    assert kept.status_code in (200, 422), (kind, path, kept.status_code)
                    if "/cameras/" in str(kept.url):
                        camera = str(kept.url).split("?")[0]
                        for page in PAGES:
                            shown = client.get(camera + page)
                            assert shown.status_code == 200, (kind, path, page, shown.status_code)
                            for data in re.findall(r'data-(?:src|url|drawing|views)="(/cameras/[^"]+)"', shown.text):
                                assert client.get(data.replace("&amp;", "&")).status_code == 200, (kind, data)
    assert len(seen) >= 7


def test_a_page_whose_drawings_fail_shows_the_rest(
    browser: Browser, site: str, demo_files: dict[str, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    def fails(*things: Any, **named: Any) -> None:
        raise FloatingPointError("overflow")

    said: list[str] = []
    take_in(site, demo_files["TW_010"])
    for place in ("drawings.axes._drawn_once", "drawings.lens.drawn", "screens.camera.routes.camera_drawing"):
        monkeypatch.setattr(f"anaxis.web.{place}", fails)
    monkeypatch.setattr(svg._log, "exception", lambda text, name: said.append(name))
    page = opened_page(browser, base_url=site)
    shown = page.goto("/cameras/1?station=lens")
    assert shown is not None and shown.status == 200 and {"axes_svg", "film_svg", "views_svg"} <= set(said)
    expect(page.locator(".lens-grid")).to_be_visible()
    expect(page.locator("#panel .not-drawn").first).to_contain_text("could not make this drawing")
    expect(page.locator(".view.lens .not-loaded")).to_contain_text("could not be loaded (500)")
    page.get_by_role("link", name="Deliver").first.click()
    expect(page.locator("#panel button[type=submit]").first).to_be_visible()
    page.wait_for_load_state("networkidle")
    page.close()
