"""The start command behind ``make demo``: PostgreSQL, tables, demo data once, then the pages."""

from __future__ import annotations

import json
import logging
import os
import signal
import sys
import time
from collections.abc import Callable
from contextlib import nullcontext
from fractions import Fraction
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import NamedTuple

from sqlalchemy import select

from anaxis.app.cameras.edit import edit_version, keep_camera, retake
from anaxis.app.cameras.take_in import take_in_bytes
from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import deliver_version
from anaxis.app.derived.derive import Derive, derive
from anaxis.app.derived.join import cameras_of, laid_of, role_of
from anaxis.app.people.people import actor_for, add_person, person_named
from anaxis.app.plates.plates import ask_for_proxies, attach_plate
from anaxis.app.roles import LOCAL, Role
from anaxis.app.shows.plan import set_target
from anaxis.core.derive.framed import PLATE_CAMERA
from anaxis.core.derive.held import SHOT
from anaxis.core.errors import BadInput
from anaxis.core.recipe.documents import recipe_from_document
from anaxis.core.scene.picture import picture_of
from anaxis.core.scene.projection_name import projection_name
from anaxis.core.time.rates import rate_text
from anaxis.delivery.options import DeliveryOptions
from anaxis.formats.distortion.read import read_distortion_file
from anaxis.formats.editorial.cut_list import read_cut_list
from anaxis.library.scene_report import look
from anaxis.packages import shipped_profiles
from anaxis.sandbox.folders import settle
from anaxis.sandbox.guard import ParserPool, limits_from_environment
from anaxis.store.database import connect, migrate
from anaxis.store.keep import find_or_make_shot, find_or_make_show
from anaxis.store.local_postgres import LocalPostgres, is_free
from anaxis.store.models import PlanTarget, Shot, Show, Version
from anaxis.store.queries import staged_scene
from anaxis.worker.supervise import Supervisor
from cut import make_cut
from make_scenes import make_all, make_newer
from solve import make_solve
from sphere import make_sphere

VAR = Path(__file__).resolve().parent.parent / "var"
MAILS = VAR / "mails"
# The demo's media root: the solver's bundle of TW_050, the sphere of TW_060 and the reel's cut lie in it.
SHOW = "The Tidewright"
PERSON = "demo"  # as whom everybody who comes is signed in
COLLEAGUE = "animator"  # who took in the newer file of TW_040
MEDIA, MEDIA_NAME, SOLVE, SPHERE = VAR / "media", "mill", "TW_050", "TW_060"
# What the demo has delivered already; the rest is left for the visitor.
DELIVERIES = (
    ("TW_010", "zup-lh-cm", "usd"),
    ("TW_010", "yup-rh-cm", "usd"),
    ("TW_020", "zup-lh-cm", "usd"),
    ("TW_030", "yup-rh-m", "usd"),
)


def load_demo(url: str, say: Callable[[str], None] = lambda line: None) -> list[str]:
    """Load what is missing of the demo data, piece by piece; returns the pieces loaded now.

    Each piece is one transaction: a piece that was cut off is loaded whole the next time. A store with another show
    alone is left as it is.
    """
    with_media_roots()
    engine = connect(url)
    migrate(engine)
    with Context(engine, LOCAL) as store, store.begin():
        person = person_named(store, PERSON) or add_person(store, PERSON, Role.ADMINISTRATOR)
        person.email, person.mails = "demo@tidewright.example", True
        if person_named(store, COLLEAGUE) is None:
            add_person(store, COLLEAGUE, Role.ARTIST)
        actor = actor_for(person)
        names = set(store.execute(select(Show.name)).scalars())
        if names and SHOW not in names:
            return []
    parsers = ParserPool(limits_from_environment())
    loaded = []
    try:
        with TemporaryDirectory(prefix="anaxis-demo-") as folder:
            files = {path.name[:6]: path for path in make_all(Path(folder))}
            newer = make_newer(Path(folder))
            for piece, what, is_there, draw, load in pieces(files, newer):
                with Context(engine, LOCAL) as store:
                    if is_there(store):
                        continue
                begun = time.monotonic()
                say(f"Demo data: {what}…")
                draw()  # pictures take long, and are drawn before the transaction begins
                with Context(engine, actor) as store, store.begin():
                    load(store, parsers)
                loaded.append(piece)
                say(f"Demo data: {piece} loaded in {time.monotonic() - begun:.0f} s.")
        return loaded
    finally:
        parsers.close()
        engine.dispose()


