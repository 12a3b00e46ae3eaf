"""Every form that edits what is kept: of two people who fill it in at once, the second is told, and writes over nothing."""

from __future__ import annotations

from collections.abc import Iterator
from html.parser import HTMLParser
from pathlib import Path
from typing import Any, NamedTuple

import pytest
from sqlalchemy import Engine

from anaxis.app.context import Context
from anaxis.app.people.people import add_person
from anaxis.app.plates.plates import attach_plate
from anaxis.app.roles import LOCAL, Role
from anaxis.store.keep import find_or_make_shot
from anaxis.store.models import Camera, Plate, Shot, Show
from anaxis.store.people import Person
from pages import Visitor
from test_store import keep


class Forms(HTMLParser):
    """The forms of a page by their action, each as the fields that a browser would send."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.found: dict[str, dict[str, str]] = {}
        self._form: dict[str, str] | None = None
        self._select = self._option = ""
        self.feed(text)

    def handle_starttag(self, tag: str, given: list[tuple[str, str | None]]) -> None:
        of = {k: v or "" for k, v in given}
        if tag == "form":
            self._form = {}
            self.found.setdefault(of.get("action", ""), self._form)
        elif self._form is not None and tag == "input" and "name" in of:
            self._form[of["name"]] = of.get("value", "")
        elif tag == "select":
            self._select = of.get("name", "")
        elif self._form is not None and tag == "option" and self._select:
            chosen = "selected" in of or self._select not in self._form
            self._option = self._select if chosen and "value" not in of else ""
            if chosen:
                self._form[self._select] = of.get("value", "")

    def handle_data(self, data: str) -> None:
        if self._form is not None and self._option:  # an option without a value is its own text
            self._form[self._option] += data.strip()

    def handle_endtag(self, tag: str) -> None:
        if tag == "form":
            self._form = None
        elif tag in ("select", "option"):
            self._option = ""


class Edit(NamedTuple):
    """A form on a page, what one and what the other types, and what of the row is then kept."""

    page: str
    action: str
    first: dict[str, str]
    second: dict[str, str]
    row: type[Any]
    kept: dict[str, Any]


EDITS = {
    "name of a show": Edit("/?show=1", "/shows/1/rename", {"name": "One"}, {"name": "Other"}, Show, {"name": "One"}),
    "name of a shot": Edit("/shots/1", "/shots/1/rename", {"name": "One"}, {"name": "Other"}, Shot, {"name": "One"}),
    "name of a camera": Edit("/shots/1", "/cameras/1/rename", {"name": "one"}, {"name": "other"}, Camera, {"name": "one"}),
    "show of a shot": Edit("/shots/1", "/shots/1/move", {"show": "2"}, {"show": "3"}, Shot, {"show_id": 2}),
    "shot of a camera": Edit("/shots/1", "/cameras/1/move", {"shot": "LH_1"}, {"shot": "LH_2"}, Camera, {"shot_id": 2}),
    "range of a shot": Edit(
        "/cameras/1?station=time", "/shots/1/expected", {"first_frame": "1001", "last_frame": "1010"}, {"first_frame": "5"}, Shot,
        {"first_frame": 1001.0, "last_frame": 1010.0},
    ),
    "settings of a plate": Edit("/cameras/1?station=plate", "/plates/1", {"stops": "2"}, {"offset": "7"}, Plate, {"stops": 2.0, "frame_offset": 0}),
    "role of a person": Edit("/people", "/people/1/role", {"role": "2"}, {"role": "1"}, Person, {"everywhere": 2}),
}  # fmt: skip


@pytest.fixture
def store(
    site: str, engine: Engine, demo_files: dict[str, Path], solved: Path, monkeypatch: pytest.MonkeyPatch
) -> Iterator[Engine]:
    monkeypatch.setenv("ANAXIS_MEDIA_ROOTS", f"mill={solved.parent}")
    monkeypatch.setenv("ANAXIS_MEDIA_SHOWS", "mill=*")
    with Context(engine, LOCAL) as session, session.begin():
        shot = keep(session, demo_files["TW_010"], "TW_010").camera.shot
        session.add_all([Show(name="Second"), Show(name="Third")])
        for name in ("LH_1", "LH_2"):
            find_or_make_shot(session, shot.show, name)
        attach_plate(session, shot, "mill", f"{solved.name}/plate", "TW_050_plate.####.exr", "as shot")
        if session.get(Person, 2) is None:
            add_person(session, "artist", Role.VIEWER)
    yield engine


@pytest.mark.parametrize("what", EDITS)
def test_the_second_of_two_writers_is_told(site: str, store: Engine, what: str) -> None:
    edit = EDITS[what]
    with Context(store, LOCAL) as session:
        person = session.query(Person).filter_by(name="artist").one().id
    action = edit.action.replace("/people/1/", f"/people/{person}/")
    number = person if edit.row is Person else 1
    with Visitor(base_url=site, follow_redirects=True) as one, Visitor(base_url=site, follow_redirects=True) as other:
        forms = [Forms(who.get(edit.page).text).found[action] for who in (one, other)]
        assert forms[0].get("base"), "the form carries what it was drawn from"
        one.post(action, data=forms[0] | edit.first)
        answer = other.post(action, data=forms[1] | edit.second)
        assert "Somebody else has changed this meanwhile" in answer.text, answer.text[:500]
        other.post(action, data={k: v for k, v in (forms[1] | edit.second).items() if k != "base"})
        with Context(store, LOCAL) as session:
            row = session.get_one(edit.row, number)
            assert {k: getattr(row, k) for k in edit.kept} == edit.kept
        # drawn anew it goes through
        again = Forms(other.get(edit.page).text).found.get(action)
        if again is not None:
            assert "Somebody else has changed" not in other.post(action, data=again | edit.second).text


def test_no_form_that_edits_is_forgotten(site: str, store: Engine) -> None:
    """Every form that comes with values of what is kept either carries its base, or makes a new version from a head."""
    with Visitor(base_url=site, follow_redirects=True) as client:
        for page in {e.page for e in EDITS.values()} | {
            "/cameras/1?station=deliver",
            "/cameras/1?station=lens",
            "/shows/1/plan",
        }:
            for action, fields in Forms(client.get(page).text).found.items():
                filled = {
                    k: v
                    for k, v in fields.items()
                    if v and k in ("name", "first_frame", "last_frame", "offset", "stops", "role", "rule")
                }
                if filled and action not in ("/people", "/account/tokens"):
                    assert "base" in fields or "head" in fields or "number" in fields, (page, action, fields)
