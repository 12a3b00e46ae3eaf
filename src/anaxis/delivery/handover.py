"""The package of files handed to one receiver: cameras, landmarks, set, an axis check, a sheet, a manifest.

The zip is the same to the byte for the same camera, recipe and package: its entries carry a fixed date and
nothing of the day it was made.
"""

from __future__ import annotations

import csv
import hashlib
import io
import json
import zipfile
from collections.abc import Mapping, Sequence
from dataclasses import replace
from importlib.metadata import version
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np

from anaxis.core.names import listed
from anaxis.core.scene.landmarks import Landmarks, legal_name, node_name
from anaxis.core.space.axes import Convention
from anaxis.core.time.rates import format_frame, plain_frame, rate_text
from anaxis.core.typing import Floats
from anaxis.core.version import __version__
from anaxis.delivery.plate_maps import maps_of, pairs_along
from anaxis.delivery.ready import compensate
from anaxis.delivery.set_files import SetFiles, set_files
from anaxis.delivery.transfer_sheet import Handed, sheet_html, sheet_pdf
from anaxis.formats import set_formats_of
from anaxis.formats.file_axes import file_axes
from anaxis.formats.text_cells import text_cell
from anaxis.packages.model import Profile

_DAY = (2000, 1, 1, 0, 0, 0)
# The three arms of the axis check, in metres: told apart by length and by the letter on their end.
_ARMS_M = (1.0, 0.75, 0.5)
# What wrote the files: the same versions write the same bytes.
_LIBRARIES = ("usd-core", "alembic3d", "numpy", "scipy", "weasyprint", "OpenEXR")


def handover_zip(cameras: Sequence[Handed]) -> bytes:
    """The zip for one package; several cameras have a folder each for what is theirs alone."""
    profile = cameras[0].profile
    entries: dict[str, bytes] = {"axis_check/axis_check.obj": _axis_check(profile.convention)}
    folders: set[str] = set()
    sets: list[SetFiles] = []
    for handed in cameras:
        first = float(handed.outgoing.track.frames[0])
        sets.append(
            set_files(
                handed.camera,
                profile,
                first,
                handed.options,
                handed.shot or Path(handed.source.name).stem,
                handed.files[0].arrived,
            )
        )
        moved = _moving_notes(handed.marks, first)
        handed = replace(handed, notes=[*handed.notes, *moved, *sets[-1].notes])
        for file in handed.files:
            entries[f"camera/{file.path.name}"] = file.path.read_bytes()
        below = f"{legal_name(handed.track.name, folders)}/" if len(cameras) > 1 else ""
        entries |= {below + name: data for name, data in {**_of_one(handed), **sets[-1].entries}.items()}
    entries["manifest.json"] = _manifest(entries, cameras, sets)
    return zipped(entries)


def zipped(entries: Mapping[str, bytes]) -> bytes:
    """Files in one zip, the same to the byte for the same files."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name in sorted(entries):
            archive.writestr(zip_entry(name), entries[name])
    return out.getvalue()


def zip_entry(name: str) -> zipfile.ZipInfo:
    """A file of a zip by its name; its day is always the same, so that equal files give equal bytes."""
    info = zipfile.ZipInfo(name, _DAY)
    info.compress_type, info.external_attr = zipfile.ZIP_DEFLATED, 0o644 << 16
    return info


def _of_one(handed: Handed) -> dict[str, bytes]:
    """What goes with one camera: its landmarks, its set, its sheet."""
    marks, profile, entries = handed.marks, handed.profile, {}
    if marks.names:
        entries["landmarks/landmarks.csv"] = _landmark_table(marks, _frames_there(handed), profile)
        entries["landmarks/landmarks.obj"] = _points_obj(marks, _frames_there(handed)[0], profile.convention)
        entries["landmarks/landmarks.usda"] = _landmarks_usd(handed)
    lines_m = handed.camera.bare_lines_m
    if len(lines_m) and set_formats_of(handed.options.set_formats):
        entries["set/lines.obj" if handed.camera.objects else "set/set.obj"] = _lines_obj(lines_m, profile.convention)
    if handed.track.distortion is not None:
        entries |= _distortion(handed)
    made = handed.source.made
    if made is not None:
        entries |= {f"made_from/{name}": data for name, data in made.along.items()}
    html = sheet_html(handed)
    return entries | {"transfer_sheet.html": html.encode(), "transfer_sheet.pdf": sheet_pdf(html)}


def _distortion(handed: Handed) -> dict[str, bytes]:
    """The plate's distortion as a document, and the maps there and back for each stretch of frames that has its own."""
    camera = handed.camera
    assert handed.track.distortion is not None
    document = json.dumps(handed.track.distortion.document(), indent=1).encode()
    entries = {"distortion/distortion.json": document}
    if pairs_along(camera.track):
        with TemporaryDirectory(prefix="anaxis-maps-") as folder:
            for kind, path in maps_of(camera, Path(folder)).items():
                entries[f"distortion/{kind}.exr"] = path.read_bytes()
    return entries


