"""Recipes and takes in the store: edits, undo and redo, newer files, motion only, what is gone, migration."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from sqlalchemy import Engine, select

from anaxis.app.cameras.edit import (
    copy_camera,
    correct_picture,
    edit_version,
    keep_camera,
    mark_missing,
    retake,
    step_back,
    step_on,
)
from anaxis.app.context import Context
from anaxis.app.roles import LOCAL
from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation
from anaxis.core.scene.picture import picture_of
from anaxis.formats import read_file
from anaxis.library.archive import scene_to_bytes
from anaxis.library.scene_report import look
from anaxis.store.keep import find_or_make_shot, find_or_make_show, stage_file
from anaxis.store.models import Camera, SourceFile, Version
from anaxis.store.queries import get_version, recipe_of, track_of


@pytest.fixture
def store(engine: Engine) -> Any:
    with Context(engine, LOCAL) as session, session.begin():
        yield session


def staged(store: Context, path: Path) -> tuple[SourceFile, Any]:
    scene = read_file(path)
    return stage_file(store, path.name, path.read_bytes(), scene_to_bytes(scene)), scene


def kept(store: Context, path: Path, name: str = "shotcam", at: int = 0) -> Version:
    source, scene = staged(store, path)
    shot = find_or_make_shot(store, find_or_make_show(store, "The Tidewright"), "TW_X")
    return keep_camera(store, shot, source, look(source.scene, {})[at], name, picture_of(scene, None, None))


def head(store: Context, version: Version) -> Version:
    return get_version(store, version.camera_id)


def test_edits_undo_and_redo_lose_nothing(store: Context, demo_files: dict[str, Path]) -> None:
    first = kept(store, demo_files["TW_040"])
    finding = next(f for f in first.findings if f["code"] == "sensor_factor")
    mended = edit_version(store, first, (Operation(**finding["operation"]),), "lens mended")
    trimmed = edit_version(store, mended, (*recipe_of(mended), Operation("trim", {"first": 11})), "trimmed")
    assert [first.label, mended.label, trimmed.label] == ["1", "1.1", "1.2"]
    assert mended.facts["film_mm"] == pytest.approx([36, 20.25]) and mended.findings == []
    assert len(track_of(trimmed)[0]) == 150 and head(store, first).id == trimmed.id
    assert step_back(store, trimmed).id == mended.id and step_back(store, mended).id == first.id
    assert head(store, first).id == first.id
    with pytest.raises(BadInput, match="Nothing to undo"):
        step_back(store, first)
    assert step_on(store, first).id == mended.id and step_on(store, mended).id == trimmed.id
    # A change after an undo starts a branch; redo follows the newest, and the older one stays readable.
    step_back(store, trimmed)
    other = edit_version(store, mended, (*recipe_of(mended), Operation("trim", {"last": 20})), "other trim")
    assert (
        other.parent_id == mended.id
        and step_back(store, other).id == mended.id
        and step_on(store, mended).id == other.id
    )
    assert len(track_of(get_version(store, first.camera_id, trimmed.number))[0]) == 150
    with pytest.raises(BadInput, match="'Trim' failed"):
        edit_version(store, other, (Operation("trim", {"first": 9999}),), "")
    assert head(store, first).id == other.id


def test_a_newer_file_keeps_the_recipe_or_only_brings_motion(
    store: Context, demo_files: dict[str, Path], usda: Callable[..., Path]
) -> None:
    first = kept(store, demo_files["TW_020"])
    work = edit_version(store, first, (Operation("lens_factor", {"what": "focal length", "factor": 2}),), "longer")
    work = edit_version(
        store, work, (*recipe_of(work), Operation("aim", {"node": "/TW_020/landmarks/tide_bell"})), "aimed"
    )
    work = correct_picture(store, work, Image(4096, 2304), "height")
    camera = work.camera
    source, scene = staged(store, usda(name="TW_020_v002.usda"))  # another camera name, other frames, no landmarks
    whole = retake(store, camera, source, scene, "/cam", "recipe", picture_of(scene, None, None))
    assert (whole.label, whole.camera_id, camera.name) == ("2", first.camera_id, "shotcam")
    lens = track_of(whole)[0].lens
    assert np.allclose(lens.focal_mm, 70) and whole.source_fit == "height" and whole.width_px == 4096
    # The node that the aim needs is not in the new file: switched off, said, and still in the recipe.
    assert [(o.code, o.on) for o in recipe_of(whole)] == [("lens_factor", True), ("aim", False)]
    assert [f["code"] for f in whole.findings if f["severity"] == "warning"].count("operation_off") == 1
    motion = retake(store, camera, source, scene, "/cam", "motion", picture_of(scene, None, None))
    track = track_of(motion)[0]
    assert motion.label == "3" and len(track) == 10 and np.allclose(track.position_m[-1], [0.5, 0.2, 2.5])
    assert np.allclose(track.lens.focal_mm, 70) and recipe_of(motion)[-1].code == "keep_lens"
    fresh = retake(store, camera, source, scene, "/cam", "nothing", picture_of(scene, None, None))
    assert recipe_of(fresh) == () and np.allclose(track_of(fresh)[0].lens.focal_mm, 35)
    assert [v.label for v in camera.takes] == ["1.3", "2", "3", "4"]


def test_the_lens_kept_by_motion_only_is_the_one_worked_on_here(store: Context, demo_files: dict[str, Path]) -> None:
    zoom = kept(store, demo_files["TW_020"])
    source, scene = staged(store, demo_files["TW_010"])
    new = retake(store, zoom.camera, source, scene, scene.cameras[0].path, "motion", picture_of(scene, None, None))
    old, track = track_of(zoom)[0], track_of(new)[0]
    assert np.allclose(track.lens.focal_mm, old.lens.focal_mm[-1]) and np.allclose(track.lens.offset_y_mm, 0.6)
    assert new.width_px == 1920 and track.frames[0] == 1001


WITNESS = (
    'def Camera "witness" {\n float focalLength = 20\n float horizontalAperture = 36\n float verticalAperture = 24\n}'
)


def test_cameras_gone_from_the_file_are_marked_and_those_made_here_are_not(
    store: Context, usda: Callable[..., Path]
) -> None:
    both = usda('def Xform "a" {\n CAMERA\n}\n' + WITNESS, name="both.usda")
    a = kept(store, both, "a")
    b = kept(store, both, "b", at=1)
    made = copy_camera(store, a, "a")
    assert made.camera.name == "a_2" and made.change == "copied from a 1"
    # Still in the newer file and only not taken again: not missing.
    other, both_again = staged(store, both)
    whole = retake(store, a.camera, other, both_again, "/a/cam", "recipe", picture_of(both_again, None, None))
    assert mark_missing(store, [a.source_file, b.source_file], other, both_again, [whole.camera]) == []
    source, scene = staged(store, usda(name="newer.usda"))
    again = retake(store, a.camera, source, scene, "/cam", "recipe", picture_of(scene, None, None))
    marked = mark_missing(store, [a.source_file, b.source_file], source, scene, [again.camera])
    assert {c.name for c in marked} == {"b"}
    assert b.camera.missing_from is not None and b.camera.missing_from.name == "newer.usda"
    assert store.scalars(select(Camera)).all() and track_of(head(store, b))[0] is not None
    # Taken in again, it is no longer missing.
    back, scene = staged(store, both)
    retake(store, b.camera, back, scene, "/witness", "recipe", picture_of(scene, None, None))
    assert store.get_one(Camera, b.camera_id).missing_from_id is None
