"""Screenshots that an outside renderer drew with a wrong camera: the cause found on the page by mouse and by keyboard, over HTTP, on the
command line and by the library."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import pytest
from playwright.sync_api import FloatRect, Locator, Page, expect
from sqlalchemy import Engine

import anaxis
from anaxis.app.context import Context
from anaxis.app.deliveries.learned import learn_and_deliver
from anaxis.app.roles import LOCAL
from anaxis.core.errors import BadInput
from anaxis.core.scene.picture import picture_of
from anaxis.formats import read_file
from anaxis.library.returned import Meant
from anaxis.packages import find_profile
from anaxis.store.queries import get_version
from drawn_by_three import drawn
from pages import fits, ready, take_in
from shell import run
from test_api import caller, kept

__all__ = ["caller"]
pytestmark = pytest.mark.browser


class Shown(NamedTuple):
    """A screenshot with where the landmarks are in it; the camera's lens is a third wider than meant, at frame 1040."""

    file: Path
    points: Path
    at: dict[str, list[float] | None]


@pytest.fixture(scope="module")
def wide(browser: Any, demo_files: dict[str, Path], tmp_path_factory: pytest.TempPathFactory) -> Shown:
    scene = read_file(demo_files["TW_010"])
    meant = Meant.of(scene, None, picture_of(scene, None, None))
    track, marks = meant.work.done, meant.work.landmarks
    at = int(np.abs(track.frames - 1040).argmin())
    height_mm = float(track.lens.film_width_mm[at]) * 9 / 16
    vfov = 2 * np.degrees(np.arctan(1.3 * height_mm / 2 / float(track.lens.focal_mm[at])))
    place = marks.position_m[min(at, len(marks.position_m) - 1)]
    folder = tmp_path_factory.mktemp("drawn")
    seen = drawn(browser, meant.work.lines_m, dict(zip(marks.names, place, strict=True)), track.position_m[at], track.rotation[at], float(vfov), folder / "engine.png")  # fmt: skip
    inside = {n: p if p is not None and 0 < p[0] < 1920 and 0 < p[1] < 1080 else None for n, p in seen.items()}
    rows = [f"{n} -" if p is None else f"{n} {p[0]:.1f} {p[1]:.1f}" for n, p in inside.items()]
    (folder / "points.txt").write_text("# where three sees them\nname x y\n" + "\n".join(rows))
    assert sum(p is not None for p in inside.values()) >= 15
    return Shown(folder / "engine.png", folder / "points.txt", inside)


def _uploaded(page: Page, site: str, demo_files: dict[str, Path], wide: Shown) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    page.goto("/cameras/1?station=prove&to=zup-lh-cm")
    ready(page)
    form = page.locator("#screenshot-form")
    form.locator("[name=file]").set_input_files(wide.file)
    form.locator("[name=frame]").fill("1040")
    form.get_by_role("button", name="Upload screenshots").click()
    page.wait_for_url("**/screenshots/1")
    ready(page)


def _box(drawn: Locator) -> FloatRect:
    """Where something lies; it is drawn anew after each drag, and in between it lies nowhere."""
    while (box := drawn.bounding_box()) is None:
        drawn.wait_for()
    return box


def test_landmarks_are_dragged_and_the_cause_is_named_learned_and_delivered(
    page: Page, site: str, demo_files: dict[str, Path], wide: Shown
) -> None:
    _uploaded(page, site, demo_files, wide)
    expect(page.locator("#answer")).to_contain_text("Not explained yet")
    box = page.locator("#shot").bounding_box()
    assert box is not None
    scale = min(box["width"] / 1920, box["height"] / 1080)
    left, top = box["x"] + (box["width"] - 1920 * scale) / 2, box["y"] + (box["height"] - 1080 * scale) / 2
    placed = 0
    for handle in page.locator("#marks .mark").all():
        name = handle.get_attribute("data-name") or ""
        target = wide.at.get(name)
        if target is None:
            continue
        grip = _box(page.locator(f'#marks [data-name="{name}"] .grip'))
        x, y = grip["x"] + grip["width"] / 2, grip["y"] + grip["height"] / 2
        if not (box["x"] < x < box["x"] + box["width"] and box["y"] < y < box["y"] + box["height"]):
            continue
        page.locator("#snap").set_checked(False)
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(left + target[0] * scale, top + target[1] * scale, steps=4)
        page.mouse.up()
        placed += 1
    assert placed >= 3
    for name, target in wide.at.items():  # the rest is out of the expected picture: chosen in the list, and clicked
        row = page.locator(f'tr[data-mark="{name}"]')
        if target is None or row.count() == 0 or row.locator("[data-axis='0']").input_value():
            continue
        row.locator("[data-choose]").click()
        page.mouse.click(left + target[0] * scale, top + target[1] * scale)
    fits(page)
    page.get_by_role("button", name="Explain picture").click()
    expect(page.locator("#answer")).to_contain_text("Cause found")
    expect(page.locator("#answer")).to_contain_text(re.compile(r"makes the film back 1\.(29|3|31)"))
    page.get_by_role("button", name="Save as habit and deliver again").click()
    page.wait_for_url("**/deliveries/1")
    expect(page.locator("#answer")).to_contain_text("zup-lh-cm")
    page.goto("/packages/zup-lh-cm-here")
    expect(page.locator("body")).to_contain_text("makes the film back 1.")


