"""The interface over HTTP: from a file to a proven delivery, roles and tokens, the same request twice, and whatever may be sent."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import fields
from http.client import HTTPConnection
from pathlib import Path
from typing import Any

import httpx
import pytest
import schemathesis
from fastapi import FastAPI
from hypothesis import HealthCheck, given, settings
from jsonschema import Draft202012Validator
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import response_schema_conformance, status_code_conformance
from sqlalchemy import Engine, func, select, text, update
from starlette.datastructures import State

from anaxis.app.context import Context
from anaxis.app.people.people import add_person, give_role
from anaxis.app.people.tokens import new_token, revoke
from anaxis.app.roles import LOCAL, Role
from anaxis.delivery.deliver import deliver_all
from anaxis.delivery.options import DeliveryOptions
from anaxis.formats import WRITTEN
from anaxis.packages import find_profile
from anaxis.store.models import Camera, Delivery, HistoryEntry, Job, Show, Version
from anaxis.store.people import AnswerGiven, Token
from anaxis.web.api import once
from anaxis.web.api.application import PREFIX, api_of
from anaxis.web.app import create_app
from lanes import sized
from ordinary import SHOTS
from test_ordinary_shots import leaving
from test_people import routes_of
from tracker_files import write_small_pan

EXAMPLE = Path(__file__).resolve().parents[2] / "docs" / "examples" / "send_a_shot.py"


@pytest.fixture
def caller(site: str, engine: Engine) -> Callable[..., httpx.Client]:
    """A client of the interface as somebody new of a role, with a token of a role; its token's number is kept with it."""

    def make(
        role: Role = Role.ARTIST, scope: Role = Role.LEAD, show: int | None = None, everywhere: bool = True
    ) -> httpx.Client:
        with Context(engine, LOCAL) as store, store.begin():
            count = store.execute(select(func.count()).select_from(Token)).scalar_one()
            person = add_person(store, f"{role.called} {count}", role if everywhere else Role.NOBODY)
            if not everywhere and show is not None:
                give_role(store, person, role, store.get_one(Show, show))
            secret, row = new_token(store, person, "test", scope, 1, None)
            client = httpx.Client(base_url=site + PREFIX, headers={"Authorization": f"Bearer {secret}"}, timeout=120)
            client.token, client.number = secret, row.id  # type: ignore[attr-defined]
            return client

    return make


def sent(client: httpx.Client, path: Path, **data: str) -> dict[str, Any]:
    answer = client.post("/files", files={"file": (path.name, path.read_bytes())}, data={"show": "The mill", **data})
    assert answer.status_code == 201, answer.text
    found: dict[str, Any] = answer.json()
    return found


def kept(client: httpx.Client, path: Path) -> int:
    file = sent(client, path)
    answer = client.post(f"/files/{file['id']}/keep", json={"path": file["file"], "show": "The mill"})
    assert answer.status_code == 200, answer.text
    return int(answer.json()["kept"][0])


def test_the_script_of_the_docs_takes_a_file_to_a_proven_delivery(
    caller: Any, site: str, demo_files: dict[str, Path], tmp_path: Path, engine: Engine
) -> None:
    assert len(EXAMPLE.read_text().splitlines()) < 40
    command = [sys.executable, str(EXAMPLE), site, str(demo_files["TW_010"]), "zup-lh-cm", "usd"]
    environment = {**os.environ, "ANAXIS_TOKEN": caller().token}
    done = subprocess.run(command, capture_output=True, text=True, cwd=tmp_path, env=environment)
    assert done.returncode == 0, done.stderr
    assert "Matches: " in done.stdout and "new, shot TW_010" in done.stdout and any(tmp_path.iterdir())
    with Context(engine, LOCAL) as store:
        assert store.execute(select(Delivery)).scalar_one().matches
        assert {
            e.actor for e in store.execute(select(HistoryEntry).where(HistoryEntry.action == "deliver")).scalars()
        } == {"artist 0"}


