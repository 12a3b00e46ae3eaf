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
from dataclasses import dataclass
from html import escape
from typing import Any

import numpy as np

from anaxis import __version__
from anaxis.core.axes import Convention
from anaxis.core.landmarks import Landmarks
from anaxis.core.outgoing import numbers_of
from anaxis.core.project import pixel_matrices, project
from anaxis.core.timing import format_frame, plain_frame, rate_label, rate_text
from anaxis.core.track import Track
from anaxis.core.typing import Floats
from anaxis.flow import Picture
from anaxis.profiles.model import Profile
from anaxis.profiles.sheet import sheet_of
from anaxis.sending import Delivered

_DAY = (2000, 1, 1, 0, 0, 0)
# The three arms of the axis check, in metres: told apart by length and by the letter on their end.
_ARMS_M = (1.0, 0.75, 0.5)
_MAX_PIXEL_ROWS = 40


@dataclass(frozen=True, eq=False)
class Source:
    """Where a camera came from: its file, that file's checksum, and the recipe."""

    name: str
    sha256: str
    camera: str
    recipe: list[dict[str, Any]]
    version: str = ""


def handover_zip(
    track: Track, landmarks: Landmarks, lines_m: Floats, picture: Picture, profile: Profile, done: dict[str, Delivered], source: Source
) -> bytes:  # fmt: skip
    """The zip for one package; ``done`` holds the delivery of each format by its key."""
    entries: dict[str, bytes] = {}
    for delivered in done.values():
        for path in delivered.files:
            entries[f"camera/{path.name}"] = path.read_bytes()
    marks, convention = landmarks.shown(), profile.convention
    if marks.names:
        entries["landmarks/landmarks.csv"] = _landmark_table(marks, profile)
        entries["landmarks/landmarks.obj"] = _points_obj(marks, convention)
        entries["landmarks/landmarks.usda"] = _landmarks_usd(marks, profile)
    if len(lines_m):
        entries["set/set.obj"] = _lines_obj(lines_m, convention)
    entries["axis_check/axis_check.obj"] = _axis_check(convention)
    entries["transfer_sheet.html"] = sheet_html(track, marks, picture, profile, done, source).encode()
    entries["manifest.json"] = _manifest(entries, track, picture, profile, done, source)
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name in sorted(entries):
            info = zipfile.ZipInfo(name, _DAY)
            info.compress_type, info.external_attr = zipfile.ZIP_DEFLATED, 0o644 << 16
            archive.writestr(info, entries[name])
    return out.getvalue()


def _landmark_table(marks: Landmarks, profile: Profile) -> bytes:
    """Name and place of every landmark in the receiver's numbers, at the first frame."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(["name", *(f"{a}_{profile.unit_name}" for a in "xyz")])
    for name, place in zip(
        marks.names, profile.convention.position_from_canonical(marks.position_m[0]).tolist(), strict=True
    ):
        writer.writerow([name, *(repr(v) for v in place)])
    return text.getvalue().encode()


def _points_obj(marks: Landmarks, convention: Convention) -> bytes:
    """A small three-armed cross at every landmark, an object each, in the receiver's axes and unit."""
    rows, count = ["# landmarks, in the receiving package's own axes and unit"], 0
    arm = 0.1
    for name, place in zip(marks.names, marks.position_m[0], strict=True):
        rows.append(f"o {name.replace(' ', '_')}")
        ends = np.concatenate([place + arm * np.eye(3), place - arm * np.eye(3)])
        rows += [f"v {x!r} {y!r} {z!r}" for x, y, z in convention.position_from_canonical(ends).tolist()]
        rows += [f"l {count + 1 + i} {count + 4 + i}" for i in range(3)]
        count += 6
    return ("\n".join(rows) + "\n").encode()


