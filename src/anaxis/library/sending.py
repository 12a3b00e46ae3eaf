"""Cameras of files written for packages into a folder, each proved: what ``anaxis transfer`` and its like do."""

from __future__ import annotations

import hashlib
import shutil
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any, NamedTuple

from anaxis.core.checks import Expected
from anaxis.core.checks.examine import between_samples, checked_camera
from anaxis.core.checks.times import stated_range
from anaxis.core.derive.derived import Derived, scene_of
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.number_text import px_text
from anaxis.core.proof.proof import Proof, owing
from anaxis.core.recipe.documents import recipe_document
from anaxis.core.recipe.effects import placement_of
from anaxis.core.recipe.model import Recipe, Work, no_sets
from anaxis.core.scene.nodes import Scene
from anaxis.core.scene.picture import Picture, picture_of
from anaxis.core.time.rates import format_frame, plain_frame
from anaxis.delivery.deliver import deliver_in_formats, file_stem
from anaxis.delivery.handover import handover_zip
from anaxis.delivery.options import DeliveryOptions
from anaxis.delivery.proved import Delivered
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.delivery.transfer_sheet import CameraOrigin, MadeFrom, handed_of
from anaxis.packages.model import Profile

Frames = tuple[float, float]


class GoingOut(NamedTuple):
    """One camera, what was done to it, how it leaves, and what was noticed about it."""

    work: Work
    recipe: Recipe
    leaving: ShotCamera
    findings: list[Finding]

    def open_warnings(self, allowed: frozenset[str]) -> list[Finding]:
        """The warnings that are of none of the codes ``allowed``."""
        return [f for f in self.findings if f.severity != "note" and f.code not in allowed]


class Sent(NamedTuple):
    """What was written: each camera for a package in a format, refusals, where files of a name lie, and zips."""

    deliveries: list[tuple[Profile, GoingOut, str, Delivered]]
    refused: list[dict[str, str]]
    moved: dict[str, str]
    zips: list[str]

    @property
    def proofs(self) -> list[Proof]:
        return [one.proof for *_, one in self.deliveries]

    def entries(self, reduce_px: float | None) -> list[dict[str, Any]]:
        """Each delivery as JSON, with its camera and the files that were moved."""
        out = []
        for profile, camera, key, one in self.deliveries:
            entry = {"camera": camera.work.path, **transfer_entry(profile.key, key, one, reduce_px)}
            out.append(entry | {"files": [self.moved[f] for f in entry["files"] if f in self.moved]})
        return out

    def worst(self, tolerance_px: float) -> Proof | None:
        """The proof that is worst: one that is off before one that is within the tolerance, then by pixels."""
        return max(self.proofs, key=lambda p: (not p.within(tolerance_px), p.max_px), default=None)

    def off(self, tolerance_px: float) -> list[str]:
        """Sentences about what does not match within the tolerance; none where everything does."""
        off = [p for p in self.proofs if not p.within(tolerance_px)]
        worst = max(off, key=lambda p: p.max_px, default=None)
        said = []
        if worst is not None and worst.max_px > tolerance_px:
            said.append(
                f"The delivered camera differs by {px_text(worst.max_px)} at frame {format_frame(worst.worst_frame)}, "
                f"above the tolerance of {tolerance_px:g} px."
            )
        return [*said, *dict.fromkeys(s for p in off for s in _beside_pixels(p))]


def _beside_pixels(proof: Proof) -> list[str]:
    """Sentences about what does not arrive as meant beside the pixels."""
    out = [f"The delivered camera has another {d.sentence}." for d in proof.differences if d.matters]
    if len(proof.missing):
        out.append(
            f"{len(proof.missing)} of the {proof.owed} expected frames are missing, the first is {format_frame(proof.missing[0])}."
        )
    return out


def going_out(
    scene: Scene, camera: str | None, recipe: Recipe, picture: Picture, samples: int = 1, expect: Frames | None = None,
    sets: Callable[[str], Scene] = no_sets,
) -> GoingOut:  # fmt: skip
    """A camera of a file after its recipe, with every check; with more than one of ``samples`` a frame, those of the file come
    along. ``sets`` finds the set of another file by its SHA-256. Raises BadInput."""
    owed = Expected(*expect) if expect is not None else Expected()
    work, findings = checked_camera(scene, camera, recipe, owed, picture, sets)
    has, finer = between_samples(scene, work, recipe, wanted=samples > 1)
    leaving = ShotCamera(
        work.done, work.landmarks, picture, placement_of(recipe), work.lines_m, finer, has, along=work.set_along,
    )  # fmt: skip
    return GoingOut(work, recipe, leaving, findings)


def derived_going_out(made: Derived, findings: Sequence[Finding] = ()) -> GoingOut:
    """A camera that was made from others, with every check behind ``findings``."""
    scene = scene_of(made, made.track.name)
    picture = picture_of(scene, None, None)
    work, noticed = checked_camera(scene, None, (), Expected(), picture)
    leaving = ShotCamera(work.done, work.landmarks, picture, lines_m=work.lines_m)
    return GoingOut(work, (), leaving, [*findings, *noticed])


def origin_of(file: Path, camera: GoingOut, allowed: frozenset[str]) -> CameraOrigin:
    """Where a camera came from, for a manifest and a transfer sheet."""
    return origin_of_file(file.name, hashlib.sha256(file.read_bytes()).hexdigest(), camera, allowed)