def test_a_warning_is_said_with_each_delivery_until_it_is_allowed(caller: Any, usda: Callable[..., Path]) -> None:
    lens = "float focalLength = 3500\n float horizontalAperture = 3600\n float verticalAperture = 2025"
    client, said = caller(), "The film back is 3600 x 2025 mm"
    camera = kept(client, usda(lens=lens, name="TW_090.usda"))
    answer = client.post(f"/cameras/{camera}/deliveries", json={"to": ["zup-lh-cm"], "formats": ["usd"]})
    (delivery,) = answer.json()["deliveries"]
    assert delivery["matches"] and delivery["warnings"] == ["sensor_factor"]
    assert delivery["verdict"].startswith(f"Matches the file; the file has a warning: {said}")
    refused = client.post(f"/cameras/{camera}/versions/1/allowed", json={"codes": ["rate_guessed"]})
    assert refused.status_code == 422 and "no open warning" in refused.text
    allowed = client.post(f"/cameras/{camera}/versions/1/allowed", json={"codes": ["sensor_factor"]})
    assert allowed.status_code == 201 and allowed.json()["open_warnings"] == []
    assert client.get(f"/deliveries/{delivery['id']}").json()["verdict"] == "Matches"
    again = client.delete(f"/cameras/{camera}/versions/1/allowed", params={"code": "sensor_factor"})
    assert again.status_code == 200 and again.json()["open_warnings"] == ["sensor_factor"]
    assert client.get(f"/deliveries/{delivery['id']}").json()["warnings"] == ["sensor_factor"]
    nothing = client.delete(f"/cameras/{camera}/versions/1/allowed", params={"code": "sensor_factor"})
    assert nothing.status_code == 422 and "so there is nothing to undo" in nothing.text


def test_a_table_of_two_readings_is_read_as_chosen(caller: Any, tmp_path: Path) -> None:
    table = write_small_pan(tmp_path / "pan.csv").read_bytes()
    client = caller()
    sent = client.post("/files", files={"file": ("TW_930_cam_v001.csv", table)}, data={"show": "The Tidewright"}).json()
    named = {"path": "TW_930_cam_v001.csv", "show": "The Tidewright"}
    at = f"/files/{sent['id']}"
    found = client.get(at, params=named).json()
    assert found["readings"] == ["the angles are in degrees", "the angles are in radians"]
    accepted = {
        "accept": [
            "guessed_columns",
            "guessed_order",
            "guessed_up_axis",
            "guessed_metres_per_unit",
            "guessed_rate",
            "default_lens",
        ]
    }
    refused = client.post(f"{at}/keep", json=named | accepted).json()
    assert "can be read in 2 ways" in str(refused)
    assert client.post(f"{at}/columns", params=named, json={"reading": 5}).status_code == 422
    assert client.post(f"{at}/columns", params=named, json={"reading": 1}).status_code == 200
    assert client.get(at, params=named).json()["readings"] == []
    kept = client.post(f"{at}/keep", json=named | accepted)
    assert kept.status_code == 200 and kept.json()["kept"], kept.text
    assert client.post(f"{at}/columns", params=named, json={"reading": 0}).status_code == 422, "it is kept"


def test_long_work_is_followed_and_values_proof_and_returns_say_their_numbers(
    caller: Any, demo_files: dict[str, Path]
) -> None:
    client = caller()
    camera = kept(client, demo_files["TW_010"])
    asked = {"to": ["zup-lh-cm", "ydown-px"], "formats": ["usd"], "options": {"reduce_px": 0.05}}
    answer = client.post(f"/cameras/{camera}/deliveries", json=asked)
    assert answer.status_code == 202 and len(answer.json()["jobs"]) == 2
    for job in answer.json()["jobs"]:
        with client.stream("GET", f"/jobs/{job['id']}/events", timeout=120) as events:
            told = [json.loads(line[6:]) for line in events.iter_lines() if line.startswith("data: ")]
        assert told[-1]["state"] == "done" and told[-1]["asked_by"] == "artist 0", told[-1]
        delivery = client.get(f"/deliveries/{told[-1]['delivery']}").json()
        assert delivery["matches"] and delivery["verdict"] == "Matches within 0.05 px"
    proof = client.get(f"/deliveries/{delivery['id']}/proof").json()
    assert max(f["deviation_px"] for f in proof["frames"]) == delivery["max_px"] and proof["frames_missing"] == []
    head = client.get(f"/cameras/{camera}").json()["head"]
    values = client.get(
        f"/cameras/{camera}/versions/{head['number']}/values", params={"to": "zup-lh-cm", "first": 1010, "last": 1012}
    ).json()
    assert [f["frame"] for f in values["frames"]] == [1010, 1011, 1012] and len(values["frames"][0]["position"]) == 3
    file = client.get(f"/deliveries/{delivery['id']}/files/{delivery['files'][0]['name']}")
    assert client.get(f"/deliveries/{delivery['id']}/sheet.pdf").content.startswith(b"%PDF")
    back = client.post(
        f"/cameras/{camera}/returns",
        files={"file": (delivery["files"][0]["name"], file.content)},
        data={"to": delivery["to"]},
    )
    assert back.status_code == 201 and back.json()["max_px"] < 0.1, back.text


