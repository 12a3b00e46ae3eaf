"""The set's objects, guides and films in the browser and over HTTP."""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import av
import httpx
import pytest
from playwright.sync_api import Page, expect
from sqlalchemy import Engine

from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from anaxis.store.models import Job
from jobs import ended
from pages import Visitor, ready, take_in
from test_api import caller

__all__ = ["caller"]


@pytest.mark.browser
def test_objects_of_the_set_are_chosen_and_measured(page: Page, site: str, demo_files: dict[str, Path]) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    page.goto("/cameras/1?station=place")
    ready(page)
    page.get_by_role("link", name="Choose objects of the set").click()
    expect(page.locator("#answer")).to_contain_text("30 of 30 objects delivered")
    page.get_by_label("All objects").check()  # the box that ticks all
    page.get_by_label("Deliver mill_house").uncheck()
    page.get_by_label("Name of sluice_beam").fill("crossbeam")
    page.get_by_label("Group of sluice_beam").fill("gate")
    page.get_by_label("bell_yoke is not for render").check()
    page.get_by_role("button", name="Save objects").click()
    expect(page.locator("#answer")).to_contain_text("29 of 30 objects delivered")
    assert page.get_by_label("bell_yoke is not for render").is_checked()
    page.get_by_role("button", name="Measure set").click()
    expect(page.locator("#set-proof")).to_contain_text("crossbeam")
    expect(page.locator("#set-proof")).not_to_contain_text("mill_house")
    page.goto("/cameras/1?station=clean")
    expect(page.locator("#panel")).to_contain_text("without mill_house")
    with Visitor(base_url=site) as client:
        form: dict[str, Any] = {
            "version": 2,
            "head": 2,
            "to": "zup-lh-cm",
            "format_key": "usd",
            "set_formats": "usd",
            "set_each": "true",
        }
        answer = client.post("/cameras/1/bundle", data=form)
        assert answer.status_code == 200, answer.text
        names = [n for n in zipfile.ZipFile(io.BytesIO(answer.content)).namelist() if n.startswith("set/TW_010_")]
        assert "set/TW_010_crossbeam.usdc" in names and len(names) == 29
        client.post("/cameras/1/deliver", data=form | {"overscan": "10%"}, follow_redirects=True)
    page.goto("/deliveries/1")
    expect(page.locator("#set-proof h2")).to_have_text("Set: matches")
    expect(page.locator("#set-proof tbody tr")).to_have_count(29)
    expect(page.locator("#set-proof")).to_contain_text("crossbeam")


@pytest.mark.browser
def test_guides_are_chosen_once_and_a_film_shows_them(
    page: Page, site: str, demo_files: dict[str, Path], engine: Engine
) -> None:
    take_in(site, demo_files["TW_020"], "TW_020")
    page.goto("/cameras/1")
    ready(page)
    plain = page.locator("[data-view=lens]").screenshot()
    page.locator("summary", has_text="Guides").click()
    page.get_by_label("field chart, 12 fields").check()
    page.get_by_label("Aspect mask").select_option("2.39")
    page.get_by_role("button", name="Show guides").click()
    ready(page)
    expect(page.locator("summary", has_text="Guides")).to_contain_text("2")
    assert page.locator("[data-view=lens]").screenshot() != plain
    page.get_by_role("link", name="Film", exact=True).first.click()
    assert page.get_by_label("field chart, 12 fields").is_checked(), "the person's own, here too"
    page.get_by_label("Width, px").fill("320")
    page.get_by_role("button", name="Make film").click()
    expect(page.locator("video")).to_be_visible(timeout=120_000)
    with Context(engine, LOCAL) as store:
        made = store.get_one(Job, 1)
        assert made.params["options"]["guides"] == {"names": ["fields"], "mask": 2.39} and made.result["movie"]
        frames = made.version.facts["frames"]
    with Visitor(base_url=site) as client, av.open(io.BytesIO(client.get("/jobs/1/file").content)) as movie:
        assert isinstance(movie, av.container.InputContainer)
        stream = movie.streams.video[0]
        assert stream.width == 320 and len(list(movie.decode(stream))) == frames


