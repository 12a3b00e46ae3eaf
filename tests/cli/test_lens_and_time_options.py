"""`anaxis lens`, and the options that change rate, range, first frame, handles and lens on the command line."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from pxr import Gf

from anaxis.core.camera.lens import FITS, Image, equivalents, focal_of_view_mm, used_rectangle
from anaxis.web.drawings.lens import FilmView
from shell import run


@pytest.mark.parametrize("fit", FITS)
def test_the_equivalents_of_a_lens_against_a_frustum(fit: str) -> None:
    """Fields of view against the format library's own frustum of the used rectangle, in tenths of a unit."""
    image = Image(2048, 858, 1.0)
    used = used_rectangle(21.95, 18.6, 2.0, image, fit)
    found = equivalents(50.0, used, image)
    camera = Gf.Camera()
    camera.focalLength = 50.0
    camera.horizontalAperture, camera.verticalAperture = float(used.width_mm), float(used.height_mm)
    window = camera.frustum.GetWindow()
    half = np.array([window.GetMax()[0], window.GetMax()[1]])
    assert np.isclose(found.hfov_deg, 2 * np.degrees(np.arctan(half[0])), rtol=1e-6)
    assert np.isclose(found.vfov_deg, 2 * np.degrees(np.arctan(half[1])), rtol=1e-6)
    assert np.isclose(found.dfov_deg, 2 * np.degrees(np.arctan(np.hypot(*half))), rtol=1e-6)
    # The equivalent has the same diagonal view on 36 x 24 mm.
    diagonal = 2 * np.degrees(np.arctan(np.hypot(36, 24) / 2 / found.equivalent_35_mm))
    assert np.isclose(diagonal, found.dfov_deg) and np.isclose(found.equivalent_35_mm, 50 * found.crop_factor)
    assert np.isclose(focal_of_view_mm(used.width_mm, found.hfov_deg), 50) and np.isclose(
        found.zoom_px, 50 * 2048 / used.width_mm
    )


def test_lens_prints_what_the_page_says_it_does() -> None:
    done = json.loads(
        run(
            "lens", "--film-back", "25.6x14.4", "--focal", "32", "--resolution", "1920x1080", "--fit", "width", "--json"
        ).stdout
    )
    assert set(done) == {
        "hfov_deg", "vfov_deg", "dfov_deg", "used_width_mm", "used_height_mm", "zoom_px", "equivalent_35_mm", "crop_factor",
    }  # fmt: skip
    assert (
        done["zoom_px"] == 2400
        and done["hfov_deg"] == pytest.approx(43.602819)
        and done["crop_factor"] == pytest.approx(1.473052)
    )
    back = json.loads(
        run(
            "lens", "--film-back", "25.6x14.4", "--fov-h", str(done["hfov_deg"]), "--resolution", "1920x1080", "--json"
        ).stdout
    )
    assert back["focal_mm"] == pytest.approx(32)


@pytest.mark.parametrize(
    ("options", "said"),
    (
        (("--film-back", "wide", "--focal", "32"), "'wide' is not a film back"),
        (("--film-back", "25.6x0", "--focal", "32"), "both sides must be above zero"),
        (("--film-back", "25.6x14.4"), "Use either --focal"),
        (("--film-back", "25.6x14.4", "--focal", "32", "--fov-h", "40"), "Use either --focal"),
        (("--film-back", "25.6x14.4", "--fov-h", "180"), "must be between 0 and 180"),
        (("--film-back", "25.6x14.4", "--focal", "-5"), "above zero"),
    ),
)
def test_a_lens_that_cannot_be_is_one_sentence(options: tuple[str, ...], said: str) -> None:
    done = run("lens", *options, "--resolution", "1920x1080")
    assert done.returncode == 2 and said in done.stderr and done.stderr.count("\n") == 1


def test_values_change_rate_range_first_frame_handles_and_lens(demo_files: dict[str, Path]) -> None:
    plain = json.loads(run("values", demo_files["TW_020"], "--to", "yup-rh-m", "--json").stdout)["frames"]
    changed = run(
        "values", demo_files["TW_020"], "--to", "yup-rh-m", "--rate", "50", "--keep", "time", "--range", "101-110", "--handles", "2",
        "--first", "0", "--film-back", "36x24", "--fov-h", "40", "--pixel-aspect", "1", "--json",
    )  # fmt: skip
    shown = json.loads(changed.stdout)
    frames = shown["frames"]
    assert shown["rate"] == "50/1" and [f["frame"] for f in frames] == list(range(24))
    # That receiver inscribes by height, so the film back it gets is the used rectangle of 36 x 24 mm.
    # The first frame stands behind two held ones, and every second sample is one of the source; half a frame more than
    # the last one goes on as it went, and the handles hold that.
    for new, old in ((0, 100), (2, 100), (4, 101), (20, 109)):
        assert np.allclose(frames[new]["position"], plain[old]["position"], atol=1e-12), new
    step = np.subtract(plain[109]["position"], plain[108]["position"])
    assert np.allclose(frames[21]["position"], plain[109]["position"] + step / 2, atol=np.abs(step).max() / 20)
    assert frames[21]["position"] == frames[22]["position"] == frames[23]["position"]
    assert all(f["hfov_deg"] == pytest.approx(40) and f["film_height_mm"] == 20.25 for f in frames)
    same = json.loads(
        run("values", demo_files["TW_020"], "--to", "yup-rh-m", "--rate", "30", "--keep", "frames", "--json").stdout
    )
    assert same["rate"] == "30/1" and [f["position"] for f in same["frames"]] == [f["position"] for f in plain]


def test_a_resampled_camera_is_delivered_exactly(demo_files: dict[str, Path], tmp_path: Path) -> None:
    done = run(
        "transfer", demo_files["TW_010"], "--to", "zup-lh-cm", "--format", "usd", "--out", tmp_path, "--rate", "30000/1001", "--keep", "time",
        "--focal", "40", "--json",
    )  # fmt: skip
    assert done.returncode == 0 and json.loads(done.stdout)["proof"]["grade"] == "exact"
    report = json.loads(run("inspect", json.loads(done.stdout)["files"][0], "--json").stdout)
    assert report["file"]["rate"] == "30000/1001" and report["cameras"][0]["lens"]["focal_mm"] == pytest.approx(
        40, rel=1e-6
    )
    for options, said in (
        (("--keep", "time"), "needs the rate"),
        (("--focal", "3", "--fov-h", "4"), "say the same thing twice"),
        (("--handles", "-1"), "are not possible"),
    ):
        wrong = run("values", demo_files["TW_010"], "--to", "yup-rh-m", *options)
        assert wrong.returncode == 2 and said in wrong.stderr and wrong.stderr.count("\n") == 1


def test_the_drawing_says_what_the_image_does_with_the_film_back() -> None:
    image = Image(1920, 1080)
    used = used_rectangle(24.89, 14.0, 1.0, image, "width")
    straight = FilmView(24.89, 14.0, 0.0, 0.0, used, image)
    assert straight.uses == "The image uses all of the film back."
    shifted = FilmView(24.89, 14.0, 0.0, 0.6, used, image)
    assert (
        shifted.uses
        == "The image has the size of the film back, and lies +0.00 mm right and +0.60 mm up of its middle."
    )
