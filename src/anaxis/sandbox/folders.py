"""A folder of our own for all that is put aside, and in it one for each process that works on what came in.

What a killed process left is cleared by whoever started it, and what a killed owner left when the next one starts.
"""

from __future__ import annotations

import atexit
import os
import pwd
import shutil
import subprocess
import tempfile
from pathlib import Path

from anaxis.core.errors import BadInput
from anaxis.formats.usd import LAYER_SUFFIXES
from anaxis.sandbox.confine import USER, runs_as
from anaxis.sandbox.confined import confined


def settle(base: Path | None = None) -> Path:
    """From now on this process puts things aside in a folder of its own, gone when it ends; what others left is cleared."""
    # A process of ours that was started by another has its folder beside that one's, not in it.
    base = base or Path(os.environ.setdefault("ANAXIS_TMP", tempfile.gettempdir())) / f"anaxis-{os.geteuid()}"
    base.mkdir(mode=0o711, parents=True, exist_ok=True)
    if base.stat().st_uid != os.geteuid():  # somebody else was here first: not ours to trust
        base = Path(tempfile.mkdtemp(prefix="anaxis-"))
    for left in base.iterdir():
        if not _lives(left.name):
            shutil.rmtree(left, ignore_errors=True)
    own = base / f"{os.getpid()}-{_born(os.getpid())}"
    own.mkdir(mode=0o711, exist_ok=True)
    tempfile.tempdir = os.environ["TMPDIR"] = str(own)
    atexit.register(shutil.rmtree, own, ignore_errors=True)
    return own


def _born(pid: int) -> int:
    """When a process began, in clock ticks since the machine started (proc(5), starttime). A time of day would be another
    one after the clock was set, and the folder of a living process would be cleared. Raises OSError where there is none."""
    after_name = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return int(after_name[19])


def _lives(name: str) -> bool:
    pid, _, born = name.partition("-")
    try:
        return _born(int(pid)) == int(born)  # another process may have the number by now
    except (ValueError, OSError):
        return False


def how_readers_work() -> str:
    """A sentence on what the processes that work on what came in may do on this machine, and what could not be had."""
    folder = made_for_a_reader()
    user = runs_as(folder)
    try:
        done = subprocess.run(confined("confined", folder), capture_output=True, text=True, timeout=60)
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    said = f"files are read as the user {user}, with no new privileges, no network and nothing but the file in sight"
    missing = [line for line in done.stdout.splitlines() if line]
    if done.returncode:
        missing = [f"any of it ({(done.stderr.splitlines() or ['?'])[-1]})"]
    return said + (f"; this machine does not allow: {'; '.join(missing)}" if missing else "")


def made_for_a_reader(within: Path | None = None) -> Path:
    """A fresh folder that only a process which works on what came in may use, whoever it works as."""
    folder = Path(tempfile.mkdtemp(prefix="reader-", dir=within))
    if os.geteuid() == 0 and runs_as(folder) == USER:
        user = pwd.getpwnam(USER)
        os.chown(folder, user.pw_uid, user.pw_gid)
    return folder


def handed_in(path: Path, folder: Path) -> Path:
    """The file at ``path`` put into a reader's folder under its own name; one that is not there is not there either,
    which the reader says."""
    inside = folder / "in"
    inside.mkdir(mode=0o755)
    to = inside / path.name
    if path.is_file():
        _put(path, to)
    return to


def with_layers(path: Path, within: Path, folder: Path, most: int) -> Path:
    """The same of a file of the folder ``within``, with every layer that lies in it or below, each in its place. Raises BadInput for a
    file that does not lie in it, and for more than ``most`` layers."""
    within, path = within.resolve(), path.resolve()
    if not path.is_relative_to(within):
        raise BadInput(f"{path.name} is not in {within}: name the folder with it and the files it refers to.")
    inside = folder / "in"
    inside.mkdir(mode=0o755)
    layers = [
        p
        for p in within.rglob("*")
        if p.suffix.lower() in LAYER_SUFFIXES and p.is_file() and p.resolve().is_relative_to(within)
    ]
    if len(layers) > most:
        raise BadInput(
            f"{within} holds {len(layers)} layers; the maximum is {most}: name a folder with the layers of this shot only."
        )
    for layer in {*layers, path}:
        to = inside / layer.relative_to(within)
        to.parent.mkdir(mode=0o755, parents=True, exist_ok=True)
        _put(layer, to)
    return inside / path.relative_to(within)


def _put(path: Path, to: Path) -> None:
    try:
        if os.geteuid() == 0:
            raise OSError  # a link would keep its owner and its rights
        os.link(path, to)
    except OSError:
        shutil.copyfile(path, to)
        to.chmod(0o644)
