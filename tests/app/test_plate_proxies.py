"""Plates in the store: their proxies are of the look that was asked for, and made once."""

from __future__ import annotations

from pathlib import Path
from types import SimpleNamespace
from typing import Any

import cv2
import numpy as np
import pytest
from sqlalchemy import Engine

from anaxis.app.context import Context
from anaxis.app.plates.plates import attach_plate, change_plate, make_proxies, proxy_numbers
from anaxis.app.roles import LOCAL
from anaxis.store.keep import find_or_make_shot, find_or_make_show
from anaxis.store.models import Plate, PlateProxy


def grey(session: Context, plate: Plate, look: str) -> float:
    row = session.get(PlateProxy, (plate.id, 1044, look))
    assert row is not None
    return float(cv2.imdecode(np.frombuffer(row.data, np.uint8), cv2.IMREAD_COLOR).mean())  # type: ignore[union-attr]


def test_proxies_are_of_the_look_that_was_asked_for(
    engine: Engine, solved: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("ANAXIS_MEDIA_ROOTS", f"mill={solved.parent}")
    monkeypatch.setenv("ANAXIS_MEDIA_SHOWS", "mill=*")

    def asked(plate: Plate) -> Any:
        params = {"plate": plate.id, "look": plate.look, "view": plate.view, "stops": plate.stops}
        return SimpleNamespace(params=params)

    with Context(engine, LOCAL) as session:
        shot = find_or_make_shot(session, find_or_make_show(session, "S"), "TW_050")
        plate = attach_plate(session, shot, "mill", "TW_050/plate", "TW_050_plate.####.exr", "as shot")
        session.commit()
        plain = asked(plate)
        change_plate(session, plate, "as shot", 0, "plain", 2.0)  # before a worker came to it
        session.commit()
        brighter = asked(plate)
        for job in (plain, brighter):
            assert make_proxies(session, job, lambda share: None) == {"made": 8, "broken": 0}
            session.commit()
            assert make_proxies(session, job, lambda share: None) == {"made": 0}
        assert proxy_numbers(session, plate, "plain 0") == proxy_numbers(session, plate) == list(range(1041, 1049))
        assert grey(session, plate, "plain 2") > grey(session, plate, "plain 0") + 20
