"""Two versions of a camera compared: what changed, from which frame, by how many pixels."""

from __future__ import annotations

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import Projection
from anaxis.core.proof.compare import Comparison, arrived_at, compare
from anaxis.store.models import Version
from anaxis.store.queries import picture_of_version, track_of


def arrived_track(found: Comparison, older: Version, newer: Version) -> Projection:
    """The newer version's camera as it draws the older one's picture, on the frames that both have."""
    return arrived_at(found, track_of(newer)[0], images_of(older, newer), newer.source_fit)


def version_before(version: Version) -> int:
    """The version to compare with: the one an edit was made from, else the take before."""
    versions = version.camera.versions
    parent = next((v for v in versions if v.id == version.parent_id), None)
    followed = version.facts.get("follows")
    if parent is None and followed is not None:
        return int(followed)
    earlier = [v for v in versions if v.take < version.take]
    return (parent or (earlier[-1] if earlier else version)).number


def images_of(older: Version, newer: Version) -> tuple[Image, Image]:
    return picture_of_version(older).image, picture_of_version(newer).image


def compared(older: Version, newer: Version) -> Comparison:
    track, marks, _ = track_of(older)
    return compare(track, track_of(newer)[0], images_of(older, newer), (older.source_fit, newer.source_fit), marks)


def landmark_changes(older: Version, newer: Version) -> list[str]:
    """What became of the landmarks, one sentence each."""
    a, b = track_of(older)[1].shown(), track_of(newer)[1].shown()
    said = [f"{n} is gone" for n in a.names if n not in b.names] + [f"{n} is new" for n in b.names if n not in a.names]
    for name in a.names:
        if name in b.names:
            gap = float(np.linalg.norm(b.position_m[0, b.index(name)] - a.position_m[0, a.index(name)]))
            if gap > 1e-6:
                said.append(f"{name} stands {gap:.4g} m away from its place")
    return said