class Piece(NamedTuple):
    """A part of the demo data: what it is, whether it is there, what is drawn for it, and how it is put in the store."""

    name: str
    what: str
    is_there: Callable[[Context], bool]
    draw: Callable[[], object]
    load: Callable[[Context, ParserPool], object]


def pieces(files: dict[str, Path], newer: Path) -> list[Piece]:
    """The demo data in the order in which it is loaded: later pieces need earlier ones."""

    def delivered(shot: str) -> Callable[[Context, ParserPool], None]:
        def load(store: Context, parsers: ParserPool) -> None:
            version = taken_in(store, parsers, files[shot], shot)
            if shot == "TW_040":
                again(store, parsers, version, newer)
            for of, profile, format_key in DELIVERIES:
                if of == shot:
                    deliver_version(store, version, shipped_profiles()[profile], format_key)

        return load

    def no_drawing() -> None:
        pass

    shots = [Piece(s, f"{s}, its camera and deliveries", has_shot(s), no_drawing, delivered(s)) for s in files]
    return [
        *shots,
        Piece(
            SOLVE, f"{SOLVE}, a plate with lens distortion", has_shot(SOLVE), lambda: make_solve(MEDIA / SOLVE), solved
        ),
        Piece("reel_1", "reel_1, three shots joined over a cut", has_shot("reel_1"), no_drawing, joined),
        Piece(SPHERE, f"{SPHERE}, a 360-degree plate", has_shot(SPHERE), lambda: make_sphere(MEDIA / SPHERE), framed),
        Piece("plan", "the plan of the show", has_plan, no_drawing, planned),
    ]


def has_shot(name: str) -> Callable[[Context], bool]:
    query = select(Shot.id).join(Show).where(Show.name == SHOW, Shot.name == name)
    return lambda store: store.execute(query.limit(1)).first() is not None


def has_plan(store: Context) -> bool:
    return store.execute(select(PlanTarget.id).join(Show).where(Show.name == SHOW).limit(1)).first() is not None


def taken_in(store: Context, parsers: ParserPool, path: Path, shot: str, camera: str = "") -> Version:
    """A camera of a file, saved in a shot of the demo's show."""
    source = take_in_bytes(store, parsers, path.name, path.read_bytes())
    source, scene = staged_scene(store, source.id)
    report = next(r for r in look(source.scene, {}) if r.name == (camera or r.name))
    where = find_or_make_shot(store, show_named(store), shot)
    return keep_camera(store, where, source, report, report.name, picture_of(scene, None, None))


def again(store: Context, parsers: ParserPool, first: Version, newer: Path) -> None:
    """TW_040's lens mended by its finding's remedy, and a projection camera made of it; then a newer file of it taken in
    by a colleague with the recipe kept, so that both are outdated."""
    operation = next(f["operation"] for f in first.findings if f["code"] == "sensor_factor")
    mended = edit_version(store, first, recipe_from_document([operation]), "Scale the lens: lens × 0.01")
    held(store, mended)
    deliver_version(store, mended, shipped_profiles()["zup-lh-cm"], "usd")
    colleague = person_named(store, COLLEAGUE)
    assert colleague is not None
    with store.acting_as(actor_for(colleague)):
        source = take_in_bytes(store, parsers, newer.name, newer.read_bytes())
        source, scene = staged_scene(store, source.id)
        path = scene.cameras[0].path
        retake(store, first.camera, source, scene, path, "recipe", picture_of(scene, None, None))


def show_named(store: Context) -> Show:
    return find_or_make_show(store, SHOW)


