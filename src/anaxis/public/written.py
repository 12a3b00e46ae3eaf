"""Cameras written for packages, each proved."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.proof.proof import Proof
from anaxis.delivery.options import USUAL, DeliveryOptions
from anaxis.delivery.transfer_sheet import CameraOrigin
from anaxis.library.sending import Frames, GoingOut, SendOrder, origin_of_derived, origin_of_file, send, transfer_entry
from anaxis.packages import find_profile
from anaxis.packages.model import Profile
from anaxis.public.origin import Origin

_MATCHES_PX = 0.01


@dataclass(frozen=True, eq=False)
class Written:
    """One camera that was written for a package in a format, and its proof: the file opened again as the package would open it."""

    camera: str
    package: str
    format: str
    files: tuple[Path, ...]
    proof: Proof
    findings: tuple[Finding, ...]
    notes: tuple[str, ...]
    bundle: Path | None
    _document: dict[str, Any]

    @property
    def matches(self) -> bool:
        """Whether every frame arrived within 0.01 px, and nothing else is another."""
        return self.proof.within(_MATCHES_PX)

    def document(self) -> dict[str, Any]:
        """The same as plain JSON: an entry of the ``deliveries`` that ``anaxis transfer --json`` prints."""
        return dict(self._document)


class Leaving(NamedTuple):
    """A camera as it goes out, and where it came from."""

    going: GoingOut
    origin: Origin


class Order(NamedTuple):
    """How cameras are written; see :func:`anaxis.write`."""

    together: bool = False
    bundle: bool = False
    name: str | None = None
    expect: Frames | None = None
    force: bool = False
    options: DeliveryOptions = USUAL


def write_leaving(
    leaving: Sequence[Leaving], packages: Sequence[str | Profile], formats: Sequence[str], out: Path, order: Order
) -> list[Written]:
    """Write cameras; see :func:`anaxis.write`. Raises BadInput."""
    stem = Path(leaving[0].origin.name).stem
    asked = SendOrder(
        [find_profile(p) for p in packages], list(formats), order.options, stem if order.together else "", stem if order.name is None else order.name,
        order.expect, order.force, _origins(leaving) if order.bundle else None,
    )  # fmt: skip
    sent = send([one.going for one in leaving], out, asked)
    if sent.refused:
        first = sent.refused[0]
        raise BadInput(f"There is no {first['format']} file for {first['to']}: {first['why']}")
    zips = dict(zip((p.key for p in asked.profiles), (Path(sent.moved[z]) for z in sent.zips), strict=False))
    return [
        Written(
            camera.work.path, profile.key, key, tuple(Path(sent.moved[f.name]) for f in one.files), one.proof, tuple(camera.findings),
            tuple(one.outgoing.notes), zips.get(profile.key), transfer_entry(profile.key, key, one, order.options.reduce_px),
        )
        for profile, camera, key, one in sent.deliveries
    ]  # fmt: skip


def _origins(leaving: Sequence[Leaving]) -> Callable[[GoingOut], CameraOrigin]:
    """What a manifest says of where each camera came from."""
    of = {id(one.going): one.origin for one in leaving}

    def origin(out: GoingOut) -> CameraOrigin:
        from_ = of[id(out)]
        if from_.made is not None:
            return origin_of_derived(from_.made, out, frozenset())
        return origin_of_file(from_.name, from_.sha256, out, frozenset())

    return origin
