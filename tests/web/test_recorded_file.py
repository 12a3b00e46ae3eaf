"""Tables of trackers on the pages: one that can be read in several ways, and one opened as a recording."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
from sqlalchemy import Engine, select

from anaxis.app.cameras.uploads import clear_uploads
from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from anaxis.simulated.tracker import Device, walk
from anaxis.store.exchange import Recording
from anaxis.store.keep import find_or_make_shot, find_or_make_show
from anaxis.store.models import SourceFile, Version
from anaxis.store.queries import track_of
from pages import Visitor
from tracker_files import write_phone_log, write_small_pan


def test_a_phones_log_becomes_a_camera_with_its_jump_removed(site: str, engine: Engine, tmp_path: Path) -> None:
    device = Device(seed=2)
    log = write_phone_log(tmp_path / "TW_920_walk.csv", device)
    with Visitor(base_url=site, follow_redirects=False) as visitor:
        review = visitor.post("/take-in", files={"file": (log.name, log.read_bytes())}).headers["location"]
        text = visitor.get(review).text
        assert "follow a device's clock" in text and "Open as recording" in text
        form = {
            "camera": "",
            "show": "The Tidewright",
            "shot": "TW_920",
            "resolution": "1440x1920",
            "source_fit": "width",
        }
        with Context(engine, LOCAL) as store, store.begin():
            shot = find_or_make_shot(store, find_or_make_show(store, "The Tidewright"), "TW_920")
            shot.first_frame, shot.last_frame, shot.rate = 1009, 1300, "25/1"
        wrong = visitor.post(f"{review}/recording", data={**form, "shot": ""})
        assert wrong.status_code == 422 and "The shot needs a name" in wrong.text
        opened = visitor.post(f"{review}/recording", data=form).headers["location"]
        with Context(engine, LOCAL) as store:
            usual = store.execute(select(Recording.settings)).scalar_one()
        assert (usual["rate"], usual["first_frame"]) == ("25/1", 1009), "those of the shot"
        page = visitor.get(opened)
        assert page.status_code == 200 and "Remove the jump" in page.text and log.name in page.text
        assert visitor.get(f"{opened}/drawing").status_code == 200
        heal = re.findall(r'name="(heal-\d+)"', page.text)
        assert len(heal) == 1, "the jump within the gap"
        settings = {"rate": "24", "first_frame": "1001", "smooth_px": "1", "aspect": "1.777778", "keep": "width", "film_width_mm": "36", "gaps": "bridge",
                    "x_m": "0", "y_m": "1.5", "z_m": "0", "heading_deg": "0", "shot": "TW_920", "camera": "walk", heal[0]: "1"}  # fmt: skip
        kept = visitor.post(f"{opened}/keep", data=settings)
        assert kept.status_code == 303, kept.text
        assert "TW_920_walk.csv" in visitor.get(kept.headers["location"]).text
    with Context(engine, LOCAL) as store, store.begin():
        version = store.execute(select(Version)).scalar_one()
        codes = {f["code"] for f in version.findings}
        # what the file did not state is a guess still, in the camera made of it
        assert codes >= {"recorded_gap", "recorded_jump", "recorded_gap_jump", "guessed_up_axis", "guessed_columns"}
        assert "recorded_jump_left" not in codes and "guessed_rate" not in codes
        track = track_of(version)[0]
        assert track.frames[0] == 1001 and float(track.rate) == 24 and track.position_m[0, 1] == 1.5
        place, turn = walk((track.frames - 1001) / 24)
        moved = track.rotation[0] @ turn[0].T
        assert abs((moved @ (place - place[0]).T).T + track.position_m[0] - track.position_m).max() < 0.25
        assert (
            np.degrees(np.arccos(np.clip((track.rotation[:, :, 2] * (moved @ turn)[:, :, 2]).sum(1), -1, 1))).max() < 4
        )
        # the file that was recorded stays, however old the uploads are
        clear_uploads(store)
        assert store.execute(select(Recording.source_file_id)).scalar_one() is not None
        assert store.execute(select(SourceFile.name).where(SourceFile.name == log.name)).scalar_one() == log.name


def test_a_table_of_two_readings_is_kept_once_one_is_chosen(site: str, engine: Engine, tmp_path: Path) -> None:
    table = write_small_pan(tmp_path / "TW_930_pan.csv")
    with Visitor(base_url=site, follow_redirects=False) as visitor:
        review = visitor.post("/take-in", files={"file": (table.name, table.read_bytes())}).headers["location"]
        assert "This table can be read in 2 ways" in " ".join(visitor.get(review).text.split())
        drawn = visitor.get(f"{review}/readings").text
        assert drawn.count("<svg") == 2 and "The angles are in radians" in drawn
        form = {
            "show": "The Tidewright",
            "shot": "TW_930",
            "resolution": "1920x1080",
            "source_fit": "width",
            "cameras": "/TW_930_pan",
        }
        refused = visitor.post(review, data=form)
        assert refused.status_code == 422 and "can be read in 2 ways" in refused.text
        assert visitor.post(f"{review}/reading", data={"number": "7"}).status_code == 422
        assert visitor.post(f"{review}/reading", data={"number": "1"}).headers["location"] == review
        kept = visitor.post(review, data=form)
        assert kept.status_code == 303, kept.text
    with Context(engine, LOCAL) as store:
        track = track_of(store.execute(select(Version)).scalar_one())[0]
        turned = np.degrees(np.arccos((np.trace(track.rotation[0].T @ track.rotation[-1]) - 1) / 2))
        assert turned > 10, "in radians, as chosen"
