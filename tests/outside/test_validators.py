"""The standards' own checkers: usd-core's, and the COLLADA 1.4.1 schema."""

from __future__ import annotations

from pathlib import Path

import pytest
from pxr import Usd, UsdValidation

from anaxis.delivery.deliver import deliver_all
from anaxis.delivery.options import DeliveryOptions
from anaxis.packages import find_profile
from lanes import pairs
from readers import CAMERAS, written
from test_ordinary_shots import leaving

NAMES = ["lens", "scene", "place_X", "a b.c/é"]


@pytest.mark.parametrize("name", CAMERAS)
def test_usd_passes_its_librarys_checker(name: str, tmp_path: Path) -> None:
    _, done = written(name, "usd", tmp_path)
    registry = UsdValidation.ValidationRegistry()
    validators = registry.GetOrLoadAllValidators()
    assert len(validators) > 5
    errors = UsdValidation.ValidationContext(validators).Validate(Usd.Stage.Open(str(done.files[0])))
    # The extent and schemas of geometry are none of a camera's concern; what is said of anything else counts.
    assert [f"{e.GetName()}: {e.GetMessage()}" for e in errors] == []


@pytest.mark.parametrize(("name", "keys"), pairs(CAMERAS, [None, 0.5], 2))
def test_collada_is_valid_by_its_schema(name: str, keys: float | None, tmp_path: Path) -> None:
    from collada.schema import ColladaValidator
    from lxml import etree

    from readers import shot_of

    shot = shot_of(name)
    done = deliver_all([leaving(shot)], find_profile("yup-rh-m"), "collada", tmp_path, DeliveryOptions(reduce_px=keys))[
        0
    ]
    document = etree.parse(str(done.files[0]))
    validator = ColladaValidator()
    assert validator.validate(document), str(validator.COLLADA_SCHEMA_1_4_1_INSTANCE.error_log)[:400]
    ids = [e.get("id") for e in document.iter() if e.get("id")]
    assert len(ids) == len(set(ids))


@pytest.mark.parametrize("called", NAMES)
def test_a_camera_may_be_called_anything(called: str, tmp_path: Path) -> None:
    from dataclasses import replace

    from collada.schema import ColladaValidator
    from lxml import etree

    from ordinary import moving_marks

    source = leaving(moving_marks())
    source = replace(source, track=replace(source.track, name=called))
    done = deliver_all([source, source], find_profile("yup-rh-m"), "collada", tmp_path)
    validator = ColladaValidator()
    assert validator.validate(etree.parse(str(done[0].files[0]))), called
    assert all(d.proof.within(0.01) for d in done)
