"""Broken, hostile and faulty files: one sentence each, on the command line and in the page."""

from __future__ import annotations

import json
import os
import signal
import sys
import zipfile
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest

from anaxis.core.checks.examine import examine
from anaxis.core.errors import BadInput
from anaxis.formats import check_size, read_file
from anaxis.sandbox.guard import Limits, ParserPool
from shell import run


@pytest.fixture
def bad_files(usda: Callable[..., Path], tmp_path: Path) -> dict[str, Path]:
    good = usda().read_text()
    files = {
        "empty": ("empty.usda", ""),
        "truncated": ("cut.usda", good[:150]),
        "renamed": ("notes.usdc", "tide tables for the spring"),
        "no_camera": ("set.usda", '#usda 1.0\ndef Xform "mill" {\n}\n'),
        "nan": ("nan.usda", good.replace("10: (50, 20, 250)", "10: (50, nan, 250)")),
        "zip": ("fake.usdz", "PK but not really"),
    }
    for name, text in files.values():
        (tmp_path / name).write_text(text)
    return {key: tmp_path / name for key, (name, _) in files.items()}


SAID = {
    "empty": "empty.usda is empty",
    "truncated": "cut.usda cannot be read as USD (line",
    "renamed": "notes.usdc cannot be read as USD",
    "no_camera": "set.usda holds no camera",
    "nan": "nan.usda, /cam, has a position that is not a number at frame 2",
    "zip": "fake.usdz is not a readable .usdz package",
}


@pytest.mark.parametrize("kind", list(SAID))
def test_each_bad_file_gets_one_sentence_on_the_command_line(bad_files: dict[str, Path], kind: str) -> None:
    for words in (("inspect", bad_files[kind]), ("values", bad_files[kind], "--to", "zup-lh-cm", "--json")):
        done = run(*words)
        assert done.returncode == 2
        assert done.stderr.startswith(f"anaxis: {SAID[kind]}"), done.stderr
        assert done.stderr.count("\n") == 1 and "Traceback" not in done.stderr


def test_nan_is_a_finding_beside_what_can_be_said(bad_files: dict[str, Path]) -> None:
    report = json.loads(run("inspect", bad_files["nan"], "--json").stdout)
    assert [f["code"] for f in report["cameras"][0]["findings"]] == ["unusable_number"]


def test_a_file_over_the_limit_is_refused_before_it_is_read(usda: Callable[..., Path]) -> None:
    done = run("inspect", usda(), ANAXIS_MAX_FILE_MB="0.0001")
    assert done.returncode == 2 and "the limit is 0 MB" in done.stderr
    with pytest.raises(BadInput, match="201 MB and the limit is 200 MB"):
        check_size("big.usdc", 201_000_000)


def test_nothing_outside_the_file_is_opened(usda: Callable[..., Path], tmp_path: Path) -> None:
    """Every kind of arc to a file that lies right there: none is followed, each is reported."""
    secret = tmp_path / "secret.usda"
    secret.write_text(usda(name="other.usda").read_text().replace('"cam"', '"stolen"'))
    body = (
        f'def "a" (\n references = @{secret}@</stolen>\n) {{\n}}\n'
        'def "b" (\n prepend payload = @./secret.usda@</stolen>\n) {\n}\n'
        'def "c" (\n variants = {\n string v = "on"\n }\n prepend variantSets = "v"\n) {\n variantSet "v" = {\n'
        ' "on" (\n references = @secret.usda@</stolen>\n ) {\n }\n }\n}\n'
        'def "d" (\n clips = {\n dictionary default = {\n asset[] assetPaths = [@./secret.usda@]\n }\n }\n) {\n}\n'
        'def "e" (\n references = @`"secret.usda"`@</stolen>\n) {\n}\nCAMERA'
    )
    scene = read_file(usda(body, head=f'upAxis = "Y"\n metersPerUnit = 0.01\n subLayers = [@{secret}@]'))
    assert [c.path for c in scene.cameras] == ["/cam"]
    found = {f.code: f.message for f in scene.findings}
    assert str(secret) in found["outside_reference"] and "./secret.usda" in found["outside_reference"]
    assert "/d" in found["value_clips"]


def test_a_package_that_leads_out_of_itself_is_refused(tmp_path: Path) -> None:
    package = tmp_path / "p.usdz"
    with zipfile.ZipFile(package, "w") as out:
        out.writestr("../evil.usda", "#usda 1.0\n")
    with pytest.raises(BadInput, match="leads out of the package"):
        read_file(package)
    assert not (tmp_path.parent / "evil.usda").exists()


