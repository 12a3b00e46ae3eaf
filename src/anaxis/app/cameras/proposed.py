"""Which cameras of a file are proposed to be kept: helpers and copies are left out, each with its reason; and what is to be said
of a file that comes under the name of an earlier one."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select

from anaxis.app.context import Context
from anaxis.core.names import listed
from anaxis.core.scene.nodes import Scene
from anaxis.library.archive import scene_from_bytes
from anaxis.library.scene_report import CameraSummary
from anaxis.store.models import Camera, SourceFile, Version, VersionInput
from anaxis.store.queries import find_shot

# What says of a camera that it is not the shot's.
_NOT_THE_SHOTS = {
    "undistortion_camera": "is for the undistorted picture",
    "helper_camera": "is still while another camera moves",
    "unused_camera": "is unchanged at the origin",
}
# Two cameras that are never further apart, in metres, are copies.
_EXACT_M = 1e-6


def left_out(reports: Sequence[CameraSummary]) -> dict[str, str]:
    """The cameras that are not proposed, by path, with the reason in a few words; of copies the one with most samples stays, the
    first of equal ones. Nothing is left out where nothing would stay."""
    reasons: dict[str, str] = {}
    for report in reports:
        for finding in report.findings:
            if finding.code in _NOT_THE_SHOTS:
                reasons[report.path] = _NOT_THE_SHOTS[finding.code]
    order = {r.path: i for i, r in enumerate(reports)}
    for report in reports:
        for finding in report.findings:
            if finding.code != "duplicate" or finding.numbers["gap_m"] > _EXACT_M:
                continue
            other, here, there = (finding.numbers.get(k) for k in ("other", "samples", "other_samples"))
            if other in order and other not in reasons and (there, -order[other]) > (here, -order[report.path]):
                reasons.setdefault(report.path, f"an exact copy of {other}")
    usable = [r.path for r in reports if r.usable]
    return reasons if any(path not in reasons for path in usable) else {}


def changed_inside(context: Context, source: SourceFile, scene: Scene, show: str, shot: str) -> str:
    """What is to be said where an earlier file of the same name in a shot holds other cameras; "" where none does."""
    found = find_shot(context, show, shot)
    if found is None:
        return ""
    query = (
        select(SourceFile)
        .join(VersionInput, VersionInput.source_file_id == SourceFile.id)
        .join(Version, Version.id == VersionInput.version_id)
        .join(Camera, Camera.id == Version.camera_id)
        .where(Camera.shot_id == found.id, SourceFile.name == source.name, SourceFile.sha256 != source.sha256)
        .order_by(SourceFile.id.desc())
        .limit(1)
    )
    earlier = context.execute(query).scalar_one_or_none()
    if earlier is None:
        return ""
    before, now = ({n.name for n in s.cameras} for s in (scene_from_bytes(earlier.scene), scene))
    if before == now:
        return ""
    return (
        f"An earlier {source.name} is saved in this shot with {listed(sorted(before))}; this file has {listed(sorted(now))}. "
        "Check that it is an export of the same shot."
    )
