"""The registry of formats: each is read, and what is written is opened by the stand-in."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

import ordinary
from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput
from anaxis.core.scene.picture import Picture
from anaxis.delivery.deliver import deliver_all
from anaxis.delivery.options import DeliveryOptions
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.formats import FORMATS, WRITTEN, format_of, read_file, reader_of
from anaxis.formats.format import Format
from anaxis.packages import SHIPPED_KEYS, find_profile


@pytest.mark.parametrize("one", WRITTEN, ids=lambda f: f.key)
def test_what_is_written_is_read_again_and_opened_by_the_stand_in(one: Format, tmp_path: Path) -> None:
    shot = ordinary.held(first=-20)
    camera = ShotCamera(
        ordinary.track_of(shot), ordinary.landmarks_of_shot(shot), Picture(Image(1920, 1080), "width", False, False)
    )
    (done,) = deliver_all([camera], find_profile(SHIPPED_KEYS[0]), one.key, tmp_path, DeliveryOptions(first=1001))
    assert done.proof.max_px < 0.01  # the stand-in has a reader for it
    (file,) = done.files
    assert file.suffix in one.suffixes and reader_of(file.name) is one
    scene = read_file(file)
    assert scene.format == one.key and len(scene.cameras) == 1
    assert np.isfinite(
        np.asarray(one.writer().key_rule(find_profile(SHIPPED_KEYS[0]).convention).convention.world)
    ).all()


def test_no_two_formats_share_a_name_or_a_suffix_and_an_unknown_one_is_a_sentence() -> None:
    for names in (
        [f.key for f in FORMATS],
        [n for f in FORMATS for n in f.names],
        [s for f in FORMATS for s in f.suffixes],
    ):
        assert len(names) == len(set(names))
    for key in ("obj", "no-such-format"):
        with pytest.raises(BadInput, match=f"'{key}' is not a format that is written: choose one of usd, alembic"):
            format_of(key)
