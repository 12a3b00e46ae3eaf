"""What the command line prints: JSON for machines, tables for people."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any, TypeVar

import click
from rich.console import Console
from rich.table import Table

from anaxis.core.number_text import px_text
from anaxis.core.scene.nodes import Scene
from anaxis.core.time.rates import rate_label

if TYPE_CHECKING:
    from anaxis.core.findings import Finding

T = TypeVar("T")

# Exit codes: a proof above the tolerance or frames that are missing; a warning nobody allowed; a format refused.
OFF_TOLERANCE = 3
WARNED = 4
REFUSED = 5


def console() -> Console:
    return Console(width=None if sys.stdout.isatty() else 160, highlight=False)


def left_out(files: Sequence[tuple[str, str, str]], meant: bool) -> bool:
    """Whether files (name, state, why) were left out as older than what is kept, which nobody ``meant``; a line for each."""
    older = [] if meant else [(name, why) for name, state, why in files if state == "older"]
    for name, why in older:
        click.echo(
            f"anaxis: {name} was skipped, since it is older than the saved version: {why} (--older saves it too).",
            err=True,
        )
    return bool(older)


def said_on_the_way(places: Sequence[T], what: str) -> Iterator[T]:
    """The places one by one; at a terminal, where there are several, how many of them are done."""
    telling = len(places) > 1 and sys.stderr.isatty()
    for done, place in enumerate(places, 1):
        yield place
        if telling:
            click.echo(f"\r{done} of {len(places)} {what}", err=True, nl=done == len(places))


def table(*columns: str) -> Table:
    made = Table(box=None, header_style="bold", pad_edge=False)
    for i, column in enumerate(columns):
        made.add_column(column, justify="left" if i == 0 else "right", no_wrap=True)
    return made


def print_json(document: Any) -> None:
    click.echo(json.dumps(document, indent=2, allow_nan=False))


def print_report(document: dict[str, Any], scene: Scene) -> None:
    out, about = console(), document["file"]
    guessed = dict.fromkeys(scene.guesses, " (guess)")
    out.print(
        f"{about['name']}: {about['format']}, {about['up_axis']} up{guessed.get('up_axis', '')}, "
        f"{about['metres_per_unit']:g} m a unit{guessed.get('metres_per_unit', '')}, "
        f"{rate_label(scene.rate)} frames a second{guessed.get('rate', '')}, "
        f"frames {about['first_frame']} to {about['last_frame']}"
    )
    rows = table("camera", "frames", "samples", "moves", "lens moves", "focal mm", "film back mm")
    for c in document["cameras"]:
        lens = c["lens"] or {}
        sizes = [lens.get(k) for k in ("film_width_mm", "film_height_mm")]
        rows.add_row(
            c["path"],
            f"{c['first_frame']}-{c['last_frame']}",
            str(c["samples"]),
            "yes" if c["animated"] else "no",
            "yes" if c["lens_animated"] else "no",
            _number(lens.get("focal_mm")),
            " x ".join(_number(s) for s in sizes),
        )
    out.print(rows)
    for c in document["cameras"]:
        for f in c["findings"]:
            out.print(
                f"{f['severity']:8}{c['name']}: {f['message']}{' ' + f['why'] if f['why'] else ''} -> {f['remedy']}",
                markup=False,
            )


def _number(value: float | None) -> str:
    return "-" if value is None else f"{value:.3f}"


def print_values(document: dict[str, Any], notes: list[str], unit: str) -> None:
    out = console()
    out.print(f"{document['camera']} for {document['to']}, {document['resolution'][0]}x{document['resolution'][1]} px")
    rows = table("frame", "s", f"x {unit}", f"y {unit}", f"z {unit}", "rx deg", "ry deg", "rz deg",
                   "focal mm", "film back mm", "offset mm", "h fov", "v fov", "zoom px", "stop")  # fmt: skip
    for f in document["frames"]:
        rows.add_row(
            str(f["frame"]), f"{f['seconds']:.4f}", *(f"{v:.4f}" for v in f["position"]),
            *(f"{v:.4f}" for v in f["rotation_deg"]), f"{f['focal_mm']:.3f}",
            f"{f['film_width_mm']:.3f} x {f['film_height_mm']:.3f}", f"{f['offset_x_mm']:.3f}, {f['offset_y_mm']:.3f}", f"{f['hfov_deg']:.3f}",
            f"{f['vfov_deg']:.3f}", f"{f['zoom_px']:.2f}", "-" if f["fstop"] is None else f"{f['fstop']:.2f}",
        )  # fmt: skip
    out.print(rows)
    for note in notes:
        out.print(f"note: {note}", markup=False)


def print_transfer(document: dict[str, Any], label: str) -> None:
    out, proof = console(), document["proof"]
    compared, owed = proof["frames_compared"], proof["frames_expected"]
    answer = proof["grade"] if compared == owed else f"only {compared} of {owed} frames"
    out.print(
        f"{answer.upper()}: {document['camera']} reaches '{label}' within {px_text(proof['max_px'])} "
        f"(largest at frame {proof['worst_frame']}, median {px_text(proof['median_px'])}, "
        f"{proof['test_points']} points on each of {compared} frames of {owed} expected)"
    )
    for d in proof["differences"]:
        out.print(
            f"{'NOT AS MEANT' if d['matters'] else 'not in the file'}: {d['what']}, {d['meant']} meant, {d['arrived']}",
            markup=False,
        )
    if "between" in proof:
        out.print(
            f"between frames: {px_text(proof['between']['max_px'])} at most, at frame {proof['between']['worst_frame']:g}"
        )
    if "plate" in proof:
        out.print(
            f"in the plate as shot: {px_text(proof['plate']['max_px'])} at most, at frame {proof['plate']['worst_frame']:g}"
        )
    for file in document["files"]:
        out.print(f"written: {file}", markup=False)
    for note in document["notes"]:
        out.print(f"note: {note}", markup=False)


def print_findings(findings: list[tuple[str, Finding]]) -> None:
    out = console()
    for path, f in findings:
        out.print(f"{f.severity} {f.code}: {path.rsplit('/', 1)[-1]}: {f.message} -> {f.remedy}", markup=False)