def test_the_same_by_keyboard_alone(page: Page, site: str, demo_files: dict[str, Path], wide: Shown) -> None:
    _uploaded(page, site, demo_files, wide)
    first = page.locator("#marks .mark").first
    name = first.get_attribute("data-name") or ""
    field = page.locator(f'tr[data-mark="{name}"] [data-axis="0"]')
    first.focus()
    page.keyboard.press("Enter")  # placed where it is expected
    before = float(field.input_value())
    page.keyboard.press("ArrowRight")
    page.keyboard.press("Shift+ArrowRight")
    assert float(field.input_value()) == pytest.approx(before + 11)
    page.keyboard.press("+")
    assert page.locator("#shot").get_attribute("viewBox") != "0 0 1920 1080"
    page.keyboard.press("h")
    expect(page.locator(f'tr[data-mark="{name}"] [data-hidden]')).to_be_checked()
    for label, target in wide.at.items():
        row = page.locator(f'tr[data-mark="{label}"]')
        if row.count() == 0:
            continue
        hidden = row.locator("[data-hidden]")
        if target is None:
            if not hidden.is_checked():
                hidden.focus()
                page.keyboard.press("Space")
            continue
        if hidden.is_checked():
            hidden.focus()
            page.keyboard.press("Space")
        for axis in ("0", "1"):
            row.locator(f'[data-axis="{axis}"]').focus()
            page.keyboard.press("Control+a")
            page.keyboard.type(f"{target[int(axis)]:.1f}")
        page.keyboard.press("Tab")
    page.get_by_role("button", name="Explain picture").focus()
    page.keyboard.press("Enter")
    expect(page.locator("#answer")).to_contain_text("Cause found")
    expect(page.locator("#answer")).to_contain_text(re.compile(r"makes the film back 1\.(29|3|31)"))
    page.locator("[name=frame]").focus()
    page.keyboard.press("Control+a")
    page.keyboard.type("99999")
    page.get_by_role("button", name="Save landmarks").click()
    expect(page.get_by_role("alert")).to_contain_text("The shot has no frame 99999")


def test_over_http_the_set_is_found_explained_and_its_camera_saved(
    caller: Callable[..., Any], demo_files: dict[str, Path], wide: Shown
) -> None:
    client = caller()
    number = kept(client, demo_files["TW_010"])
    sent = client.post(
        f"/cameras/{number}/screenshots", files={"file": ("engine.png", wide.file.read_bytes())}, data={"to": "zup-lh-cm", "frame": "1040"}
    )  # fmt: skip
    assert sent.status_code == 201, sent.text
    shot = sent.json()
    assert shot["area"] == [0, 0, 1920, 1080] and shot["points"] == {} and shot["diagnosis"] == {}
    few = client.post(f"/screenshots/{shot['id']}/explain")
    assert few.status_code == 422 and "place at least 4" in few.json()["sentence"]
    found = client.post(f"/screenshots/{shot['id']}/find").json()
    assert found["found"] is True
    off = [
        np.hypot(*np.subtract(found["points"][n], p))
        for n, p in wide.at.items()
        if p is not None and n in found["points"]
    ]
    assert len(off) > 12 and np.median(off) < 3.0, off
    placed = client.put(f"/screenshots/{shot['id']}/landmarks", json={"points": wide.at, "frame": 1040})
    assert placed.status_code == 200 and placed.json()["found"] is False, placed.text
    told = client.post(f"/screenshots/{shot['id']}/explain").json()["diagnosis"]
    assert told["decided"] and [c["code"] for c in told["explanations"][0]["causes"]] == ["film_factor"]
    assert told["explanations"][0]["causes"][0]["factor"] == pytest.approx(1.3, rel=2e-3)
    made = client.post(f"/screenshots/{shot['id']}/camera", json={"name": "from_the_engine"})
    assert made.status_code == 201, made.text
    assert [s["id"] for s in client.get(f"/cameras/{number}/screenshots").json()] == [shot["id"]]
    assert client.get(f"/screenshots/{shot['id']}/picture.png").content[:4] == b"\x89PNG"
    for points in ({"nobody": [1, 2]}, {"tide_bell": [1e9, 2]}, {"tide_bell": [1]}):
        assert client.put(f"/screenshots/{shot['id']}/landmarks", json={"points": points}).status_code == 422
    assert client.delete(f"/screenshots/{shot['id']}").status_code == 200
    assert client.get(f"/screenshots/{shot['id']}").status_code == 404


