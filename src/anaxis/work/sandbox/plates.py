"""Pictures of a plate worked on apart: looked at, made into proxies, or fetched through maps and written again.

Run as ``python -m anaxis.work.sandbox.confined FOLDER plates``: a task as JSON on standard input, and on standard output
one line of JSON a frame as soon as it is done. Files are handed in some at a time; a picture that makes its process stop
is named, and the others are gone on with.
"""

from __future__ import annotations

import json
import os
import resource
import shutil
import subprocess
import sys
import threading
from collections import deque
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any, BinaryIO

from anaxis.core.errors import BadInput
from anaxis.formats.plates import MOVIE_SUFFIXES
from anaxis.work.sandbox.confined import clean_environment, confined
from anaxis.work.sandbox.folders import made_for_a_reader
from anaxis.work.sandbox.guard import limits_from_environment

_MEMORY_MB, _START_S = 6000, 30
# A picture of so many pixels may take ANAXIS_FILE_SECONDS, a larger one as much longer as it is larger.
_USUAL_PIXELS = 1920 * 1080
_LONGEST = 40  # times as long, whatever a header says of its picture
_AT_ONCE = 24
_OUT_BYTES = 2 << 30


def _opened(path: Path) -> BinaryIO:
    return path.open("rb")


def plate_work(
    task: Mapping[str, Any],
    files: Mapping[int, Path],
    maps: Mapping[int, Path] | None = None,
    folder: Path | None = None,
    opened: Callable[[Path], BinaryIO] | None = None,
) -> Iterator[dict[str, Any]]:
    """A task on each of the frames: yields {"frame", ...} one by one, with "error" where a frame could not be worked on.

    ``task`` is {"do": "facts"}, {"do": "proxies", ...} or {"do": "warp", ...}. ``maps`` are ST maps by frame, or under 0
    the one for all. Files that are written (under "file") are moved to ``folder``, and stand under "path".
    ``opened`` opens files that lie where not everything may be opened; the others are found by their paths.
    """
    left = deque(sorted(files.items()))
    while left:
        batch = dict(left.popleft() for _ in range(min(_AT_ONCE, len(left))))
        undone = dict(batch)
        for done in _batch(dict(task), batch, maps or {}, folder, opened):
            undone.pop(done["frame"], None)
            yield done
        left.extendleft(reversed(undone.items()))  # those behind one that made its process stop


def _batch(
    task: dict[str, Any],
    files: dict[int, Path],
    maps: Mapping[int, Path],
    target: Path | None,
    opened: Callable[[Path], BinaryIO] | None,
) -> Iterator[dict[str, Any]]:
    own = made_for_a_reader()
    try:
        inside, out = own / "in", own / "out"
        inside.mkdir(mode=0o755)
        out.mkdir(mode=0o777)
        out.chmod(0o777)
        listed = [
            {
                "frame": frame,
                "file": _put(path, inside, f"{i}-{path.name}", opened),
                "map": _put_map(maps, frame, inside),
            }
            for i, (frame, path) in enumerate(files.items())
        ]
        yield from _ask(task | {"frames": listed}, own, files, target)
    finally:
        shutil.rmtree(own, ignore_errors=True)


def _put(path: Path, folder: Path, name: str, opened: Callable[[Path], BinaryIO] | None = None) -> str:
    """The file put where its reader may read it; one that is not there is not there either, which the reader says."""
    to = folder / name
    if opened is None and os.geteuid() != 0:
        with suppress(OSError):  # as root a link would keep its owner and its rights
            os.link(path, to)
            return name
    with suppress(OSError, BadInput), (opened or _opened)(path) as source, to.open("wb") as out:
        shutil.copyfileobj(source, out, 1 << 20)
    if to.exists():
        to.chmod(0o644)
    return name


def _put_map(maps: Mapping[int, Path], frame: int, folder: Path) -> str:
    path = maps.get(frame, maps.get(0))
    if path is None:
        return ""
    name = f"map-{path.name}"
    return name if (folder / name).exists() else _put(path, folder, name)


def _ask(task: dict[str, Any], own: Path, files: dict[int, Path], target: Path | None) -> Iterator[dict[str, Any]]:
    process = subprocess.Popen(
        confined("plates", own), stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
        env=clean_environment(own), start_new_session=True,
    )  # fmt: skip
    assert process.stdin and process.stdout
    usual_s = limits_from_environment().wall_s
    over = _Patience(process, _START_S + usual_s)
    waiting = list(files)
    try:
        taken = True
        try:
            process.stdin.write(json.dumps(task).encode() + b"\n")
            process.stdin.close()
        except BrokenPipeError:
            taken = False
        for line in process.stdout:
            over.cancel()  # each picture has its own time
            done = json.loads(line)
            over = _Patience(process, usual_s * min(max(1.0, done.get("pixels", 0) / _USUAL_PIXELS), _LONGEST))
            if "pixels" in done or done.get("frame") not in waiting:
                continue
            if not done.pop("more", False):  # a movie has many pictures
                waiting.remove(done["frame"])
            if not done.pop("over", False):
                yield _moved(done, own, target)
        process.wait()
        if waiting:  # it stopped at the next one: the others are another process's
            name, code = files[waiting[0]].name, "too_slow" if over.ran_out else "stopped"
            if over.ran_out:
                sentence = (
                    f"{name} took longer than {over.seconds:.0f} s and was given up: try again when this machine has less to do, or "
                    "raise ANAXIS_FILE_SECONDS for pages and workers."
                )
            elif taken:
                sentence = (
                    f"{name} made its reader stop: it is damaged or needs too much memory; render that frame again."
                )
            else:
                sentence = f"{name} made its reader stop before the picture was read: try again."
            yield {"frame": waiting[0], "error": sentence, "code": code}
    finally:
        over.cancel()
        process.kill()
        process.wait()
        process.stdout.close()


