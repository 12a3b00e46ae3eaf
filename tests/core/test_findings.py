"""Every check on a file that has the fault and on one that has not, and every remedy done."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from anaxis.core.camera.lens import Image
from anaxis.core.checks import CHECKS, Expected
from anaxis.core.checks.examine import examine
from anaxis.core.findings import Finding
from anaxis.core.recipe.documents import recipe_from_document
from anaxis.core.recipe.operations import KINDS
from anaxis.core.recipe.replay import inserted
from anaxis.core.scene.landmarks import Landmarks
from anaxis.formats import read_file

STACK = 'uniform token[] xformOpOrder = ["xformOp:translate"{}]'


def moving(keys: dict[float, tuple[Any, Any, Any]], more: str = "", order: str = "") -> str:
    listed = ", ".join(f"{f}: ({x}, {y}, {z})" for f, (x, y, z) in keys.items())
    return f"double3 xformOp:translate.timeSamples = {{ {listed} }}\n {more}\n {STACK.format(order)}"


def lens(focal: float = 35.0, width: float = 36.0, height: float = 20.25, more: str = "") -> str:
    return (
        f"float focalLength = {focal}\n float horizontalAperture = {width}\n float verticalAperture = {height}\n {more}"
    )


def head(unit: float = 0.01, rate: str = "24", more: str = "", image: bool = True, up: str = "Y") -> str:
    settings = 'renderSettingsPrimPath = "/settings"\n' if image else ""
    return f'upAxis = "{up}"\n metersPerUnit = {unit}\n timeCodesPerSecond = {rate}\n {settings} {more}'


SETTINGS = 'CAMERA\ndef RenderSettings "settings" {\n uniform int2 resolution = (1920, 1080)\n}\n'
STEADY = {float(f): (5.0 * f, 10.0, 300.0) for f in range(1, 11)}


def xform(name: str, body: str, ops: str) -> str:
    return f'def Xform "{name}" {{\n {ops}\n {body}\n}}'


SCALED = 'double3 xformOp:scale = (0.01, 0.01, 0.01)\n uniform token[] xformOpOrder = ["xformOp:scale"]'
MIRROR = 'double3 xformOp:scale = (-1, 1, 1)\n uniform token[] xformOpOrder = ["xformOp:scale"]'
LOPSIDED = (
    'double3 xformOp:scale = (1, 1, 3)\n double xformOp:rotateX = 30\n uniform token[] xformOpOrder = ["xformOp:scale"]'
)
MOVED = moving({1.0: (0, 0, 0), 10.0: (90, 0, 0)})
OWN = f'def Camera "cam" {{\n {lens()}\n uniform token[] xformOpOrder = ["!resetXformStack!"]\n}}'
MARK = 'def Xform "bell" {\n double3 xformOp:translate = (25, 10, 295)\n uniform token[] xformOpOrder = ["xformOp:translate"]\n}'


def still_camera(name: str, ops: str = "") -> str:
    return f'def Camera "{name}" {{\n {lens()}\n {ops}\n}}\n'


TILTED = "double xformOp:rotateX = 30"
ROLLED = "double xformOp:rotateZ = 7"

# Code of the finding: what the file with the fault has; the file without it is the plain one unless a third entry says so.
FAULTS: dict[str, Any] = {
    "sensor_factor": {"lens": lens(350, 360, 202.5)},
    "sensor_factor inches": {"lens": lens(35, 1.41732, 0.797244)},
    "film_back_size": {"lens": lens(35, 9e6, 5e6)},
    "focal_factor": {"lens": lens(35000)},
    "focal_size": {"lens": lens(1e9)},
    "film_aspect": {"lens": lens(35, 36, 24)},
    "default_film_back": {"lens": lens(35, 20.955, 15.2908)},
    "default_lens": {"lens": "float focalLength = 35"},
    "near_plane": {"body": SETTINGS + MARK, "lens": lens(more="float2 clippingRange = (10, 1000)")},
    "scale": {"body": xform("s", SETTINGS, SCALED)},
    "shear": {"body": xform("s", SETTINGS, LOPSIDED), "ops": moving(STEADY, TILTED, ', "xformOp:rotateX"')},
    "mirrored": {"body": xform("m", SETTINGS, MIRROR)},
    "still_under_parents": {"body": xform("crane", OWN, MOVED) + SETTINGS.replace("CAMERA", "")},
    "far_from_origin": {"ops": moving({1.0: (2e6, 0, 0), 10.0: (2e6 + 50, 0, 0)})},
    "roll": {
        "body": SETTINGS + still_camera("witness", moving({1.0: (0, 0, 0), 10.0: (9, 0, 0)})),
        "ops": moving(STEADY, ROLLED, ', "xformOp:rotateZ"'),
    },
    "unusable_number": {"ops": moving({**STEADY, 4.0: ("nan", 0, 0)})},
    "still": {"ops": moving({5.0: (1, 2, 3)})},
    "teleport": {"ops": moving({**STEADY, 5.0: (9000, 10, 300)})},
    "jump": {"ops": moving({float(f): (5.0 * f + 4000 * (f > 6), 10, 300) for f in range(1, 13)})},
    "flip": {
        "ops": moving(STEADY, "double xformOp:rotateY.timeSamples = { " + ", ".join(f"{f}: {180 * (f > 5) + f}" for f in range(1, 11)) + " }", ', "xformOp:rotateY"')
    },
    "angle_flip": {
        "ops": moving(STEADY, "double xformOp:rotateY.timeSamples = { " + ", ".join(f"{f}: {360 * (f > 5) + f}" for f in range(1, 11)) + " }", ', "xformOp:rotateY"')
    },
    "gimbal": {"ops": moving(STEADY, "double xformOp:rotateY = 89", ', "xformOp:rotateY"')},
    "negative_frames": {"ops": moving({f - 8: p for f, p in STEADY.items()})},
    "zero_first_frame": {"ops": moving({f - 1: p for f, p in STEADY.items()})},
    "shorter_than_file": {"head": head(more="startTimeCode = 1\n endTimeCode = 40")},
    "off_grid": {"ops": moving({f + 0.5: p for f, p in STEADY.items()})},
    "uneven": {"ops": moving({f: p for f, p in STEADY.items() if f not in (4, 5, 6)})},
    "odd_rate": {"head": head(rate="31")},
    "rate_rounded": {"head": head(rate="23.98")},
    "rate_two_values": {"head": head(rate="30", more="framesPerSecond = 29.97")},
    "guessed_up_axis": {"head": "metersPerUnit = 0.01\n timeCodesPerSecond = 24"},
    "guessed_metres_per_unit": {"head": 'upAxis = "Y"\n timeCodesPerSecond = 24'},
    "guessed_rate": {"head": 'upAxis = "Y"\n metersPerUnit = 0.01'},
    "duplicate": {"body": SETTINGS + still_camera("copy", moving({1.0: (5, 10, 300), 10.0: (50, 10, 300)}))},
    "same_name": {"body": SETTINGS + xform("other", still_camera("cam", moving({1.0: (0, 0, 0), 10.0: (0, 99, 0)})), "")},
    "aim_target": {"body": SETTINGS + MARK.replace("bell", "cam_target")},
    "outside_reference": {"body": SETTINGS + 'def "set" (references = @set.usda@</x>) {}'},
    "value_clips": {"body": SETTINGS + 'def "v" (clips = { dictionary default = { string primPath = "/v" } }) {}'},
}  # fmt: skip


@pytest.fixture
def file(usda: Callable[..., Path]) -> Callable[..., Path]:
    def write(**parts: str) -> Path:
        return usda(**{"body": SETTINGS, "head": head(), "lens": lens(), "ops": moving(STEADY), **parts})

    return write


def findings_of(path: Path, **context: Any) -> list[Finding]:
    reports = examine(read_file(path), **context)
    return next(r for r in reports if r.name == "cam").findings


def test_a_file_without_faults_has_no_findings(file: Callable[..., Path]) -> None:
    assert findings_of(file()) == []


@pytest.mark.parametrize("key", FAULTS)
def test_a_fault_is_found_and_said(file: Callable[..., Path], key: str) -> None:
    code = key.split()[0]
    found = [f for f in findings_of(file(**FAULTS[key])) if f.code == code]
    assert len(found) == 1, [f.code for f in findings_of(file(**FAULTS[key]))]
    (finding,) = found
    assert finding.message.endswith(".") and finding.remedy.endswith(".") and len(finding.message) < 400
    assert finding.severity in ("error", "warning", "note")


@pytest.mark.parametrize("key", FAULTS)
def test_a_remedy_is_an_operation_that_mends_the_fault(file: Callable[..., Path], key: str) -> None:
    scene = read_file(file(**FAULTS[key]))
    for report in examine(scene):
        for finding in report.findings:
            if finding.code != key.split()[0] or finding.operation is None:
                continue
            assert finding.operation["code"] in KINDS
            recipe = inserted((), recipe_from_document([finding.operation])[0])
            after = next(r for r in examine(scene, {report.path: recipe}) if r.path == report.path)
            assert after.work is not None
            assert finding.code not in [f.code for f in after.findings], finding


def test_the_inch_and_hundred_factors_are_named(file: Callable[..., Path]) -> None:
    inches = next(f for f in findings_of(file(**FAULTS["sensor_factor inches"])) if f.code == "sensor_factor")
    assert inches.numbers["factor"] == 25.4
    metres = findings_of(file(head=head(unit=1.0), lens=lens(), ops=moving({1.0: (0, 1, 3), 10.0: (1, 1, 3)})))
    assert "plain millimetres" in metres[0].message and metres[0].numbers["factor"] == 100


def test_helpers_and_unused_cameras_are_told_from_the_one_that_moves(file: Callable[..., Path]) -> None:
    body = SETTINGS + still_camera("witness", moving({1.0: (5, 5, 5)})) + still_camera("spare")
    codes = {r.name: [f.code for f in r.findings] for r in examine(read_file(file(body=body)))}
    assert codes["cam"] == [] and "helper_camera" in codes["witness"] and "unused_camera" in codes["spare"]


def test_a_shot_that_should_be_longer_or_at_another_rate(file: Callable[..., Path]) -> None:
    path = file()
    found = findings_of(path, expected=Expected(-1, 12, Fraction(25)))
    said = {f.code: f for f in found}
    assert "frames -1 to 0 are and frames 11 to 12 are missing" in said["shorter_than_shot"].message
    longer = findings_of(file(), expected=Expected(3, 8, None))
    (extra,) = (f for f in longer if f.code == "longer_than_shot")
    assert "2 more frames before and 2 after the shot" in extra.message and extra.severity == "note"
    assert extra.operation == {"code": "trim", "params": {"first": 3, "last": 8}}
    assert not [f for f in findings_of(file(), expected=Expected(30, 80, None)) if f.code == "longer_than_shot"]
    assert said["rate_not_shot"].operation == {"code": "correct", "params": {"rate": "25/1"}}
    assert findings_of(path, expected=Expected(1, 10, Fraction(24))) == []


def test_a_target_that_is_looked_at_already_is_no_finding(file: Callable[..., Path]) -> None:
    ahead = MARK.replace("bell", "cam_target").replace("(25, 10, 295)", "(25, 10, -295)")
    still = moving({1.0: (25, 10, 300), 10.0: (25, 10, 200)})
    assert findings_of(file(body=SETTINGS + ahead, ops=still)) == []


def test_lens_animation_that_most_readers_drop(other_files: dict[str, Path], demo_files: dict[str, Path]) -> None:
    codes = {s: [f.code for f in examine(read_file(other_files[s]))[0].findings] for s in (".glb", ".dae", ".abc")}
    assert (
        "lens_animation" in codes[".glb"]
        and "lens_animation" in codes[".dae"]
        and "lens_animation" not in codes[".abc"]
    )


def test_trembling_is_measured_as_single_precision_does_it(file: Callable[..., Path]) -> None:
    """The pixels said bound what rounding the positions really does, and are not far above it."""
    path = file(
        ops=moving({float(f): (3e6 + 7.7 * f, 123.4 * f, 1e6) for f in range(1, 40)}),
        lens=lens(more="float focusDistance = 500"),
    )
    report = examine(read_file(path), image=Image(1920, 1080))[0]
    finding = next(f for f in report.findings if f.code == "far_from_origin")
    track = report.work.done  # type: ignore[union-attr]
    rounded = track.position_m.astype(np.float32).astype(np.float64)
    error = np.linalg.norm(rounded - track.position_m, axis=1).max()
    pixels = error * 1920 * 35 / 36 / 5.0
    assert pixels <= finding.numbers["tremble_px"] <= 12 * pixels


def test_every_check_yields_only_codes_that_are_tested() -> None:
    """A new check needs a file in FAULTS or a test here."""
    import inspect
    import re

    named = {code for check in CHECKS for code in re.findall(r'Finding\(\s*"(\w+)"', inspect.getsource(check))}
    tested = {k.split()[0] for k in FAULTS} | {
        "helper_camera",
        "undecided_cut",  # in test_cuts.py
        "image_from_aspect",  # in formats/test_stated_aspect.py
        "library_focus",  # in formats/test_other_formats.py
        "projection_camera",
        "unused_camera",
        "shorter_than_shot",
        "longer_than_shot",
        "rate_not_shot",
        "lens_animation",
    }
    assert named - tested == set()


def test_landmarks_keep_their_hidden_ones_apart() -> None:
    marks = Landmarks(("a", "b"), np.zeros((1, 2, 3)), hidden=frozenset({"a"}))
    assert marks.shown().names == ("b",) and len(marks.shown().hidden) == 0


def test_a_shear_is_measured_at_the_pictures_edge(file: Callable[..., Path]) -> None:
    """Against the corners of a 1920 x 1080 picture, traced one by one through the sheared axes and through the squared ones."""
    path = file(**FAULTS["shear"])
    found = next(f for f in findings_of(path) if f.code == "shear")
    tilt = np.radians(30)
    right, up, back = (
        np.array([1.0, 0, 0]),
        np.array([0, np.cos(tilt), 3 * np.sin(tilt)]),
        np.array([0, -np.sin(tilt), 3 * np.cos(tilt)]),
    )
    up, back = up / np.linalg.norm(up), back / np.linalg.norm(back)
    squared = np.stack([right, np.cross(back, right), back], axis=1)
    off = []
    for x, y in ((-960, -540), (960, -540), (-960, 540), (960, 540)):
        per_mm = 36.0 / 1920 / 35.0
        seen = np.linalg.solve(np.stack([right, up, back], axis=1), squared @ np.array([x * per_mm, y * per_mm, -1.0]))
        off.append(np.hypot(seen[0] / -seen[2] / per_mm - x, seen[1] / -seen[2] / per_mm - y))
    assert found.numbers["off_px"] == pytest.approx(max(off), rel=1e-6)


def test_a_report_states_the_first_and_the_last_frame(file: Callable[..., Path]) -> None:
    report = examine(read_file(file()))[0]
    assert (report.first_frame, report.last_frame) == (1.0, 10.0)
