"""The transfer sheet: on one page, printed the same every time, and with nothing from outside."""

from __future__ import annotations

import io
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from pypdf import PdfReader

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.picture import Picture
from anaxis.delivery.deliver import deliver_in_formats
from anaxis.delivery.options import DeliveryOptions
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.delivery.transfer_sheet import CameraOrigin, Handed, handed_of, sheet_html, sheet_pdf
from anaxis.packages import shipped_profiles
from anaxis.packages.habits import HABITS
from anaxis.packages.model import Profile
from test_habits import with_habits
from test_writers import shot

PICTURE = Picture(Image(1920, 1080), "width", False, False)
SOURCE = CameraOrigin("mill.usda", "ab" * 32, "/rig/<b>cam</b>", [], "2.1")


def handed(
    profile: Profile, marks: int, folder: Path, name: str = "rail", formats: tuple[str, ...] = ("usd", "json")
) -> Handed:
    track = replace(shot(), name=name)
    rng = np.random.default_rng(3)
    place = rng.normal((0, 1.5, -14), (3, 1, 4), (1, marks, 3))
    camera = ShotCamera(track, Landmarks(tuple(f"mark {i} & more" for i in range(marks)), place), PICTURE)
    done = deliver_in_formats([camera], profile, formats, folder, DeliveryOptions(first=0.0)).done[0]
    return handed_of(camera, profile, done, SOURCE)


def words_of(pdf: bytes) -> tuple[int, str]:
    reader = PdfReader(io.BytesIO(pdf))
    return len(reader.pages), "\n".join(p.extract_text() for p in reader.pages)


def test_the_sheet_says_what_to_set_what_to_expect_and_where_to_look(tmp_path: Path) -> None:
    sheet = handed(shipped_profiles()["zup-lh-cm"], 7, tmp_path)
    html = sheet_html(sheet)
    pages, words = words_of(sheet_pdf(html))
    assert pages == 1
    numbers = sheet.outgoing.numbers()
    marks = sheet.marks
    seen, _ = projection_of(sheet.track.select_frames(np.array([0])), PICTURE.image, PICTURE.fit).project(
        marks.position_m
    )
    inside = [i for i in range(7) if 0 <= seen[0, i, 0] <= 1920 and 0 <= seen[0, i, 1] <= 1080]
    assert inside
    wanted = [
        "1001 to 1060 become 0 to 59 in", "rail.zup-lh-cm.usd", "exact", "Focal length", "<b>cam</b>", "2.1",
        *(f"{numbers.position[i, 0]:.4f}" for i in (0, 29, 59)), *(f"{numbers.rotation_deg[59, k]:.4f}" for k in range(3)),
        *(f"{seen[0, i, 0]:.1f}, {seen[0, i, 1]:.1f}" for i in inside),
    ]  # fmt: skip
    flat = " ".join(words.split())
    for text in wanted:
        assert text in flat, text
    assert "<b>cam</b>" not in html  # written as text, not as markup


def test_much_to_say_still_fits_on_one_page(tmp_path: Path) -> None:
    """Forty landmarks, six files, a name of 60 characters, every habit that wants no number typed."""
    codes = [c for c in HABITS if not HABITS[c].fields and c not in ("only_first", "twice", "vfov_as_hfov")]
    profile = with_habits("zup-rh-m", *({"code": c} for c in codes))
    formats = ("usd", "alembic", "gltf", "collada", "json", "columns")
    sheet = handed(profile, 40, tmp_path, "w" * 60, formats)
    pages, words = words_of(sheet_pdf(sheet_html(sheet)))
    assert pages == 1 and "16 more landmarks are in landmarks/landmarks.csv" in " ".join(words.split())


def test_the_printed_sheet_is_the_same_to_the_byte_and_opens_nothing(tmp_path: Path) -> None:
    html = sheet_html(handed(shipped_profiles()["yup-rh-m"], 3, tmp_path))
    assert sheet_pdf(html) == sheet_pdf(html)
    secret = tmp_path / "secret.png"
    secret.write_bytes(b"x")
    poked = html.replace(
        "<body>", f'<body><img src="{secret.as_uri()}" alt="none"><link rel="attachment" href="{secret.as_uri()}">'
    )
    pdf = sheet_pdf(poked)
    assert not PdfReader(io.BytesIO(pdf)).attachments


@pytest.mark.parametrize("first", [0.0, 1001.0])
def test_a_still_camera_of_one_frame_has_a_sheet(first: float, tmp_path: Path) -> None:
    track = shot(2, first).select_frames(np.array([0]))
    camera = ShotCamera(track, Landmarks((), np.zeros((1, 0, 3))), PICTURE)
    profile = shipped_profiles()["yup-rh-cm"]
    done = deliver_in_formats([camera], profile, ["usd"], tmp_path).done[0]
    html = sheet_html(handed_of(camera, profile, done, SOURCE))
    assert "No landmarks: compare stills" in html and words_of(sheet_pdf(html))[0] == 1
