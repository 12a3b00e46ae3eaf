"""What takes a processor for a while: files written and proved, packages of files, printed sheets.

For a page it is done in a process apart, so that no other page waits for it, and while no connection is held; the
worker and the command line do it where they are. What goes there is ours; what comes back is plain data.
"""

from __future__ import annotations

import hashlib
import json
import pickle
from collections.abc import Callable, Sequence
from dataclasses import asdict
from fractions import Fraction
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from sqlalchemy.orm import Session

from anaxis.app.examined import Document, Examiner
from anaxis.app.waiting import let_go
from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track
from anaxis.core.derive import derived_kind
from anaxis.core.derive.derived import Inputs, scene_of
from anaxis.core.motion.reduce import Progress
from anaxis.core.motion.resample import at_rate, resampling_error
from anaxis.core.outgoing import Outgoing
from anaxis.core.proof.proof import Proof
from anaxis.core.time.rates import plain_frame
from anaxis.core.typing import Floats
from anaxis.delivery.deliver import deliver_all, deliver_in_formats, file_stem
from anaxis.delivery.handover import handover_zip
from anaxis.delivery.options import Options
from anaxis.delivery.proved import Delivered
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.delivery.transfer_sheet import Source, handed_of, sheet_pdf
from anaxis.diagnosis.covered import Held, coverage, proposals
from anaxis.formats.track_json.document import track_document
from anaxis.packages.model import Profile
from anaxis.store.archive import pack, scene_to_bytes

Made = tuple[Document, list[bytes]]


def made(
    session: Session, work: Callable[..., Made], what: str, *of: Any, progress: Progress = lambda share: None,
    apart: bool = True,
) -> Made:  # fmt: skip
    """A function of this module done apart, or here where nobody waits, or it takes no longer than asking (``apart``).

    Raises BadInput, also Busy.
    """
    maker: Examiner | None = session.info.get("maker") if apart else None
    let_go(session)
    if maker is None:
        return work(*of, progress=progress)
    return maker.ask("anaxis.app.made:unpacked", {"work": work.__name__}, [pickle.dumps(of)], what)


def unpacked(given: Document, blocks: list[bytes]) -> Made:
    """The other end of :func:`made`, in the process apart."""
    return _WORKS[given["work"]](*pickle.loads(blocks[0]))


def written(
    cameras: Sequence[ShotCamera],
    profile: Profile,
    format_key: str,
    options: Options,
    stem: str,
    progress: Progress = lambda share: None,
) -> Made:
    """Cameras in one file, proved: for each what is kept of it, and as blocks its proof and its files."""
    blocks: list[bytes] = []
    out = []
    with TemporaryDirectory(prefix="anaxis-delivery-") as folder:
        for done in deliver_all(cameras, profile, format_key, Path(folder), options, progress, stem):
            proof = done.proof
            blocks.append(pack({}, {"deviation_px": proof.deviation_px, "arrived": done.seen.projection.matrices}))
            one: Document = {"kept": _kept(done), "proof": len(blocks) - 1, "files": []}
            for path in done.files:
                blocks.append(path.read_bytes())
                sha256 = hashlib.sha256(blocks[-1]).hexdigest()
                one["files"].append({"name": path.name, "sha256": sha256, "block": len(blocks) - 1})
            out.append(one)
    return {"deliveries": out}, blocks


def _kept(done: Delivered) -> Document:
    proof = done.proof
    return {
        "notes": list(done.outgoing.notes),
        "options": _options_of(done),
        "max_px": proof.max_px,
        "worst_frame": proof.worst_frame,
        "median_px": proof.median_px,
        "grade": proof.grade,
        "test_points": proof.test_points,
        "arrival": arrival_of(proof),
    }


def arrival_of(proof: Proof) -> Document:
    """What arrived beside the picture, as plain JSON; empty where all of it did."""
    out: Document = {}
    if len(proof.missing):
        out["missing"] = [plain_frame(f) for f in proof.missing.tolist()]
    if proof.differences:
        out["differences"] = [d._asdict() for d in proof.differences]
    if proof.between_px is not None and proof.between_frame is not None:
        out["between"] = {"max_px": proof.between_px, "worst_frame": proof.between_frame}
    if proof.plate_px is not None and proof.plate_frame is not None:
        out["plate"] = {"max_px": proof.plate_px, "worst_frame": proof.plate_frame}
    return out


def _options_of(done: Delivered) -> Document:
    """What was asked of a delivery and what came of it, as plain JSON."""
    usual = asdict(Options())
    out = {k: v for k, v in asdict(done.options).items() if v != usual[k]}
    if done.node:
        out["node"] = done.node
    return out if done.reduced is None else out | {"keys": done.reduced.summary()}


def packed_up(
    cameras: Sequence[ShotCamera],
    sources: Sequence[Source],
    profile: Profile,
    formats: Sequence[str],
    options: Options,
    together: str,
    shot: str,
    progress: Progress = lambda share: None,
) -> Made:
    """The package of files for one receiver: its name, and the zip as a block."""
    with TemporaryDirectory(prefix="anaxis-bundle-") as folder:
        sent = deliver_in_formats(cameras, profile, formats, Path(folder), options, together, progress, shot)
        data = handover_zip(
            [
                handed_of(camera, profile, of_one, source, sent.refused)
                for camera, source, of_one in zip(cameras, sources, sent.done, strict=True)
            ]
        )
    return {"name": f"{file_stem(together or cameras[0].track.name, profile.key, shot)}.zip"}, [data]


def retimed(track: Track, rate: Fraction, image: Image, fit: str, progress: Progress = lambda share: None) -> Made:
    """What sampling a track anew at another rate would lose, at the source's own samples."""
    lost = resampling_error(track, at_rate(track, rate, "time"), image, fit)
    return {"max_px": lost.max_px, "worst_frame": lost.worst_frame}, []


def printed(sheet: str, progress: Progress = lambda share: None) -> Made:
    """A transfer sheet as PDF."""
    return {}, [sheet_pdf(sheet)]


def derived(kind: str, inputs: Inputs, settings: Document, file: str, progress: Progress = lambda share: None) -> Made:
    """A camera made from others: as blocks the scene that holds it, and its track document."""
    found = derived_kind(kind).derive(inputs, settings)
    scene = scene_of(found, file)
    document = track_document(Outgoing(found.track, scene.convention, found.image, found.fit, found.landmarks, ()))
    return {}, [scene_to_bytes(scene), json.dumps(document, allow_nan=False).encode()]


def covered(
    shot: Track,
    image: Image,
    fit: str,
    triangles_m: Floats,
    held: Sequence[Held],
    progress: Progress = lambda share: None,
) -> Made:
    """How much of a shot projection cameras cover, and as a block the arrays of its drawing."""
    document, arrays = coverage(shot, image, fit, triangles_m, held)
    return document, [pack({}, arrays)]


def proposed(shot: Track, image: Image, fit: str, triangles_m: Floats, progress: Progress = lambda share: None) -> Made:
    """The frames to hold a camera at that would cover most of its shot."""
    return {"best": proposals(shot, image, fit, triangles_m)}, []


_WORKS: dict[str, Callable[..., Made]] = {
    w.__name__: w for w in (written, packed_up, retimed, printed, derived, covered, proposed)
}
