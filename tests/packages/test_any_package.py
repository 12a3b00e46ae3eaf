"""The whole road to packages nobody has shipped: random conventions, any pair of fits."""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from anaxis.core.camera.lens import FITS, Image
from anaxis.core.checks.examine import take_camera
from anaxis.core.scene.picture import picture_of
from anaxis.core.scene.surroundings import landmarks_of
from anaxis.core.space.axes import Convention
from anaxis.delivery.deliver import deliver
from anaxis.formats import read_file
from anaxis.formats.track_json.document import convention_document
from anaxis.packages.model import Profile
from lanes import sized
from test_axes_and_rotation import conventions


@settings(max_examples=sized(40, 20), suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(conventions(), st.sampled_from(FITS), st.sampled_from(FITS), st.sampled_from(("usd", "json", "columns")))
def test_any_package_sees_the_same_picture(
    demo_files: dict[str, Path], convention: Convention, source_fit: str, fit: str, format_key: str
) -> None:
    profile = Profile(key="any", label="Any package", lens={"fit": fit}, **convention_document(convention))  # type: ignore[arg-type]
    scene = read_file(demo_files["TW_030"])
    track = take_camera(scene, None, (1100, 1110)).done
    with TemporaryDirectory() as folder:
        done = deliver(
            track,
            landmarks_of(scene, track.frames),
            picture_of(scene, Image(4096, 1716), source_fit),
            profile,
            format_key,
            Path(folder),
        )
    assert done.proof.max_px <= (0.01 if format_key == "usd" else 1e-6)
