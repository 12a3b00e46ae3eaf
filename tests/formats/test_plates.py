"""Plates: found by number, read and written in every format, warped, shown; hostile pictures end in a sentence, apart."""

from __future__ import annotations

import struct
import sys
import zlib
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import cv2
import numpy as np
import OpenImageIO as oiio
import pytest

from anaxis.core.errors import BadInput
from anaxis.formats.plates.display import displayed, smaller
from anaxis.formats.plates.edges import edges_of
from anaxis.formats.plates.found import sequence_at, sequences_among
from anaxis.formats.plates.picture import facts_of, read_picture_pixels
from anaxis.formats.plates.warp import FILTERS, map_for_warp, warped
from anaxis.formats.plates.write import read_back, write_picture
from anaxis.sandbox import forks, plates
from anaxis.sandbox.plate_look import look_at
from anaxis.sandbox.plates import plate_work

RANDOM = np.random.default_rng(12)
PICTURE = RANDOM.uniform(0, 1, (54, 96, 3)).astype(np.float32)
KINDS = {
    "exr": ("half", 0), "exr32": ("float", 0), "dpx": ("uint16", 10), "dpx16": ("uint16", 16), "tif": ("uint16", 0),
    "tif32": ("float", 0), "png": ("uint8", 0), "png16": ("uint16", 0), "jpg": ("uint8", 0),
}  # fmt: skip


def written(path: Path, kind: str = "exr", pixels: np.ndarray = PICTURE, **more: Any) -> Path:
    """A picture by OpenImageIO itself."""
    depth, bits = KINDS[kind]
    path = path.with_name(f"{path.name}.{kind.rstrip('0123456789')}")
    spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], pixels.shape[2], depth)
    if bits:
        spec.attribute("oiio:BitsPerSample", bits)
    for name, value in more.items():
        setattr(spec, name, value) if hasattr(spec, name) else spec.attribute(name, value)
    out = oiio.ImageOutput.create(str(path))
    assert out.open(str(path), spec), out.geterror()  # type: ignore[union-attr]
    out.write_image(np.ascontiguousarray(pixels))  # type: ignore[union-attr]
    out.close()  # type: ignore[union-attr]
    return path


def test_sequences_are_found_by_their_numbers() -> None:
    names = ["bg.1001.exr", "bg.1002.exr", "bg.1004.exr", "bg.01002.exr", "x_-0020.png", "x_-0019.png", "x_0001.png",
             "clip.mov", "notes.txt", "still.jpg", "v2_86400.dpx", "v2_86401.dpx"]  # fmt: skip
    found = {f.name: f for f in sequences_among(names)}
    bg = found["bg.####.exr"]
    assert list(bg.files) == [1001, 1002, 1004] and bg.missing == [1003] and bg.doubled == (1002,)
    assert bg.files[1002] == "bg.1002.exr"  # numbered like most
    assert found["clip.mov"].is_movie and found["still.jpg"].files == {0: "still.jpg"}
    assert [list(f.files) for n, f in found.items() if n.startswith("v2_")] == [[86400, 86401]]
    negative = [f for n, f in found.items() if n.startswith("x_")]
    assert sorted(n for f in negative for n in f.files) == [-20, -19, 1]
    assert not sequences_among(["notes.txt"])


def test_a_sequence_is_named_by_folder_file_or_pattern(tmp_path: Path) -> None:
    for f in (8, 9, 10):
        written(tmp_path / f"bg.{f:04}", "png")
    for place in (
        tmp_path,
        tmp_path / "bg.0009.png",
        tmp_path / "bg.####.png",
        tmp_path / "bg.%04d.png",
        tmp_path / "bg.@@@@.png",
    ):
        assert list(sequence_at(place).files) == [8, 9, 10], place
    written(tmp_path / "other.0001", "png")
    with pytest.raises(BadInput, match="holds 2 sequences"):
        sequence_at(tmp_path)
    with pytest.raises(BadInput, match="no image sequence"):
        sequence_at(tmp_path / "none.####.exr")
    with pytest.raises(BadInput, match="no folder"):
        sequence_at(tmp_path / "nowhere" / "a.exr")