def test_every_option_of_a_delivery_can_be_asked_for_and_one_that_cannot_be_is_a_sentence(
    caller: Any, demo_files: dict[str, Path]
) -> None:
    """The pages, the command line and the interface have one model of what can be asked."""
    client = caller()
    camera = kept(client, demo_files["TW_010"])
    at = f"/cameras/{camera}/deliveries"
    asked = {
        "first": -20, "under_root": True, "samples": 3, "shutter_open": -0.5, "shutter_close": 0.5, "between": 4, "overscan": "10%",
        "multiple": 8, "tight": True, "plane_m": 2.5, "plane_opacity": 0.5, "set_formats": "gltf,alembic", "set_each": True, "obj_frames": True,
    }  # fmt: skip
    assert {*asked, "reduce_px"} == {f.name for f in fields(DeliveryOptions)}
    answer = client.post(at, json={"to": ["zup-lh-cm"], "formats": ["usd"], "options": asked})
    assert answer.status_code == 201, answer.text
    (done,) = answer.json()["deliveries"]
    assert done["options"].items() >= {k: v for k, v in asked.items() if k != "plane_opacity"}.items(), done
    older = client.post(at, json={"to": ["zup-lh-cm"], "formats": ["usd"], "options": {"first_there": 7}})
    assert older.json()["deliveries"][0]["options"]["first"] == 7
    for wrong, said in (
        ({"samples": 65}, "65 samples for each frame are not possible"), ({"samples": 2, "reduce_px": 1}, "exclude each other: choose one"),
        ({"multiple": 0}, "Multiples of 0 px"), ({"set_formats": "dae"}, "not a set format"), ({"plane_m": -1}, "plane"), ({"reduce_px": "x"}, "reduce_px"),
    ):  # fmt: skip
        answer = client.post(at, json={"to": ["zup-lh-cm"], "formats": ["usd"], "options": wrong})
        assert answer.status_code == 422 and said in answer.json()["sentence"], answer.text
    plan = client.put("/shows/1/plan/targets", json={"to": "zup-lh-cm", "format": "usd", "options": {"overscan": "5%"}})
    assert plan.status_code in (200, 403), plan.text


def test_what_a_delivery_renumbered_is_no_fault_of_the_package(caller: Any, tmp_path: Path) -> None:
    client = caller()
    shot = SHOTS["frame_minus_20"]()
    (written,) = deliver_all([leaving(shot)], find_profile("yup-rh-m"), "usd", tmp_path, DeliveryOptions(first=-20))
    camera = kept(client, written.files[0])
    asked = {"to": ["zup-lh-cm"], "formats": ["usd"]}
    delivery = client.post(f"/cameras/{camera}/deliveries", json=asked).json()["deliveries"][0]
    name = delivery["files"][0]["name"]
    file = client.get(f"/deliveries/{delivery['id']}/files/{name}").content
    back = client.post(f"/cameras/{camera}/returns", files={"file": (name, file)}, data={"to": "zup-lh-cm"}).json()
    assert back["as_it_was"] and back["frames_missing"] == 0 and back["max_px"] < 0.01, back
    assert back["explained"] and back["explanations"][0]["causes"] == []
    assert "renumbered frame -20 as frame 0" in back["numbering"]


def test_a_change_from_an_old_state_is_not_taken(caller: Any, demo_files: dict[str, Path]) -> None:
    client = caller()
    camera = kept(client, demo_files["TW_010"])
    base = client.get(f"/cameras/{camera}/recipe").json()["number"]
    shift = [{"code": "shift", "params": {"x_m": 1.0, "y_m": 0.0, "z_m": 0.0}}]
    first = client.put(f"/cameras/{camera}/recipe", json={"base": base, "operations": shift, "change": "one metre"})
    assert first.status_code == 200 and first.json()["recipe"], first.text
    second = client.put(f"/cameras/{camera}/recipe", json={"base": base, "operations": []})
    assert (
        second.status_code == 409 and "one metre" in second.json()["sentence"] and second.json()["code"] == "conflict"
    )
    assert client.get(f"/cameras/{camera}/recipe").json()["number"] == first.json()["number"]
    unusable = client.put(
        f"/cameras/{camera}/recipe", json={"base": first.json()["number"], "operations": [{"code": "no such"}]}
    )
    assert unusable.status_code == 422 and unusable.json()["sentence"]


