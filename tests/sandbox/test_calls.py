"""Functions of the library give the same apart as here, for what shots really look like."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import fields, is_dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import ordinary
from anaxis.core.camera.distortion.distortion import distortion_from_document
from anaxis.core.camera.lens import Image
from anaxis.core.checks import Expected
from anaxis.core.derive.derived import Input
from anaxis.core.derive.held import SHOT
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation
from anaxis.core.scene.picture import Picture
from anaxis.delivery.options import DeliveryOptions
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.delivery.transfer_sheet import CameraOrigin
from anaxis.diagnosis.covered import proposals
from anaxis.formats import read_file
from anaxis.library.archive import scene_to_bytes
from anaxis.library.scene_report import FileCamera, look
from anaxis.packages import SHIPPED_KEYS, find_profile
from anaxis.sandbox import calls
from anaxis.sandbox.calculators import Calculators
from anaxis.sandbox.guard import Limits

PICTURE = Picture(Image(1920, 1080), "width", False, True)
SHOTS = {
    "still": ordinary.still(),
    "held": ordinary.held(),
    "whip pan": ordinary.whip(first=86400),
    "stepped lens": ordinary.primes(first=-20),
    "jitter": ordinary.jitter(),
    "subframes": ordinary.subframes(),
    "three frames": ordinary.smooth(count=3),
    "12,000 frames": ordinary.smooth(count=12_000),
    "5 km out": ordinary.smooth(out_m=5000.0),
}


def over_the_wire(function: Callable[..., Any], *args: Any) -> Any:
    """What the function gives where question and answer went through JSON and bytes, as between two processes."""
    document, blocks = calls.question_of(function, args, {})
    answer, made = calls.answer_to(json.loads(json.dumps(document)), [bytes(b) for b in blocks])
    return calls.value_in(function, json.loads(json.dumps(answer)), made)


def same(a: Any, b: Any, where: str = "") -> None:
    """Exactly the same value of the same type, however deep."""
    if isinstance(a, np.ndarray):
        assert isinstance(b, np.ndarray) and a.shape == b.shape, where
        np.testing.assert_array_equal(a, b, err_msg=where)
    elif is_dataclass(a):
        assert type(a) is type(b), where
        for f in fields(a):
            same(getattr(a, f.name), getattr(b, f.name), f"{where}.{f.name}")
    elif isinstance(a, Mapping):
        assert list(a) == list(b), where
        for k in a:
            same(a[k], b[k], f"{where}[{k}]")
    elif isinstance(a, (tuple, list)):
        assert type(a) is type(b) and len(a) == len(b), where
        for i, (x, y) in enumerate(zip(a, b, strict=True)):
            same(x, y, f"{where}[{i}]")
    elif isinstance(a, float):
        assert a == b or (np.isnan(a) and np.isnan(b)), where
    else:
        assert type(a) is type(b) and a == b, (where, a, b)


@pytest.mark.parametrize("name", SHOTS)
def test_every_kind_of_shot_comes_through_unchanged(name: str) -> None:
    """A camera with landmarks and a lens that bends on every frame, there and back to the last bit."""
    track = ordinary.track_of(SHOTS[name])
    k2 = np.linspace(-0.01, 0.01, len(track)).tolist()
    bends = distortion_from_document({"model": "radial-tangential", "k1": 0.05, "k2": k2})
    track = replace(track, distortion=bends)
    camera = ShotCamera(track, ordinary.landmarks_of_shot(SHOTS[name]), PICTURE, finer=track, has_finer=True)
    adapter, blocks = calls._adapters("written")["cameras"], list[bytes]()
    stated = json.dumps(adapter.dump_python([camera], mode="json", context=blocks))
    (back,) = adapter.validate_python(json.loads(stated), context=blocks)
    same(camera, back)


def test_each_function_gives_apart_what_it_gives_here(demo_files: dict[str, Path]) -> None:
    scene = read_file(demo_files["TW_010"])
    archive, path = scene_to_bytes(scene), scene.cameras[0].path
    recipe = (Operation("renumber", {"first": 86400}), Operation("level", {"node": "/gone", "way": "still"}))
    camera, fits = FileCamera(archive, path), FileCamera(archive, path, recipe, {"0" * 64: archive})
    track, marks, lines = calls.FUNCTIONS["camera_after"](camera)
    profile = find_profile(SHIPPED_KEYS[0])
    out = ShotCamera(track, marks, PICTURE, lines_m=lines)
    image = PICTURE.image
    source = CameraOrigin("a.usda", "0" * 64, path, [o.as_dict() for o in recipe])
    square = np.array([[[-50.0, 0, -50], [50, 0, -50], [0, 0, 50]]])
    asked: dict[str, tuple[Any, ...]] = {
        "look": (archive, {path: recipe}, Expected(1001, 1100, Fraction(24000, 1001)), image, {}, path, None),
        "camera_after": (camera,),
        "levels_of": (camera,),
        "chain_after": (camera,),
        "own_samples": (camera, PICTURE),
        "fitting_recipe": (fits,),
        "finer_track": (camera,),
        "around": (camera, ("wheel",)),
        "camera_came_back": (archive, profile, track),
        "set_of": (camera,),
        "set_listing": (camera, PICTURE),
        "proved_set": (replace(out, along=calls.FUNCTIONS["set_of"](camera)), profile, 0.0, DeliveryOptions(set_formats="gltf")),
        "coverage": (track, image, "width", square, [(track.select_frames(np.array([0])), image, "width")]),
        "proposals": (track, image, "width", square),
        "retimed": (track, Fraction(30000, 1001), image, "width"),
        "derived": ("held", {SHOT: Input("x", track, PICTURE, marks, triangles_m=square)}, {"name": "h", "at": float(track.frames[0])}, "h.json"),
        "written": ([out], profile, "usd", DeliveryOptions(first=-20.0), "stem"),
        "packed_up": ([out], [source], profile, ["usd"], DeliveryOptions(), "", "TW_010"),
        "sheet_pdf": ("<p>A sheet</p>",),
    }  # fmt: skip
    unlike = {"written", "packed_up", "sheet_pdf"}  # files that hold when they were made
    for name, args in asked.items():
        function = calls.FUNCTIONS[name]
        here, there = function(*args), over_the_wire(function, *args)
        if name not in unlike:
            same(here, there, name)
        else:
            assert type(here) is type(there), name
    assert set(asked) | {"table_came_back"} == set(calls.FUNCTIONS)


def test_numbers_of_numpys_are_numbers_and_what_cannot_be_sent_is_said() -> None:
    track = ordinary.track_of(ordinary.still())
    size: Any = np.int64(1920), np.int32(1080)
    given = (track, Fraction(30), Image(*size), "width")
    assert over_the_wire(calls.FUNCTIONS["retimed"], *given) == calls.FUNCTIONS["retimed"](*given)
    with pytest.raises(Exception, match="a object cannot be sent"):
        calls.question_of(calls.FUNCTIONS["derived"], ("held", {}, {"name": object()}, "x"), {})


def test_a_process_apart_gives_the_same_and_says_what_a_person_can_mend(demo_files: dict[str, Path]) -> None:
    archive = scene_to_bytes(read_file(demo_files["TW_010"]))
    calculators = Calculators(Limits())
    same(look(archive, {}), calculators.run("TW_010.usda", look, archive, {}))
    with pytest.raises(BadInput, match="is damaged"):
        calculators.run("broken.usda", look, b"no archive", {})
    track = ordinary.track_of(ordinary.still())
    with pytest.raises(RuntimeError, match=r"proposals failed on a set:\n.*Traceback"):
        calculators.run("a set", proposals, track, PICTURE.image, "width", np.zeros(3))
