"""The store of a server, from a shell: ``--server`` names it, ANAXIS_TOKEN holds the token, which no list of processes shows."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any, TypeVar

import click

from anaxis.cli import options
from anaxis.cli.send import say_everything
from anaxis.cli.tables import OFF_TOLERANCE, WARNED, console, left_out, print_json, table
from anaxis.core.errors import BadInput
from anaxis.core.number_text import px_text

if TYPE_CHECKING:
    import httpx

F = TypeVar("F", bound=Callable[..., Any])
_BAD = 2
_OPEN = ("waiting", "running", "stopping")
_SHOW = click.option("--show", "show_name", default="", help="The show; needed if there are several.")


def server(command: F) -> F:
    """The option that names the server; ANAXIS_SERVER does too."""
    return click.option(
        "--server",
        required=True,
        envvar="ANAXIS_SERVER",
        metavar="URL",
        help="Address of the server (or ANAXIS_SERVER).",
    )(command)


class Remote:
    """The interface of a server."""

    def __init__(self, server: str) -> None:
        import httpx

        token = os.environ.get("ANAXIS_TOKEN", "")
        if not token:
            raise BadInput("ANAXIS_TOKEN is not set: create a token on your account page of the server, then set it.")
        base = f"{server.rstrip('/')}/api/v1"
        self._client = httpx.Client(base_url=base, headers={"Authorization": f"Bearer {token}"}, timeout=300)
        self._server = server

    def answer(self, method: str, address: str, **more: Any) -> httpx.Response:
        """Raises BadInput with the server's own sentence."""
        import httpx

        try:
            answer = self._client.request(method, address, **more)
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise BadInput(
                f"{self._server} does not answer ({type(error).__name__}): check that it runs and that the address is right."
            ) from error
        if answer.is_error:
            try:
                problem = answer.json()
                sentence, code = str(problem["sentence"]), str(problem["code"])
            except (ValueError, KeyError, TypeError):
                sentence = (
                    f"{self._server} answered {answer.status_code} and is not an Anaxis server, or a proxy answered."
                )
                raise BadInput(sentence) from None
            raise BadInput(sentence, code)
        return answer

    def download(self, address: str, to: Path) -> None:
        """What an address gives into a file, a part at a time. Raises BadInput with the server's own sentence."""
        import httpx

        try:
            with self._client.stream("GET", address) as answer, to.open("wb") as out:
                if answer.is_success:
                    for part in answer.iter_bytes():
                        out.write(part)
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise BadInput(f"{self._server} was interrupted ({type(error).__name__}): download again.") from error
        if not answer.is_success:
            self.answer("GET", address)

    def json(self, method: str, address: str, **more: Any) -> Any:
        return self.answer(method, address, **more).json()

    def show(self, name: str) -> dict[str, Any]:
        """The show of that name, or the only one."""
        shows = [s for s in self.json("GET", "/shows") if not s["archived"]]
        found: list[dict[str, Any]] = [s for s in shows if not name or s["name"] == name]
        if len(found) != 1:
            listed = ", ".join(s["name"] for s in shows[:8]) or "none"
            raise BadInput(
                f"{f'There is no show {name!r}' if name else 'Name a show with --show'}: there are {listed}."
            )
        return found[0]

    def cameras(self, show: dict[str, Any], **asked: Any) -> Iterator[dict[str, Any]]:
        at: int | None = 0
        while at is not None:
            some = self.json("GET", f"/shows/{show['id']}/cameras", params={**asked, "at": at})
            yield from some["entries"]
            at = some["next"]

    def camera(self, show: str, called: str) -> dict[str, Any]:
        """A camera by SHOT, or SHOT/CAMERA where the shot has several."""
        shot, _, name = called.partition("/")
        found = [
            c for c in self.cameras(self.show(show), q=shot) if c["shot"]["name"] == shot and (not name or c["name"] == name)
        ]  # fmt: skip
        if len(found) != 1:
            listed = ", ".join(f"{shot}/{c['name']}" for c in found[:8]) or "none"
            raise BadInput(f"'{called[:80]}' has to name one camera, as SHOT or SHOT/CAMERA: there are {listed}.")
        return found[0]

    def over(self, job: dict[str, Any]) -> dict[str, Any]:
        """A job when it is over."""
        while job["state"] in _OPEN:
            time.sleep(0.5)
            job = self.json("GET", f"/jobs/{job['id']}")
        return job


