"""What a process that works on what came in may do: nothing but compute, and read the one folder it was given.

It is called before anything is loaded or read, by the process itself. Each measure is taken where the machine has it:

- no new privileges, ever (``prctl``), and no capabilities;
- another user, ``nobody``, where it was started as root and that user can reach the code;
- no network: a network namespace of its own, empty; where that cannot be made, no TCP by Landlock, and that is said;
- of the file system the code, the system's libraries and its own folder, by Landlock (Linux 5.13 and later).

Sources: prctl(2), unshare(2), capabilities(7), landlock(7).
"""

from __future__ import annotations

import ctypes
import os
import pwd
import struct
import sys
import sysconfig
from collections.abc import Iterable
from pathlib import Path

import anaxis.core

_NEW_USER, _NEW_NET, _NEW_IPC, _NEW_UTS = 0x10000000, 0x40000000, 0x08000000, 0x04000000
_NO_NEW_PRIVILEGES, _DROP_FROM_BOUNDS, _LAST_CAPABILITY = 38, 24, 40
_CAPSET_VERSION = 0x20080522
_LANDLOCK_CREATE, _LANDLOCK_ADD, _LANDLOCK_RESTRICT = 444, 445, 446
# Execute, read a file, read a folder: what is looked at. All rights on files up to ABI 3, and ABI 4's on TCP.
_LOOK, _EXECUTE_AND_LOOK, _ALL_FILES, _ALL_TCP = 0b1100, 0b1101, (1 << 15) - 1, 0b11
_ON_A_FILE = 0b100_0000_0000_0111  # execute, write, read, truncate
_SYSTEM = (
    "/usr", "/lib", "/lib64", "/lib32", "/sys/devices/system", "/var/cache/fontconfig",
    *(f"/etc/{name}" for name in ("ld.so.cache", "localtime", "ssl", "fonts", "mime.types")),
)  # fmt: skip
_PROC = ("/proc/self", "/proc/cpuinfo", "/proc/meminfo", "/proc/stat", "/proc/sys")
_DEVICES = ("/dev/null", "/dev/zero", "/dev/urandom", "/dev/random")
USER = "nobody"

_libc = ctypes.CDLL(None, use_errno=True)


def confine(own: Path) -> list[str]:
    """Take every measure there is; ``own`` is the folder that may be read and written. Returns what could not be had."""
    missing = []
    _libc.prctl(_NO_NEW_PRIVILEGES, 1, 0, 0, 0)
    has_network = not _without_network()
    if os.geteuid() == 0:
        out_of_reach = _out_of_reach(own)
        if out_of_reach:
            missing.append(f"another user ({USER} cannot reach {out_of_reach[0]})")
        else:
            user = pwd.getpwnam(USER)
            try:
                os.setgroups([])
                os.setresgid(user.pw_gid, user.pw_gid, user.pw_gid)
                os.setresuid(user.pw_uid, user.pw_uid, user.pw_uid)
            except OSError as error:
                missing.append(f"another user ({error.strerror})")
        _without_capabilities()
    abi = _libc.syscall(_LANDLOCK_CREATE, None, 0, 1)
    if abi < 1 or not _only(own, abi):
        missing.append("files: this system has no Landlock")
    if has_network:
        missing.append(f"network: no namespace of its own{', TCP alone is denied' if abi >= 4 else ''}")
    return missing


def confine_more(own: Path) -> None:
    """In a process that was forked from one confined to more folders: from now on to this one of them."""
    abi = _libc.syscall(_LANDLOCK_CREATE, None, 0, 1)
    if abi >= 1:
        _only(own, abi)


def runs_as(own: Path) -> str:
    """The user that such a process works as, with this folder."""
    if os.geteuid() != 0:
        return pwd.getpwuid(os.geteuid()).pw_name
    return "root" if _out_of_reach(own) else USER


def _out_of_reach(own: Path) -> list[Path]:
    """What the other user cannot come to, of the code and the folder's own place."""
    try:
        user = pwd.getpwnam(USER)
    except KeyError:  # there is no such user
        return [own]
    return [p for p in (*_code(), own.parent.resolve()) if not _walkable(p, user)]


def _code() -> list[Path]:
    paths = {sys.prefix, sys.base_prefix, sysconfig.get_paths()["stdlib"], str(Path(anaxis.core.__file__).parents[2])}
    return [Path(p).resolve() for p in sorted(paths)]


def _walkable(path: Path, user: pwd.struct_passwd) -> bool:
    for step in (path, *path.parents):
        info = step.stat()
        shift = 6 if info.st_uid == user.pw_uid else 3 if info.st_gid == user.pw_gid else 0
        if not (info.st_mode >> shift) & 1:
            return False
    return True


def _without_network() -> bool:
    if os.geteuid() == 0:
        return bool(_libc.unshare(_NEW_NET | _NEW_IPC | _NEW_UTS) == 0)
    return bool(_libc.unshare(_NEW_USER | _NEW_NET | _NEW_IPC) == 0)


def _without_capabilities() -> None:
    for capability in range(_LAST_CAPABILITY + 1):
        _libc.prctl(_DROP_FROM_BOUNDS, capability, 0, 0, 0)
    header = ctypes.create_string_buffer(struct.pack("=Ii", _CAPSET_VERSION, 0))
    _libc.capset(header, ctypes.create_string_buffer(24))


def _only(own: Path, abi: int) -> bool:
    """Landlock: from now on this process opens nothing else."""
    files = _ALL_FILES & ~((1 << 14) if abi < 3 else 0) & ~((1 << 13) if abi < 2 else 0)
    handled = struct.pack("=QQ", files, _ALL_TCP if abi >= 4 else 0)[: 16 if abi >= 4 else 8]
    rules = _libc.syscall(_LANDLOCK_CREATE, handled, len(handled), 0)
    if rules < 0:
        return False
    try:
        _allow(rules, [*_code(), *map(Path, _SYSTEM)], _EXECUTE_AND_LOOK, files)
        _allow(rules, map(Path, _PROC), _LOOK, files)
        _allow(rules, map(Path, _DEVICES), files, files)
        _allow(rules, [own], files, files)
        return bool(_libc.syscall(_LANDLOCK_RESTRICT, rules, 0) == 0)
    finally:
        os.close(rules)


def _allow(rules: int, paths: Iterable[Path], rights: int, handled: int) -> None:
    for path in paths:
        try:
            at = os.open(path, os.O_PATH | os.O_CLOEXEC)
        except OSError:  # what is not there, or not to be reached, needs no rule
            continue
        wanted = rights & handled & (-1 if path.is_dir() else _ON_A_FILE)
        _libc.syscall(_LANDLOCK_ADD, rules, 1, struct.pack("=Qi", wanted, at), 0)
        os.close(at)