def _frames_there(handed: Handed) -> Floats:
    """The camera's frames in the receiver's numbering, (n,)."""
    frames = handed.track.frames
    return np.asarray(frames + (handed.outgoing.track.frames[0] - frames[0]))


def _moving_notes(marks: Landmarks, first: float) -> list[str]:
    """What a person must know of landmarks that move, where some do."""
    names = [n for n, moves in zip(marks.names, marks.moving(), strict=True) if moves]
    if not names:
        return []
    return [
        f"Landmarks that move: {listed(names)}. landmarks.csv and landmarks.usda have them on every frame, landmarks.obj on frame "
        f"{format_frame(first)}."
    ]


def _landmark_table(marks: Landmarks, frames: Floats, profile: Profile) -> bytes:
    """Name and place of every landmark in the receiver's numbers; one that moves has a row for each of the receiver's frames."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    moving = marks.moving()
    numbered = any(moving)
    writer.writerow(["name", *(["frame"] if numbered else []), *(f"{a}_{profile.unit_name}" for a in "xyz")])
    places = profile.convention.position_from_canonical(marks.position_m)
    for i, name in enumerate(marks.names):
        for at in range(len(places)) if moving[i] else (0,):
            frame = [plain_frame(frames[at]) if moving[i] else ""] if numbered else []
            writer.writerow([text_cell(name), *frame, *(repr(v) for v in places[at, i].tolist())])
    return text.getvalue().encode()


def _points_obj(marks: Landmarks, first: float, convention: Convention) -> bytes:
    """A small three-armed cross at every landmark, an object each, in the receiver's axes and unit, as on frame ``first``."""
    rows, count = [f"# landmarks, in the receiving package's own axes and unit, as on frame {format_frame(first)}"], 0
    arm = 0.1
    for name, place in zip(marks.names, marks.position_m[0], strict=True):
        rows.append(f"o {name.replace(' ', '_')}")
        ends = np.concatenate([place + arm * np.eye(3), place - arm * np.eye(3)])
        rows += [f"v {x!r} {y!r} {z!r}" for x, y, z in convention.position_from_canonical(ends).tolist()]
        rows += [f"l {count + 1 + i} {count + 4 + i}" for i in range(3)]
        count += 6
    return ("\n".join(rows) + "\n").encode()


def _landmarks_usd(handed: Handed) -> bytes:
    """The landmarks as a layer; what the package does to files on arrival is made up for as in the camera's."""
    from pxr import Gf, Sdf, Usd, UsdGeom  # takes longer to load than most pages take

    axes = file_axes("usd", handed.profile.convention)
    outgoing = compensate(replace(handed.outgoing, keys=None), handed.profile, "usd")[0]
    marks = outgoing.landmarks
    stage = Usd.Stage.CreateInMemory()
    UsdGeom.SetStageUpAxis(stage, axes.up or "Y")
    UsdGeom.SetStageMetersPerUnit(stage, axes.convention.metres_per_unit)
    UsdGeom.Scope.Define(stage, "/landmarks")
    taken: set[str] = set()
    stage.SetTimeCodesPerSecond(float(outgoing.track.rate))
    places = axes.convention.position_from_canonical(marks.position_m)
    for i, (name, moves) in enumerate(zip(marks.names, marks.moving(), strict=True)):
        legal = node_name(name, taken)
        moved = UsdGeom.Xform.Define(stage, f"/landmarks/{legal}").AddTranslateOp(UsdGeom.XformOp.PrecisionDouble)
        for at in range(len(places)) if moves else (0,):
            when = Usd.TimeCode(float(outgoing.track.frames[at])) if moves else Usd.TimeCode.Default()
            moved.Set(Gf.Vec3d(*places[at, i].tolist()), when)
    layer: Sdf.Layer = stage.GetRootLayer()
    return str(layer.ExportToString()).encode()


def _lines_obj(lines_m: Floats, convention: Convention) -> bytes:
    points = convention.position_from_canonical(lines_m.reshape(-1, 3))
    rows = ["# the set's lines, in the receiving package's own axes and unit", "o set"]
    rows += [f"v {x!r} {y!r} {z!r}" for x, y, z in points.tolist()]
    rows += [f"l {2 * i + 1} {2 * i + 2}" for i in range(len(lines_m))]
    return ("\n".join(rows) + "\n").encode()


