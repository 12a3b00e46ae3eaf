"""The Live page with both packages' pages open, in a browser; the tracker from press to take; who may, and who may not."""

from __future__ import annotations

import asyncio
import json
import math
import os
import re
import struct
import subprocess
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import httpx
import pytest
from playwright.sync_api import Browser, Page, expect
from scipy.spatial.transform import Rotation
from sqlalchemy import Engine, select
from websockets.exceptions import ConnectionClosed, InvalidStatus
from websockets.sync.client import connect

from anaxis.app.context import Context
from anaxis.app.people.people import actor_for, add_person, give_role
from anaxis.app.people.tokens import new_token, revoke
from anaxis.app.roles import LOCAL, Role
from anaxis.packages import shipped_profiles
from anaxis.program import anaxis_command
from anaxis.simulated.tracker import Device, Tracker, walk
from anaxis.store.exchange import Client, Recording, RecordingBlock
from anaxis.store.local_postgres import free_port
from anaxis.store.models import Show, Version
from anaxis.store.people import Token
from anaxis.store.queries import track_of
from linked import loop, quiet, remote_ids, shown
from linked import until as until_async
from pages import Server, Visitor, fits, ink, opened_page, ready, take_in, until
from test_live_cut import Proxy, wait


@contextmanager
def package(folder: Path, site: str, name: str, *more: str) -> Iterator[str]:
    """A simulated package's process; yields the address of its page."""
    port = free_port()
    command = anaxis_command(
        "simulate",
        "package",
        "--name",
        name,
        "--file",
        str(folder / f"{name}.json"),
        "--port",
        str(port),
        "--server",
        site,
        *more,
    )
    process = subprocess.Popen(command, stderr=subprocess.DEVNULL, env={**os.environ, "ANAXIS_TOKEN": ""})
    try:
        wait(lambda: httpx.get(f"http://127.0.0.1:{port}/state").json()["state"] == "connected")
        yield f"http://127.0.0.1:{port}"
    finally:
        process.terminate()
        process.wait(15)


def numbers(page: Page, side: str) -> list[str]:
    return page.locator(f"[data-row={side}]").all_inner_texts()