def _landmarks_usd(marks: Landmarks, profile: Profile) -> bytes:
    from pxr import Gf, Sdf, Tf, Usd, UsdGeom

    from anaxis.core.landmarks import unique_name
    from anaxis.formats.file_axes import file_axes

    axes = file_axes("usd", profile.convention)
    stage = Usd.Stage.CreateInMemory()
    UsdGeom.SetStageUpAxis(stage, axes.up or "Y")
    UsdGeom.SetStageMetersPerUnit(stage, axes.convention.metres_per_unit)
    UsdGeom.Scope.Define(stage, "/landmarks")
    taken: set[str] = set()
    for name, place in zip(
        marks.names, axes.convention.position_from_canonical(marks.position_m[0]).tolist(), strict=True
    ):
        legal = unique_name(Tf.MakeValidIdentifier(name), taken)
        UsdGeom.Xform.Define(stage, f"/landmarks/{legal}").AddTranslateOp(
            UsdGeom.XformOp.PrecisionDouble
        ).Set(Gf.Vec3d(*place))
    layer: Sdf.Layer = stage.GetRootLayer()
    return str(layer.ExportToString()).encode()


def _lines_obj(lines_m: Floats, convention: Convention) -> bytes:
    points = convention.position_from_canonical(lines_m.reshape(-1, 3))
    rows = ["# the set's lines, in the receiving package's own axes and unit", "o set"]
    rows += [f"v {x!r} {y!r} {z!r}" for x, y, z in points.tolist()]
    rows += [f"l {2 * i + 1} {2 * i + 2}" for i in range(len(lines_m))]
    return ("\n".join(rows) + "\n").encode()


# Letters as strokes on a unit square.
_LETTERS = {"X": (((0, 0), (1, 1)), ((0, 1), (1, 0))), "Y": (((0, 1), (0.5, 0.5)), ((1, 1), (0.5, 0.5)), ((0.5, 0.5), (0.5, 0))),
            "Z": (((0, 1), (1, 1)), ((1, 1), (0, 0)), ((0, 0), (1, 0)))}  # fmt: skip


def _axis_check(convention: Convention) -> bytes:
    """Arms along the package's own +X, +Y, +Z with their letters, and scale bars of one unit and of one metre.

    Everything is in the package's own numbers, so an arm that points elsewhere there was turned on the way in.
    """
    unit = convention.metres_per_unit
    rows, count = (
        ["# axis check: arms along +X (1 m), +Y (0.75 m), +Z (0.5 m); bars of one unit and of one metre"],
        0,
    )

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