@pytest.mark.parametrize("kind", KINDS)
def test_every_format_keeps_its_depth_and_reads_back(kind: str, tmp_path: Path) -> None:
    path = written(tmp_path / "in", kind, PixelAspectRatio=2.0)
    pixels, facts = read_picture_pixels(path)
    assert (facts.width_px, facts.height_px, facts.channels, facts.pixel_aspect) == (96, 54, ("R", "G", "B"), 2.0)
    assert facts.whole and facts.linear == (kind in ("exr", "exr32", "tif32"))
    again = tmp_path / f"again{path.suffix}"
    write_picture(pixels, facts, again)
    back, same = read_picture_pixels(again)
    assert (same.depth, same.bits, same.pixel_aspect) == (facts.depth, facts.bits, 2.0)
    lossy = kind == "jpg"
    assert np.abs(back - pixels).max() < (0.15 if lossy else 1e-7) and (lossy or read_back(pixels, facts, again) == 0)


def test_an_outside_reader_sees_what_was_written(tmp_path: Path) -> None:
    pixels, facts = read_picture_pixels(written(tmp_path / "in", "png16"))
    write_picture(pixels, facts, tmp_path / "out.png")
    seen = cv2.imread(str(tmp_path / "out.png"), cv2.IMREAD_UNCHANGED)
    assert seen.dtype == np.uint16 and np.array_equal(seen[..., ::-1], np.round(pixels * 65535))  # type: ignore[index, union-attr]
    with pytest.raises(BadInput, match="stores floats"):
        write_picture(pixels, facts, tmp_path / "out.exr")
    floats, linear = read_picture_pixels(written(tmp_path / "in", "exr"))
    with pytest.raises(BadInput, match="stores no floats"):
        write_picture(floats, linear, tmp_path / "out.png")


def test_a_data_window_is_laid_into_the_whole_picture(tmp_path: Path) -> None:
    path = written(tmp_path / "part", "exr32", x=10, y=-4, full_x=0, full_y=0, full_width=100, full_height=60)
    pixels, facts = read_picture_pixels(path)
    assert facts.data_px == (10, -4, 96, 54) and not facts.whole and pixels.shape == (60, 100, 3)
    assert np.array_equal(pixels[:50, 10:], PICTURE[4:, :90]) and not pixels[50:].any() and not pixels[:, :10].any()


@pytest.mark.parametrize("name", FILTERS)
def test_a_map_fetches_where_it_says(name: str) -> None:
    """A picture of its own coordinates shows where every pixel was fetched; at 4096 px within 0.02."""
    height, width = 64, 4096
    y, x = np.mgrid[0:height, 0:width] + 0.5
    ramp = np.stack([x / width, y / height, 0 * x], axis=-1).astype(np.float32)
    fx, fy = (x - width / 2) * 0.97 + width / 2 + 11.37, (y - height / 2) * 0.9 + height / 2 - 0.6
    out = warped(ramp, map_for_warp(np.stack([fx / width, 1 - fy / height], axis=-1), (width, height)), name)
    inside = (fx > 8) & (fx < width - 8) & (fy > 5) & (fy < height - 5)
    off = np.hypot(out[..., 0] * width - fx, out[..., 1] * height - fy)[inside].max()
    assert off < (0.02 if name != "sharp" else 0.1)
    larger = warped(ramp, map_for_warp(np.full((80, 5000, 2), 0.5), (width, height)), name)
    assert larger.shape == (80, 5000, 3)
    # Up to its rim and beyond: a white plate is white there and black outside, with no ringing between.
    st = np.stack([(x / width - 0.5) * 1.02 + 0.5, (y / height - 0.5) * 1.1 + 0.5], axis=-1)
    white = warped(np.ones_like(ramp), map_for_warp(st, (width, height)), name)
    outside = ((st < 0) | (st > 1)).any(axis=-1)
    assert outside.sum() > 1000 and not white[outside].any() and np.abs(white[~outside] - 1).max() < 1e-5