@pytest.mark.browser
def test_two_packages_side_by_side_linked_and_worked_on(
    browser: Browser, page: Page, site: str, engine: Engine, tmp_path: Path
) -> None:
    show = shown(engine)
    page.goto(f"/shows/{show}/live")
    expect(page.get_by_role("heading", name="No package is connected")).to_be_visible()
    habit = json.dumps([{"code": "frame_offset", "frames": 1}])
    with (
        package(tmp_path, site, "animation", "--profile", "zup-rh-m", "--first", "1001") as first,
        package(tmp_path, site, "engine", "--profile", "zup-lh-cm", "--habits", habit, "--cameras", "2") as second,
    ):
        wait(lambda: len(remote_ids(engine)) == 3)
        page.goto(f"/shows/{show}/live")
        ready(page)
        expect(page.locator("#answer strong")).to_have_text("Same frame for frame")
        fits(page)
        assert ink(page, "overlay") > 20_000
        # linked both ways; frame for frame, for they run at different rates
        page.get_by_label("Way").select_option("both")
        page.get_by_role("button", name=re.compile("^Link cameras")).click()
        expect(page.get_by_role("alert")).to_contain_text("A link by time goes one way")
        page.get_by_label("Way").select_option("both")
        page.locator(".linking").get_by_label("Timing").select_option("frame_for_frame")
        page.get_by_role("button", name=re.compile("^Link cameras")).click()
        expect(page.get_by_role("heading", name=re.compile("^Linked:"))).to_be_visible()
        until(page, "document.getElementById('board').dataset.watching === 'yes'")
        left, right = opened_page(browser, viewport={"width": 1280, "height": 800}), opened_page(browser)
        left.goto(first)
        right.goto(second)
        until(left, "window.packageReady === true")
        until(right, "window.packageReady === true")
        # a number typed in one package is there in the other, and on the page, by itself
        left.locator("#frame").fill("30")
        left.get_by_label("position x").fill("-1.25")
        left.get_by_label("position x").press("Enter")
        right.locator("#frame").fill("30")
        expect(right.get_by_label("position x")).to_have_value("-125")
        until(page, "document.getElementById('board').dataset.told !== undefined")
        expect(page.locator("#answer strong")).to_have_text("Same frame for frame")
        # the pointer turns the camera, and the page follows the playhead to the frame
        box = left.locator("#lens").bounding_box()
        assert box is not None
        left.mouse.move(box["x"] + 200, box["y"] + 200)
        left.mouse.down()
        left.mouse.move(box["x"] + 260, box["y"] + 220, steps=4)
        left.mouse.up()
        expect(page.locator("[data-now=ours], [data-now=theirs]").filter(has_text="1031")).to_have_count(1)
        deadline = time.monotonic() + 30
        while True:  # what the drag ended with may still be in transit
            wanted = left.get_by_label("rotation z").input_value()
            shows = f"[...document.querySelectorAll('[data-row]')].some((c) => Math.abs(Number(c.textContent) - {wanted}) < 1e-3)"
            if page.evaluate(shows):
                break
            assert time.monotonic() < deadline, wanted
            page.wait_for_timeout(50)
        # pulled once, saved by hand, stopped: versions that can be proved and delivered
        page.locator("details.own", has_text="animation: pull").locator("summary").click()
        page.locator("details.own", has_text="animation: pull").get_by_label("Shot").fill("TW_900")
        page.locator("details.own", has_text="animation: pull").get_by_role(
            "button", name="Pull camera", exact=True
        ).click()
        expect(page.locator(".stations")).to_be_visible()
        page.goto(f"/shows/{show}/live")
        page.get_by_role("button", name=re.compile("Stop link")).click()
        expect(page.locator("summary", has_text=re.compile("^Link "))).to_be_visible()
        for other in (left, right):
            other.close()
    # both gone: what they hold is what they said last, and the page does not say more
    page.goto(f"/shows/{show}/live")
    expect(page.locator("#answer strong")).to_have_text("Same at the last report")
    expect(page.locator("#answer")).to_contain_text("engine")
    with Context(engine, LOCAL) as store:
        assert store.execute(select(Version)).scalars().all()


@pytest.mark.browser
def test_what_both_changed_is_shown_and_chosen(page: Page, site: str, engine: Engine, tmp_path: Path) -> None:
    show = shown(engine)
    with (
        package(tmp_path, site, "animation", "--profile", "zup-rh-m") as first,
        package(tmp_path, site, "engine", "--profile", "yup-lh-cm") as second,
    ):
        wait(lambda: len(remote_ids(engine)) == 2)
        page.goto(f"/shows/{show}/live")
        page.get_by_label("Way").select_option("both")
        page.locator(".linking").get_by_label("Timing").select_option("frame_for_frame")
        page.get_by_role("button", name=re.compile("^Link cameras")).click()
        expect(page.get_by_role("heading", name=re.compile("^Linked:"))).to_be_visible()
        # at once on both sides, each before it has heard of the other
        with ThreadPoolExecutor(2) as both:
            list(both.map(_forty_changes, (first, second), (7.0, 900.0)))
        expect(page.locator(".clash").first).to_be_visible()
        expect(page.locator(".clash")).to_contain_text("Both changed")
        expect(page.locator("#answer strong")).to_have_text("The sides differ")
        wait(lambda: quiet(engine))
        page.reload()
        while page.locator(".clash").count():
            page.locator(".clash").first.get_by_role("button", name="Keep values of animation").click()
            page.wait_for_load_state()
        wait(lambda: quiet(engine))
        until(page, "window.anaxisReady === true")
        expect(page.locator("#answer strong")).to_have_text("Same frame for frame")


def _forty_changes(address: str, x: float) -> None:
    state = httpx.get(f"{address}/state", timeout=60).json()
    with connect(f"{address.replace('http', 'ws')}/line", origin=address, legacy=True, max_size=None) as line:  # type: ignore[call-overload]
        for step in range(40):
            line.send(
                json.dumps(
                    {
                        "do": "set",
                        "frame": state["cameras"][0]["first"],
                        "group": "position",
                        "value": [x + step, 1.0, 2.0],
                    }
                )
            )
        wait(lambda: httpx.get(f"{address}/state").json()["last"] >= state["last"] + 40)