def pixel_rows(
    track: Track, marks: Landmarks, picture: Picture
) -> list[tuple[str, list[tuple[float, float] | None]]]:
    """Where each landmark is seen at the first, middle and last frame, in pixels; None behind the camera."""
    at = np.unique([0, (len(track) - 1) // 2, len(track) - 1])
    if not marks.names:
        return []
    place = marks.position_m if len(marks.position_m) == 1 else marks.position_m[at]
    seen, depth = project(pixel_matrices(track.take(at), picture.image, picture.fit), place)
    return [
        (
            name,
            [
                (float(seen[i, k, 0]), float(seen[i, k, 1])) if depth[i, k] > 1e-3 else None
                for i in range(len(at))
            ],
        )
        for k, name in enumerate(marks.names[:_MAX_PIXEL_ROWS])
    ]


def sheet_html(
    track: Track, marks: Landmarks, picture: Picture, profile: Profile, done: dict[str, Delivered], source: Source
) -> str:  # fmt: skip
    """The one-page transfer sheet: what to set, what to expect, where to look."""
    first = next(iter(done.values()))
    sheet, numbers = sheet_of(first.outgoing, profile), numbers_of(first.outgoing)
    at = np.unique([0, (len(track) - 1) // 2, len(track) - 1])
    theirs = first.outgoing.track.frames

    def row(cells: list[str], tag: str = "td") -> str:
        return "<tr>" + "".join(f"<{tag}>{escape(c)}</{tag}>" for c in cells) + "</tr>"

    typed = "".join(
        row([e.label, ", ".join(e.values) + (f" {e.unit}" if e.unit else ""), e.note]) for e in sheet.entries
    )
    expected = "".join(
        row(
            [
                format_frame(theirs[i]),
                *(f"{v:.4f}" for v in numbers.position[i]),
                *(f"{v:.4f}" for v in numbers.rotation_deg[i]),
                f"{numbers.focal_mm[i]:.4f}",
            ]
        )
        for i in at
    )
    looked = "".join(
        row([name, *("behind" if p is None else f"{p[0]:.2f}, {p[1]:.2f}" for p in places)])
        for name, places in pixel_rows(track, marks, picture)
    )
    files = "".join(
        row(
            [
                f.name,
                k,
                f"{d.proof.max_px:.3g} px at worst, at frame {format_frame(d.proof.worst_frame)}",
                d.proof.grade,
            ]
        )
        for k, d in done.items()
        for f in d.files
    )
    notes = "".join(
        f"<li>{escape(n)}</li>" for n in dict.fromkeys(n for d in done.values() for n in d.outgoing.notes)
    )
    habits = "".join(f"<li>The package {escape(h.sentence)}.</li>" for h in profile.habits)
    frames = f"{format_frame(track.frames[0])} to {format_frame(track.frames[-1])} here, {format_frame(theirs[0])} to {format_frame(theirs[-1])} there"
    unit = profile.unit_name
    return f"""<!doctype html><html lang="en"><meta charset="utf-8"><title>{escape(track.name)} for {escape(profile.key)}</title>
<style>body{{font:13px/1.35 sans-serif;color:#1c2530;max-width:190mm;margin:10mm auto}}h1{{font-size:19px;margin:0 0 4px}}h2{{font-size:14px;margin:14px 0 3px;border-bottom:1px solid #1c2530}}
table{{border-collapse:collapse;width:100%}}td,th{{text-align:left;padding:2px 8px 2px 0;border-bottom:1px solid #ddd6c6;font-variant-numeric:tabular-nums}}ul{{margin:4px 0 0 16px;padding:0}}@page{{size:A4;margin:12mm}}</style>
<h1>{escape(track.name)} for {escape(profile.label)}</h1>
<p>From {escape(source.name)}, camera {escape(source.camera)}{f", version {escape(source.version)}" if source.version else ""}. {len(track)} frames at {rate_label(track.rate)} a second: {frames}.</p>
<h2>Files</h2><table>{row(["file", "format", "proof", "grade"], "th")}{files}</table>
<h2>Set on import</h2><table>{typed}</table>
<h2>What to expect there</h2><table>{row(["frame", f"X {unit}", f"Y {unit}", f"Z {unit}", "turn X °", "turn Y °", "turn Z °", "focal mm"], "th")}{expected}</table>
<h2>Where to look, px from the upper left</h2><table>{row(["landmark", *(f"frame {format_frame(theirs[i])}" for i in at)], "th")}{looked or row(["no landmarks came along"])}</table>
{f"<h2>Notes</h2><ul>{notes}{habits}</ul>" if notes or habits else ""}
</html>
"""


def _manifest(
    entries: dict[str, bytes],
    track: Track,
    picture: Picture,
    profile: Profile,
    done: dict[str, Delivered],
    source: Source,
) -> bytes:
    document = {
        "anaxis": __version__,
        "camera": track.name, "rate": rate_text(track.rate), "frames": [plain_frame(track.frames[0]), plain_frame(track.frames[-1])],
        "image": {"width_px": picture.image.width_px, "height_px": picture.image.height_px, "pixel_aspect": picture.image.pixel_aspect, "fit": picture.fit},
        "source": {"file": source.name, "sha256": source.sha256, "camera": source.camera, "version": source.version, "recipe": source.recipe},
        "package": profile.model_dump(mode="json"),
        "proof": {
            k: {"max_px": d.proof.max_px, "worst_frame": plain_frame(d.proof.worst_frame), "median_px": d.proof.median_px, "grade": d.proof.grade}
            for k, d in done.items()
        },
        "files": {name: {"sha256": hashlib.sha256(data).hexdigest(), "bytes": len(data)} for name, data in sorted(entries.items())},
    }  # fmt: skip
    return json.dumps(document, indent=1, sort_keys=True).encode()
