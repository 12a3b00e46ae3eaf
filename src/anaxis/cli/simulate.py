"""``anaxis simulate``: packages, trackers and services that stand for what cannot be reached here."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

import click

from anaxis.core.errors import BadInput

_SERVER = click.option(
    "--server",
    default="http://127.0.0.1:8400",
    envvar="ANAXIS_SERVER",
    show_default=True,
    metavar="URL",
    help="Address of the server (or ANAXIS_SERVER).",
)
_SHOW = click.option("--show", default="", help="The show; needed if there are several.")


@click.group()
def simulate() -> None:
    """Run a simulated package, tracker, sign-in service or mail server."""


@simulate.command()
@click.option(
    "--profile", "profile_name", required=True, metavar="PROFILE", help="Shipped profile key, or a JSON file."
)
@click.option(
    "--habits", default="", metavar="JSON|FILE", help='Habits as JSON: [{"code": "frame_offset", "frames": 1}, ...].'
)
@click.option(
    "--file",
    "file",
    required=True,
    type=click.Path(dir_okay=False, path_type=Path),
    help="Scene file; created if missing.",
)
@click.option(
    "--from",
    "camera_file",
    type=click.Path(dir_okay=False, path_type=Path),
    help="Camera file for a new scene (default: a crane over a sluice).",
)
@click.option("--name", default="", help="Name of the package (default: from its profile).")
@click.option(
    "--cameras", default=1, show_default=True, type=click.IntRange(0, 20), help="Number of cameras in a new scene."
)
@click.option("--first", type=float, help="First frame of a new scene (default: that of the profile).")
@click.option(
    "--frames", default=120, show_default=True, type=click.IntRange(1, 100_000), help="Number of frames in a new scene."
)
@click.option("--port", default=8410, show_default=True, help="Port of its page.")
@_SERVER
@_SHOW
def package(
    profile_name: str, habits: str, file: Path, camera_file: Path | None, name: str, cameras: int, first: float | None, frames: int, port: int, server: str, show: str
) -> None:  # fmt: skip
    """Run a simulated package with a page of its own; ANAXIS_TOKEN is its token."""
    from anaxis.packages import find_profile
    from anaxis.packages.model import profile_from_dict
    from anaxis.simulated.made_up import scene_document
    from anaxis.simulated.package import run
    from anaxis.simulated.scene import SimulatedScene
    from anaxis.store.local_postgres import is_free

    document = find_profile(profile_name).model_dump(mode="json")
    if habits:
        document["habits"] = _json(habits)
    document = profile_from_dict(document, "The profile with these habits").model_dump(mode="json")
    if not is_free(port):
        raise BadInput(f"Port {port} on 127.0.0.1 is taken: stop what runs there, or choose another.")
    made_up = scene_document(name or document["label"][:60], document, first, frames, cameras)
    if camera_file is not None and not file.exists():
        made_up |= _held_in(camera_file, document)
    try:
        scene = SimulatedScene.opened(file, made_up)
    except (ValueError, KeyError, TypeError) as error:
        raise BadInput(
            f"{file.name} is not a scene of a simulated package: name another file, or one that does not exist yet."
        ) from error
    except OSError as error:
        raise BadInput(f"{file.name} cannot be opened ({error.strerror}): name a file that can be written.") from error
    if name:
        scene.name = name
    click.echo(f"{scene.name}: its page is at http://127.0.0.1:{port}; it speaks to {server}", err=True)
    run(scene, server, show, os.environ.get("ANAXIS_TOKEN", ""), port)


@simulate.command()
@click.option(
    "--file",
    "file",
    default=Path("tracker.json"),
    show_default=True,
    type=click.Path(dir_okay=False, path_type=Path),
    help="File for unacknowledged samples.",
)
@click.option("--name", default="phone", show_default=True)
@click.option("--jitter-mm", default=0.6, show_default=True)
@click.option("--jitter-deg", default=0.03, show_default=True)
@click.option("--drops", default=0.01, show_default=True, help="Share of samples that are missing.")
@click.option(
    "--jump-every", default=7.0, show_default=True, help="Seconds from one relocalisation to the next; 0 for none."
)
@click.option("--seed", default=5, show_default=True)
@_SERVER
@_SHOW
def tracker(
    file: Path,
    name: str,
    jitter_mm: float,
    jitter_deg: float,
    drops: float,
    jump_every: float,
    seed: int,
    server: str,
    show: str,
) -> None:
    """Run a simulated tracker; ANAXIS_TOKEN is its token."""
    from anaxis.simulated.tracker import Device, run

    device = Device(jitter_mm=jitter_mm, jitter_deg=jitter_deg, drops=drops, jump_every_s=jump_every, seed=seed)
    click.echo(f"{name}: it speaks to {server}; start and stop recording on the Live page.", err=True)
    try:
        run(file, name, device, server, show, os.environ.get("ANAXIS_TOKEN", ""))
    except (ValueError, KeyError) as error:
        raise BadInput(f"{file.name} is not a file of a tracker: name another one.") from error


@simulate.command()
@click.option("--port", default=8480, show_default=True)
def provider(port: int) -> None:
    """Run a simulated sign-in service (OpenID Connect) with made-up people; set ANAXIS_OIDC_ISSUER to it."""
    import uvicorn

    from anaxis.simulated.provider import Provider

    made = Provider(f"http://127.0.0.1:{port}")
    click.echo(
        f"ANAXIS_OIDC_ISSUER={made.issuer} ANAXIS_OIDC_CLIENT_ID={made.client_id} ANAXIS_OIDC_CLIENT_SECRET={made.client_secret}",
        err=True,
    )
    uvicorn.run(made.app(), port=port, log_level="warning")


@simulate.command()
@click.option("--port", default=8490, show_default=True)
@click.option(
    "--folder",
    default=Path("mails"),
    show_default=True,
    type=click.Path(file_okay=False, path_type=Path),
    help="Folder that mails are kept in.",
)
def mail(port: int, folder: Path) -> None:
    """Run a simulated mail server that keeps every mail as a file; set ANAXIS_SMTP to it."""
    from anaxis.simulated.mail import run
    from anaxis.store.local_postgres import is_free

    if not is_free(port):
        raise BadInput(f"Port {port} on 127.0.0.1 is taken: stop what runs there, or choose another.")
    run(folder, port)


def _held_in(file: Path, profile: dict[str, Any]) -> dict[str, Any]:
    """The shot camera of a file with its landmarks and set, in a package's own numbers, as its scene holds them. Raises BadInput."""
    from anaxis.app.exchange.cells import EVERY, NOTHING
    from anaxis.app.exchange.sides import Side, sent_to
    from anaxis.cli.read import read_meant
    from anaxis.core.time.rates import rate_text
    from anaxis.packages.model import Profile

    meant = read_meant(file, None, None, None)
    track, image, rule = meant.work.done, meant.picture.image, Profile.model_validate(profile | {"habits": []})
    side = Side(rule, image, rate_text(track.rate), track.name)
    cells = sent_to(track, image, meant.picture.fit, side, NOTHING, EVERY).meant
    marks = meant.work.landmarks.shown()
    place = rule.convention.position_from_canonical
    return {
        "cameras": [
            {"id": "cam1", "name": track.name, "rate": rate_text(track.rate), "width_px": image.width_px, "height_px": image.height_px,
             "pixel_aspect": image.pixel_aspect, "frames": cells.frames.tolist(), "values": cells.values()}
        ],
        "marks": [{"name": n, "position": place(p).tolist()} for n, p in zip(marks.names, marks.position_m[0], strict=True)],
        "lines": place(meant.work.lines_m).reshape(-1, 6)[:5000].tolist(),
    }  # fmt: skip


def _json(text: str) -> Any:
    try:
        return json.loads(Path(text).read_text(encoding="utf-8") if not text.lstrip().startswith("[") else text)
    except OSError as error:
        raise BadInput(
            f"The habits {text} cannot be opened ({error.strerror}): name a JSON file, or write the list."
        ) from error
    except ValueError as error:
        raise BadInput("The habits are no readable JSON: write a list of codes with their parameters.") from error