def _weight(name: str, x: float) -> float:
    """Of a pixel at a distance from the point that is fetched, by the textbook."""
    a = abs(x)
    if name == "linear":
        return max(0.0, 1 - a)
    if name == "sharp":
        return float(np.sinc(x) * np.sinc(x / 3)) if a < 3 else 0.0
    if a >= 2:
        return 0.0
    if name == "soft":
        return 2 / 3 - a**2 + a**3 / 2 if a < 1 else (2 - a) ** 3 / 6
    return 1.5 * a**3 - 2.5 * a**2 + 1 if a < 1 else -0.5 * a**3 + 2.5 * a**2 - 4 * a + 2


@pytest.mark.parametrize("name", FILTERS)
def test_a_pixel_is_the_weighted_mean_of_those_about_the_point(name: str) -> None:
    """Noise, through a map of points anywhere: single sums beside it, with the nearest pixel for those beyond the rim."""
    rng, width, height = np.random.default_rng(4), 53, 37
    for channels in (1, 3, 4):
        pixels = rng.uniform(0, 1, (height, width, channels)).astype(np.float32)
        st = rng.uniform(-0.05, 1.05, (11, 17, 2))
        st[0, :4] = [(0, 0), (1, 1), (0, 1), (np.nan, 0.5)]
        out = warped(pixels, map_for_warp(st, (width, height)), name)
        for at, (s, t) in zip(np.ndindex(11, 17), st.reshape(-1, 2), strict=True):
            meant, whole = np.zeros(channels), 0.0
            if 0 <= s <= 1 and 0 <= t <= 1:
                x, y = s * width - 0.5, (1 - t) * height - 0.5
                for row, column in np.ndindex(9, 9):
                    j, i = int(y) - 4 + row, int(x) - 4 + column
                    weight = _weight(name, y - j) * _weight(name, x - i)
                    whole += weight
                    meant += weight * pixels[min(max(j, 0), height - 1), min(max(i, 0), width - 1)]
                meant /= whole
            assert np.abs(out[at] - meant).max() < 1e-6


def test_linear_light_is_shown_by_the_stated_view() -> None:
    grey = np.full((2, 2, 3), 0.18, dtype=np.float32)
    shown = displayed(grey, linear=True)
    srgb = 1.055 * 0.18 ** (1 / 2.4) - 0.055
    assert np.abs(shown.astype(int) - round(255 * srgb)).max() <= 1
    up = displayed(grey, linear=True, stops=1.0)
    assert np.abs(up.astype(int) - round(255 * (1.055 * 0.36 ** (1 / 2.4) - 0.055))).max() <= 1
    assert np.array_equal(displayed(grey, linear=False), np.full((2, 2, 3), 46, np.uint8))
    assert displayed(grey, linear=True, view="film").max() < 255
    assert displayed(np.array([[[np.nan, np.inf, -1]]], np.float32), True).tolist() == [[[0, 255, 0]]]
    assert smaller(np.zeros((100, 2000, 3), np.float32), 2.0).shape == (24, 960, 3)
    for wrong in ({"view": "none"}, {"stops": 99.0}):
        with pytest.raises(BadInput):
            displayed(grey, True, **wrong)


def test_smeared_and_empty_edges_are_told_from_even_ones() -> None:
    plain = edges_of(PICTURE)
    assert not plain.smeared and not plain.empty
    smeared = PICTURE.copy()
    smeared[:, :7] = smeared[:, 7:8]
    smeared[-4:] = 0
    found = edges_of(smeared)
    assert found.smeared == {"left": 8} and found.empty == {"bottom": 4}
    sky = PICTURE.copy()
    sky[:20] = 0.5
    assert not edges_of(sky).smeared and edges_of(sky).even == ("top",)


