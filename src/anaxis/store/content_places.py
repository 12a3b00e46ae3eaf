"""A place outside PostgreSQL where bytes are kept: a folder, or an object store for which fsspec has a driver."""

from __future__ import annotations

import os
from collections.abc import Callable
from functools import lru_cache
from hashlib import sha256
from pathlib import Path
from typing import Any, ParamSpec, TypeVar
from urllib.parse import urlsplit

from anaxis.core.errors import BadInput

P = ParamSpec("P")
T = TypeVar("T")

SETTING = "ANAXIS_CONTENTS"
# A file of this name tells a place that was set up from the mount point of a share that is not mounted, or from a wrong bucket.
MARKER = "anaxis-contents"
# A file that is being written: what a killed process leaves has this ending, too.
_PARTIAL = ".part"
# A store that does not answer is said within a minute, and no request waits longer.
_S3_OPTIONS = {"config_kwargs": {"connect_timeout": 5, "read_timeout": 30, "retries": {"max_attempts": 3}}}


class PlaceAway(BadInput):
    """A place that cannot be reached now; what it holds is there again once it can be reached."""

    code = "service_away"


class ContentMissing(BadInput):
    """Bytes that a reachable place no longer has, or has damaged."""

    code = "contents_missing"


def key_of(digest: str) -> str:
    """Where bytes of a checksum are in a place that has them once: a folder for each first two characters."""
    return f"{digest[:2]}/{digest}"


def chosen_url() -> str | None:
    """The URL of the place that ANAXIS_CONTENTS names; None: bytes are kept in PostgreSQL. Raises BadInput for a setting that names none."""
    given = os.environ.get(SETTING, "").strip()
    if not given:
        return None
    if "://" not in given:
        return Path(given).expanduser().absolute().as_uri()
    parts = urlsplit(given)
    if parts.password or parts.username or parts.query:
        raise BadInput(
            f"{SETTING} contains a password or options: write the bucket alone, as in s3://bucket/folder, "
            "and set AWS_ACCESS_KEY_ID, AWS_SECRET_ACCESS_KEY and AWS_ENDPOINT_URL."
        )
    return given.rstrip("/")


@lru_cache(maxsize=64)
def place_at(url: str) -> Place:
    """Raises BadInput for a URL that no installed driver can open."""
    from fsspec.core import url_to_fs  # loaded where bytes are kept outside PostgreSQL alone

    try:
        files, root = url_to_fs(url, **(_S3_OPTIONS if url.startswith("s3://") else {}))
    except ImportError as error:
        raise BadInput(
            f"{SETTING} is '{url}', and its driver is not installed: install anaxis[s3], or the driver of fsspec for it."
        ) from error
    except ValueError as error:
        raise BadInput(
            f"{SETTING} is '{url[:200]}', which names no kind of place: write a folder, or an address such as s3://bucket/folder."
        ) from error
    return Place(url, files, str(root).rstrip("/"))


class Place:
    """Bytes under keys ``xx/name`` below one URL. Every method raises PlaceAway where the place cannot be reached."""

    def __init__(self, url: str, files: Any, root: str) -> None:
        self.url, self._files, self._root = url, files, root
        self._is_folder = url.startswith("file://")

    def set_up(self) -> None:
        """Make the place ready for its first bytes. Only this method makes a folder, and a folder alone whose parent is there."""
        said = b"Anaxis keeps bytes here. Do not remove this file.\n"
        if not self._is_folder:
            self._write(MARKER, said)
            return
        try:
            Path(self._root).mkdir(exist_ok=True)
            Path(self._root, MARKER).write_bytes(said)  # two processes may do so at once
        except OSError as error:
            raise self._away(error) from error

    def require(self) -> None:
        """Raises PlaceAway where the place was not set up, or is not the place that was."""
        if not self._reached(self._files.exists, self._path(MARKER)):
            raise PlaceAway(
                f"The stored bytes cannot be reached: {self.url} does not contain the file '{MARKER}' that Anaxis wrote there. Ask an "
                "administrator to mount the folder on this machine, or to correct the bucket."
            )

    def write(self, key: str, data: bytes) -> None:
        """Keep bytes under a key that is new. A folder has them on its disk, and under their name, once this returns."""
        if self._is_folder:
            self.require()
        self._write(key, data)

    def _write(self, key: str, data: bytes) -> None:
        try:
            self._reached(_write_file if self._is_folder else self._files.pipe_file, self._path(key), data)
        except FileNotFoundError as error:
            raise self._away(error) from error

    def read(self, key: str, digest: str) -> bytes:
        """The bytes of this checksum. Raises ContentMissing where the place has no such key, or other bytes under it."""
        try:
            data = bytes(self._reached(self._files.cat_file, self._path(key)))
        except FileNotFoundError as error:
            self.require()
            raise ContentMissing(
                f"The bytes '{key}' are missing in {self.url}: run 'anaxis contents check --from' with the folder of a backup."
            ) from error
        if sha256(data).hexdigest() != digest:
            raise ContentMissing(
                f"The bytes '{key}' in {self.url} are damaged: run 'anaxis contents check --from' with the folder of a backup."
            )
        return data

    def remove(self, keys: list[str]) -> None:
        """Remove what is under these keys; one that is not there is removed already."""
        for key in keys:
            for path in (key, f"{key}{_PARTIAL}") if self._is_folder else (key,):
                try:
                    self._reached(self._files.rm_file, self._path(path))
                except FileNotFoundError:
                    self.require()

    def has(self, key: str) -> bool:
        return bool(self._reached(self._files.exists, self._path(key)))

    def _path(self, key: str) -> str:
        return f"{self._root}/{key}"

    def _reached(self, operation: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
        try:
            return operation(*args, **kwargs)
        except FileNotFoundError:
            raise
        except Exception as error:  # drivers raise errors of their own kinds
            raise self._away(error) from error

    def _away(self, error: Exception) -> PlaceAway:
        reason = (str(error).strip().splitlines() or [type(error).__name__])[0][:200]
        return PlaceAway(
            f"The place of stored bytes {self.url} cannot be used ({reason}): check that it can be reached, is writable and has free space."
        )


def _write_file(path: str, data: bytes) -> None:
    """A file is whole or not there, also after the power fails."""
    final = Path(path)
    final.parent.mkdir(exist_ok=True)
    partial = final.with_name(f"{final.name}{_PARTIAL}")
    with partial.open("wb") as out:
        out.write(data)
        out.flush()
        os.fsync(out.fileno())
    partial.replace(final)
    folder = os.open(final.parent, os.O_RDONLY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)
