"""What long work there is: deliveries, recipes, zips, the search for keys. Loaded by the worker with its first job."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from sqlalchemy import select

from anaxis.app.cameras.edit import edit_version
from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import deliver_versions
from anaxis.app.deliveries.films import make_film
from anaxis.app.deliveries.hand_over import bundles_of
from anaxis.app.derived.sphere import write_maps_of_sphere, write_pictures_of_sphere
from anaxis.app.made_files import keep_made_file
from anaxis.app.plates.outputs import write_maps, write_warped
from anaxis.app.plates.plates import make_proxies
from anaxis.app.roles import LOCAL, Actor
from anaxis.core.errors import BadInput
from anaxis.core.names import listed
from anaxis.core.progress import Progress
from anaxis.core.recipe.documents import recipe_from_document
from anaxis.core.recipe.replay import completed
from anaxis.delivery.options import DeliveryOptions
from anaxis.delivery.ready import prepare, reduce_keys
from anaxis.packages.model import profile_from_dict
from anaxis.store.models import Camera, Job, Version
from anaxis.store.queries import get_version, newest_recipe, picture_of_version, recipe_of, track_of


def asked_by(job: Job) -> Actor:
    """Whom work is done for: who asked for it was allowed to when it was asked for."""
    return replace(LOCAL, name=job.actor)


def _deliver(context: Context, job: Job, tell: Progress) -> dict[str, Any]:
    params, options = job.params, DeliveryOptions(**job.params["options"])
    profile = profile_from_dict(params["profile"], "the package's profile")
    versions = [context.get_one(Version, v) for v in params["versions"]]
    if params.get("recipe"):
        versions = [context.get_one(Version, _with_recipe_kept(context, v, params["recipe"])) for v in versions]
    done = deliver_versions(context, versions, profile, params["format"], options, tell, params["together"])
    return {"delivery": done[0].id, **({"deliveries": [d.id for d in done]} if len(done) > 1 else {})}


def _with_recipe_kept(context: Context, version: Version, name: str) -> int:
    """The number of the version to deliver. The edit is kept by itself: the work's own transaction stays a short one."""
    with Context(context.get_bind(), context.actor) as own, own.begin():
        return with_recipe(own, own.get_one(Version, version.id), name).id


def with_recipe(context: Context, version: Version, name: str) -> Version:
    """The version worked on with a saved recipe done: an edit where it is not done yet. Raises BadInput."""
    saved = newest_recipe(context, name)
    context.execute(select(Camera.id).where(Camera.id == version.camera_id).with_for_update())
    head = get_version(context, version.camera_id)
    before = recipe_of(head)
    recipe = completed(before, recipe_from_document(saved.operations, strict=False))
    if recipe == before:
        return head
    return edit_version(context, head, recipe, f"recipe {name} {saved.number}")


def _apply_recipe(context: Context, job: Job, tell: Progress) -> dict[str, Any]:
    """A saved recipe applied to cameras, each edit kept by itself: what was done stays where the rest is stopped or refused."""
    name, numbers, refused = job.params["recipe"], job.params["versions"], []
    for done, number in enumerate(numbers):
        version = context.get_one(Version, number)
        called = f"{version.camera.shot.name} {version.camera.name}"
        context.release_connection()
        try:
            _with_recipe_kept(context, version, name)
        except BadInput as error:
            refused.append(f"{called}: {error.sentence}")
        tell((done + 1) / len(numbers))
    said = f"Recipe '{name}' is applied to {len(numbers) - len(refused)} of {len(numbers)} cameras."
    return {"said": f"{said} Not applied to {listed(refused, 6, ' ')}" if refused else said}


def _bundle(context: Context, job: Job, tell: Progress) -> dict[str, Any]:
    params, options = job.params, DeliveryOptions(**job.params["options"])
    profiles = [profile_from_dict(p, "the package's profile") for p in params["profiles"]]
    versions = [context.get_one(Version, v) for v in params["versions"]]
    name, data = bundles_of(context, versions, profiles, params["formats"], options, params["together"], tell)
    return {"made_file": keep_made_file(context, name, data).id, "name": name, "bytes": len(data)}


def _keys(context: Context, job: Job, tell: Progress) -> dict[str, Any]:
    """Which keys a receiver would get, looked at before anything is written."""
    params, version = job.params, job.version
    profile = profile_from_dict(params["profile"], "the package's profile")
    track, landmarks, _ = track_of(version)
    context.release_connection()
    outgoing = prepare(track, landmarks, picture_of_version(version), profile)
    found = reduce_keys(outgoing, params["format"], params["reduce_px"], tell)
    return found.summary() | {
        "sentence": found.sentence,
        "deviation_px": found.deviation_px.tolist(),
        "all_frames": track.frames.tolist(),
    }


KINDS: dict[str, Callable[[Context, Job, Progress], dict[str, Any]]] = {
    "delivery": _deliver,
    "recipe": _apply_recipe,
    "bundle": _bundle,
    "keys": _keys,
    "film": make_film,
    "proxies": make_proxies,
    "maps": write_maps,
    "warped": write_warped,
    "sphere_maps": write_maps_of_sphere,
    "sphere_pictures": write_pictures_of_sphere,
}
