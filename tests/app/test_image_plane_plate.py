"""Which plate is on an image plane: one without distortion where the lens has some, and none but plates as shot is refused."""

from __future__ import annotations

from pathlib import Path
from types import SimpleNamespace

import pytest
from sqlalchemy import Engine

from anaxis.app.cameras.edit import edit_version
from anaxis.app.context import Context
from anaxis.app.deliveries import deliver
from anaxis.app.deliveries.deliver import shot_camera_of
from anaxis.app.roles import LOCAL
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation
from anaxis.delivery.options import DeliveryOptions
from test_store import keep


def test_a_plate_as_shot_is_refused_where_the_lens_is_bent(
    engine: Engine, demo_files: dict[str, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    plates = [SimpleNamespace(kind="as shot", name="TW_010_plate")]
    monkeypatch.setattr(deliver, "plates_of", lambda session, shot: plates)
    monkeypatch.setattr(deliver, "pictures_of", lambda session, plate: plate.name)
    plane = DeliveryOptions(plane_m=10.0)
    with Context(engine, LOCAL) as store, store.begin():
        straight = keep(store, demo_files["TW_010"], "TW_010")
        assert shot_camera_of(store, straight, plane).pictures == "TW_010_plate"
        bend = Operation("distortion", {"document": {"model": "radial-tangential", "k1": -0.1}})
        bent = edit_version(store, straight, (bend,), "bent")
        with pytest.raises(BadInput, match=r"'TW_010_plate' is as shot\. Write the undistorted plate on Lens"):
            shot_camera_of(store, bent, plane)
        assert shot_camera_of(store, bent).pictures is None, "without an image plane nothing is asked of the plate"
        plates.append(SimpleNamespace(kind="undistorted", name="TW_010_straight"))
        assert shot_camera_of(store, bent, plane).pictures == "TW_010_straight"
