"""A server's store from a shell: sent, delivered, fetched, a plan run; and what a server, a token or a name that is wrong says."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import Engine, select

from anaxis.app.context import Context
from anaxis.app.people.people import person_named
from anaxis.app.people.tokens import new_token
from anaxis.app.roles import LOCAL, Role
from anaxis.app.shows.plan import set_target
from anaxis.store.models import HistoryEntry
from anaxis.store.queries import find_show
from shell import run as in_shell
from tracker_files import SMALL_PAN_LAYOUT, write_small_pan


@pytest.fixture
def asked(site: str, engine: Engine) -> Callable[..., Any]:
    with Context(engine, LOCAL) as store, store.begin():
        person = person_named(store, "demo")
        assert person is not None
        token, _ = new_token(store, person, "the shell", Role.LEAD, 1)

    def run(*words: object, code: int = 0, token: str = token, server: str = site) -> Any:
        done = in_shell(*words, "--json", ANAXIS_TOKEN=token, ANAXIS_SERVER=server)
        assert done.returncode == code, done.stderr + done.stdout
        return json.loads(done.stdout) if done.stdout.startswith("{") else done.stderr

    return run


def test_from_files_to_deliveries_on_a_server(
    asked: Any, demo_files: dict[str, Path], tmp_path: Path, engine: Engine
) -> None:
    bad = tmp_path / "broken.usda"
    bad.write_text("#usda 1.0\n(broken")
    sent = asked(
        "push",
        demo_files["TW_010"],
        demo_files["TW_040"],
        bad,
        "--show",
        "The mill",
        "--accept",
        "sensor_factor",
        code=2,
    )
    assert sent["kept"] == 2 and [f["state"] for f in sent["files"]] == ["new", "new", "cannot be taken in"]
    assert sent["files"][2]["said"].startswith("broken.usda cannot be read as USD")
    again = asked("push", demo_files["TW_010"], "--show", "The mill")
    assert again["files"][0]["state"] == "same again" and not again["kept"]
    out = tmp_path / "out"
    done = asked("deliver", "TW_010", "--to", "zup-lh-cm", "--to", "ydown-px", "--format", "usd,json", "--out", out)
    assert len(done["deliveries"]) == 4 and all(d["matches"] for d in done["deliveries"]) and not done["failed"]
    for one in done["deliveries"]:
        for file in one["files"]:
            assert (out / file["name"]).exists()
    file = done["deliveries"][0]["files"][0]
    pulled = asked("pull", done["deliveries"][0]["id"], "--out", tmp_path / "pulled")
    assert hashlib.sha256(Path(pulled["files"][0]).read_bytes()).hexdigest() == file["sha256"]
    with Context(engine, LOCAL) as store, store.begin():
        show = find_show(store, "The mill")
        assert show is not None
        set_target(store, show, "zup-lh-cm", "usd")
    assert [d["shot"] for d in asked("runs")["due"]] == ["TW_040"]
    ran = asked("runs", "--start")
    assert ran["counts"] == {"matches": 2} and not ran["run"]["open"]
    # Everything of the run, with what its manifest says of each file; the same bytes as each file alone.
    whole = tmp_path / "whole"
    everything = asked("pull", "--run", ran["run"]["id"], "--out", whole)
    (one,) = everything["deliveries"]
    assert (one["shot"], one["matches"], everything["not_delivered"]) == ("TW_040", True, [])
    for f in one["files"]:
        assert (
            f["path"].startswith("zup-lh-cm/")
            and hashlib.sha256((whole / f["path"]).read_bytes()).hexdigest() == f["sha256"]
        )
    assert json.loads((whole / "manifest.json").read_text())["run"] == ran["run"]["id"]
    assert "There is no run 99" in asked("pull", "--run", 99, code=2)
    assert "or a run with --run" in asked("pull", code=2)
    listed = asked("show")
    assert [(c["shot"]["name"], c["worst"]["matches"]) for c in listed["cameras"]] == [
        ("TW_010", True),
        ("TW_040", True),
    ]


def test_what_is_wrong_is_one_sentence(asked: Any, demo_files: dict[str, Path]) -> None:
    assert "ANAXIS_TOKEN is not set" in asked("show", token="", code=2)
    assert "token that holds" in asked("push", demo_files["TW_010"], token="anaxis_made_up", code=2)
    assert "does not answer" in asked("show", server="http://127.0.0.1:9", code=2)
    assert "Name a show" in asked("show", code=2)
    asked("push", demo_files["TW_010"], "--show", "The mill")
    assert "There is no show 'Other'" in asked("show", "--show", "Other", code=2)
    assert "has to name one camera" in asked("deliver", "TW_999", "--to", "zup-lh-cm", "--format", "usd", code=2)
    assert "There is no delivery 77" in asked("pull", 77, code=2)


def test_a_warning_is_no_match_until_it_is_allowed_by_name(
    asked: Any, usda: Callable[..., Path], engine: Engine
) -> None:
    lens = "float focalLength = 3500\n float horizontalAperture = 3600\n float verticalAperture = 2025"
    asked("push", usda(lens=lens, name="TW_090.usda"), "--show", "The mill")
    done = asked("deliver", "TW_090", "--to", "zup-lh-cm", "--format", "usd", code=4)
    (delivery,) = done["deliveries"]
    assert delivery["matches"] and delivery["warnings"] == ["sensor_factor"]
    done = asked("deliver", "TW_090", "--to", "zup-lh-cm", "--format", "usd", "--allow", "sensor_factor,another")
    assert done["deliveries"][0]["verdict"] == "Matches"
    with Context(engine, LOCAL) as store:
        told = store.scalars(select(HistoryEntry).where(HistoryEntry.action == "allow warnings")).one()
        assert told.actor.startswith("demo") and told.said.startswith("sensor_factor: ")


def test_a_table_of_two_readings_is_pushed_with_its_layout(asked: Any, tmp_path: Path) -> None:
    table, layout = write_small_pan(tmp_path / "MI_050_cam_v001.csv"), tmp_path / "columns.json"
    layout.write_text(json.dumps(SMALL_PAN_LAYOUT))
    refused = asked("push", table, "--show", "The mill", code=2)
    assert "can be read in 2 ways" in refused["files"][0]["said"] and not refused["kept"]
    assert asked("push", table, "--show", "The mill", "--columns", layout)["kept"] == 1
