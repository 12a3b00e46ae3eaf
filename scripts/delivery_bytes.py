"""The bytes of every delivery, as hashes: run before and after a change that must not alter any.

    scripts/delivery_bytes.py before.json
    scripts/delivery_bytes.py after.json --against before.json

The demo's shots in every format that is read, and the ordinary shots of ``tests/ordinary.py``, go through the command
line to packages of every kind, as they are, retimed, with few keys and as a package of files.
"""

from __future__ import annotations

import argparse
import hashlib
import io
import json
import sys
import zipfile
from collections.abc import Iterator
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

HERE = Path(__file__).resolve().parent.parent
sys.path[:0] = [str(HERE / "demo"), str(HERE / "tests")]

from anaxis.cli import main as anaxis  # noqa: E402
from make_scenes import make_all  # noqa: E402
from ordinary import SHOTS, Shot  # noqa: E402
from other_formats import write_in_every_format  # noqa: E402

FORMATS = ("usd", "abc", "gltf", "dae", "columns", "json")
PACKAGES = (
    "yup-rh-cm",
    "yup-rh-m",
    "zup-rh-m",
    "zup-rh-cm",
    "zup-lh-cm",
    "yup-lh-m",
    "yup-lh-cm",
    "yup-rh-unit",
    "ydown-px",
)


def track_file(shot: Shot, path: Path) -> Path:
    """An ordinary shot as the open document, written out here; see docs/track.schema.json."""
    place, turned, focal = shot.samples
    marks = [{"name": n, "position": [list(map(float, p)) for p in at(shot.frames)]} for n, at in shot.marks.items()]
    axes = {"right": "+X", "up": "+Y", "back": "+Z"}
    document = {
        "anaxis_track": 1, "name": shot.name, "rate": f"{shot.rate}/1", "fit": "width",
        "convention": {"world": axes, "camera": axes, "metres_per_unit": 1.0, "rotation": {"order": "XYZ", "signs": [1, 1, 1]}},
        "image": {"width_px": shot.width_px, "height_px": shot.height_px, "pixel_aspect": 1.0},
        "frames": [int(f) if f == int(f) else float(f) for f in shot.frames],
        "position": place.tolist(), "rotation": turned.reshape(-1, 9).tolist(),
        "lens": {"focal_mm": focal.tolist(), "film_width_mm": shot.film_mm[0], "film_height_mm": shot.film_mm[1],
                 "focus": shot.focus_m},
        "landmarks": marks,
    }  # fmt: skip
    path.write_text(json.dumps(document))
    return path


def asked(folder: Path) -> Iterator[tuple[str, list[str]]]:
    """A name for each delivery, and how the command line is asked for it."""
    demo = folder / "demo"
    demo.mkdir()
    for path in make_all(demo):
        for package in PACKAGES:
            yield f"{path.name} usd {package}", [str(path), "--to", package, "--format", "usd"]
        yield f"{path.name} all", [str(path), "--to", "zup-lh-cm", "--format", ",".join(FORMATS)]
        yield f"{path.name} bundle", [str(path), "--to", "zup-lh-cm", "--format", "usd,columns", "--bundle"]
        yield (
            f"{path.name} retimed",
            [str(path), "--to", "yup-lh-m", "--format", "usd,json", "--rate", "30", "--keep", "time"],
        )
    for name, path in write_in_every_format(demo / "formats").items():
        yield (
            f"{name} read",
            [str(path), "--to", "zup-lh-cm", "--format", "usd,json", "--up-axis", "Y", "--metres-per-unit", "0.01"],
        )
    for name, make in SHOTS.items():
        path = track_file(make(), folder / f"{name}.track.json")
        yield f"{name} all", [str(path), "--to", "zup-lh-cm", "--format", ",".join(FORMATS)]
        for package in ("yup-rh-m", "ydown-px"):
            yield f"{name} {package}", [str(path), "--to", package, "--format", "usd,json"]
        yield (
            f"{name} retimed",
            [str(path), "--to", "zup-lh-cm", "--format", "abc,columns", "--rate", "25", "--keep", "time"],
        )
        if name not in ("long", "subframes"):
            yield f"{name} few keys", [str(path), "--to", "zup-lh-cm", "--format", "gltf,usd", "--reduce-px", "0.5"]


def hashes(data: bytes, name: str) -> dict[str, str]:
    """Of a file; of what lies in a zip, but for the list of hashes that it holds itself."""
    if not name.endswith(".zip"):
        return {name: hashlib.sha256(data).hexdigest()}
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        inside = {n: archive.read(n) for n in archive.namelist()}
    return {f"{name}/{n}": hashlib.sha256(d).hexdigest() for n, d in inside.items()}


def delivered(how: list[str], out: Path) -> dict[str, Any]:
    sys.argv, code = ["anaxis", "transfer", *how, "--out", str(out), "--json"], 0
    said = io.StringIO()
    with redirect_stdout(io.StringIO()), redirect_stderr(said):
        try:
            anaxis()
        except SystemExit as end:
            code = end.code
    files = {}
    for path in sorted(out.rglob("*")) if out.exists() else ():
        if path.is_file():
            files |= hashes(path.read_bytes(), path.name)
    return {"exit": code, "files": files, "sentence": said.getvalue()}


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("out", type=Path)
    parser.add_argument("--against", type=Path)
    parser.add_argument(
        "--words", action="store_true", help="sheets and manifests, whose wording may change, count too"
    )
    given = parser.parse_args()
    found: dict[str, Any] = {}
    with TemporaryDirectory(prefix="anaxis-bytes-") as folder:
        for i, (name, how) in enumerate(asked(Path(folder))):
            found[name] = delivered(how, Path(folder) / f"out{i}")
    given.out.write_text(json.dumps(found, indent=1))
    count = sum(len(f["files"]) for f in found.values())
    print(f"{len(found)} deliveries, {count} files, {sum(not f['files'] for f in found.values())} without one")
    if given.against is None:
        return 0
    before, worded = (
        json.loads(given.against.read_text()),
        ("transfer_sheet.html", "transfer_sheet.pdf", "manifest.json"),
    )
    different = [
        f"{name}: {file}"
        for name in before
        for file in before[name]["files"]
        if (given.words or not file.endswith(worded))
        and found.get(name, {}).get("files", {}).get(file) != before[name]["files"][file]
    ]
    print("\n".join(different) or "the same bytes")
    return 1 if different else 0


if __name__ == "__main__":
    sys.exit(main())