def test_the_same_request_again_is_not_done_twice(caller: Any, demo_files: dict[str, Path], engine: Engine) -> None:
    client = caller()
    camera = kept(client, demo_files["TW_010"])
    asked = {"to": ["zup-lh-cm"], "formats": ["json"]}
    answers = [
        client.post(f"/cameras/{camera}/deliveries", json=asked, headers={"Idempotency-Key": "run 7"}) for _ in range(3)
    ]
    assert {a.status_code for a in answers} == {201} and len({a.text for a in answers}) == 1
    assert [a.headers.get("Idempotency-Replayed") for a in answers] == [None, "true", "true"]
    with Context(engine, LOCAL) as store:
        assert store.execute(select(func.count()).select_from(Delivery)).scalar_one() == 1
    other = client.post(
        f"/cameras/{camera}/deliveries", json={**asked, "formats": ["usd"]}, headers={"Idempotency-Key": "run 7"}
    )
    assert (other.status_code, other.json()["code"]) == (422, "idempotency")
    failed = {"to": ["no such package"], "formats": ["json"]}
    assert client.post(
        f"/cameras/{camera}/deliveries", json=failed, headers={"Idempotency-Key": "run 8"}
    ).status_code in (404, 422)
    assert (
        client.post(f"/cameras/{camera}/deliveries", json=asked, headers={"Idempotency-Key": "run 8"}).status_code
        == 201
    )
    mine = caller().post(f"/cameras/{camera}/deliveries", json=asked, headers={"Idempotency-Key": "run 7"})
    assert mine.headers.get("Idempotency-Replayed") is None, "a key is its sender's own"


def test_each_route_as_each_role_and_with_no_token_that_holds(
    caller: Any, site: str, demo_files: dict[str, Path], engine: Engine, database_url: str
) -> None:
    camera = kept(caller(), demo_files["TW_010"])
    with Context(engine, LOCAL) as store, store.begin():
        version = store.execute(select(Version)).scalar_one()
        store.add(Job(kind="keys", version_id=version.id, state="done"))
    api = next(r.app for r in create_app(database_url, readers_ready=False).routes if getattr(r, "path", "") == PREFIX)  # type: ignore[attr-defined]
    assert isinstance(api, FastAPI)
    routes = [r for r in routes_of(api) if r[1] != "/openapi.json"]  # what there is, everybody may know
    assert len(routes) > 30 and all(need for _, _, need in routes)
    before = _counts(engine)
    clients = {role: caller(role) for role in (Role.VIEWER, Role.ARTIST)}
    scoped = caller(Role.LEAD, Role.VIEWER)
    revoked, expired = caller(Role.LEAD), caller(Role.LEAD)
    with Context(engine, LOCAL) as store, store.begin():
        revoke(store, store.get_one(Token, revoked.number))
        store.execute(
            update(Token).where(Token.id == expired.number).values(expires_at=func.now() - text("interval '1 s'"))
        )
    nobody = httpx.Client(base_url=site + PREFIX, timeout=60)
    elsewhere = caller(Role.LEAD, everywhere=False, show=_other_show(engine))
    people = before[-1]
    for method, path, need in routes:
        address = path.replace("{key}", "zup-lh-cm").replace("{name}", "x")
        for name in ("show_id", "camera_id", "number", "source_id", "delivery_id"):
            address = address.replace(f"{{{name}}}", "1")
        for client in (nobody, revoked, expired):
            answer = client.request(method, address)
            assert answer.status_code == 401 and answer.json()["code"] == "not_signed_in", (
                method,
                address,
                answer.text,
            )
        for role, client in ((Role.VIEWER, scoped), *clients.items()):
            if role < need:  # type: ignore[operator]
                assert client.request(method, address).status_code in (403, 404), (method, address, role)
        if any(f"{{{n}}}" in path for n in ("show_id", "camera_id")):
            assert elsewhere.request(method, address).status_code == 404, (method, address)
    assert _counts(engine)[:-1] == before[:-1] and _counts(engine)[-1] >= people
    assert clients[Role.VIEWER].get(f"/cameras/{camera}").status_code == 200
    # a browser's cookie counts for nothing here, and a page of another site has no token
    assert nobody.post("/cameras/1/deliveries", json={}, headers={"Origin": site}).status_code == 401


