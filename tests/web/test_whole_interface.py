"""Whatever the pages do has an address: held against the use cases, and done once over HTTP."""

from __future__ import annotations

import ast
import asyncio
import io
import re
import zipfile
from pathlib import Path
from typing import Any

import cv2
import httpx
import numpy as np
import pytest
from sqlalchemy import Engine

import anaxis
from anaxis.app.roles import Role
from anaxis.delivery.deliver import deliver_all
from anaxis.delivery.options import DeliveryOptions
from anaxis.packages import find_profile
from lanes import sized
from linked import Side, loop, quiet, random_profile, remote_ids, shown, until
from ordinary import SHOTS
from pages import Visitor
from shell import run
from test_api import caller, kept
from test_ordinary_shots import leaving

__all__ = ["caller"]
ROOT = Path(__file__).resolve().parents[2] / "src" / "anaxis"
_PERSON = "no token carries an administrator's rights: people are seen to at a page"
# Use cases without an address, and why.
WITHOUT = {
    "mark_missing": "happens when a file is taken in again without the camera",
    "keep_camera": "is part of keeping a file", "deliver_versions": "is part of fulfil, which the address calls",
    "save_layout": "a layout is sent with each table", "save_film_back": "is a short list for a form", "drop_film_back": "is a short list for a form",
    "check_render": "needs a plate and a picture of its size looked at by a person", "record_from_file": "opens a page to be set by eye",
    "open_root": _PERSON, "close_root": _PERSON,
    "pause_webhook": "removing and adding does the same", "_make": "a token is made by a person at a page, with a second factor",
    "revoke": "a token is revoked by a person at a page", "set_up": "is a person's own, at a page", "take_away": "is a person's own, at a page",
    "reset": _PERSON, "_give": "is the studio's sign-in service's", "add_person": _PERSON, "give_role": _PERSON, "disable": _PERSON, "enable": _PERSON, "invite": _PERSON, "sign_out_everywhere": "is a person's own, at a page",
    "change_password": "is a person's own, at a page", "choose_mail": "is a person's own, at a page", "_keep": "what a person looks at is the page's",
    "drop_target": "is part of dropping a target, which is named by package and format", "keep_return": "is part of sending a return", "remove_plate": "is part of removing a plate of a shot",
}  # fmt: skip


def use_cases() -> set[str]:
    """The functions below app/ that are use cases, by name."""
    out = set()
    for path in (ROOT / "app").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.FunctionDef) and any(
                isinstance(d, ast.Call) and getattr(d.func, "id", "") == "use_case" for d in node.decorator_list
            ):
                out.add(node.name)
    return out


def test_each_use_case_has_an_address_or_a_reason() -> None:
    called = set()
    for path in (ROOT / "web" / "api").rglob("*.py"):
        called |= {n.id for n in ast.walk(ast.parse(path.read_text())) if isinstance(n, ast.Name)}
    found = use_cases()
    assert len(found) > 50 and set(WITHOUT) <= found, set(WITHOUT) - found
    left = found - called - set(WITHOUT)
    assert not left, f"give each an address, or a reason: {left}"
    needless = {n for n in WITHOUT if n in called and not n.startswith("_")}
    assert not needless, "they have an address by now"


def made(answer: httpx.Response) -> Any:
    assert answer.is_success, answer.text
    return answer.json()


