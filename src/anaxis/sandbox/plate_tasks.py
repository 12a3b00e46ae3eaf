"""What is done with a plate's pictures apart, frame by frame: looked at, made into proxies, put through maps and written again.

A task is {"do": its name in :data:`TASKS`, "frames": [{"frame", "file", "map"}, ...], ...}; the files lie in the folder "in".
Before each picture {"frame", "pixels"} is said, then what was done, at once; what is written lies in the folder "out".
"""

from __future__ import annotations

import resource
import socket
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import cv2
import OpenImageIO as oiio

from anaxis.core.errors import BadInput
from anaxis.formats.plates import MOVIE_SUFFIXES
from anaxis.formats.plates.display import PROXY_WIDTH_PX, displayed, proxy_jpeg
from anaxis.formats.plates.edges import edges_of
from anaxis.formats.plates.movie import movie_facts, movie_pixels
from anaxis.formats.plates.picture import facts_of, read_picture_pixels
from anaxis.formats.plates.sphere import PAD, gone_round, with_alpha
from anaxis.formats.plates.warp import in_a_margin, map_for_warp, warped
from anaxis.formats.plates.write import read_back, write_picture
from anaxis.sandbox.budget import allow_more
from anaxis.sandbox.messages import Document, send

_MEMORY_MB = 6000
_OUT_BYTES = 2 << 30
Frame = Callable[[Document, Path, Document], Iterator[Document]]


def _facts(task: Document, path: Path, entry: Document) -> Iterator[Document]:
    if path.suffix.lower() in MOVIE_SUFFIXES:
        movie = movie_facts(path)
        rate = None if movie.rate is None else [movie.rate.numerator, movie.rate.denominator]
        yield {
            "frame": entry["frame"],
            "facts": movie.picture.as_dict(),
            "movie": {"frames": movie.frames, "rate": rate},
        }
        return
    if task.get("whole"):
        yield {"frame": entry["frame"], "facts": read_picture_pixels(path)[1].as_dict()}
    else:
        yield {"frame": entry["frame"], "facts": facts_of(path).as_dict()}


def _proxies(task: Document, path: Path, entry: Document) -> Iterator[Document]:
    def kept(frame: int, pixels: Any, linear: bool, aspect: float) -> Document:
        name = f"{frame}.jpg"
        wide = int(task.get("width_px", PROXY_WIDTH_PX))
        (Path("out") / name).write_bytes(proxy_jpeg(pixels, linear, aspect, task["view"], task["stops"], wide))
        return {"frame": entry["frame"], "number": frame, "file": name}

    if path.suffix.lower() in MOVIE_SUFFIXES:
        aspect = movie_facts(path).picture.pixel_aspect
        for number, pixels in movie_pixels(path, int(task.get("first", 0))):
            yield kept(number, pixels, False, aspect) | {"more": True}
        yield {"frame": entry["frame"], "over": True}
        return
    pixels, facts = read_picture_pixels(path)
    yield kept(entry["frame"], pixels, facts.linear, facts.pixel_aspect) | {"facts": facts.as_dict()}


def _warp(task: Document, path: Path, entry: Document) -> Iterator[Document]:
    pixels, facts = read_picture_pixels(path)
    wanted = tuple(task["size"])
    if pixels.shape[1::-1] != wanted:
        raise BadInput(
            f"{path.name.split('-', 1)[1]} is {pixels.shape[1]} x {pixels.shape[0]} px, and the map fetches in {wanted[0]} x "
            f"{wanted[1]} px: use the images that the map was made for.", "wrong_size",
        )  # fmt: skip
    if entry["map"] not in _MAPS:
        _MAPS.clear()
        st = oiio.ImageBuf(str(Path("in") / entry["map"])).get_pixels(oiio.FLOAT)
        if task.get("round_seam"):
            st, wanted = in_a_margin(st, wanted, PAD), (wanted[0] + 2 * PAD, wanted[1] + 2 * PAD)
        _MAPS[entry["map"]] = map_for_warp(st, wanted)
    if task.get("round_seam"):
        pixels = gone_round(pixels)
    if task.get("with_alpha"):
        pixels, facts = with_alpha(pixels, facts)
    out = warped(pixels, _MAPS[entry["map"]], task["filter"])
    name = task["names"][str(entry["frame"])]
    write_picture(out, facts, Path("out") / name)
    off = read_back(out, facts, Path("out") / name)
    yield {"frame": entry["frame"], "file": name, "steps_off": off, "facts": facts.as_dict()}


def _shown(task: Document, path: Path, entry: Document) -> Iterator[Document]:
    pixels, facts = read_picture_pixels(path)
    edges = edges_of(pixels)
    if entry["map"]:
        st = oiio.ImageBuf(str(Path("in") / entry["map"])).get_pixels(oiio.FLOAT)
        pixels = warped(pixels, map_for_warp(st, pixels.shape[1::-1]))
    name = f"{entry['frame']}.png"
    cv2.imwrite(str(Path("out") / name), displayed(pixels, facts.linear, task["view"], task["stops"])[..., ::-1])
    yield {"frame": entry["frame"], "file": name, "facts": facts.as_dict(), "edges": edges._asdict()}


def _pixels(path: Path) -> int:
    """How many pixels a picture has, by its header alone; 0 where it is not a still, or the header cannot be read."""
    if path.suffix.lower() in MOVIE_SUFFIXES:
        return 0
    opened = oiio.ImageInput.open(str(path))
    if opened is None:
        oiio.geterror()  # said by whoever reads the picture
        return 0
    size = opened.spec()
    opened.close()
    return int(size.width * size.height)


_MAPS: dict[str, Any] = {}
TASKS: dict[str, Frame] = {"facts": _facts, "proxies": _proxies, "warp": _warp, "shown": _shown}


def do_frames(line: socket.socket, task: Document, taken_bytes: int) -> None:
    """Do a task on each of its frames, and send what was done, a message each."""
    allow_more(_MEMORY_MB, taken_bytes)
    cv2.setNumThreads(1)  # a sequence has a process for each processor
    resource.setrlimit(resource.RLIMIT_FSIZE, (_OUT_BYTES, _OUT_BYTES))
    for entry in task["frames"]:
        path = Path("in") / entry["file"]
        name = entry["file"].split("-", 1)[1]
        try:
            if not path.is_file():
                raise BadInput(f"{name} no longer exists.")
            send(line, {"frame": entry["frame"], "pixels": _pixels(path)})
            for done in TASKS[task["do"]](task, path, entry):
                send(line, done)
        except BadInput as error:
            said = error.sentence.replace(entry["file"], name)
            send(line, {"frame": entry["frame"], "error": said, "code": error.code})
        except MemoryError:
            said = f"{name} needs more than {_MEMORY_MB} MB of memory: render that frame smaller."
            send(line, {"frame": entry["frame"], "error": said})