def test_the_description_in_the_docs_is_that_of_the_code_and_what_is_too_large_is_a_problem(caller: Any) -> None:
    documented = json.loads((EXAMPLE.parent.parent / "openapi.json").read_text())
    assert documented == api_of(State()).openapi(), "run scripts/document_api.py"
    client = caller()
    line = HTTPConnection(client.base_url.host, client.base_url.port)
    line.request(
        "POST", f"{PREFIX}/files", headers={"Content-Length": "999999999", "Authorization": f"Bearer {client.token}"}
    )
    answer = line.getresponse()
    assert answer.status == 413 and json.loads(answer.read())["code"] == "too_large"
    long = client.put("/cameras/1/recipe", content=b"[" * 1_100_000, headers={"Content-Type": "application/json"})
    assert long.status_code == 413 and "larger than 1 MB" in long.text


def _other_show(engine: Engine) -> int:
    with Context(engine, LOCAL) as store, store.begin():
        show = Show(name="The lighthouse")
        store.add(show)
        store.flush()
        return show.id


def _counts(engine: Engine) -> list[int]:
    with Context(engine, LOCAL) as store:
        return [
            store.execute(select(func.count()).select_from(t)).scalar_one()
            for t in (Version, Camera, Job, Delivery, HistoryEntry)
        ]


def test_whatever_is_sent_is_answered_as_the_description_says(
    caller: Any, site: str, demo_files: dict[str, Path], engine: Engine
) -> None:
    """Requests made up from the interface's own description, as a lead: no failure of ours, and no answer it does not tell of."""
    client = caller(Role.LEAD)
    kept(client, demo_files["TW_010"])
    client.post("/cameras/1/deliveries", json={"to": ["zup-lh-cm"], "formats": ["json"]})
    client.put("/shows/1/plan/targets", json={"to": "zup-lh-cm", "format": "usd"})
    schema = schemathesis.openapi.from_url(f"{site}{PREFIX}/openapi.json")
    checks = [not_a_server_error, status_code_conformance, response_schema_conformance]
    seen = 0
    for held in schema.get_all_operations():
        operation = held.ok()  # type: ignore[union-attr]
        if operation.path.endswith("/events"):  # which goes on for as long as the work does
            continue

        @given(case=operation.as_strategy())
        @settings(
            max_examples=sized(100, 2),
            deadline=None,
            suppress_health_check=list(HealthCheck),
            database=None,
            derandomize=True,
        )
        def check(case: schemathesis.Case) -> None:
            answer = case.call(headers=dict(client.headers), timeout=120)
            case.validate_response(answer, checks=checks)

        check()
        seen += 1
    assert seen > 30
    with Context(engine, LOCAL) as store:  # nobody waits for the films that were asked for
        for number in store.execute(select(Job.id).where(Job.state.in_(("waiting", "running")))).scalars().all():
            client.post(f"/jobs/{number}/stop")


def test_a_key_covers_the_bytes_of_a_file(caller: Any, demo_files: dict[str, Path], tmp_path: Path) -> None:
    client, key = caller(), {"Idempotency-Key": "file 1"}
    one, other = demo_files["TW_010"].read_bytes(), demo_files["TW_020"].read_bytes()

    def send(data: bytes, name: str = "shot.usda", show: str = "The mill", key: dict[str, str] = key) -> httpx.Response:
        return client.post("/files", files={"file": (name, data)}, data={"show": show}, headers=key)

    first, again = send(one), send(one)
    assert first.status_code == 201 and again.headers["Idempotency-Replayed"] == "true" and again.json() == first.json()
    for wrong in (send(other), send(one, name="shot_2.usda"), send(one, show="The quay"), send(one + b"\n")):
        assert (wrong.status_code, wrong.json()["code"]) == (422, "idempotency"), wrong.text
    broken = send(b"#usda 1.0\ndef Camera {", key={"Idempotency-Key": "file 2"})
    assert broken.status_code == 422 and "Idempotency-Replayed" not in broken.headers
    assert send(one, key={"Idempotency-Key": "file 2"}).status_code == 201, "what failed may be sent again"


