"""ST maps and warped plates: ``make bench``.

The ratios: making both maps of a 4096-wide plate to one evaluation of the model on as many points, and the pair written and
measured to writing and reading two such files; overscan and empty pixels of a 1920-wide plate to one evaluation; undistorting a
2048-wide picture, one and a sequence, to OpenCV's remap of it (on all processors, with weights of 32 steps) and to OpenImageIO's
own read and write; memory over 300 pictures to that over 30.
"""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory

import cv2
import numpy as np
import OpenImageIO as oiio
import psutil

from anaxis.core.camera.distortion.distortion import distortion_from_document
from anaxis.core.camera.lens import Image
from anaxis.core.camera.plate.overscan import WIDEST_FILTER_PX, empty_pixels, overscan_of
from anaxis.core.camera.plate.window import Window, pixel_rows
from anaxis.formats.plates.picture import read_picture_pixels
from anaxis.formats.plates.warp import map_for_warp, warped
from anaxis.formats.plates.write import write_picture
from anaxis.formats.st_map.pair import MapsOf, write_pair
from anaxis.formats.st_map.read import read_map_back
from anaxis.formats.st_map.write import write_st_map
from anaxis.sandbox.plates import plate_work
from resample import timed
from sizes import sized

BENT = distortion_from_document({"model": "radial-tangential", "k1": -0.15, "k2": 0.03, "p1": 0.002})


def plate_of(width: int, height: int) -> tuple[MapsOf, Image]:
    image = Image(width, height)
    window = Window(*(np.array([v]) for v in (-0.5, 0.5, -0.5 * height / width, 0.5 * height / width)))
    return MapsOf(BENT, window, overscan_of(BENT, window, image).overscan), image


def evaluated(maps: MapsOf, image: Image) -> None:
    for _, centres in pixel_rows(image):
        BENT.distort(maps.window.tangents(centres, image))


def main() -> None:
    maps, image = plate_of(*sized((4096, 2304), (256, 144)))
    once = timed(lambda: evaluated(maps, image))
    for kind in ("undistort", "distort"):
        took = timed(lambda k=kind: maps.map(k, 0))  # type: ignore[misc]
        print(f"{kind} map of 4096 x 2304 px: {took:.2f} s, {took / once:.1f} x the model on as many points")
    _pair(maps)
    _overscan(*plate_of(*sized((1920, 1080), (256, 144))))
    width, height = sized((2048, 1152), (256, 144))
    maps, image = plate_of(width, height)
    st = maps.map("undistort", 0)
    with TemporaryDirectory() as folder:
        path, out = Path(folder) / "in.exr", Path(folder) / "out.exr"
        pixels = np.random.default_rng(1).uniform(0, 1, (height, width, 3)).astype(np.float32)
        spec = oiio.ImageSpec(width, height, 3, oiio.HALF)
        spec.attribute("compression", "zip")
        file = oiio.ImageOutput.create(str(path))
        file.open(str(path), spec)  # type: ignore[union-attr]
        file.write_image(pixels)  # type: ignore[union-attr]
        file.close()  # type: ignore[union-attr]
        _, facts = read_picture_pixels(path)
        held = map_for_warp(st, (width, height))
        x, y = (
            np.ascontiguousarray(v, np.float32) for v in (st[..., 0] * width - 0.5, (1 - st[..., 1]) * height - 0.5)
        )
        remap = timed(lambda: cv2.remap(pixels, x, y, cv2.INTER_CUBIC))
        files = timed(lambda: write_picture(read_picture_pixels(path)[0], facts, out))
        warp = timed(lambda: warped(pixels, held))
        print(
            f"undistorting 2048 x 1152 px: {warp:.2f} s, {warp / remap:.0f} x OpenCV's remap, {warp / files:.1f} x reading and writing it"
        )
        write_st_map(st, Path(folder) / "map.exr")
        _sequence(Path(folder), (width, height), files)
        _flat(Path(folder))


def _sequence(folder: Path, size: tuple[int, int], files_s: float) -> None:
    """A sequence put through its map apart, each picture read back, beside reading and writing its pictures alone."""
    numbers = range(sized(24, 4))
    task = {"do": "warp", "size": list(size), "filter": "cubic", "names": {str(n): f"{n}.exr" for n in numbers}}

    def sequence() -> None:
        files = dict.fromkeys(numbers, folder / "in.exr")
        for done in plate_work(task, files, {0: folder / "map.exr"}, folder):
            done["path"].unlink()

    took = timed(sequence) / len(numbers)
    print(
        f"a sequence of {size[0]} x {size[1]} px: {took:.2f} s a picture, {took / files_s:.1f} x reading and writing it"
    )


def _pair(maps: MapsOf) -> None:
    """Both maps written and measured, beside writing and reading the same files alone."""
    made = {kind: maps.map(kind, 0) for kind in ("undistort", "distort")}
    with TemporaryDirectory() as folder:

        def files() -> None:
            for kind, st in made.items():
                write_st_map(st, Path(folder) / f"{kind}.exr")
                read_map_back(Path(folder) / f"{kind}.exr")

        alone = timed(files)
        took = timed(lambda: write_pair(maps, 0, Path(folder), "pair", "", force=True))
    print(f"pair of maps, written and measured: {took:.2f} s, {took / alone:.1f} x writing and reading both files")


def _overscan(maps: MapsOf, image: Image) -> None:
    """The overscan of a plate with its empty pixels, beside the model on as many points."""
    once = timed(lambda: evaluated(maps, image))

    def report() -> None:
        needed = overscan_of(BENT, maps.window, image)
        empty_pixels(BENT, maps.window, image, 0)
        empty_pixels(BENT, maps.window, image, 0, needed.overscan, WIDEST_FILTER_PX)

    took = timed(report)
    print(f"overscan of 1920 x 1080 px: {took:.2f} s, {took / once:.1f} x the model on as many points")


def rss_of(process: psutil.Process) -> int:
    """Bytes in memory; 0 for a process that has ended."""
    try:
        return int(process.memory_info().rss)
    except psutil.NoSuchProcess:
        return 0


def _flat(folder: Path) -> None:
    """Memory of this process and of those that work apart, over 30 and over 300 small pictures."""
    maps, _ = plate_of(512, 288)
    write_st_map(maps.map("undistort", 0), folder / "map.exr")
    _, facts = read_picture_pixels(folder / "in.exr")
    write_picture(np.random.default_rng(2).uniform(0, 1, (288, 512, 3)).astype(np.float32), facts, folder / "small.exr")
    peaks = []
    for count in sized((30, 300), (2, 3)):
        files = dict.fromkeys(range(count), folder / "small.exr")
        task = {"do": "warp", "size": [512, 288], "filter": "cubic", "names": {str(n): f"{n}.exr" for n in files}}
        peak, apart = 0, 0
        for done in plate_work(task, files, {0: folder / "map.exr"}, folder):
            assert "error" not in done, done
            done["path"].unlink()
            peak = max(peak, psutil.Process().memory_info().rss)
            apart = max([apart, *(rss_of(child) for child in psutil.Process().children(recursive=True))])
        peaks.append((peak, max(1, apart)))
    (a, b), (c, d) = peaks
    print(f"memory over 300 pictures to that over 30: {c / a:.2f} here, {d / b:.2f} apart ({d >> 20} MB)")


if __name__ == "__main__":
    main()
