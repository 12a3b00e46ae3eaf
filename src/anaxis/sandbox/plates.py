"""Pictures of a plate, worked on in one or two confined processes (:mod:`anaxis.sandbox.plate_tasks`), some at a time.

A picture that makes its process stop is named, and another process goes on with the others.
"""

from __future__ import annotations

import os
import shutil
import time
from collections import deque
from collections.abc import Callable, Generator, Iterator, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any, BinaryIO

from anaxis.core.errors import BadInput
from anaxis.core.image_plane import Pictures
from anaxis.formats.plates.found import sequence_at
from anaxis.sandbox.forks import AGAIN_S, Fork, ForkEnded, Gone
from anaxis.sandbox.guard import limits_from_environment
from anaxis.sandbox.messages import BadMessage, Document
from anaxis.sandbox.pictures import PICTURE_READERS

# A picture of so many pixels may take ANAXIS_FILE_SECONDS, a larger one as much longer as it is larger.
_USUAL_PIXELS = 1920 * 1080
_LONGEST = 40  # times as long, whatever a header says of its picture
# Two processes share a sequence if this machine has two processors. Each works on while the results of the other are taken.
_PROCESSES, _WORTH_TWO = min(2, len(os.sched_getaffinity(0))), 4
# The files of so many pictures lie beside their process at once.
_AT_ONCE = 24 // _PROCESSES


def _opened(path: Path) -> BinaryIO:
    return path.open("rb")


def plate_work(
    task: Mapping[str, Any],
    files: Mapping[int, Path],
    maps: Mapping[int, Path] | None = None,
    folder: Path | None = None,
    opened: Callable[[Path], BinaryIO] | None = None,
) -> Iterator[Document]:
    """A task on each of the frames: yields {"frame", ...} one by one, with "error" where a frame could not be worked on.

    ``task`` is {"do": "facts"}, {"do": "proxies", ...} or {"do": "warp", ...}. ``maps`` are ST maps by frame, or under 0
    the one for all. Files that are written (under "file") are moved to ``folder``, and stand under "path".
    ``opened`` opens files that lie where not everything may be opened; the others are found by their paths.
    """
    ordered = sorted(files.items())
    count = _PROCESSES if len(files) >= _WORTH_TWO else 1
    gone: list[tuple[int, Path]] = []
    going = deque(_worked(task, ordered[k::count], maps or {}, folder, opened, gone) for k in range(count))
    try:
        while going:
            one = going.popleft()
            done = next(one, None)
            if done is not None:
                going.append(one)
                yield done
    finally:
        for one in going:
            one.close()
    # Each is read alone now: a picture that ends the shared process ends no work on another one.
    for frame, path in gone:
        time.sleep(AGAIN_S)
        twice: list[tuple[int, Path]] = []
        yield from _worked(task, [(frame, path)], maps or {}, folder, opened, twice)
        if twice:
            sentence = f"{path.name} was not read: its process ended twice (is this machine out of memory?). Try again."
            yield {"frame": frame, "error": sentence, "code": "stopped"}


def _worked(
    task: Mapping[str, Any],
    files: Sequence[tuple[int, Path]],
    maps: Mapping[int, Path],
    folder: Path | None,
    opened: Callable[[Path], BinaryIO] | None,
    gone: list[tuple[int, Path]],
) -> Generator[Document, None, None]:
    """The frames worked on one after the other, some of them in a process; ``gone`` gets those at which the process that all of
    them are forked from ended."""
    left = deque(files)
    while left:
        undone = dict(left.popleft() for _ in range(min(_AT_ONCE, len(left))))
        try:
            yield from _batch(dict(task), undone, maps, folder, opened)
        except Gone:
            gone.append(next(iter(undone.items())))
            del undone[gone[-1][0]]
        left.extendleft(reversed(undone.items()))  # those behind one that made its process stop


def pictures_on_plane(plate: Path) -> Pictures:
    """The plate's files by frame, as they lie here, and one of them small, for files that hold no sequence. Raises BadInput."""
    found = sequence_at(plate)
    first = min(found.files)
    (done,) = plate_work({"do": "proxies", "view": "plain", "stops": 0.0}, {first: Path(found.files[first])})
    if "error" in done:
        raise BadInput(done["error"])
    files = {} if found.is_movie else {f: Path(p).resolve().as_posix() for f, p in found.files.items()}
    return Pictures(found.name, files, done["data"])


def _batch(
    task: Document,
    files: dict[int, Path],
    maps: Mapping[int, Path],
    target: Path | None,
    opened: Callable[[Path], BinaryIO] | None,
) -> Iterator[Document]:
    """Some frames in one process; each is taken out of ``files`` when it is done. Raises Gone."""
    with PICTURE_READERS.fork() as reader:
        inside, out = reader.folder / "in", reader.folder / "out"
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
        yield from _ask(reader, task | {"frames": listed}, files, target)


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


def _ask(reader: Fork, task: Document, files: dict[int, Path], target: Path | None) -> Iterator[Document]:
    usual_s = limits_from_environment().wall_s
    patience_s, sent = _patience_s(usual_s), False
    try:
        reader.send(task, patience_s)
        sent = True
        while files:
            done, _ = reader.receive(patience_s)
            patience_s = _patience_s(usual_s, done.get("pixels", 0))  # each picture has its own time
            if "pixels" in done or done.get("frame") not in files:
                continue
            if not done.pop("more", False):  # a movie has many pictures
                del files[done["frame"]]
            if not done.pop("over", False):
                yield _moved(done, reader.folder, target)
    except (TimeoutError, ForkEnded, BadMessage) as error:
        # The process stopped at this picture: another one goes on with the others.
        frame, path = next(iter(files.items()))
        del files[frame]
        name, too_slow = path.name, isinstance(error, TimeoutError)
        if too_slow:
            sentence = (
                f"{name} took longer than {patience_s:.0f} s and was stopped: try again when this machine is less busy, or raise ANAXIS_FILE_SECONDS for pages and workers."
                ""
            )
        elif sent:
            sentence = f"{name} made its reader stop: it is damaged or needs too much memory. Render that frame again."
        else:
            sentence = f"{name} made its reader stop before the picture was read: try again."
        yield {"frame": frame, "error": sentence, "code": "too_slow" if too_slow else "stopped"}


def _patience_s(usual_s: float, pixels: int = 0) -> float:
    """How long a picture may take before it is given up; a larger one longer."""
    return usual_s * min(max(1.0, pixels / _USUAL_PIXELS), _LONGEST)


def _moved(done: Document, own: Path, target: Path | None) -> Document:
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