def test_work_and_its_answer_are_kept_together(
    caller: Any, demo_files: dict[str, Path], engine: Engine, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Cut off between both, neither is there; the same request is done when it is sent again, also by two at once, and once."""
    client = caller()
    camera = kept(client, demo_files["TW_010"])
    asked, key = {"to": ["zup-lh-cm"], "formats": ["json"]}, {"Idempotency-Key": "cut off"}

    def deliveries() -> int:
        with Context(engine, LOCAL) as store:
            return int(store.execute(select(func.count()).select_from(Delivery)).scalar_one())

    class Ended(BaseException):
        pass

    def ends(*_: object) -> None:
        raise Ended

    with monkeypatch.context() as patched:
        patched.setattr(once, "_keep", ends)
        patched.setattr(once, "_forget", lambda *_: None)  # a process that ended forgets nothing
        with pytest.raises(httpx.HTTPError):
            client.post(f"/cameras/{camera}/deliveries", json=asked, headers=key).raise_for_status()
    assert deliveries() == 0
    early = client.post(f"/cameras/{camera}/deliveries", json=asked, headers=key)
    assert (early.status_code, early.json()["code"]) == (409, "conflict") and "is running" in early.json()["sentence"]
    with Context(engine, LOCAL) as store, store.begin():
        store.execute(update(AnswerGiven).values(created_at=func.now() - text("interval '61 seconds'")))
    done = client.post(f"/cameras/{camera}/deliveries", json=asked, headers=key)
    assert done.status_code == 201 and deliveries() == 1
    # Two of one key, where each takes the other for cut off.
    monkeypatch.setattr(once, "_BEING_DONE_S", -1)
    both = {"Idempotency-Key": "two at once"}
    with ThreadPoolExecutor(2) as at_once:
        waiting = [
            at_once.submit(client.post, f"/cameras/{camera}/deliveries", json=asked, headers=both) for _ in range(2)
        ]
        answers = [w.result() for w in waiting]
    assert (
        [a.status_code for a in answers] == [201, 201] and answers[0].json() == answers[1].json() and deliveries() == 2
    )


def test_a_file_is_asked_for_by_its_number_and_an_address_says_its_methods(
    caller: Any, engine: Engine, demo_files: dict[str, Path]
) -> None:
    client = caller()
    file = sent(client, demo_files["TW_010"])
    again = client.get(f"/files/{file['id']}")
    assert again.status_code == 200 and again.json()["file"] == file, again.text
    wrong = client.post(f"/files/{file['id']}/keep", json={"resolution": "wide"})
    assert wrong.status_code == 422 and "write it as 1920x1080" in wrong.json()["sentence"], wrong.text
    picture = {"resolution": "2048x858", "source_fit": "height"}
    assert client.post(f"/files/{file['id']}/keep", json=picture).status_code == 200
    with Context(engine, LOCAL) as store:
        version = store.execute(select(Version)).scalar_one()
        assert (version.width_px, version.height_px, version.source_fit, version.image_guessed) == (
            2048,
            858,
            "height",
            False,
        )
    (camera,) = [c["id"] for c in client.get("/shows/1/cameras").json()["entries"]]
    refused, asked = client.patch(f"/cameras/{camera}/recipe"), client.options(f"/cameras/{camera}/recipe")
    assert (refused.status_code, refused.json()["code"], asked.status_code) == (405, "no_such_method", 204)
    assert refused.headers["allow"] == asked.headers["allow"] == "GET, HEAD, OPTIONS, PUT"
    assert client.options("/nowhere").status_code == 404
    done = client.post(f"/cameras/{camera}/deliveries", json={"to": ["yup-rh-m"], "formats": ["usd"]}).json()[
        "deliveries"
    ][0]
    address = f"/deliveries/{done['id']}/files/{done['files'][0]['name']}"
    whole, head = client.get(address), client.head(address)
    assert (
        head.status_code == 200
        and head.content == b""
        and head.headers["content-type"] == whole.headers["content-type"]
    )
    assert int(head.headers["content-length"]) == len(whole.content)
    assert client.head("/deliveries/99").status_code == 404


def test_every_example_of_the_description_is_valid() -> None:
    """Against the schema that it stands in, references followed."""
    document = json.loads((EXAMPLE.parents[1] / "openapi.json").read_text())
    seen = 0

    def walk(part: Any) -> None:
        nonlocal seen
        for value in part.values() if isinstance(part, dict) else part if isinstance(part, list) else ():
            walk(value)
        if isinstance(part, dict) and isinstance(part.get("examples"), list) and "type" in part:
            for example in part["examples"]:
                seen += 1
                Draft202012Validator({**part, "components": document["components"]}).validate(example)

    walk(document)
    assert seen >= 8
    formats = document["components"]["schemas"]["NewDelivery"]["properties"]["formats"]["items"]["enum"]
    assert formats == [f.key for f in WRITTEN]
    assert document["security"] and document["components"]["securitySchemes"]["token"]["scheme"] == "bearer"