def test_command_line_and_library_say_the_same_and_write_the_profile(
    demo_files: dict[str, Path], wide: Shown, tmp_path: Path
) -> None:
    meant = str(demo_files["TW_010"])
    asked = [
        "picture",
        meant,
        str(wide.file),
        "--points",
        str(wide.points),
        "--frame",
        "1040",
        "--profile",
        "zup-lh-cm",
    ]
    told = json.loads(run(*asked, "--json").stdout)
    camera = anaxis.read(meant).cameras[0]
    stills = [anaxis.Still(wide.file, {n: None if p is None else (p[0], p[1]) for n, p in wide.at.items()}, 1040)]
    same = anaxis.explain_stills(camera, stills, "zup-lh-cm").as_dict()
    assert told["explained"] and told["decided"] and told["areas"] == [[0, 0, 1920, 1080]]
    assert [e["causes"][0]["code"] for e in told["explanations"][:1]] == ["film_factor"]
    assert same["explanations"][0]["causes"][0]["factor"] == pytest.approx(
        told["explanations"][0]["causes"][0]["factor"], rel=1e-3
    )
    profile = tmp_path / "learned.json"
    said = run(*asked, "--learn", str(profile))
    assert "makes the film back 1." in said.stdout and "camera position" in said.stdout
    assert "Position within" in said.stdout and "not told by pictures: axes" in said.stderr
    learned = anaxis.package(str(profile))
    assert [h.code for h in learned.habits] == [*(h.code for h in find_profile("zup-lh-cm").habits), "film_factor"]
    unknown = json.loads(run(*asked[:5], "--frame", "unknown", "--profile", "zup-lh-cm", "--json").stdout)
    assert unknown["explanations"][0]["frames"] == [1040]
    found = run("picture", meant, str(wide.file), "--find", "--frame", "1040").stdout
    assert found.startswith("# found by the edges of engine.png") and "wheel_hub" in found


def test_what_is_wrong_on_the_command_line_is_one_sentence(
    demo_files: dict[str, Path], wide: Shown, tmp_path: Path
) -> None:
    meant, still = str(demo_files["TW_010"]), str(wide.file)
    bad = tmp_path / "bad.txt"
    for text, words in (
        ("tide_bell one two", "row 1: 'tide_bell one two' is not 'name x y'"),
        ("nobody 1 2\ntide_bell 1 2", "there is no landmark 'nobody'"),
        ("tide_bell 1 2", "has 1 landmark placed: place at least 4"),
    ):
        bad.write_text(text)
        done = run("picture", meant, still, "--points", str(bad))
        assert done.returncode == 2 and words in done.stderr and done.stderr.count("\n") == 1, done.stderr
    for more, words in (
        (["--points", str(wide.points), "--frame", "7"], "the shot has no frame 7"),
        (["--points", str(wide.points), "--area", "0,0,9,9"], "does not lie within"),
        (["--points", str(wide.points), "--points", str(wide.points)], "2 --points for 1 stills"),
        (["--points", str(wide.points), "--frame", "soon"], "'soon' is not a frame"),
        (["--points", str(wide.points), "--learn", str(tmp_path / "p.json")], "--learn needs --profile"),
        ([], "Name a file of landmarks"),
    ):
        done = run("picture", meant, still, *more)
        assert done.returncode == 2 and words in done.stderr, done.stderr


def test_how_a_package_fits_the_image_is_learned_as_a_rule_of_its_lens(
    engine: Engine, caller: Callable[..., Any], demo_files: dict[str, Path]
) -> None:
    number = kept(caller(), demo_files["TW_010"])
    with Context(engine, LOCAL) as store, store.begin():
        version = get_version(store, number)
        profile = find_profile("zup-lh-cm").model_dump(mode="json")
        made = learn_and_deliver(store, version, profile, [{"code": "other_fit", "fit": "height"}], "engine.png")
        assert made.profile["lens"]["fit"] == "height" and made.profile["key"] == "zup-lh-cm-here" and made.matches
        with pytest.raises(BadInput, match="nothing in this explanation"):
            learn_and_deliver(store, version, profile, [], "engine.png")