@pytest.mark.browser
def test_a_link_by_time_is_shown_with_what_resampling_costs(
    browser: Browser, page: Page, site: str, engine: Engine, tmp_path: Path
) -> None:
    show = shown(engine)
    with (
        package(tmp_path, site, "animation", "--profile", "zup-rh-m", "--first", "1001") as first,
        package(tmp_path, site, "engine", "--profile", "zup-lh-cm"),
    ):
        wait(lambda: len(remote_ids(engine)) == 2)
        page.goto(f"/shows/{show}/live")
        ready(page)
        page.get_by_role("button", name=re.compile("^Link cameras")).click()
        expect(page.get_by_role("heading", name=re.compile("^Linked:"))).to_be_visible()
        expect(page.locator("#answer strong")).to_have_text("Same by time")
        expect(page.locator("#answer-words")).to_contain_text("resampling costs")
        until(page, "document.getElementById('board').dataset.watching === 'yes'")
        before = page.locator("#answer-words").inner_text()
        other = opened_page(browser)
        other.goto(first)
        until(other, "window.packageReady === true")
        other.locator("#frame").fill("30")
        other.get_by_label("position x").fill("-1.25")
        other.get_by_label("position x").press("Enter")
        until(page, "document.getElementById('board').dataset.told !== undefined")
        until(page, f"document.getElementById('answer-words').textContent !== {json.dumps(before)}")
        expect(page.locator("#answer strong")).to_have_text("Same by time")
        fits(page)


def test_a_tracker_is_recorded_through_a_cut_and_becomes_a_take(site: str, engine: Engine, tmp_path: Path) -> None:
    show = shown(engine)
    proxy = Proxy([int(site.rpartition(":")[2])])
    device = Device(jitter_mm=0.2, jitter_deg=0.01, drops=0.02, jump_every_s=2.0)

    async def scenario() -> None:
        tracker = Tracker(tmp_path / "phone.json", "phone", device, f"http://127.0.0.1:{proxy.port}", "", "")
        task = asyncio.create_task(tracker.run())
        await until_async(lambda: tracker.line.state == "connected")
        with Visitor(base_url=site, timeout=60) as client:
            post: Callable[..., Any] = lambda *a, **k: asyncio.to_thread(client.post, *a, **k)  # noqa: E731
            tracker_id = Context(engine, LOCAL).execute(select(Client.id)).scalar_one()
            assert (await post(f"/clients/{tracker_id}/record", data={"name": "walk"})).status_code == 303
            await until_async(lambda: tracker.recording is not None)
            await asyncio.sleep(1.2)
            live = await asyncio.to_thread(client.get, "/recordings/1/sheet")
            assert live.status_code == 200 and "away" not in live.text and 'points="' in live.text
            await asyncio.to_thread(proxy.drop, 1.0)  # what is measured meanwhile is sent later
            await asyncio.sleep(2.4)  # a jump falls well within, whenever the recording began
            await until_async(lambda: len(tracker.outbox) < 5)  # what was kept back meanwhile has gone
            assert (await post("/recordings/1/stop")).status_code == 303
            await until_async(
                lambda: Context(engine, LOCAL).execute(select(Recording.ended_at)).scalar_one() is not None
            )
            ended = await asyncio.to_thread(client.get, "/recordings/1/sheet")
            assert ended.status_code == 286, "the page asks no more"
            numbers = {k: float(v) for k, v in re.findall(r'row">([^<]+)</th><td class="r num">([^<]+)<', ended.text)}
            newest = select(RecordingBlock.data).order_by(RecordingBlock.number.desc())
            blocks = [b for b in Context(engine, LOCAL).execute(newest).scalars() if b]
            _, x, y, z, *turn = struct.unpack("<8d", blocks[0][-96:-32])
            matrix = Rotation.from_quat(turn).as_matrix()
            heading, tilt = math.degrees(math.atan2(matrix[0, 2], matrix[2, 2])), -math.degrees(math.asin(matrix[1, 2]))
            assert [numbers[f"position {n}"] for n in ("x, right", "y, up", "z, back")] == pytest.approx(
                [x, y, z], abs=1e-4
            )
            assert [numbers["pan"], numbers["tilt"]] == pytest.approx([heading, tilt], abs=1e-2)
            assert numbers["samples"] == pytest.approx(device.rate, rel=0.01)
            page = await asyncio.to_thread(client.get, "/recordings/1")
            assert page.status_code == 200 and "Remove the jump" in page.text and "frames measured" in page.text
            heal = re.findall(r'name="(heal-\d+)"', page.text)
            form = {"rate": "24", "first_frame": "1001", "smooth_px": "1", "aspect": "1.777778", "keep": "width", "film_width_mm": "36", "gaps": "bridge",
                    "x_m": "0", "y_m": "1.5", "z_m": "0", "heading_deg": "0", "shot": "TW_910", "camera": "walk", **dict.fromkeys(heal, "1")}  # fmt: skip
            wrong = await post("/recordings/1/keep", data={**form, "rate": "fast"})
            assert wrong.status_code == 422 and "fast" in wrong.text
            kept = await post("/recordings/1/keep", data=form)
            assert kept.status_code == 303, kept.text
            shown_camera = await asyncio.to_thread(client.get, kept.headers["location"])
            assert shown_camera.status_code == 200 and "recorded" in shown_camera.text
            again = await post("/recordings/1/keep", data={**form, "rate": "25"})
            assert again.headers["location"] == kept.headers["location"]
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)

    with loop() as runner:
        runner.run(scenario())
    proxy.close()
    with Context(engine, LOCAL) as store:
        first, second = store.execute(select(Version).order_by(Version.id)).scalars()
        assert (
            second.take == 2
            and second.facts["rate"] == "25/1"
            and {f["code"] for f in first.findings} >= {"recorded_jump"}
        )
        assert first.facts["frames"] > 24 * 3.0, "what was measured while the network was away is there"
        # against the true motion, in pixels: placed alike on the first frame, then held against it
        track = track_of(first)[0]
        began = _began(store, device)
        place, turn = walk(began + (track.frames - track.frames[0]) / 24)
        moved = track.rotation[0] @ turn[0].T
        seen = 1512 * (track.rotation[:, :, 2] - (moved @ turn)[:, :, 2])
        assert abs(seen).max() < 12 and show
        assert abs((moved @ (place - place[0]).T).T + track.position_m[0] - track.position_m).max() < 0.02


