"""A plate's pictures below a film: in order, held, missing and broken ones, offsets, and a movie."""

from __future__ import annotations

from pathlib import Path

import av
import cv2
import numpy as np

from anaxis.sandbox.plate_frames import PlateFrames


def grey(path: Path, value: int, width: int = 64) -> Path:
    cv2.imwrite(str(path), np.full((36, width, 3), value, dtype=np.uint8))
    return path


def level(picture: object) -> float:
    assert isinstance(picture, np.ndarray)
    return float(picture.mean())


def test_each_frame_has_its_own_picture_and_what_is_not_there_is_said(tmp_path: Path) -> None:
    files = {n: grey(tmp_path / f"p.{n}.png", 10 * n) for n in (1, 2, 3, 5, 6)}
    files[6].write_bytes(b"no picture")
    below = PlateFrames(files, 64, offset=1000)
    seen = [below(f) for f in (1001, 1002, 1002, 1003, 1004, 1005, 1006)]
    assert [None if p is None else round(level(p) / 10) for p in seen] == [1, 2, 2, 3, None, 5, None]
    said = " ".join(below.notes)
    assert "no frame 1004, 1006" in said and "Frame 1006 of the plate" in said


def test_a_plate_is_as_wide_as_the_film_at_most(tmp_path: Path) -> None:
    below = PlateFrames({1: grey(tmp_path / "p.1.png", 90, width=400)}, 200)
    picture = below(1)
    assert picture is not None and picture.shape == (18, 200, 3)


def test_a_movie_is_read_from_the_frame_that_is_asked_for(tmp_path: Path) -> None:
    path = tmp_path / "plate.mov"
    with av.open(str(path), "w") as out:
        stream = out.add_stream("libx264", rate=24, options={"crf": "1"})
        stream.width, stream.height, stream.pix_fmt = 64, 36, "yuv420p"
        for i in range(8):
            out.mux(
                stream.encode(
                    av.VideoFrame.from_ndarray(np.full((36, 64, 3), 20 + 25 * i, dtype=np.uint8), format="bgr24")
                )
            )
        out.mux(stream.encode())
    below = PlateFrames({0: path}, 64, offset=100)
    assert [round((level(below(f)) - 20) / 25) for f in (103, 104, 107)] == [3, 4, 7]
    assert below(108) is None and "frame 108" in " ".join(below.notes)