def solved(store: Context, parsers: ParserPool) -> None:
    """TW_050 as its solver hands it over: the camera with its distortion, the plate behind it, delivered with overscan."""
    folder = MEDIA / SOLVE
    version = taken_in(store, parsers, folder / "TW_050_camera_v001.usda", SOLVE, "shotcam")
    shot = version.camera.shot
    lens = folder / "TW_050_lens.json"
    operation = {"code": "distortion", "params": {"document": read_distortion_file(lens), "of": lens.name}}
    version = edit_version(store, version, recipe_from_document([operation]), f"Distortion from {lens.name}")
    plate = attach_plate(store, shot, MEDIA_NAME, f"{SOLVE}/plate", "TW_050_plate.####.exr", "as shot")
    ask_for_proxies(store, version, plate)
    deliver_version(store, version, shipped_profiles()["zup-lh-cm"], "usd", DeliveryOptions(overscan="auto"))


def held(store: Context, walk: Version) -> None:
    """A projection camera for the wheel house."""
    names = {"show": SHOW, "shot": "TW_040", "name": projection_name(walk.camera.name, 96)}
    derive(store, Derive(kind="held", settings={"at": 96, "overscan": "10%"}, inputs={SHOT: walk.id}, **names))


def joined(store: Context, parsers: ParserPool) -> None:
    """Three shots joined over the reel's cut, which lies with the media, and delivered on a common film back."""
    show = show_named(store)
    path = make_cut(MEDIA / "editorial" / "reel_1.otio")
    edit = read_cut_list(path, Fraction(24))
    cameras = {role_of(v): v for v in cameras_of(store, show)}
    pieces = [p.model_dump() for p in laid_of(store, show, edit).pieces]
    settings = {
        "pieces": pieces, "rate": rate_text(edit.rate), "first": 2001, "width_px": 2048, "height_px": 858, "film_back": "common",
        "edit": edit.name,
    }  # fmt: skip
    inputs = {role: cameras[role].id for role in dict.fromkeys(p["role"] for p in pieces)}
    made = derive(
        store, Derive(kind="joined", show=show.name, shot=edit.name, name="joined", settings=settings, inputs=inputs)
    )
    deliver_version(store, made, shipped_profiles()["zup-lh-cm"], "usd")


def framed(store: Context, parsers: ParserPool) -> None:
    """TW_060: the sphere's camera with its plate, and an ordinary one that follows the tide bell in it."""
    (path,) = (MEDIA / SPHERE).glob("*.usd*")
    version = taken_in(store, parsers, path, SPHERE)
    shot = version.camera.shot
    plate = attach_plate(store, shot, MEDIA_NAME, f"{SPHERE}/plate", "TW_060_sphere.####.png", "equirectangular")
    ask_for_proxies(store, version, plate)
    settings = {
        "objects": ["tide_bell_body"], "border": 15, "width_px": 1280, "height_px": 720, "plate_width_px": 1024, "plate_id": plate.id,
    }  # fmt: skip
    asked = {"kind": "framed", "show": SHOW, "shot": SPHERE, "name": "bell_framing"}
    derive(store, Derive(settings=settings, inputs={PLATE_CAMERA: version.id}, **asked))


def planned(store: Context, parsers: ParserPool) -> None:
    """What the show owes: every shot to the engine, three of them to the animators. TW_040 has a newer file since."""
    show = show_named(store)
    set_target(store, show, "zup-lh-cm", "usd")
    animated = {s.id for s in show.shots if s.name in ("TW_010", "TW_030", "TW_040")}
    set_target(store, show, "yup-rh-cm", "usd", shots=animated)


def with_media_roots() -> None:
    """The folders that plates come from, where nobody has said any."""
    MEDIA.mkdir(parents=True, exist_ok=True)
    os.environ.setdefault("ANAXIS_MEDIA_ROOTS", f"{MEDIA_NAME}={MEDIA}")
    os.environ.setdefault("ANAXIS_MEDIA_SHOWS", f"{MEDIA_NAME}={SHOW}")
    os.environ.setdefault("ANAXIS_PLATES", str(VAR / "plates"))