class _Patience:
    """Ends a process that says nothing for so many seconds."""

    def __init__(self, process: subprocess.Popen[bytes], seconds: float) -> None:
        self.seconds, self.ran_out, self._process = seconds, False, process
        self._timer = threading.Timer(seconds, self._end)
        self._timer.daemon = True
        self._timer.start()

    def _end(self) -> None:
        self.ran_out = True
        self._process.kill()

    def cancel(self) -> None:
        self._timer.cancel()


def _moved(done: dict[str, Any], own: Path, target: Path | None) -> dict[str, Any]:
    if "file" not in done:
        return done
    name = Path(str(done.pop("file"))).name
    made = own / "out" / name
    if target is None:
        return done | {"data": made.read_bytes()}
    path = target / name
    shutil.move(made, path)
    path.chmod(0o644)
    if os.geteuid() == 0:
        os.chown(path, 0, 0)
    return done | {"path": path}


# The other end, in the process apart.


def _facts(task: dict[str, Any], path: Path, entry: dict[str, Any]) -> Iterator[dict[str, Any]]:
    from anaxis.formats.plates.movie import movie_facts
    from anaxis.formats.plates.picture import facts_of, read_picture_pixels

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


def _proxies(task: dict[str, Any], path: Path, entry: dict[str, Any]) -> Iterator[dict[str, Any]]:
    from anaxis.formats.plates.display import proxy_jpeg
    from anaxis.formats.plates.movie import movie_facts, movie_pixels
    from anaxis.formats.plates.picture import read_picture_pixels

    def kept(frame: int, pixels: Any, linear: bool, aspect: float) -> dict[str, Any]:
        name = f"{frame}.jpg"
        (Path("out") / name).write_bytes(proxy_jpeg(pixels, linear, aspect, task["view"], task["stops"]))
        return {"frame": entry["frame"], "number": frame, "file": name}

    if path.suffix.lower() in MOVIE_SUFFIXES:
        aspect = movie_facts(path).picture.pixel_aspect
        for number, pixels in movie_pixels(path, int(task.get("first", 0))):
            yield kept(number, pixels, False, aspect) | {"more": True}
        yield {"frame": entry["frame"], "over": True}
        return
    pixels, facts = read_picture_pixels(path)
    yield kept(entry["frame"], pixels, facts.linear, facts.pixel_aspect) | {"facts": facts.as_dict()}


def _warp(task: dict[str, Any], path: Path, entry: dict[str, Any]) -> Iterator[dict[str, Any]]:
    import OpenImageIO as oiio

    from anaxis.formats.plates.picture import read_picture_pixels
    from anaxis.formats.plates.sphere import PAD, gone_round, with_alpha
    from anaxis.formats.plates.warp import in_a_margin, map_for_warp, warped
    from anaxis.formats.plates.write import read_back, write_picture

    pixels, facts = read_picture_pixels(path)
    wanted = tuple(task["size"])
    if pixels.shape[1::-1] != wanted:
        raise BadInput(
            f"{path.name.split('-', 1)[1]} is {pixels.shape[1]} x {pixels.shape[0]} px, and the map fetches in {wanted[0]} x "
            f"{wanted[1]} px: hand over the pictures that the map was made for.", "wrong_size",
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


def _shown(task: dict[str, Any], path: Path, entry: dict[str, Any]) -> Iterator[dict[str, Any]]:
    import cv2
    import OpenImageIO as oiio

    from anaxis.formats.plates.display import displayed
    from anaxis.formats.plates.edges import edges_of
    from anaxis.formats.plates.picture import read_picture_pixels
    from anaxis.formats.plates.warp import map_for_warp, warped

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
    import OpenImageIO as oiio

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
_DOES = {"facts": _facts, "proxies": _proxies, "warp": _warp, "shown": _shown}


def main() -> None:
    # What a library prints is no answer of ours.
    answer = os.fdopen(os.dup(1), "w")
    silence = os.open(os.devnull, os.O_WRONLY)
    os.dup2(silence, 1)
    task = json.loads(sys.stdin.readline())
    memory = _MEMORY_MB << 20
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_FSIZE, (_OUT_BYTES, _OUT_BYTES))
    for entry in task["frames"]:
        path = Path("in") / entry["file"]
        try:
            if not path.is_file():
                raise BadInput(f"{entry['file'].split('-', 1)[1]} is no longer there.")
            print(json.dumps({"frame": entry["frame"], "pixels": _pixels(path)}), file=answer, flush=True)
            for done in _DOES[task["do"]](task, path, entry):
                print(json.dumps(done), file=answer, flush=True)
        except BadInput as error:
            said = error.sentence.replace(entry["file"], entry["file"].split("-", 1)[1])
            print(json.dumps({"frame": entry["frame"], "error": said, "code": error.code}), file=answer, flush=True)
        except MemoryError:
            said = f"{entry['file'].split('-', 1)[1]} needs more than {_MEMORY_MB} MB of memory: render that frame smaller."
            print(json.dumps({"frame": entry["frame"], "error": said}), file=answer, flush=True)
    answer.flush()
    os._exit(0)


if __name__ == "__main__":
    main()
