"""``anaxis take-in``: many camera files kept in the store, each by what its name says."""

from __future__ import annotations

import asyncio
import json
import sys
from collections import deque
from collections.abc import Iterable, Iterator
from concurrent.futures import Future, ProcessPoolExecutor
from contextlib import ExitStack, suppress
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any
from zlib import crc32

import click

from anaxis.cli import options
from anaxis.cli.read import layout_of
from anaxis.cli.store import database_url, opened_store
from anaxis.cli.tables import WARNED, console, left_out, print_json, table
from anaxis.core.errors import BadInput
from anaxis.program import end_with_parent

if TYPE_CHECKING:
    from sqlalchemy import Engine

    from anaxis.app.shows.many_files import Item, Manner

_BAD = 2
_WAITING = 64


@click.command("take-in")
@click.argument("paths", nargs=-1, required=True, metavar="PATH...")
@click.option("--show", default="", help="The show, if the rule has none (default: the last one used).")
@click.option(
    "--rule",
    default="",
    help="Naming rule, such as {shot}_{camera}_v{version} or {show}/{shot}/*_v{version} (default: that of the show, or detected).",
)
@click.option("--recipe", default="", help="Saved recipe for all files.")
@click.option(
    "--accept", multiple=True, metavar="CODE", help="Apply the remedies of findings with this code. May be repeated."
)
@options.columns
@options.new_show
@click.option("--older", is_flag=True, help="Also save files that are older than the saved version.")
@click.option("--dry-run", is_flag=True, help="Show what is in the files without saving.")
@click.option("--whole-zips", is_flag=True, help="Read a zip as one camera with the files it refers to.")
@click.option("--watch", is_flag=True, help="Watch one folder and take in new files, until Ctrl-C.")
@click.option(
    "--jobs", default=2, show_default=True, type=click.IntRange(1, 64), help="Number of files taken in at once."
)
@options.json
def take_in(
    paths: tuple[str, ...], show: str, rule: str, recipe: str, accept: tuple[str, ...], columns: Path | None, new_show: bool, older: bool, dry_run: bool, whole_zips: bool, watch: bool,
    jobs: int, as_json: bool,
) -> None:  # fmt: skip
    """Save the cameras of files, folders and patterns in the store of DATABASE_URL. Files already saved are skipped, with the reason. Exit code 2 if a file could not be taken in; the others are saved."""
    from anaxis.app.cameras.file_names import parts_of
    from anaxis.app.shows.many_files import Manner, names_rule, take_in_one

    if rule.strip():
        parts_of(rule)
    layout = layout_of(columns)
    kept = () if dry_run else ("new", "newer take", "older") if older else ("new", "newer take")
    manner = Manner(rule, show, recipe, accept, new_show, kept)
    items = []
    with opened_store() as engine, TemporaryDirectory("-anaxis-zips") as unpacked:
        if watch:
            folder = _folder_of(paths)
            # An interrupt cancels the look at the folder that is under way.
            with suppress(KeyboardInterrupt, asyncio.CancelledError):
                for path in _coming(folder):
                    item = take_in_one(engine, path.as_posix(), path, _read(path, layout), layout, manner)
                    click.echo(json.dumps(document_of(item)) if as_json else _line(item))
                    items.append(item)
        else:
            files = list(_opened(_files(paths), Path(unpacked), whole_zips))
            for item in _each_taken_in(files, layout, manner, names_rule(engine, manner), jobs):
                items.append(item)
                if not as_json and sys.stderr.isatty():
                    click.echo(f"\r{len(items)} of {len(files)}", err=True, nl=len(items) == len(files))
    if not watch:
        _say(items, as_json)
    if any(i.state == "cannot be taken in" for i in items):
        sys.exit(_BAD)
    if left_out([(i.name, i.state, i.said) for i in items], older or dry_run):
        sys.exit(WARNED)


def _each_taken_in(
    files: Iterable[tuple[str, Path]], layout: dict[str, Any] | None, manner: Manner, rule: str, jobs: int
) -> Iterator[Item]:
    """Every file in order, ``jobs`` of them at once. Files of one shot are taken in by one process, one after the other: a later one may be
    a newer take of an earlier one. At most ``_WAITING`` wait, so that memory does not grow with the number of files."""
    from anaxis.app.cameras.file_names import named_if

    with ExitStack() as stack:
        pools = [stack.enter_context(ProcessPoolExecutor(1, initializer=_begin)) for _ in range(jobs)]
        waiting = deque[Future["Item"]]()
        for name, path in files:
            shot = named_if(name, rule).shot.lower()
            waiting.append(pools[crc32(shot.encode()) % jobs].submit(_take_in_one, name, path, layout, manner))
            if len(waiting) > _WAITING:
                yield waiting.popleft().result()
        for item in waiting:
            yield item.result()