# Letters as strokes on a unit square.
_LETTERS = {
    "X": (((0, 0), (1, 1)), ((0, 1), (1, 0))),
    "Y": (((0, 1), (0.5, 0.5)), ((1, 1), (0.5, 0.5)), ((0.5, 0.5), (0.5, 0))),
    "Z": (((0, 1), (1, 1)), ((1, 1), (0, 0)), ((0, 0), (1, 0))),
}


def _axis_check(convention: Convention) -> bytes:
    """Arms along the package's own +X, +Y, +Z with their letters, and scale bars of one unit and of one metre.

    Everything is in the package's own numbers, so an arm that points elsewhere there was turned on the way in.
    """
    unit = convention.metres_per_unit
    rows, count = (["# axis check: arms along +X (1 m), +Y (0.75 m), +Z (0.5 m); bars of one unit and of one metre"], 0)

    def segment(name: str, parts: list[tuple[Floats, Floats]]) -> None:
        nonlocal count
        rows.append(f"o {name}")
        for a, b in parts:
            rows.extend(f"v {p[0]!r} {p[1]!r} {p[2]!r}" for p in (a.tolist(), b.tolist()))
            rows.append(f"l {count + 1} {count + 2}")
            count += 2

    for i, letter in enumerate("XYZ"):
        end = np.zeros(3)
        end[i] = _ARMS_M[i] / unit
        across, up = np.eye(3)[(i + 1) % 3], np.eye(3)[(i + 2) % 3]
        size = 0.1 / unit
        strokes = [
            (end + size * (a[0] * across + a[1] * up), end + size * (b[0] * across + b[1] * up))
            for a, b in _LETTERS[letter]
        ]
        segment(f"plus_{letter}", [(np.zeros(3), end), *strokes])
    low = np.full(3, -0.2 / unit)
    segment("one_unit", [(low, low + np.eye(3)[0])])
    segment("one_metre", [(low * 1.2, low * 1.2 + np.eye(3)[0] / unit)])
    return ("\n".join(rows) + "\n").encode()


def _manifest(entries: dict[str, bytes], cameras: Sequence[Handed], sets: Sequence[SetFiles]) -> bytes:
    document = {
        "anaxis": __version__,
        "libraries": {name: version(name) for name in _LIBRARIES},
        "package": cameras[0].profile.model_dump(mode="json"),
        "cameras": [_camera_entry(c) | _set_entry(s) for c, s in zip(cameras, sets, strict=True)],
        "files": {
            name: {"sha256": hashlib.sha256(data).hexdigest(), "bytes": len(data)}
            for name, data in sorted(entries.items())
        },
    }
    return json.dumps(document, indent=1, sort_keys=True).encode()


def _plate_entry(handed: Handed) -> dict[str, Any]:
    """The plate that the image is a render of, where it is larger: where it lies in it."""
    render = handed.camera.render
    if render is None:
        return {}
    plate = render.plate
    return {
        "plate": {"width_px": plate.width_px, "height_px": plate.height_px, "x_px": -render.x_px, "y_px": -render.y_px}
    }


def _set_entry(found: SetFiles) -> dict[str, Any]:
    """What was measured of each object of the set, where there is one."""
    return {"set": [p.document() for p in found.proofs]} if found.proofs else {}


def _camera_entry(handed: Handed) -> dict[str, Any]:
    track, picture, source, theirs = (handed.track, handed.camera.picture, handed.source, handed.outgoing.track.frames)
    return {
        "camera": track.name, "rate": rate_text(track.rate), "frames": [plain_frame(track.frames[0]), plain_frame(track.frames[-1])],
        "frames_there": [plain_frame(theirs[0]), plain_frame(theirs[-1])],
        "image": {"width_px": picture.image.width_px, "height_px": picture.image.height_px, "pixel_aspect": picture.image.pixel_aspect, "fit": picture.fit},
        **_plate_entry(handed),
        "source": {"file": source.name, "sha256": source.sha256, "camera": source.camera, "version": source.version, "recipe": source.recipe, "warnings": list(source.warnings),
                   **({} if source.made is None else {"made": {"kind": source.made.kind, "settings": source.made.settings, "inputs": list(source.made.inputs)}})},
        "proof": {
            f.path.name: {"max_px": f.proof.max_px, "worst_frame": plain_frame(f.proof.worst_frame), "median_px": f.proof.median_px, "grade": f.proof.grade, "node": f.node,
                          "frames_compared": f.proof.compared, "frames_expected": f.proof.owed, "differences": [d._asdict() for d in f.proof.differences],
                          **({"frame_at_zero_s": plain_frame(f.zero_frame)} if f.zero_frame else {})}
            for f in handed.files
        },
        **({"refused": dict(handed.refused)} if handed.refused else {}),
    }  # fmt: skip