@click.command()
@click.argument("paths", nargs=-1, required=True, metavar="FILE...")
@server
@click.option("--show", "show_name", default="", help="The show, if the rule has none.")
@click.option("--rule", default="", help="Naming rule (default: detected).")
@click.option("--recipe", default="", help="Saved recipe for all files.")
@click.option(
    "--accept", multiple=True, metavar="CODE", help="Apply the remedies of findings with this code. May be repeated."
)
@options.columns
@options.new_show
@click.option("--older", is_flag=True, help="Also save files that are older than the saved version.")
@options.json
def push(
    paths: tuple[str, ...], server: str, show_name: str, rule: str, recipe: str, accept: tuple[str, ...], columns: Path | None, new_show: bool, older: bool, as_json: bool
) -> None:  # fmt: skip
    """Upload camera files to a server and save their cameras, like 'take-in' in a local store."""
    from anaxis.cli.read import layout_of
    from anaxis.formats import is_table

    remote, kept = Remote(server), ("new", "newer take", "older") if older else ("new", "newer take")
    files, layout = [], layout_of(columns)
    for path in map(Path, paths):
        about = {"path": path.as_posix(), "show": show_name, "rule": rule}
        try:
            with path.open("rb") as source:
                file = remote.json("POST", "/files", files={"file": (path.name, source)}, data=about)
            if layout is not None and file["id"] is not None and is_table(path.name):
                file = remote.json("POST", f"/files/{file['id']}/columns", params=about, json={"layout": layout})
            if file["state"] in kept:
                how = {"recipe": recipe, "accept": list(accept), "new_show": new_show}
                file = remote.json("POST", f"/files/{file['id']}/keep", json={**about, **how})
        except BadInput as error:
            if error.code in ("not_signed_in", "not_allowed"):
                raise
            file = _not_taken(path, error.sentence)
        except OSError as error:
            file = _not_taken(path, f"{path.name} cannot be read: {error.strerror}.")
        files.append(file)
    if as_json:
        print_json({"files": files, "kept": sum(bool(f["kept"]) for f in files)})
    else:
        rows = table("file", "shot", "cameras", "state", "findings")
        for f in files:
            said = f"{f['state']}: {f['said']}" if f["said"] else f["state"]
            rows.add_row(
                Path(f["file"]).name,
                f["shot"],
                ", ".join(f["cameras"]),
                f"{said}{', kept' if f['kept'] else ''}",
                ", ".join(f["findings"]),
            )
        console().print(rows)
    if any(f["state"] == "cannot be taken in" for f in files):
        sys.exit(_BAD)
    if left_out([(f["file"], f["state"], f["said"]) for f in files], older):
        sys.exit(WARNED)


@click.command()
@click.argument("camera", metavar="SHOT[/CAMERA]")
@server
@_SHOW
@options.packages(required=True)
@options.formats(required=True)
@options.reduce_px
@options.delivery
@click.option(
    "-o", "--out", type=click.Path(file_okay=False, path_type=Path), help="Also download the files to this folder."
)
@options.allow
@options.json
def deliver(
    camera: str, server: str, show_name: str, to: tuple[str, ...], formats: list[str], out: Path | None, allow: frozenset[str], as_json: bool, **given: Any,
) -> None:  # fmt: skip
    """Let a server write and prove a camera of its store. Exit 3 if one does not match, 4 if its file has an open warning. --allow allows warnings on the server under your name."""
    from anaxis.delivery.options import changed_of

    remote = Remote(server)
    held = remote.camera(show_name, camera)
    known = allow.intersection(held["head"]["open_warnings"])
    if known:
        address = f"/cameras/{held['id']}/versions/{held['head']['number']}/allowed"
        remote.json("POST", address, json={"codes": sorted(known)})
    asked = {"to": list(to), "formats": formats, "options": changed_of(options.delivery_options(given))}
    done = remote.json("POST", f"/cameras/{held['id']}/deliveries", json=asked)
    failed = list(done["refused"])
    for job in map(remote.over, done["jobs"]):
        if job["delivery"] is None:
            failed.append(f"work {job['id']} {job['state']}: {job['said']}")
        else:
            done["deliveries"].append(remote.json("GET", f"/deliveries/{job['delivery']}"))
    for one in done["deliveries"] if out else ():
        _fetch(remote, one, out or Path())
    if as_json:
        print_json({"deliveries": done["deliveries"], "failed": failed})
    else:
        rows = table("to", "format", "answer", "worst", "at frame", "files")
        for d in done["deliveries"]:
            rows.add_row(
                d["to"],
                d["format"],
                d["verdict"],
                px_text(d["max_px"]),
                f"{d['worst_frame']:g}",
                ", ".join(f["name"] for f in d["files"]),
            )
        console().print(rows)
        for sentence in failed:
            click.echo(f"not written: {sentence}", err=True)
    if failed or not all(d["matches"] for d in done["deliveries"]):
        sys.exit(OFF_TOLERANCE)
    warnings = dict.fromkeys(code for d in done["deliveries"] for code in d["warnings"])
    if warnings:
        click.echo(f"anaxis: the file has open warnings: {', '.join(warnings)} (--allow).", err=True)
        sys.exit(WARNED)