def movie(path: Path, frames: int = 10) -> Path:
    with av.open(str(path), "w") as out:
        stream = out.add_stream("mpeg4", rate=Fraction(24000, 1001))
        stream.width, stream.height, stream.pix_fmt = 96, 54, "yuv420p"
        stream.bit_rate = 4_000_000
        for i in range(frames):
            picture = np.full((54, 96, 3), 20 * i, np.uint8)
            out.mux(stream.encode(av.VideoFrame.from_ndarray(picture, format="rgb24")))
        out.mux(stream.encode())
    return path


def test_a_movie_is_a_plate_numbered_from_zero(tmp_path: Path) -> None:
    path = movie(tmp_path / "clip.mov")
    looked = look_at(sequence_at(path))
    assert looked.plate.numbers == tuple(range(10)) and looked.plate.rate == Fraction(24000, 1001)
    done = list(plate_work({"do": "proxies", "view": "plain", "stops": 0.0, "first": 3}, {0: path}))
    assert [d["number"] for d in done] == list(range(3, 10))
    for d in done:
        grey = cv2.imdecode(np.frombuffer(d["data"], np.uint8), cv2.IMREAD_COLOR).mean()  # type: ignore[union-attr]
        assert abs(grey - 20 * d["number"]) < 6
    cut = tmp_path / "cut.mp4"
    cut.write_bytes(path.read_bytes()[:700])
    with pytest.raises(BadInput):
        look_at(sequence_at(cut))


def huge_png(path: Path) -> Path:
    """A head that announces more pixels than any plate has."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    head = struct.pack(">IIBBBBB", 60_000, 60_000, 8, 2, 0, 0, 0)
    path.write_bytes(
        b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(b"\0" * 999)) + chunk(b"IEND", b"")
    )
    return path


def hostile(folder: Path) -> dict[str, Path]:
    out = {f"truncated {k}": written(folder / f"{k}", k) for k in ("exr", "dpx", "tif", "png", "jpg")}
    for path in out.values():
        path.write_bytes(path.read_bytes()[: path.stat().st_size // 2])
    many = np.zeros((4, 4, 1100), dtype=np.float32)
    out["channels"] = written(folder / "channels", "exr", many, channelnames=tuple(f"c{i}" for i in range(1100)))
    out["pixel type"] = folder / "ids.exr"
    spec = oiio.ImageSpec(8, 8, 3, oiio.UINT32)
    file = oiio.ImageOutput.create(str(out["pixel type"]))
    file.open(str(out["pixel type"]), spec)  # type: ignore[union-attr]
    file.write_image(np.zeros((8, 8, 3), np.uint32))  # type: ignore[union-attr]
    file.close()  # type: ignore[union-attr]
    out["huge"] = huge_png(folder / "huge.png")
    out["text"] = folder / "text.exr"
    out["text"].write_text("no picture at all")
    out["nothing"] = folder / "nothing.dpx"
    out["nothing"].write_bytes(b"")
    out["gone"] = folder / "gone.exr"
    return out


def test_hostile_pictures_end_in_a_sentence_that_names_them(tmp_path: Path) -> None:
    files = dict(enumerate(hostile(tmp_path).values()))
    good = written(tmp_path / "good", "exr")
    files[99] = good
    done = {d["frame"]: d for d in plate_work({"do": "facts", "whole": True}, files)}
    assert set(done) == set(files) and done[99]["facts"]["width_px"] == 96
    for number, path in files.items():
        if number != 99:
            said = done[number].get("error", f"{path.name} was read")
            assert "was read" not in said, said
            assert path.name in said and said.endswith(".") and "Traceback" not in said and str(tmp_path) not in said, (
                said
            )


FALLING = """
import os
from anaxis.sandbox import picture_readers, plate_tasks
from anaxis.sandbox.fork_server import serve_forks
real = plate_tasks.TASKS["facts"]
def facts(task, path, entry):
    if path.name.endswith("p1.exr"):
        DO
    yield from real(task, path, entry)
