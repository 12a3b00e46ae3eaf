"""Media roots are open to some shows only; what is handed in belongs to its show."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from pathlib import Path

import pytest
from sqlalchemy import Engine, select

from anaxis.app.context import Context
from anaxis.app.people.people import add_person, give_role, link_for
from anaxis.app.people.sign_in import accept
from anaxis.app.plates.media_roots import NotOpen, close_root, open_root
from anaxis.app.plates.plates import attach_plate, hand_in_plate
from anaxis.app.roles import LOCAL, Role
from anaxis.core.errors import BadInput
from anaxis.store.media_folders import HANDED_IN
from anaxis.store.models import Plate, Shot, Show
from pages import PASSWORD, Server, Visitor, entered
from test_store import keep


class Two:
    """Two shows with a camera each; ``reader`` is an artist in the second alone."""

    def __init__(self, engine: Engine, demo_files: dict[str, Path], solved: Path) -> None:
        self.engine = engine
        with Context(engine, LOCAL) as store, store.begin():
            first = keep(store, demo_files["TW_010"], "TW_010").camera.shot
            other = Show(name="The lighthouse")
            store.add(other)
            store.flush()
            second = keep(store, demo_files["TW_020"], "LH_010").camera
            second.shot.show = other
            store.flush()
            reader = add_person(store, "reader")
            give_role(store, reader, Role.ARTIST, other)
            accept(store, link_for(store, reader), PASSWORD)
            boss = add_person(store, "boss", Role.ADMINISTRATOR)
            accept(store, link_for(store, boss), PASSWORD)
            open_root(store, "mill", first.show)
            self.frame = next((solved / "plate").glob("*.exr"))
            with self.frame.open("rb") as file:
                handed = hand_in_plate(store, first, [(self.frame.name, file)], "as shot", "handed")
            attached = attach_plate(store, first, "mill", f"{solved.name}/plate", "TW_050_plate.####.exr", "as shot")
            self.first, self.other, self.camera = first.show_id, other.id, second.id
            self.shot, self.handed, self.attached = second.shot_id, handed.id, attached.id


@pytest.fixture
def two(
    engine: Engine, demo_files: dict[str, Path], solved: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> Two:
    monkeypatch.setenv("ANAXIS_MEDIA_ROOTS", f"mill={solved.parent}")
    monkeypatch.setenv("ANAXIS_PLATES", str(tmp_path / "handed"))
    monkeypatch.delenv("ANAXIS_MEDIA_SHOWS", raising=False)
    return Two(engine, demo_files, solved)


@pytest.fixture
def reader(two: Two, server: Server, database_url: str) -> Iterator[Visitor]:
    with server.on(database_url, visitor="") as site:
        yield entered(site, "reader")


def test_nothing_of_another_shows_media_is_seen_or_attached(two: Two, reader: Visitor, solved: Path) -> None:
    with Context(two.engine, LOCAL) as store:
        folder = store.get_one(Plate, two.handed).folder
    browse = f"/cameras/{two.camera}/plates/browse?version=1"
    for asked in (
        browse,
        f"{browse}&root=mill&folder={solved.name}",
        f"{browse}&root={HANDED_IN}",
        f"{browse}&root={HANDED_IN}&folder={folder}",
    ):
        page = reader.get(asked).text
        assert "plate/" not in page and ".exr" not in page and folder not in page, asked
    for root, where in (("mill", f"{solved.name}/plate"), (HANDED_IN, folder)):
        sequence = "TW_050_plate.####.exr" if root == "mill" else two.frame.name
        form = {"version": 1, "root": root, "folder": where, "sequence": sequence, "kind": "as shot"}
        reader.post(f"/cameras/{two.camera}/plates", data=form)
        listing = reader.get(f"/take-in/many/below?root={root}&folder={where}")
        assert (
            not listing.json()["files"] and "not open" in listing.json()["said"]
        ) or "not open to your shows" in listing.json()["said"]
        assert reader.get(f"/take-in/many/below/arrivals?root={root}&folder={where}").status_code == 400
    for number in (two.handed, two.attached):
        assert reader.get(f"/plates/{number}/proxies/1041.jpg").status_code == 404
    with Context(two.engine, LOCAL) as store:
        assert not list(store.execute(select(Plate).where(Plate.shot_id == two.shot)).scalars())


def test_a_root_is_opened_and_closed_by_an_administrator(two: Two, reader: Visitor, solved: Path) -> None:
    assert reader.get("/people/media-roots").status_code == 403
    assert reader.post("/people/media-roots", data={"root": "mill", "show": two.other}).status_code == 403
    boss = entered(str(reader.base_url).rstrip("/"), "boss")
    assert boss.post("/people/media-roots", data={"root": HANDED_IN, "show": two.other}).status_code == 422
    assert boss.post("/people/media-roots", data={"root": "mill", "show": two.other}).status_code == 303
    assert "The lighthouse" in boss.get("/people/media-roots").text
    form = {
        "version": 1,
        "root": "mill",
        "folder": f"{solved.name}/plate",
        "sequence": "TW_050_plate.####.exr",
        "kind": "as shot",
    }
    assert reader.post(f"/cameras/{two.camera}/plates", data=form).status_code == 303
    with Context(two.engine, LOCAL) as store:
        plate = store.execute(select(Plate.id).where(Plate.shot_id == two.shot)).scalar_one()
    assert reader.get(f"/plates/{plate}/proxies/1041.jpg").status_code == 404, "there, and not made yet"
    assert boss.post("/people/media-roots", data={"root": "mill", "show": two.other, "close": 1}).status_code == 303
    answer = reader.get(f"/plates/{plate}/proxies/1041.jpg")
    assert answer.status_code == 403 and "is not open to The lighthouse" in answer.text


def test_the_setting_opens_a_root_to_shows_by_name(two: Two, monkeypatch: pytest.MonkeyPatch, solved: Path) -> None:
    with Context(two.engine, LOCAL) as store:
        shot = store.get_one(Shot, two.shot)
        asked = (store, shot, "mill", f"{solved.name}/plate", "TW_050_plate.####.exr", "as shot")
        for setting, opened in (
            ("", False),
            ("mill=Another", False),
            ("scans=*", False),
            ("mill=*", True),
            ("x=y; mill=Another, The lighthouse", True),
        ):
            monkeypatch.setenv("ANAXIS_MEDIA_SHOWS", setting)
            if opened:
                attach_plate(*asked, name=setting)
            else:
                with pytest.raises(NotOpen, match="not open to The lighthouse"):
                    attach_plate(*asked)
        with pytest.raises(BadInput, match="not open"):
            close_root(store, "mill", shot.show)


def test_what_is_handed_in_is_read_by_nobody_else_on_the_machine(two: Two, tmp_path: Path) -> None:
    found = [
        Path(where) / name for where, folders, files in os.walk(tmp_path / "handed") for name in (*folders, *files)
    ]
    assert len(found) == 2 and all(not stat.S_IMODE(p.stat().st_mode) & 0o077 for p in found)