def test_a_camera_is_put_in_order_changed_and_made_others_of(caller: Any, demo_files: dict[str, Path]) -> None:
    client = caller(Role.LEAD)
    first, second = kept(client, demo_files["TW_010"]), kept(client, demo_files["TW_030"])
    place, other = f"/cameras/{first}", made(client.get(f"/cameras/{second}"))
    base = made(client.get(f"{place}/recipe"))["number"]
    changed = made(
        client.put(f"{place}/picture", json={"base": base, "width_px": 2048, "height_px": 1152, "source_fit": "height"})
    )
    assert (changed["width_px"], changed["source_fit"]) == (2048, "height")
    assert client.put(f"{place}/picture", json={"base": base, "width_px": 9, "height_px": 9}).status_code == 409, (
        "another version is current"
    )
    back = made(client.post(f"{place}/undo", json={"base": changed["number"]}))
    assert (
        back["number"] == base
        and made(client.post(f"{place}/redo", json={"base": base}))["number"] == changed["number"]
    )
    shift = [{"code": "shift", "params": {"x_m": 0.0, "y_m": 0.5, "z_m": 0.0}}]
    moved = made(client.put(f"{place}/recipe", json={"base": changed["number"], "operations": shift}))
    told = made(client.get(f"{place}/compare", params={"older": changed["number"], "newer": moved["number"]}))
    assert told["max_px"] > 1 and len(told["deviation_px"]) == len(told["frames"]) == 120
    saved = made(client.post(f"{place}/saved-recipe", params={"name": "half a metre up"}))
    assert saved["operations"][0]["code"] == "shift"
    marks = made(client.get(f"{place}/landmarks"))
    assert "tide_bell" in marks["landmarks"] and len(marks["landmarks"]["tide_bell"][0]) == 3
    objects = made(client.get(f"{place}/set"))["objects"]
    assert len(objects) == 30 and all(o["along"] for o in objects)
    copy = made(client.post(f"{place}/copies", json={"base": moved["number"], "name": "witness"}))
    renamed = made(client.patch(f"/cameras/{copy['id']}", json={"name": "witness_b", "shot": other["shot"]["id"]}))
    assert (renamed["name"], renamed["shot"]["name"]) == ("witness_b", "TW_030")
    made(client.delete(f"/cameras/{copy['id']}"))
    assert made(client.post(f"/cameras/{copy['id']}/restore"))["name"] == "witness_b"
    show = other["shot"]["show"]
    asked = {
        "kind": "held",
        "shot": "TW_010",
        "name": "projection",
        "settings": {"at": 1040},
        "inputs": {"shot camera": {"camera": first}},
    }
    held = made(client.post(f"/shows/{show}/derived", json=asked))
    newer = made(client.put(f"{place}/recipe", json={"base": moved["number"], "operations": []}))
    fresh = made(client.post(f"/cameras/{held['id']}/update", json={"base": held["head"]["number"]}))
    again = made(
        client.put(f"/cameras/{held['id']}/derivation", json={"base": fresh["number"], "settings": {"at": 1050}})
    )
    assert newer["recipe"] == [] and again["number"] > fresh["number"] > held["head"]["number"]
    zipped = client.post(f"{place}/bundle", json={"to": ["zup-lh-cm"], "formats": ["usd"]})
    assert zipped.headers["content-type"] == "application/zip"
    assert {"manifest.json", "transfer_sheet.pdf"} <= set(zipfile.ZipFile(io.BytesIO(zipped.content)).namelist())


