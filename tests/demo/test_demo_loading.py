"""The demo data is loaded piece by piece: what was cut off is loaded the next time, and what is there is left alone."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from sqlalchemy import Engine, func, select

import run
import sphere
from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from anaxis.store.models import Delivery, PlanTarget, Shot


def shots(engine: Engine) -> list[str]:
    with Context(engine, LOCAL) as store:
        return sorted(store.execute(select(Shot.name)).scalars())


def test_a_demo_that_was_cut_off_is_loaded_whole_the_next_time(
    engine: Engine, database_url: str, solved: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def few_frames(folder: Path) -> None:
        shutil.copytree(solved, folder, dirs_exist_ok=True)

    monkeypatch.setattr(run, "MEDIA", tmp_path / "media")
    monkeypatch.setenv("ANAXIS_MEDIA_ROOTS", f"{run.MEDIA_NAME}={tmp_path / 'media'}")
    monkeypatch.setenv("ANAXIS_PLATES", str(tmp_path / "plates"))
    monkeypatch.setattr(run, "make_solve", few_frames)
    said: list[str] = []

    def cut_off(*_: Any) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(run, "make_sphere", cut_off)
    with pytest.raises(KeyboardInterrupt):
        run.load_demo(database_url, said.append)
    assert shots(engine) == ["TW_010", "TW_020", "TW_030", "TW_040", "TW_050", "reel_1"]
    assert said[0] == "Demo data: TW_010, its camera and deliveries…" and said[-1].startswith("Demo data: TW_060")

    monkeypatch.setattr(run, "make_sphere", lambda folder: sphere.make_sphere(folder, np.arange(3)))
    assert run.load_demo(database_url) == ["TW_060", "plan"]
    with Context(engine, LOCAL) as store:
        delivered = store.execute(select(func.count()).select_from(Delivery)).scalar_one()
        assert store.execute(select(func.count()).select_from(PlanTarget)).scalar_one() == 2 and delivered > 5
    assert run.load_demo(database_url) == [] and len(shots(engine)) == 7


def test_a_store_with_a_show_of_its_own_gets_no_demo_data(engine: Engine, database_url: str) -> None:
    with Context(engine, LOCAL) as store, store.begin():
        run.find_or_make_show(store, "The lighthouse")
    assert run.load_demo(database_url) == [] and shots(engine) == []