plate_tasks.TASKS["facts"] = facts
serve_forks(dict, picture_readers.serve)
"""


@pytest.mark.parametrize(
    ("do", "said"),
    [
        ("os.abort()", "made its reader stop: it is damaged"),
        ("os.kill(os.getppid(), 9); os.kill(os.getpid(), 9)", "ended twice"),
    ],
)
def test_a_picture_that_stops_its_process_stops_no_other(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, do: str, said: str
) -> None:
    """Its own process, or the one that all are forked from: which is not a fault of the picture, and not said as one."""
    files = {i: written(tmp_path / f"p{i}", "exr") for i in range(4)}
    code = FALLING.replace("DO", do)
    monkeypatch.setattr(forks, "confined", lambda _module, _folder, *more: [sys.executable, "-c", code, *more])
    monkeypatch.setattr(plates, "PICTURE_READERS", forks.ForkSource("falling"))
    done = {d["frame"]: d for d in plate_work({"do": "facts"}, files)}
    assert said in done[1]["error"] and all("facts" in done[i] for i in (0, 2, 3))
    plates.PICTURE_READERS.close()


FALLING_IN_A_MOVIE = """
import os
from anaxis.sandbox import picture_readers, plate_tasks
from anaxis.sandbox.fork_server import serve_forks
real = plate_tasks.TASKS["proxies"]
def proxies(task, path, entry):
    for done in real(task, path, entry):
        yield done
        if done.get("number") == LAST:
            os.kill(os.getppid(), 9); os.kill(os.getpid(), 9)
plate_tasks.TASKS["proxies"] = proxies
serve_forks(dict, picture_readers.serve)
"""


@pytest.mark.parametrize("again", [False, True])
def test_a_movie_whose_process_ended_half_way_is_made_whole_or_said_to_be_none(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, again: bool
) -> None:
    lasts = iter([3, 5 if again else -1])
    monkeypatch.setattr(
        forks,
        "confined",
        lambda _module, _folder, *more: [
            sys.executable, "-c", FALLING_IN_A_MOVIE.replace("LAST", str(next(lasts))), *more
        ],
    )  # fmt: skip
    monkeypatch.setattr(plates, "PICTURE_READERS", forks.ForkSource("falling"))
    done = list(plate_work({"do": "proxies", "view": "plain", "stops": 0.0}, {0: movie(tmp_path / "clip.mov")}))
    plates.PICTURE_READERS.close()
    made = {d["number"] for d in done if "number" in d}
    assert made == set(range(6 if again else 10))
    assert [d["error"].split(":")[0] for d in done if "error" in d] == ["clip.mov was not read"] * again


def test_a_larger_picture_has_more_time_and_a_slow_one_is_not_called_damaged(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    given_s: list[float] = []
    real = forks.Fork.receive

    def noted(fork: forks.Fork, seconds: float, *more: int) -> Any:
        given_s.append(seconds)
        return real(fork, seconds, *more)

    monkeypatch.setenv("ANAXIS_FILE_SECONDS", "20")
    monkeypatch.setattr(forks.Fork, "receive", noted)
    large = written(tmp_path / "large", "png", np.zeros((2160, 4096, 3), np.float32))
    (done,) = plate_work({"do": "facts"}, {1: large})
    assert "facts" in done and max(given_s[1:]) == pytest.approx(20 * 4096 * 2160 / (1920 * 1080))
    (done,) = plate_work({"do": "facts"}, {1: written(tmp_path / "small", "png")})
    assert "facts" in done and given_s[-1] == 20

    monkeypatch.setattr(forks.Fork, "receive", lambda fork, seconds: real(fork, 0.001))
    (done,) = plate_work({"do": "facts", "whole": True}, {1: large})
    assert done["code"] == "too_slow" and "took longer" in done["error"] and "ANAXIS_FILE_SECONDS" in done["error"]
    assert "damaged" not in done["error"]


def test_heads_alone_say_what_a_picture_is(tmp_path: Path) -> None:
    layered = np.zeros((6, 8, 5), np.float32)
    path = written(tmp_path / "layers", "exr32", layered, channelnames=("Z", "R", "G", "B", "id"))
    facts = facts_of(path)
    assert facts.channels == ("R", "G", "B") and set(facts.left_out) == {"Z", "id"}
