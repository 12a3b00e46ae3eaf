"""A little of what scripts/attack.py does, with its own judgement; and many zips at once."""

from __future__ import annotations

import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import psutil
from sqlalchemy import Engine

from anaxis.app.context import Context
from anaxis.app.people.people import person_named
from anaxis.app.people.tokens import new_token
from anaxis.app.roles import LOCAL, Role
from anaxis.store.models import Show
from lanes import sized
from pages import Visitor, take_in

sys.path.insert(0, str(Path(__file__).resolve().parents[2] / "scripts"))


def test_hostile_files_and_senseless_values_end_in_sentences(site: str, demo_files: dict[str, Path]) -> None:
    from attack import attack, hostile_files

    take_in(site, demo_files["TW_010"], "TW_010")
    files = [f for f in hostile_files() if len(f[1]) < 600_000]
    assert len(files) > 35 and {Path(n).suffix for n, _ in files} >= {
        ".usda",
        ".gltf",
        ".dae",
        ".csv",
        ".json",
        ".zip",
        ".png",
        ".otio",
    }
    seen = attack(site, requests=120, seconds=240, clients=3, seed=5, files=files)
    assert seen.wrong == [] and seen.lost == 0
    assert seen.statuses.total() == 120 and seen.statuses[422] > 30 and seen.statuses[200] > 3


def test_many_zips_at_once_are_made_or_told_to_come_again(site: str, demo_files: dict[str, Path]) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    before = len(psutil.Process().children(recursive=True))

    def one(number: int) -> int:
        with Visitor(base_url=site, timeout=120) as client:
            form = {"version": "1", "to": "zup-lh-cm", "format_key": "usd"}
            return client.post("/cameras/1/bundle", data=form).status_code

    with ThreadPoolExecutor(30) as pool:
        found = list(pool.map(one, range(sized(30, 8))))
    assert set(found) <= {200, 503} and found.count(200) >= 2
    with Visitor(base_url=site, timeout=60) as client:
        assert client.get("/").status_code == 200
    assert len(psutil.Process().children(recursive=True)) <= before + 12


def test_floods_of_strangers_keep_no_page_waiting(site: str, engine: Engine) -> None:
    """At a small size; the watch over the server's loop fails the test where one of them keeps it."""
    from floods import floods

    with Context(engine, LOCAL) as store, store.begin():
        person = person_named(store, "demo")
        assert person is not None
        show = Show(name="The Tidewright")
        store.add(show)
        store.flush()
        token, _ = new_token(store, person, "flood", Role.ARTIST, 1)
    found = floods(site, size=sized(1.0, 0.05), token=token)
    assert found.wrong == [] and set(found.statuses) >= {"too_large", "error", "acknowledge"}