def _began(store: Context, device: Device) -> float:
    """The true time of a recording's first sample, by the device's own clock."""
    import numpy as np

    block = store.execute(select(RecordingBlock.data).order_by(RecordingBlock.number).limit(1)).scalar_one()
    clock = float(np.frombuffer(block, "<f8")[0])
    return (clock - device.clock_began_s) / (1 + device.clock_ppm * 1e-6)


HELLO = {
    "type": "hello",
    "protocol": 1,
    "client": "12345678",
    "name": "one",
    "profile": shipped_profiles()["zup-rh-m"].model_dump(mode="json"),
}


def said(address: str, hello: Any, **more: Any) -> dict[str, Any]:
    """The answer to a first message; the connection may end with it."""
    line = connect(address, legacy=True, **more)
    try:
        line.send(json.dumps(hello) if isinstance(hello, dict) else hello)
        found: dict[str, Any] = json.loads(line.recv(timeout=20))
        return found
    finally:
        with suppress(ConnectionClosed):
            line.close()


def test_who_may_connect_and_watch(server: Server, engine: Engine, database_url: str) -> None:
    show = shown(engine)
    with Context(engine, LOCAL) as store, store.begin():
        tokens = {}
        other = Show(name="The lighthouse")
        store.add(other)
        store.flush()
        for role in (Role.VIEWER, Role.ARTIST):
            tokens[role], _ = new_token(store, add_person(store, role.called, role), "live", role, 3)
        guest = add_person(store, "guest")
        give_role(store, guest, Role.ARTIST, other)
        elsewhere, row = new_token(store, guest, "live", Role.ARTIST, 3)
        number = row.id
        assert actor_for(guest).shows
    with server.on(database_url, visitor="") as site:
        address = site.replace("http", "ws") + "/exchange/v1"
        assert said(address, HELLO)["code"] == "not_signed_in"
        assert said(address, HELLO | {"token": "anaxis_guessed"})["code"] == "not_signed_in"
        assert said(address, HELLO | {"token": tokens[Role.VIEWER], "show": "The Tidewright"})["code"] == "not_allowed"
        assert said(address, HELLO | {"token": elsewhere, "show": "The Tidewright"})["code"] == "no_such_show"
        assert said(address, HELLO | {"token": tokens[Role.ARTIST], "protocol": 9})["code"] == "other_version"
        assert said(address, HELLO | {"token": tokens[Role.ARTIST], "show": "The Tidewright"})["type"] == "welcome"
        assert said(address, HELLO | {"token": elsewhere})["type"] == "welcome"
        for origin in ("http://elsewhere.example", "null"):
            with pytest.raises((InvalidStatus, ConnectionClosed)):
                said(address, HELLO | {"token": tokens[Role.ARTIST]}, origin=origin)
        # nobody watches without being signed in
        with (
            pytest.raises((InvalidStatus, ConnectionClosed)),
            connect(f"{site.replace('http', 'ws')}/live/watch?show={show}&a=1", legacy=True) as line,
        ):
            line.recv(timeout=10)
        with Context(engine, LOCAL) as store, store.begin():
            revoke(store, store.get_one(Token, number))
        assert said(address, HELLO | {"token": elsewhere})["code"] == "not_signed_in"