# The database, in a process that takes in files.
_engine: Engine | None = None


def _begin() -> None:
    from anaxis.store.database import connect

    global _engine
    end_with_parent()
    _engine = connect(database_url(), pool=2)


def _take_in_one(name: str, path: Path, layout: dict[str, Any] | None, manner: Manner) -> Item:
    from anaxis.app.shows.many_files import take_in_one

    assert _engine is not None
    return take_in_one(_engine, name, path, _read(path, layout), layout, manner)


def _files(paths: tuple[str, ...]) -> Iterator[Path]:
    """The files meant, each once, in order. Raises BadInput for a path or pattern where there is none."""
    from anaxis.formats import READABLE_SUFFIXES

    seen: set[Path] = set()
    for asked in paths:
        path = Path(asked)
        if path.is_dir():
            found = [p for p in path.rglob("*") if p.suffix.lower() in READABLE_SUFFIXES and p.is_file()]
        elif path.exists():
            found = [path]
        else:
            with suppress(ValueError, NotImplementedError, IndexError):
                anchor = Path(path.anchor) if path.is_absolute() else Path()
                found = [p for p in anchor.glob(str(path.relative_to(path.anchor))) if p.is_file()]
        if not found:
            raise BadInput(f"{asked[-200:]}: no camera files found.")
        for one in sorted(found):
            if one not in seen:
                seen.add(one)
                yield one


def _opened(files: Iterable[Path], unpacked: Path, whole_zips: bool) -> Iterator[tuple[str, Path]]:
    """Each file with what it is called; a zip of several camera files is opened, unless it is to stay whole."""
    from anaxis.formats import MAX_FILE_BYTES, READABLE_SUFFIXES
    from anaxis.formats.zip_upload import UNPACKED_TIMES, unpack

    for number, path in enumerate(files):
        inside: list[Path] = []
        if path.suffix.lower() == ".zip" and not whole_zips:
            folder = unpacked / str(number)
            wanted = tuple(s for s in READABLE_SUFFIXES if s != ".zip")
            with suppress(BadInput):  # which is said where it is read
                inside = unpack(path, folder, UNPACKED_TIMES * MAX_FILE_BYTES, wanted)
        if len(inside) > 1:
            yield from ((f"{path.as_posix()}/{one.relative_to(folder.resolve()).as_posix()}", one) for one in inside)
        else:
            yield path.as_posix(), path


def _folder_of(paths: tuple[str, ...]) -> Path:
    if len(paths) != 1 or not Path(paths[0]).is_dir():
        raise BadInput("--watch takes exactly one folder.")
    return Path(paths[0])


def _coming(folder: Path) -> Iterator[Path]:
    """The files of a folder, and those that come into it, until it is interrupted."""
    from anaxis.app.plates.media_folder import Arrived, arriving
    from anaxis.formats import READABLE_SUFFIXES

    looks = arriving(folder, READABLE_SUFFIXES)

    async def look() -> list[Arrived]:
        return await anext(looks)

    with asyncio.Runner() as runner:
        while True:
            for one in runner.run(look()):
                yield folder / one.path


def _line(item: Item) -> str:
    kept = f", saved as {', '.join(item.cameras)}" if item.kept else ""
    said = f": {item.said}" if item.said else ""
    return f"{item.name}: {item.state}{said}{kept}"


def _read(path: Path, layout: dict[str, Any] | None) -> bytes | str:
    """The scene in a file, a table by its layout, or why it cannot be read."""
    from anaxis.formats import is_table, read_file
    from anaxis.library.archive import scene_to_bytes

    try:
        return scene_to_bytes(read_file(path, layout=layout if is_table(path.name) else None))
    except BadInput as error:
        return error.sentence
    except OSError as error:
        return f"{path.name} cannot be read: {error.strerror}."


def document_of(item: Item) -> dict[str, Any]:
    """A file as the command line prints it."""
    from anaxis.app.documents import FileDocument

    return FileDocument.of(item).model_dump(mode="json")


def _say(items: list[Item], as_json: bool) -> None:
    from anaxis.app.shows.many_files import STATES

    counts = {s: n for s in STATES if (n := sum(i.state == s for i in items))}
    kept = sum(bool(i.kept) for i in items)
    if as_json:
        print_json({"files": [document_of(i) for i in items], "counts": counts, "kept": kept})
        return
    rows = table("file", "shot", "cameras", "version", "state", "findings")
    for i in items:
        version = "" if i.names.version is None else str(i.names.version)
        rows.add_row(
            Path(i.name).name, i.names.shot, ", ".join(i.cameras), version, f"{i.state}{f': {i.said}' if i.said else ''}", ", ".join(i.findings)
        )  # fmt: skip
    console().print(rows)
    click.echo(f"{', '.join(f'{n} {s}' for s, n in counts.items())}; {kept} kept")
