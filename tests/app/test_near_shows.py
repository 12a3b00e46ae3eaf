"""A show whose name is nearly that of another is asked about: a slip of the keys makes no second show."""

from __future__ import annotations

import re
import threading
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from sqlalchemy import Engine, select

from anaxis.app.cameras.names import shot_for, show_for
from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from anaxis.core.errors import BadInput
from anaxis.store.models import Show
from pages import Visitor
from shell import run


@pytest.mark.parametrize(
    "typed", ["The Tidewrihgt", "the tidewright", "The_Tidewright", "Tidewright", "The Tidewright ", "Thé Tidewright"]
)
def test_a_slip_of_the_keys_is_asked_about(engine: Engine, typed: str) -> None:
    with Context(engine, LOCAL) as store, store.begin():
        shot_for(store, "The Tidewright", "TW_010")
        with pytest.raises(BadInput, match="There is 'The Tidewright'"):
            shot_for(store, typed, "TW_020")
        assert store.scalars(select(Show.name)).all() == ["The Tidewright"]
        shot_for(store, typed, "TW_020", new_show=True)
        assert len(store.scalars(select(Show)).all()) == 2
        shot_for(store, typed, "TW_030")  # it is there now


@pytest.mark.parametrize(
    ("there", "typed"),
    [
        ("The mill", "The weir"),
        ("Show A", "Show B"),
        ("Season 1", "Season 2"),
        ("EP101", "EP102"),
        ("S", "S2"),
        ("tide", "潮"),
    ],
)
def test_another_name_is_another_show(engine: Engine, there: str, typed: str) -> None:
    with Context(engine, LOCAL) as store, store.begin():
        shot_for(store, there, "TW_010")
        shot_for(store, typed, "TW_010")
        assert len(store.scalars(select(Show)).all()) == 2


def test_of_two_nearly_equal_shows_made_at_once_the_second_is_asked_about(engine: Engine) -> None:
    begun = threading.Barrier(2)

    def make(name: str) -> str:
        with Context(engine, LOCAL) as store, store.begin():
            begun.wait()
            try:
                return show_for(store, name).name
            except BadInput as refused:
                return refused.code

    with ThreadPoolExecutor(2) as pool:
        told = sorted(pool.map(make, ("The tide mill", "The tidemill")))
    assert told[1] == "near_show" and told[0].startswith("The tide")


def test_the_page_asks_and_takes_the_answer(site: str, engine: Engine, demo_files: dict[str, Path]) -> None:
    with Context(engine, LOCAL) as store, store.begin():
        shot_for(store, "The Tidewright", "TW_090")
    path = demo_files["TW_010"]
    with Visitor(base_url=site, timeout=60) as client:
        at = client.post("/take-in", files={"file": (path.name, path.read_bytes())}).headers["location"]
        review = client.get(at).text
        camera = re.search(r'value="([^"]+)"[^>]*name="cameras"|name="cameras"\s+value="([^"]+)"', review)
        assert camera and 'name="new_show"' not in review
        fields = {"show": "The Tidewrigth", "shot": "TW_010", "resolution": "1920x1080", "source_fit": "width",
                  "cameras": camera[1] or camera[2]}  # fmt: skip
        asked = client.post(at, data=fields)
        assert asked.status_code == 422 and "There is no show" in asked.text and 'name="new_show"' in asked.text
        assert client.post(at, data=fields | {"new_show": "1"}).status_code == 303


def test_the_command_line_asks_too(engine: Engine, demo_files: dict[str, Path]) -> None:
    url = engine.url.render_as_string(hide_password=False)
    with Context(engine, LOCAL) as store, store.begin():
        shot_for(store, "The Tidewright", "TW_090")
    ran = run("take-in", demo_files["TW_010"], "--show", "The Tidewrigth", DATABASE_URL=url)
    assert ran.returncode == 2 and "There is no show 'The Tidewrigth'" in ran.stdout + ran.stderr
    ran = run("take-in", demo_files["TW_010"], "--show", "The Tidewrigth", "--new-show", DATABASE_URL=url)
    assert ran.returncode == 0, ran.stderr