def test_a_film_over_http_with_the_camera_that_arrived_and_what_is_refused(
    site: str, demo_files: dict[str, Path], engine: Engine, caller: Callable[..., httpx.Client]
) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    take_in(site, demo_files["TW_020"], "TW_020")
    with caller() as client:
        done = client.post(
            "/cameras/1/deliveries", json={"to": ["zup-lh-cm"], "formats": ["usd"], "options": {"first": 0}}
        )
        assert done.status_code == 201, done.text
        delivery = done.json()["deliveries"][0]["id"]
        options = {"width_px": 160, "layout": "beside", "style": "lines"}
        asked = client.post("/cameras/1/films", json={"kind": "png", "delivery": delivery, "options": options})
        assert asked.status_code == 202, asked.text
        job = ended(engine, asked.json()["id"], 120)
        assert job.state == "done", job.said
        pictures = zipfile.ZipFile(io.BytesIO(client.get(f"/jobs/{job.id}/file").content)).namelist()
        assert len(pictures) == 120 and pictures[0].endswith(".film.1001.png")
        assert "320 x 90 px" in job.result["said"], "two pictures beside each other"
        still = client.post("/cameras/1/films", json={"frame": 1040, "options": {"width_px": 160}})
        job = ended(engine, still.json()["id"], 60)
        assert job.state == "done" and job.result["name"].endswith(".1040.png"), job.said
        assert client.get(f"/jobs/{job.id}/file").content.startswith(b"\x89PNG")
        for body, words in (
            ({"frame": 5000}, "no frame 5000"),
            ({"delivery": delivery}, "another version"), ({"options": {"width_px": 3}}, "A film width of 3 px"),
            ({"options": {"guides": {"names": ["left"]}}}, "not a guide"), ({"plate": 9}, "no plate"),
        ):  # fmt: skip
            refused = client.post("/cameras/2/films", json=body)
            assert refused.status_code in (404, 422) and words in json.dumps(refused.json()), refused.text


def test_a_reel_holds_every_shot_of_the_show(site: str, demo_files: dict[str, Path], engine: Engine) -> None:
    for name in ("TW_010", "TW_020"):
        take_in(site, demo_files[name], name)
    with Visitor(base_url=site) as client:
        answer: httpx.Response = client.post("/shows/1/reel")
        assert answer.status_code == 303, answer.text
        job = ended(engine, int(answer.headers["location"].rsplit("/", 1)[1]), 240)
        with Context(engine, LOCAL) as store:
            frames = sum(store.get_one(Job, job.id).version.facts["frames"] for _ in (1,))
        if job.state == "failed":
            assert "several" in job.said and "TW_020" in job.said
        else:
            assert job.state == "done" and int(job.result["said"].split()[0]) > frames


@pytest.mark.browser
def test_lens_data_and_the_circle_of_confusion_on_the_page(
    page: Page, site: str, demo_files: dict[str, Path], tmp_path: Path
) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    table = tmp_path / "lens.csv"
    table.write_text("frame,focus\n1001,2\n1120,9\n")
    page.goto("/cameras/1?station=lens")
    ready(page)
    page.locator("summary", has_text="Lens data from a table").click()
    page.locator("form[action$=lens-table] input[type=file]").set_input_files(table)
    page.get_by_role("button", name="Use lens data").click()
    expect(page.get_by_role("alert")).to_contain_text("does not say the unit of 'focus'")
    page.goto("/cameras/1?station=lens")
    ready(page)
    page.locator("summary", has_text="Lens data from a table").click()
    page.locator("form[action$=lens-table] input[type=file]").set_input_files(table)
    page.get_by_label("Focus in").select_option("m")
    page.get_by_role("button", name="Use lens data").click()
    ready(page)
    expect(page.locator("[data-view=curves]")).to_contain_text("dashed: file")
    page.locator("summary", has_text="Circle of confusion").click()
    page.get_by_label("Circle of confusion, mm").fill("0.03")
    page.get_by_role("button", name="Use circle").click()
    ready(page)
    expect(page.locator("summary", has_text="Circle of confusion")).to_contain_text("0.03 mm")
    page.locator("summary", has_text="Circle of confusion").click()
    page.get_by_label("Circle of confusion, mm").fill("-1")
    page.get_by_role("button", name="Use circle").click()
    expect(page.get_by_role("alert")).to_contain_text("is not possible")
