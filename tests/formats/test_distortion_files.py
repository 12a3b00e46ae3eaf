"""Distortions as files: documents by their schema, tables by their headings, and what is wrong with them in a sentence."""

from __future__ import annotations

import json
from typing import Any

import pytest
from jsonschema import Draft202012Validator

from anaxis.core.camera.distortion.models import MODELS, usual_of
from anaxis.core.errors import BadInput
from anaxis.formats.distortion.read import distortion_schema, read_distortion


def read(text: str, model: str = "", name: str = "d.csv") -> dict[str, Any]:
    return read_distortion(text.encode(), name, model)


@pytest.mark.parametrize("model", MODELS)
def test_the_schema_takes_what_is_read_and_nothing_else(model: str) -> None:
    check = Draft202012Validator(distortion_schema())
    names = list(usual_of(MODELS[model]))
    document = {"model": model, names[0]: 0.01, names[1]: [0.1, 0.2], "frames": [1001, 1002]}
    assert check.is_valid(document)
    assert read(json.dumps(document))["frames"] == [1001, 1002]
    assert not check.is_valid({"model": model, "k99": 1}) and not check.is_valid({"model": model, names[0]: "1"})


def test_tables_say_their_model_by_their_headings() -> None:
    assert read("k1,k2,p1\n-0.1,0.02,0.001\n") == {"model": "radial-tangential", "k1": -0.1, "k2": 0.02, "p1": 0.001}
    moving = read("# made by hand\nframe k\n86400 -0.1\n86401 -0.2\n86402 -0.2\n")
    assert moving == {"model": "division", "k": [-0.1, -0.2, -0.2], "frames": [86400.0, 86401.0, 86402.0]}
    assert read("a1,b1,squeeze\n-0.1,0.1,2\n")["model"] == "anamorphic"
    assert read("k1,k2\n0.1,0.2\n", "fisheye") == {"model": "fisheye", "k1": 0.1, "k2": 0.2}


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("k1,k2\n0.1,0.2\n", "name the model of"),
        ("k1,p1\n", "no table"),
        ("k1,p1\n0.1\n", "row 2: there are 1 values for 2 headings"),
        ("k1,p1\n0.1,x\n", "row 2: 'x' under 'p1' is not a number"),
        ("k1,p1,q9\n0.1,0,0\n", "'q9' is not a coefficient"),
        ("k1,k1,p1\n0.1,0,0\n", "names a column twice"),
        ("frame,k\n2,0.1\n1,0.2\n", "must increase"),
        ("{", "not readable JSON"),
        ("[1, 2]", "names no model"),
        ('{"model": "bent"}', "is not a distortion model"),
        ('{"model": "division", "k": "a"}', "'k' must be a number"),
        ('{"model": "division", "k": [1, 2], "frames": [1]}', "has 1 frames and lists of 2"),
        ('{"model": "division", "k": 1e400}', "'k' must be a number"),
        ('{"model": "anamorphic", "squeeze": 0}', "squeeze must be above zero"),
    ],
)
def test_what_is_wrong_is_said(text: str, said: str) -> None:
    with pytest.raises(BadInput, match=said):
        read(text)
    with pytest.raises(BadInput, match="is not text"):
        read_distortion(b"\xff\xfe\x00k1", "d.csv")