def test_a_parser_that_crashes_or_hangs_becomes_a_sentence(
    usda: Callable[..., Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    from anaxis.sandbox import forks, guard

    def instead(code: str) -> Callable[..., list[str]]:
        """The process that forks, with a reader that does something else."""
        code = (
            f"from anaxis.sandbox.fork_server import serve_forks\ndef serve(*_):\n    {code}\nserve_forks(dict, serve)"
        )
        return lambda _module, _folder, *more: [sys.executable, "-c", code, *more]

    def pool() -> ParserPool:
        return ParserPool(Limits(wall_s=2), ready=False)

    monkeypatch.setattr(forks, "confined", instead("import os; os.abort()"))
    with (
        closing(pool()) as crashing,
        pytest.raises(BadInput, match=r"shot.usda made its reader stop \(signal or limit 6\)"),
    ):
        crashing.read(usda())
    monkeypatch.setattr(forks, "confined", instead("import time; time.sleep(60)"))
    monkeypatch.setattr(guard, "_GRACE_S", 0)
    with closing(pool()) as hanging, pytest.raises(BadInput, match="longer than 2 s"):
        hanging.read(usda())
    monkeypatch.setattr(forks, "confined", instead("import os; os.kill(os.getppid(), 9); os._exit(0)"))
    with closing(pool()) as alone, pytest.raises(BadInput, match="ended twice"):
        alone.read(usda())


def test_readers_come_again_when_what_they_are_forked_from_is_killed(usda: Callable[..., Path]) -> None:
    with closing(ParserPool()) as pool:
        assert pool.read(usda()).cameras
        first = pool._source.start().process
        os.kill(first.pid, signal.SIGKILL)
        assert pool.read(usda()).cameras and pool._source.start().process.pid != first.pid


def test_a_flood_of_memory_is_held(usda: Callable[..., Path]) -> None:
    with pytest.raises(BadInput, match=r"shot\.usda"):
        ParserPool(Limits(memory_mb=1)).read(usda())


def test_the_parser_answers_after_a_bad_file(bad_files: dict[str, Path], usda: Callable[..., Path]) -> None:
    pool = ParserPool(ready=False)
    try:
        with pytest.raises(BadInput):
            pool.read(bad_files["truncated"])
        assert pool.read(usda()).cameras[0].path == "/cam"
    finally:
        pool.close()


@pytest.mark.parametrize(
    ("change", "code"),
    (
        ({"lens": "float focalLength = 35\n float horizontalAperture = 3600\n float verticalAperture = 2025"}, "sensor_factor"),
        ({"head": 'upAxis = "Y"\n metersPerUnit = 1\n timeCodesPerSecond = 24'}, "sensor_factor"),
        ({"head": 'upAxis = "Y"'}, "guessed_metres_per_unit"),
        ({"head": "metersPerUnit = 0.01"}, "guessed_up_axis"),
        ({"head": 'upAxis = "Y"\n timeCodesPerSecond = 24\n framesPerSecond = 30'}, "rate_two_values"),
        ({"head": 'upAxis = "Y"\n timeCodesPerSecond = 26.5'}, "odd_rate"),
        ({"ops": "double3 xformOp:translate.timeSamples = { 4: (1, 2, 3) }\n uniform token[] xformOpOrder = [\"xformOp:translate\"]"}, "still"),
        ({"ops": "double3 xformOp:translate.timeSamples = { -5: (1, 2, 3), 4: (2, 2, 3) }\n uniform token[] xformOpOrder = [\"xformOp:translate\"]"}, "negative_frames"),
        ({"ops": "double3 xformOp:translate.timeSamples = { 1: (1, 2, 3), 3.5: (2, 2, 3), 9: (0, 0, 0) }\n uniform token[] xformOpOrder = [\"xformOp:translate\"]"}, "off_grid"),
        ({"ops": "double3 xformOp:translate.timeSamples = { 2: (1, 2, 3), 4: (2, 2, 3) }\n uniform token[] xformOpOrder = [\"xformOp:translate\"]"}, "shorter_than_file"),
        ({"lens": 'token projection = "orthographic"\n float focalLength = 35\n float horizontalAperture = 36'}, "orthographic"),
        ({"lens": "float focalLength = 35"}, "default_lens"),
        ({"lens": "float focalLength = -35\n float horizontalAperture = 36"}, "unusable_number"),
        ({"body": 'CAMERA\ndef RenderSettings "r" {\n uniform int2 resolution = (2048, 858)\n}'}, "film_aspect"),
    ),
)  # fmt: skip
def test_each_finding_on_a_file_that_has_the_fault_and_on_one_that_has_not(
    usda: Callable[..., Path], change: dict[str, str], code: str
) -> None:
    assert code not in {f.code for f in examine(read_file(usda()))[0].findings}
    found = {f.code: f for f in examine(read_file(usda(**change)))[0].findings}
    assert code in found, found
    assert found[code].message.endswith(".") and found[code].remedy


def test_the_sensor_remedy_names_the_right_size(usda: Callable[..., Path]) -> None:
    metres = usda(head='upAxis = "Y"\n metersPerUnit = 1')
    finding = next(f for f in examine(read_file(metres))[0].findings if f.code == "sensor_factor")
    assert "100 times too large" in finding.message and "tenths of that unit" in finding.message
    assert "36.00 x 20.25 mm and 35.00 mm" in finding.remedy
    inches = usda(lens="float focalLength = 35\n float horizontalAperture = 1.41732\n float verticalAperture = 0.79724")
    finding = next(f for f in examine(read_file(inches))[0].findings if f.code == "sensor_factor")
    assert "Multiply the film back by 25.4" in finding.remedy and "36.00 x 20.25" in finding.remedy
