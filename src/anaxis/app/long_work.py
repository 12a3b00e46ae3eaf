"""What long work there is: deliveries, zips, the search for keys. Loaded by the worker with its first job."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from sqlalchemy.orm import Session

from anaxis.app.deliver import deliver_versions
from anaxis.app.hand_over import bundles_of, keep_made_file
from anaxis.app.plates import make_proxies
from anaxis.app.sphere import write_sphere_maps, write_sphere_pictures
from anaxis.app.waiting import let_go
from anaxis.app.written import write_maps, write_warped
from anaxis.core.motion.reduce import Progress
from anaxis.delivery.options import Options
from anaxis.delivery.ready import prepare, reduce_keys
from anaxis.packages.model import profile_from_dict
from anaxis.store.models import Job, Version
from anaxis.store.queries import picture_of_version, track_of


def _deliver(session: Session, job: Job, tell: Progress) -> dict[str, Any]:
    params, options = job.params, Options(**job.params["options"])
    profile = profile_from_dict(params["profile"], "the package's profile")
    versions = [session.get_one(Version, v) for v in params["versions"]]
    done = deliver_versions(session, versions, profile, params["format"], options, tell, params["together"])
    return {"delivery": done[0].id}


def _bundle(session: Session, job: Job, tell: Progress) -> dict[str, Any]:
    params, options = job.params, Options(**job.params["options"])
    profiles = [profile_from_dict(p, "the package's profile") for p in params["profiles"]]
    versions = [session.get_one(Version, v) for v in params["versions"]]
    name, data = bundles_of(session, versions, profiles, params["formats"], options, params["together"], tell)
    return {"made_file": keep_made_file(session, name, data).id, "name": name, "bytes": len(data)}


def _keys(session: Session, job: Job, tell: Progress) -> dict[str, Any]:
    """Which keys a receiver would get, looked at before anything is written."""
    params, version = job.params, job.version
    profile = profile_from_dict(params["profile"], "the package's profile")
    track, landmarks, _ = track_of(version)
    let_go(session)
    outgoing = prepare(track, landmarks, picture_of_version(version), profile)
    found = reduce_keys(outgoing, params["format"], params["reduce_px"], tell)
    return found.summary() | {
        "sentence": found.sentence,
        "deviation_px": found.deviation_px.tolist(),
        "all_frames": track.frames.tolist(),
    }


KINDS: dict[str, Callable[[Session, Job, Progress], dict[str, Any]]] = {
    "delivery": _deliver,
    "bundle": _bundle,
    "keys": _keys,
    "proxies": make_proxies,
    "maps": write_maps,
    "warped": write_warped,
    "sphere_maps": write_sphere_maps,
    "sphere_pictures": write_sphere_pictures,
}
