"""The interface's description of itself, as generators of clients need it: files, downloads, tokens, keys."""

from __future__ import annotations

from typing import Any

from fastapi import FastAPI
from fastapi.openapi.utils import get_openapi
from fastapi.routing import APIRoute

_BINARY = {"type": "string", "format": "binary"}
_KEY = {
    "name": "Idempotency-Key", "in": "header", "required": False, "schema": {"type": "string", "minLength": 1, "maxLength": 200},
    "description": "A key of your choice. Requests with the same key run once and get the same answer.",
}  # fmt: skip


def download(media_type: str, words: str) -> dict[int | str, dict[str, Any]]:
    """The answer of an address that gives a file."""
    return {200: {"description": words, "content": {media_type: {"schema": _BINARY}}}}


FILE = download("application/octet-stream", "The file.")
PDF = download("application/pdf", "The sheet.")
ZIP = download("application/zip", "The zip.")
EVENTS: dict[int | str, dict[str, Any]] = {
    200: {
        "description": "Server-sent events; the data of each is a JobDocument.",
        "content": {"text/event-stream": {"schema": {"type": "string"}}},
    }
}


# What a client calls an address: a verb and a noun, by the name of the function that answers.
_NAMES = {
    "me": "get_me", "all_shows": "list_shows", "shots": "list_shots", "cameras": "list_cameras", "camera": "get_camera",
    "versions": "list_versions", "version": "get_version", "values": "get_values", "recipe": "get_recipe", "recipe_changed": "change_recipe",
    "allow": "allow_warnings", "warn_of_again": "withdraw_allowance", "send": "send_file", "inspected": "get_file",
    "read_columns": "read_file_columns", "keep": "keep_file", "deliver": "deliver_camera", "film": "make_film", "delivery": "get_delivery",
    "proof": "get_proof", "file": "get_delivery_file", "sheet": "get_sheet", "came_back": "send_return", "returned": "get_return",
    "job": "get_job", "job_file": "get_job_file", "job_followed": "follow_job", "job_stopped": "stop_job", "job_resumed": "resume_job",
    "packages": "list_packages", "package": "get_package", "package_kept": "save_package", "plan": "get_plan", "what_is_due": "list_due",
    "target_set": "set_target", "target_dropped": "drop_target", "run_started": "start_run", "run": "get_run", "run_stopped": "stop_run",
    "run_resumed": "resume_run", "run_bundle": "get_run_bundle", "show_bundle": "get_show_bundle", "history": "list_history", "listed": "list_webhooks", "added": "add_webhook", "removed": "remove_webhook",
    "calls": "list_webhook_calls", "resumed": "resume_webhook",
    "put_in_order": "change_camera", "taken_off": "remove_camera", "put_back": "restore_camera", "picture_changed": "change_picture",
    "undone": "undo", "redone": "redo", "copied": "copy_camera", "landmarks": "get_landmarks", "objects_of_set": "get_set",
    "two_versions": "compare_versions", "bundle": "make_bundle", "made_of_others": "make_derived_camera", "made_anew": "change_derivation",
    "brought_up_to_date": "update_derived_camera", "recipe_saved": "save_recipe", "stills": "compare_stills", "show_changed": "change_show",
    "shot_changed": "change_shot", "shot_expected": "set_expected", "plates": "list_plates", "media": "list_media", "attached": "attach_plate",
    "handed_in": "send_plate", "plate_changed": "change_plate", "plate_removed": "remove_plate", "live": "get_live",
    "pulled": "pull_camera", "pushed": "push_camera", "written_across": "write_across", "linked": "link_cameras", "link_stopped": "stop_link",
    "moment_kept": "keep_version_of_link", "clash_settled": "settle_clash", "client_removed": "remove_client",
    "screenshot_added": "add_screenshot", "screenshots": "list_screenshots", "screenshot": "get_screenshot",
    "screenshot_picture": "get_screenshot_picture", "landmarks_placed": "place_landmarks", "landmarks_found": "find_landmarks",
    "screenshot_explained": "explain_screenshot", "screenshot_camera": "save_camera_of_screenshot", "screenshot_removed": "remove_screenshot",
    "recording_begun": "start_recording", "recording_stopped": "stop_recording", "recording_kept": "keep_recording",
}  # fmt: skip


def name_of(route: APIRoute) -> str:
    """What a client calls an address."""
    return _NAMES[route.name]


def describe(api: FastAPI) -> None:
    """From now on an interface describes itself with what its framework leaves out."""
    plain: dict[str, Any] = {}

    def described() -> dict[str, Any]:
        if not plain:
            made = get_openapi(title=api.title, version=api.version, description=api.description, routes=api.routes)
            made["components"]["securitySchemes"] = {
                "token": {"type": "http", "scheme": "bearer", "description": "A token from your account page."}
            }
            made["security"] = [{"token": []}]
            for operations in made["paths"].values():
                if "post" in operations:
                    operations["post"].setdefault("parameters", []).append(_KEY)
            plain.update(_with_files(made))
        return plain

    api.openapi = described  # type: ignore[method-assign]


def _with_files(part: Any) -> Any:
    """Files that are sent, in the form that every generator knows."""
    if isinstance(part, list):
        return [_with_files(p) for p in part]
    if not isinstance(part, dict):
        return part
    if part.get("contentMediaType") == "application/octet-stream":
        return {k: v for k, v in part.items() if k != "contentMediaType"} | _BINARY
    return {k: _with_files(v) for k, v in part.items()}