def test_shows_shots_plates_and_stills(
    caller: Any, demo_files: dict[str, Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("ANAXIS_PLATES", str(tmp_path / "plates"))
    lead = caller(Role.LEAD)
    camera = kept(lead, demo_files["TW_010"])
    shot = made(lead.get(f"/cameras/{camera}"))["shot"]
    expected = made(
        lead.put(f"/shots/{shot['id']}/expected", json={"first_frame": 1001, "last_frame": 1130, "rate": "24"})
    )
    assert (expected["last_frame"], expected["rate"]) == (1130, "24/1")
    assert made(lead.patch(f"/shots/{shot['id']}", json={"name": "TW_011", "archived": True}))["archived"]
    assert not made(lead.patch(f"/shots/{shot['id']}", json={"archived": False}))["archived"]
    assert made(lead.patch(f"/shows/{shot['show']}", json={"name": "The old mill"}))["name"] == "The old mill"
    picture = np.zeros((108, 192, 3), np.uint8)
    cv2.rectangle(picture, (40, 30), (90, 80), (255, 255, 255), -1)
    files = [("files", (f"plate.{n}.png", cv2.imencode(".png", picture)[1].tobytes())) for n in (1001, 1002, 1003)]
    plate = made(lead.post(f"/shots/{shot['id']}/plates/files", files=files, data={"name": "plate"}))
    assert (plate["first"], plate["last"], plate["pictures"]) == (1001, 1003, 3)
    assert made(lead.put(f"/plates/{plate['id']}", json={"offset": 10}))["offset"] == 10
    assert [p["id"] for p in made(lead.get(f"/shots/{shot['id']}/plates"))] == [plate["id"]]
    made(lead.delete(f"/plates/{plate['id']}"))
    assert made(lead.get(f"/shots/{shot['id']}/plates")) == []
    moved = np.roll(picture, 3, axis=1)
    both = {
        "ours": ("a.png", cv2.imencode(".png", picture)[1].tobytes()),
        "theirs": ("b.png", cv2.imencode(".png", moved)[1].tobytes()),
    }
    still = made(lead.post(f"/cameras/{camera}/stills", params={"frame": 1010}, files=both))
    assert still["frame"] == 1010 and still["measured"]["width_px"] == 192
    nothing = made(lead.get(f"/shows/{shot['show']}/live"))
    assert nothing == {"clients": [], "links": [], "clashes": [], "recordings": []}


def test_packages_that_are_connected(caller: Any, site: str, engine: Engine, tmp_path: Path) -> None:
    show, client = shown(engine), caller(Role.LEAD)
    rng = np.random.default_rng(5)
    one, two = (Side(tmp_path, name, random_profile(rng), site, client.token) for name in ("engine", "paint"))

    def asked(method: str, address: str, **more: Any) -> Any:
        return made(client.request(method, address, **more))

    async def scenario() -> None:
        one.begin()
        two.begin()
        try:
            await until(lambda: len(remote_ids(engine)) == 2)
            told = await asyncio.to_thread(asked, "GET", f"/shows/{show}/live")
            first, second = (c["cameras"][0]["id"] for c in sorted(told["clients"], key=lambda c: str(c["name"])))
            assert all(c["connected"] for c in told["clients"])
            version = await asyncio.to_thread(asked, "POST", f"/remote/{first}/pull", json={"shot": "TW_100"})
            camera = (await asyncio.to_thread(asked, "GET", f"/shows/{show}/cameras"))["entries"][0]["id"]
            assert version["number"] == 1
            paint = next(c["id"] for c in told["clients"] if c["name"] == "paint")
            new = await asyncio.to_thread(
                asked, "POST", f"/cameras/{camera}/push", json={"client": paint, "name": "from here"}
            )
            await until(lambda: len(two.scene.cameras) == 2 and quiet(engine))
            assert new["name"] == "from here"
            link = await asyncio.to_thread(
                asked, "POST", f"/shows/{show}/links", json={"first": first, "second": second}
            )
            await until(lambda: quiet(engine))
            await one.set(5, focus=[3.25])
            await until(lambda: abs(two.row(5, "focus")[0]) > 0 and quiet(engine))
            kept_now = await asyncio.to_thread(asked, "POST", f"/links/{link['id']}/versions", json={"why": "by hand"})
            assert kept_now["number"] == 2
            assert (await asyncio.to_thread(asked, "DELETE", f"/links/{link['id']}"))["stopped"]
            after = await asyncio.to_thread(asked, "GET", f"/shows/{show}/live")
            assert after["links"] == [] and after["clashes"] == []
        finally:
            await one.end()
            await two.end()

    with loop() as apart:
        apart.run(scenario())


@pytest.mark.parametrize("name", sized([n for n in SHOTS if n != "long"], ["primes"]))
def test_the_four_doors_give_the_same_bytes(name: str, caller: Any, site: str, tmp_path: Path) -> None:
    """An ordinary shot by the library, the command line, HTTP and the page, in every format: byte for byte the same files."""
    client, shot = caller(Role.LEAD), SHOTS[name]()
    (written,) = deliver_all(
        [leaving(shot)], find_profile("yup-rh-m"), "usd", tmp_path, DeliveryOptions(first=float(shot.frames[0]))
    )
    camera = kept(client, written.files[0])
    told = made(client.get(f"/cameras/{camera}"))
    base, shot_name = told["head"]["number"], told["shot"]["name"]
    picture = {"base": base, "width_px": shot.width_px, "height_px": shot.height_px, "source_fit": "width"}
    base = made(client.put(f"/cameras/{camera}/picture", json=picture))["number"]
    formats = ["usd", "alembic", "gltf", "collada", "json", "columns"]
    mine = anaxis.read(written.files[0]).camera.with_picture(shot.width_px, shot.height_px, fit="width")
    size = ["--resolution", f"{shot.width_px}x{shot.height_px}", "--source-fit", "width"]
    for key in formats:
        by_library = {
            p.name: p.read_bytes()
            for p in mine.write("zup-lh-cm", key, tmp_path / "library" / key, name=shot_name).files
        }
        out = tmp_path / "shell" / key
        run(
            "transfer", written.files[0], "--to", "zup-lh-cm", "--format", key, "--out", out, "--name", shot_name, *size
        )
        assert {p.name: p.read_bytes() for p in out.iterdir()} == by_library, key
        asked = {"to": ["zup-lh-cm"], "formats": [key]}
        done = made(client.post(f"/cameras/{camera}/deliveries", json=asked))["deliveries"][0]
        by_http = {f["name"]: client.get(f"/deliveries/{done['id']}/files/{f['name']}").content for f in done["files"]}
        assert by_http == by_library, key
        with Visitor(base_url=site) as page:
            form = {"version": base, "head": base, "to": "zup-lh-cm", "format_key": key}
            answer = page.post(f"/cameras/{camera}/deliver", data=form, follow_redirects=True)
            number = re.search(r"/deliveries/(\d+)", str(answer.url) + answer.text)
            assert number is not None, answer.text
            by_page = {n: page.get(f"/deliveries/{number[1]}/files/{n}").content for n in by_library}
        assert by_page == by_library and int(number[1]) != done["id"], key