@click.command()
@click.argument("delivery", type=int, required=False)
@click.option("--run", "run", type=int, help="Download all files of a run, by number.")
@server
@click.option(
    "-o", "--out", type=click.Path(file_okay=False, path_type=Path), default=Path(), help="Folder (default: current)."
)
@options.json
def pull(delivery: int | None, run: int | None, server: str, out: Path, as_json: bool) -> None:
    """Download the files of a DELIVERY by number, or of a run with --run, and verify their checksums."""
    if (delivery is None) == (run is None):
        raise BadInput("Name either a delivery by number, or a run with --run.")
    remote = Remote(server)
    if run is not None:
        _pull_run(remote, run, out, as_json)
        return
    found = remote.json("GET", f"/deliveries/{delivery}")
    written = [str(p) for p in _fetch(remote, found, out)]
    if as_json:
        print_json({"delivery": found, "files": written})
    else:
        click.echo(f"{found['verdict']}: {px_text(found['max_px'])} at most")
        for path in written:
            click.echo(f"written: {path}")


def _pull_run(remote: Remote, run: int, out: Path, as_json: bool) -> None:
    """Everything of a run below a folder. Exit 3 where something does not match, or was not delivered."""
    from anaxis.library.unpacked import unpacked

    with TemporaryDirectory(prefix="anaxis-pull-") as aside:
        archive = Path(aside) / "run.zip"
        remote.download(f"/runs/{run}/bundle", archive)
        manifest = unpacked(archive, out)
    say_everything(manifest, out, as_json)


@click.command()
@server
@_SHOW
@click.option("--start", is_flag=True, help="Start the run and watch it.")
@options.json
def runs(server: str, show_name: str, start: bool, as_json: bool) -> None:
    """Show the plan of a show on a server, or run it with --start. Exit 3 if a delivery failed or does not match."""
    remote = Remote(server)
    show = remote.show(show_name)
    due = remote.json("GET", f"/shows/{show['id']}/plan/due")
    document: dict[str, Any] = {"show": show["name"], "due": due}
    if start and due:
        run = remote.json("POST", f"/shows/{show['id']}/runs", json={})
        while run["open"]:
            time.sleep(0.5)
            run = remote.json("GET", f"/runs/{run['id']}")
        plan = remote.json("GET", f"/shows/{show['id']}/plan")
        document |= {"run": run, "counts": plan["counts"], "worst_px": plan["worst_px"]}
    if as_json:
        print_json(document)
    else:
        for d in due:
            click.echo(
                f"{d['shot']} {d['camera']} {d['version']} for {d['to']}, {d['format']}: {d['state']}{f', {w}' if (w := d['why']) else ''}"
            )
        counts = ", ".join(f"{n} {s}" for s, n in document.get("counts", {}).items())
        click.echo(
            f"run {document['run']['id']} is over; the plan: {counts}" if "run" in document else f"{len(due)} due"
        )
    if any(document.get("counts", {}).get(s) for s in ("failed", "mismatch")):
        sys.exit(OFF_TOLERANCE)


@click.command()
@server
@_SHOW
@click.option("--find", default="", help="Filter by shot and camera name.")
@options.json
def show(server: str, show_name: str, find: str, as_json: bool) -> None:
    """List the cameras of a show on a server, with the largest deviation of each."""
    remote = Remote(server)
    cameras = list(remote.cameras(remote.show(show_name), q=find))
    if as_json:
        print_json({"cameras": cameras})
        return
    rows = table("shot", "camera", "version", "answer", "worst")
    for c in cameras:
        worst = c["worst"]
        rows.add_row(
            c["shot"]["name"], c["name"], c["head"]["label"], worst["verdict"] if worst else "not delivered", px_text(worst["max_px"]) if worst else ""
        )  # fmt: skip
    console().print(rows)


def _not_taken(path: Path, said: str) -> dict[str, Any]:
    """A file as the server would tell of it."""
    nothing = {"shot": "", "cameras": [], "kept": [], "findings": {}}
    return {"file": path.as_posix(), "state": "cannot be taken in", "said": said, **nothing}


def _fetch(remote: Remote, delivery: dict[str, Any], out: Path) -> list[Path]:
    """The files of a delivery, whole or not at all; a name never leads out of the folder."""
    import hashlib

    out.mkdir(parents=True, exist_ok=True)
    written = []
    for file in delivery["files"]:
        data = remote.answer("GET", f"/deliveries/{delivery['id']}/files/{file['name']}").content
        if hashlib.sha256(data).hexdigest() != file["sha256"]:
            raise BadInput(f"{file['name']} is incomplete: download it again.")
        path = out / Path(file["name"]).name
        path.write_bytes(data)
        written.append(path)
    return written
