"""Where the shots of a cut disagree, said before they are joined, each with what to do."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from fractions import Fraction

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.derive.cut import Piece
from anaxis.core.derive.derived import Input, Inputs
from anaxis.core.findings import Finding
from anaxis.core.names import listed
from anaxis.core.time.rates import rate_label


def disagreements(
    inputs: Inputs, pieces: tuple[Piece, ...], rate: Fraction, image: Image, fit: str, film_back: str
) -> list[Finding]:
    """Findings about the cameras (by role) that the pieces of a cut show."""
    used = {p.role: inputs[p.role] for p in pieces if p.role in inputs}
    return [
        *_rates(used, rate),
        *_differ(used, "join_resolution", "Resolution", lambda i: f"{i.picture.image.width_px} x {i.picture.image.height_px} px",
                 f"The joined camera is {image.width_px} x {image.height_px} px: render all shots at this size.", "warning"),
        *_differ(used, "join_pixel_aspect", "Pixel aspect", lambda i: f"{i.picture.image.pixel_aspect:g}",
                 f"The joined camera has {image.pixel_aspect:g}: correct a wrong one on Lens of its shot.", "warning"),
        *_aspects(used, image),
        *_differ(used, "join_up_axis", "Up axis of the files", lambda i: f"{i.up_axis} up",
                 "Anaxis converts them to one up axis. If a shot lies on its side, correct its up axis on Take in.", "note"),
        *_differ(used, "join_unit", "Unit of the files", lambda i: f"{i.metres_per_unit:g} m",
                 "Anaxis converts them to metres. If a set is 100 times too large or small, correct its unit on Take in.", "note"),
        *_film_backs(used, image, fit, film_back),
        *_half_known(used),
        *_distortions(used),
    ]  # fmt: skip


def _listed(used: Inputs, told: Callable[[Input], str]) -> dict[str, list[str]]:
    """Who has which value, by value."""
    out: dict[str, list[str]] = {}
    for source in used.values():
        out.setdefault(told(source), []).append(source.name)
    return out


def _words(found: dict[str, list[str]]) -> str:
    """Each value with the first of those that have it; the commonest first."""
    ordered = sorted(found.items(), key=lambda kv: -len(kv[1]))
    return "; ".join(f"{value}: {listed(n, 3)}" for value, n in ordered)


def _differ(
    used: Inputs, code: str, what: str, told: Callable[[Input], str], mend: str, severity: str
) -> Iterator[Finding]:
    found = _listed(used, told)
    if len(found) > 1:
        yield Finding(code, severity, f"{what} differs: {_words(found)}.", mend, numbers={"values": len(found)})  # type: ignore[arg-type]


def _rates(used: Inputs, rate: Fraction) -> Iterator[Finding]:
    other = {k: v for k, v in used.items() if v.track.rate != rate}
    if other:
        yield Finding(
            "join_rate", "warning",
            f"The cut runs at {rate_label(rate)} frames a second, but not all shots do: "
            f"{_words(_listed(other, lambda i: f'{rate_label(i.track.rate)}/s'))}. Anaxis matches their frames by number.",
            "Retime the shot on Time first, with the same frames or the same time as in the edit.",
            "Matched by number, a shot plays faster or slower than it was shot.",
        )  # fmt: skip


def _aspects(used: Inputs, image: Image) -> Iterator[Finding]:
    other = {k: v for k, v in used.items() if not np.isclose(v.picture.image.aspect, image.aspect, rtol=1e-6)}
    if other:
        yield Finding(
            "join_aspect", "warning",
            f"The joined picture is {image.aspect:.4f} wide as high, but not all shots are: "
            f"{_words(_listed(other, lambda i: f'{i.picture.image.aspect:.4f}'))}. Anaxis crops or pads them.",
            "Choose whether to keep their width or height, and crop their renders like their plates.",
            "The picture of such a shot shows less or more than its plate.",
        )  # fmt: skip


def _film_backs(used: Inputs, image: Image, fit: str, film_back: str) -> Iterator[Finding]:
    def told(source: Input) -> str:
        lens = source.track.lens
        return f"{lens.film_width_mm[0]:.3f} x {lens.film_height_mm[0]:.3f} mm" + (
            f", squeeze {lens.squeeze[0]:g}" if lens.squeeze[0] != 1 else ""
        )

    found = _listed(used, told)
    if len(found) > 1:
        yield Finding(
            "join_film_back", "note" if film_back == "common" else "warning",
            f"The film backs differ: {_words(found)}. " + (
                "All frames use the film back of the first shot with matching focal lengths; the depth of field differs."
                if film_back == "common" else "The film back steps at the cuts."
            ),
            "Nothing to do: the picture is the same." if film_back == "common" else
            "Choose a common film back if the package reads it once: glTF and COLLADA store none, and many importers use the first frame.",
            "A package that keeps the film back of the first shot shows the others with a wrong field of view.",
        )  # fmt: skip


def _half_known(used: Inputs) -> Iterator[Finding]:
    for channel, words in (("focus_m", "focus distance"), ("fstop", "stop")):
        known = {i.name: bool(np.isfinite(getattr(i.track.lens, channel)).all()) for i in used.values()}
        if len(set(known.values())) > 1:
            without = [n for n, k in known.items() if not k]
            yield Finding(
                "join_half_known", "warning",
                f"There is no {words} in {', '.join(without[:4])}: files with one number on each frame then skip it on all frames.",
                "Set it for these shots on Lens.", "Otherwise depth of field is right in some shots only.",
            )  # fmt: skip


def _distortions(used: Inputs) -> Iterator[Finding]:
    kinds = _listed(used, lambda i: "none" if i.track.distortion is None else i.track.distortion.kind.label)
    if len(kinds) > 1 or (
        len(used) > 1
        and any(i.track.distortion is not None and i.track.distortion.kind.code == "map" for i in used.values())
    ):
        yield Finding(
            "join_distortion", "warning",
            f"The shots have different distortion models: {_words(kinds)}. The joined camera has no distortion.",
            "Distort the render of each shot with the maps of that shot, written on its Lens station.",
            "Otherwise the renders match the undistorted plates, not the plates as shot.",
        )  # fmt: skip