def test_a_package_that_talks_nonsense_is_told_so_and_harms_nobody(site: str, engine: Engine) -> None:
    shown(engine)
    address = site.replace("http", "ws") + "/exchange/v1"
    for first in (
        "",
        "{",
        "[]",
        '{"type": "change"}',
        json.dumps(HELLO | {"client": "no"}),
        json.dumps(HELLO | {"profile": "no-such"}),
        b"\xff\x00",
    ):
        answer = said(address, first)
        assert answer["type"] == "error" and len(answer["sentence"]) > 20 and "Traceback" not in answer["sentence"]
    with connect(address, legacy=True, max_size=None) as line:
        line.send(json.dumps(HELLO))
        assert json.loads(line.recv())["type"] == "welcome"
        line.send(json.dumps({"type": "scene", "cameras": [{"id": "c", "name": "<b>cam</b>", "first": 5, "last": 1}]}))
        assert "must not be after" in json.loads(line.recv())["sentence"]
        line.send(json.dumps({"type": "scene", "cameras": [{"id": "c", "name": "<b>cam</b>", "first": 1, "last": 2}]}))
        assert json.loads(line.recv()) == {"type": "pull", "camera": "c"}
        # a change that cannot be taken counts as heard: what comes behind it is taken
        for number, change in enumerate(
            (
                {"frames": [1], "values": {"stop": [["f4"]]}},
                {"camera": "other", "frames": [1], "values": {"stop": [[4]]}},
            ),
            1,
        ):
            line.send(json.dumps({"type": "change", "number": number, "camera": "c", "base": 0, **change}))
            problem, answer = (json.loads(line.recv()) for _ in range(2))
            assert problem["about"] == number and answer == {"type": "acknowledge", "number": number}
        line.send(
            json.dumps(
                {"type": "change", "number": 9, "camera": "c", "base": 0, "frames": [1], "values": {"stop": [[4]]}}
            )
        )
        assert json.loads(line.recv())["code"] == "gap"
    page = httpx.get(f"{site}/shows/1/live", timeout=60).text
    assert "&lt;b&gt;cam" in page and "<b>cam" not in page


def test_a_camera_that_no_package_has_is_not_found(site: str, demo_files: dict[str, Path]) -> None:
    """Found by scripts/attack.py: a link of nothing to nothing."""
    take_in(site, demo_files["TW_010"], "TW_010")
    with Visitor(base_url=site) as visitor:
        for path, form in (
            ("/shows/1/live/link", {}),
            ("/shows/1/live/link", {"first": "9", "second": "8"}),
            ("/shows/1/live/across", {"from": "7", "to": "9"}),
        ):
            assert visitor.post(path, data=form).status_code in (404, 422), (path, form)