def origin_of_file(name: str, checksum: str, camera: GoingOut, allowed: frozenset[str]) -> CameraOrigin:
    """The same of a file whose checksum is known."""
    warnings = tuple(f.message for f in camera.open_warnings(allowed))
    return CameraOrigin(name, checksum, camera.work.path, recipe_document(camera.recipe), warnings=warnings)


def origin_of_derived(made: MadeFrom, camera: GoingOut, allowed: frozenset[str]) -> CameraOrigin:
    """The same of a camera that was made from others: its checksum is that of what it was made of."""
    warnings = tuple(f.message for f in camera.open_warnings(allowed))
    return CameraOrigin(made.kind, made.sha256, camera.work.path, [], made=made, warnings=warnings)


@dataclass(frozen=True)
class SendOrder:
    """For which packages, in which formats and how cameras are written.

    ``together`` names one file for all cameras, ``shot`` goes in front of the files' names. ``expect`` are the frames owed, where
    they were said. ``force`` replaces files. ``origin`` says where a camera came from, for a zip for each package; ``along`` are
    files that go beside, by name.
    """

    profiles: Sequence[Profile]
    formats: Sequence[str]
    options: DeliveryOptions = field(default_factory=DeliveryOptions)
    together: str = ""
    shot: str = ""
    expect: Frames | None = None
    force: bool = False
    origin: Callable[[GoingOut], CameraOrigin] | None = None
    along: Mapping[str, bytes] = field(default_factory=dict)


def send(cameras: list[GoingOut], out: Path | None, order: SendOrder) -> Sent:
    """Write cameras, prove them, and move the files to ``out``; where it is None nothing is kept.

    Raises BadInput, and then nothing is written.
    """
    together, shot, origin, along = order.together, order.shot, order.origin, order.along
    leaving = [c.leaving for c in cameras]
    sent: list[tuple[Profile, GoingOut, str, Delivered]] = []
    refused: list[dict[str, str]] = []
    zips: list[str] = []
    try:
        if out is not None:
            out.mkdir(parents=True, exist_ok=True)
        # Written aside and moved, so that a failure leaves no half file where one is expected.
        with TemporaryDirectory(prefix=".anaxis-", dir=out) as aside:
            for profile in order.profiles:
                done, refusals = deliver_in_formats(
                    leaving, profile, order.formats, Path(aside), order.options, together, shot=shot
                )
                refused += [{"to": profile.key, "format": k, "why": why} for k, why in refusals.items()]
                sent += [
                    (profile, camera, key, _owed(one, order.expect or stated_range(camera.work)))
                    for camera, of_one in zip(cameras, done, strict=True)
                    for key, one in of_one.items()
                ]
                if origin is not None:
                    zips.append(f"{file_stem(together or leaving[0].track.name, profile.key, shot)}.zip")
                    handed = [
                        handed_of(c.leaving, profile, of_one, origin(c), refusals, shot)
                        for c, of_one in zip(cameras, done, strict=True)
                    ]
                    (Path(aside) / zips[-1]).write_bytes(handover_zip(handed))
            for name, data in along.items():
                (Path(aside) / name).write_bytes(data)
            if out is None:
                return Sent(sent, refused, {}, [])
            written = list(dict.fromkeys([*(f.name for *_, one in sent for f in one.files), *zips, *along]))
            there = [name for name in written if (out / name).exists()]
            if there and not order.force:
                raise BadInput(
                    f"{out / there[0]} already exists{f', and {len(there) - 1} more of these files' if len(there) > 1 else ''}: "
                    "choose another folder with --out or another --name, or add --force to replace it. Nothing was written."
                )
            moved = {name: str(shutil.move(Path(aside) / name, out / name)) for name in written}
    except OSError as error:
        raise BadInput(
            f"The files cannot be written to {out} ({error.strerror or error}): choose another folder with --out."
        ) from error
    return Sent(sent, refused, moved, zips)


def _owed(done: Delivered, expect: Frames | None) -> Delivered:
    """A delivery whose proof counts the frames the shot owes, where those were said."""
    return done if expect is None else replace(done, proof=owing(done.proof, *expect))


def proof_document(proof: Proof) -> dict[str, Any]:
    """A proof as JSON."""
    return {
        "max_px": proof.max_px, "worst_frame": plain_frame(proof.worst_frame), "median_px": proof.median_px, "grade": proof.grade,
        "test_points": proof.test_points, "frames_compared": proof.compared, "frames_expected": proof.owed,
        "differences": [d._asdict() for d in proof.differences],
        **({"between": {"max_px": proof.between_px, "worst_frame": proof.between_frame}} if proof.between_px is not None else {}),
        **({"plate": {"max_px": proof.plate_px, "worst_frame": proof.plate_frame}} if proof.plate_px is not None else {}),
    }  # fmt: skip


def transfer_entry(to: str, format_key: str, done: Delivered, reduce_px: float | None) -> dict[str, Any]:
    """One delivery as JSON; its files by name."""
    entry: dict[str, Any] = {
        "to": to,
        "format": format_key,
        "files": [f.name for f in done.files],
        "proof": proof_document(done.proof),
        "notes": list(done.outgoing.notes),
        **({"frame_at_zero_s": plain_frame(done.outgoing.zero_frame)} if done.outgoing.zero_frame else {}),
    }
    if done.reduced is not None:
        entry["keys"] = done.reduced.summary() | {"tolerance_px": reduce_px}
        entry["notes"].append(done.reduced.sentence)
    return entry
