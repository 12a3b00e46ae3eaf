"""Numbers that no drawing can hold: refused in a sentence as they come in, or the camera's page is there all the same."""

from __future__ import annotations

import re

import pytest

from lanes import sized
from other_formats import write_in_every_format
from pages import Visitor

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