def live_packages(port: int) -> list[tuple[str, list[str]]]:
    """Two simulated packages of different nature, each with a page of its own on the next port that is free."""
    habits = json.dumps([{"code": "frame_offset", "frames": 1}])
    asked = (
        ("animation", ("--profile", "zup-rh-m", "--first", "1001")),
        ("engine", ("--profile", "zup-lh-cm", "--habits", habits)),
    )
    server = f"http://127.0.0.1:{port}"
    free = (p for p in range(port + 1, port + 100) if is_free(p))
    return [
        (name, ["simulate", "package", "--name", name, "--file", str(VAR / "live" / f"{name}.json"), "--port", str(next(free)), "--server", server, "--show",
                "The Tidewright", *more])
        for name, more in asked
    ]  # fmt: skip


def sign_in_service(port: int) -> tuple[str, list[str]]:
    """A simulated sign-in service of the studio, and the settings by which the pages know it."""
    at = next(p for p in range(port + 100, port + 200) if is_free(p))
    os.environ |= {
        "ANAXIS_OIDC_ISSUER": f"http://127.0.0.1:{at}", "ANAXIS_OIDC_CLIENT_ID": "anaxis", "ANAXIS_OIDC_CLIENT_SECRET": "tide",
        "ANAXIS_OIDC_GROUPS": f"pipeline=administrator; mill-artists=artist@{SHOW}",
    }  # fmt: skip
    return "sign-in service", ["simulate", "provider", "--port", str(at)]


def mail_service(port: int) -> tuple[str, list[str]]:
    """A simulated mail server, and the settings by which workers know it."""
    at = next(p for p in range(port + 200, port + 300) if is_free(p))
    os.environ |= {
        "ANAXIS_SMTP": f"smtp://127.0.0.1:{at}",
        "ANAXIS_MAIL_FROM": "anaxis@tidewright.example",
        "ANAXIS_PAGES": f"http://127.0.0.1:{port}",
    }
    return "mail server", ["simulate", "mail", "--port", str(at), "--folder", str(MAILS)]


def main() -> None:
    port = int(os.environ.get("PORT") or 8400)
    if not is_free(port):
        raise BadInput(
            f"Port {port} on 127.0.0.1 is taken: stop what runs there, or choose another with 'make demo PORT=8401'."
        )
    given = os.environ.get("DATABASE_URL")
    # Asked to stop before all runs, PostgreSQL is stopped too.
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    logging.basicConfig(level=logging.WARNING, format="%(name)s: %(message)s")
    settle()
    with_media_roots()
    os.environ.setdefault("ANAXIS_LOGS", "text")
    if not given:
        print("Starting PostgreSQL…", flush=True)
    with nullcontext() if given else LocalPostgres(VAR) as own:
        url = given or (own.url if own else "")
        load_demo(url, lambda line: print(line, flush=True))
        print(
            f"Anaxis is at http://127.0.0.1:{port} (Ctrl-C stops it). Whoever comes to it from this machine is signed in as '{PERSON}' by itself.",
            flush=True,
        )
        live = [] if "--no-live" in sys.argv[1:] else live_packages(port)
        if live:
            pages = " and ".join(
                f"'{name}' at http://127.0.0.1:{args[args.index('--port') + 1]}" for name, args in live
            )
            print(f"Two simulated packages have pages of their own, {pages}; --no-live leaves them out.", flush=True)
            live += [sign_in_service(port), mail_service(port)]
            print(f"A simulated sign-in service of the studio is asked by http://127.0.0.1:{port}/sign-in.", flush=True)
            print(f"A simulated mail server keeps the mails to people in {MAILS}.", flush=True)
        Supervisor("127.0.0.1", port, url, own, demonstration=PERSON, beside=live).run()


if __name__ == "__main__":
    try:
        main()
    except BadInput as error:
        print(f"anaxis: {error.sentence}", file=sys.stderr)
        sys.exit(2)
    except KeyboardInterrupt:
        sys.exit(0)
