"""Cameras written for packages, in formats, each proved; the names of their files."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.names import file_stem_of
from anaxis.core.progress import Progress, no_progress, part_of
from anaxis.core.scene.landmarks import Landmarks, unique_name
from anaxis.core.scene.picture import Picture
from anaxis.delivery.options import USUAL, DeliveryOptions, along, from_zero_up
from anaxis.delivery.proved import Delivered, proved
from anaxis.delivery.ready import made_ready
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.formats import format_of, write_files
from anaxis.formats.nodes import node_names
from anaxis.packages.model import Profile

# Tolerances tried in turn, as shares of the one asked for: what a file's own precision costs must fit in beside the keys.
_TIGHTER = (1.0, 0.85, 0.6, 0.3)


def deliver(
    track: Track,
    landmarks: Landmarks,
    picture: Picture,
    profile: Profile,
    format_key: str,
    folder: Path,
    options: DeliveryOptions = USUAL,
    progress: Progress = no_progress,
) -> Delivered:
    """Write one camera for a package and prove it; see :func:`deliver_all`."""
    camera = ShotCamera(track, landmarks, picture)
    return deliver_all([camera], profile, format_key, folder, options, progress)[0]


def deliver_all(
    cameras: Sequence[ShotCamera],
    profile: Profile,
    format_key: str,
    folder: Path,
    options: DeliveryOptions = USUAL,
    progress: Progress = no_progress,
    stem: str = "",
) -> list[Delivered]:
    """Write cameras into one file for a package and prove each by opening the file again as that package would.

    The file is called ``stem``, or after the first camera and the package. ``progress`` is told the share done
    of what takes long. Raises BadInput for a format that is not written, or holds no several cameras.
    """
    options = from_zero_up(options, cameras, profile)
    own = [along(options, cameras[0], c) for c in cameras]
    path = stem or file_stem(cameras[0].track.name, profile.key)
    done: list[Delivered] = []
    for share in _TIGHTER if options.reduce_px is not None else (1.0,):
        ready = [
            made_ready(c, profile, format_key, o, part_of(progress, i, len(cameras)), share)
            for i, (c, o) in enumerate(zip(cameras, own, strict=True))
        ]
        files = write_files(format_key, [r.sent for r in ready], folder, path)
        names = node_names([r.sent.track.name for r in ready])
        named = names if format_of(format_key).several else [None] * len(ready)
        done = [
            proved(camera, one, files, name, profile, ways)
            for camera, one, name, ways in zip(cameras, ready, named, own, strict=True)
        ]
        # The tolerance holds in the file as written; what more keys cannot mend is no reason for more keys.
        if all(_kept(d, share) for d in done):
            break
    return done


def _kept(done: Delivered, share: float) -> bool:
    """Whether fewer keys cost what was asked for at most, in the file as it arrives, or cost nothing of what is off."""
    asked, reduced = done.options.reduce_px, done.reduced
    if asked is None or reduced is None or done.proof.max_px <= asked:
        return True
    return done.proof.max_px - float(reduced.deviation_px.max()) > asked


class DeliveryBatch(NamedTuple):
    """Several cameras in several formats: for each camera what was delivered, by format; formats ``refused``, and why."""

    done: list[dict[str, Delivered]]
    refused: dict[str, str]


def deliver_in_formats(
    cameras: Sequence[ShotCamera],
    profile: Profile,
    formats: Sequence[str],
    folder: Path,
    options: DeliveryOptions = USUAL,
    together: str = "",
    progress: Progress = no_progress,
    shot: str = "",
) -> DeliveryBatch:
    """Several cameras in several formats. A format that one of them cannot go out in stops no other.

    With ``together``, the name of a file that holds them all, for formats that can; else a file each. Raises
    BadInput where every format is refused.
    """
    out: list[dict[str, Delivered]] = [{} for _ in cameras]
    refused: dict[str, str] = {}
    for i, key in enumerate(formats):
        share = part_of(progress, i, len(formats))
        try:
            done = _in_format(cameras, profile, key, folder, options, together, share, shot)
        except BadInput as error:
            refused[key] = error.sentence
            continue
        for of_one, delivered in zip(out, done, strict=True):
            of_one[key] = delivered
    if len(refused) == len(formats):
        raise BadInput(next(iter(refused.values())))
    return DeliveryBatch(out, refused)


def _in_format(
    cameras: Sequence[ShotCamera], profile: Profile, key: str, folder: Path, options: DeliveryOptions, together: str, progress: Progress, shot: str,
) -> list[Delivered]:  # fmt: skip
    if together and len(cameras) > 1 and format_of(key).several:
        return deliver_all(cameras, profile, key, folder, options, progress, file_stem(together, profile.key, shot))
    done: list[Delivered] = []
    stems: set[str] = set()
    options = from_zero_up(options, cameras, profile)
    for k, camera in enumerate(cameras):
        part = part_of(progress, k, len(cameras))
        stem = unique_name(file_stem(camera.track.name, profile.key, shot), stems)
        done += deliver_all([camera], profile, key, folder, along(options, cameras[0], camera), part, stem)
        part(1.0)
    return done


def file_stem(camera_name: str, profile_key: str, shot: str = "") -> str:
    """The name of a delivered file: shot, camera and package, in their own script, with nothing a file system trips over.

    A name that two of them share stands there once.
    """
    parts = [p for p in (shot, camera_name, profile_key) if p]
    if len(parts) == 3 and (
        shot == camera_name or camera_name.startswith(f"{shot}_") or camera_name.startswith(f"{shot}.")
    ):
        parts = parts[1:]
    return file_stem_of(".".join(parts))[:120] or "camera"
