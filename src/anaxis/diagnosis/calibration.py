"""Calibration: an unknown package's profile learned from a made camera and what arrived of it.

A camera that exercises every axis, the lens and the numbering is opened there beside a few named points. Three
things come back: the camera's numbers on some frames, where the points stand in the package's numbers, and
where some of them are seen in its picture. The points give the world's axes and unit; the numbers give order,
signs and the camera's axes by holding every possibility against the pixels; the camera that is then there is
held against the one that was sent, and what differs is the package's habits (:mod:`anaxis.diagnosis.diagnose`).
"""

from __future__ import annotations

import json
from dataclasses import dataclass, replace
from fractions import Fraction
from itertools import permutations, product
from pathlib import Path
from typing import Any, Literal

import numpy as np
from scipy.spatial.transform import Rotation

from anaxis.core.camera.lens import FITS, Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.camera.track import Lens, Track, make_lens, on_common_frames, require_usable
from anaxis.core.errors import BadInput
from anaxis.core.outgoing import Outgoing, numbers_of
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.nodes import UP_AXES
from anaxis.core.space.axes import ORDERS, Convention, axis_name
from anaxis.core.space.rotation import matrices_from_angles
from anaxis.core.time.rates import parse_rate, plain_frame, rate_text
from anaxis.core.typing import Floats
from anaxis.diagnosis.case import Apart
from anaxis.diagnosis.diagnose import EXPLAINED_PX, Diagnosis, diagnose
from anaxis.diagnosis.noise import decimals_in, of_decimals
from anaxis.formats import write_files
from anaxis.packages.habit import Arriving
from anaxis.packages.habits import HABITS, arrived, in_order
from anaxis.packages.habits.world_turn import about_axis
from anaxis.packages.model import Profile, profile_from_dict

IMAGE = Image(1920, 1080)
FIT = "width"
# Points on every side of the made camera's path: whichever way a package turns or mirrors it, four and more of them are
# in its picture (tests count them).
POINTS = {
    "alder": (2.0, 0.5, -6.0), "birch": (-3.0, 1.5, -7.0), "cedar": (0.5, 3.0, -8.0), "dogwood": (4.0, -1.0, -9.0),
    "elm": (-1.0, -0.5, -5.0), "fir": (1.0, 1.0, -12.0), "gorse": (-5.0, 2.5, -11.0), "hazel": (3.0, 2.0, -4.5),
    "ivy": (1.5, 2.0, 11.0), "juniper": (-2.5, 0.5, 12.0), "larch": (2.5, -1.5, 13.0), "maple": (-1.0, 3.0, 14.0), "nettle": (0.5, 0.5, 16.0),
    "oak": (11.0, 2.0, 1.5), "pine": (12.0, 0.5, -2.5), "quince": (13.0, -1.5, 2.0), "rowan": (14.0, 3.0, -0.5), "sorrel": (16.0, 1.0, 0.5),
    "thyme": (-11.0, 2.0, -1.0), "umbel": (-12.0, 0.5, 2.5), "vetch": (-13.0, -1.5, -2.0), "willow": (-14.0, 3.0, 1.0), "yew": (-16.0, 1.0, -0.5),
    "aster": (1.5, 12.0, 1.0), "basil": (-2.5, 13.0, -1.5), "clover": (2.0, 14.0, 2.5), "daisy": (-1.0, 15.0, -0.5), "fennel": (0.5, 17.0, 0.5),
    "ginger": (1.5, -11.0, 1.5), "heather": (-2.5, -12.0, -1.0), "iris": (2.0, -13.0, 2.5), "lily": (-1.0, -14.0, -2.0), "mint": (0.5, -16.0, 0.5),
    "poppy": (18.0, 1.8, 0.2), "reed": (-18.0, 0.8, 0.4), "sedge": (0.2, 19.0, 0.8), "tansy": (-0.3, -18.0, 0.2), "viola": (0.8, 1.6, 18.0),
    "zinnia": (-0.4, 0.8, -15.0),
}  # fmt: skip
SEEN_AT = (0, 17, 34, 47)
# Formats that state their axes and unit, so that a package can go by them or not.
STATED = ("usd", "collada")
Needs = Literal["all", "camera", "pixels"]
Causes = tuple[tuple[str, dict[str, Any]], ...]
_LENS = ("focal_mm", "film_width_mm", "film_height_mm", "offset_x_mm", "offset_y_mm")


def made_camera() -> Track:
    """48 frames from 11 on at 25 a second: every axis, roll, a lens that zooms and is shifted, no symmetry."""
    n = 48
    t = np.arange(n) / 25.0
    place: Floats = np.stack(
        [0.7 * np.sin(1.3 * t) + 0.11 * t, 1.2 + 0.4 * np.cos(0.9 * t), 0.5 * t + 0.2 * np.sin(2.1 * t)], axis=1
    )
    turn = Rotation.from_rotvec(
        np.stack([0.15 * np.sin(1.7 * t) + 0.05, 0.2 * np.sin(0.8 * t) - 0.04, 0.1 * np.cos(1.1 * t)], axis=1)
    )
    lens = make_lens(
        n, focal_mm=24 + 6 * np.sin(0.7 * t), film_width_mm=25.6, film_height_mm=17.0, offset_x_mm=0.5, offset_y_mm=-0.3, focus_m=7.0,
        fstop=4.0, near_m=0.1, far_m=500.0,
    )  # fmt: skip
    return Track(
        "calibration",
        np.arange(11.0, 11.0 + n),
        Fraction(25),
        np.asarray(place, dtype=np.float64),
        turn.as_matrix(),
        lens,
    )


def made_points() -> Landmarks:
    return Landmarks(tuple(POINTS), np.array(list(POINTS.values()))[None])


def files_of(format_key: str) -> dict[str, tuple[Track, Convention]]:
    """The kit: what is opened there, by the name of its file.

    The second is in another unit with another axis up, where a format states those; the third has a film back of
    another aspect, so that every way to inscribe the image shows another picture.
    """
    wide = replace(made_camera(), lens=replace(made_camera().lens, film_height_mm=np.full(len(made_camera()), 10.7)))
    kit = {"calibration": (made_camera(), Convention()), "calibration_third": (wide, Convention())}
    if format_key in STATED:
        kit["calibration_second"] = (made_camera(), Convention(world=UP_AXES["Z"], metres_per_unit=0.01))
    return dict(sorted(kit.items()))


def write_start(out: Path, format_key: str) -> list[Path]:
    """Write the kit's files, the points as a table, and the forms to fill in. Raises BadInput."""
    try:
        out.mkdir(parents=True, exist_ok=True)
        files: list[Path] = []
        for name, (track, convention) in files_of(format_key).items():
            files += write_files(format_key, [Outgoing(track, convention, IMAGE, FIT, made_points(), ())], out, name)
        points = out / "points.csv"
        points.write_text(
            "name,x_m,y_m,z_m\n" + "".join(f"{n},{x},{y},{z}\n" for n, (x, y, z) in POINTS.items()), encoding="utf-8"
        )
        forms = []
        for name in files_of(format_key):
            forms.append(out / f"return{name.removeprefix('calibration')}.json")
            forms[-1].write_text(json.dumps(_empty_form(format_key), indent=1), encoding="utf-8")
        told = out / "README.txt"
        told.write_text(_TOLD, encoding="utf-8")
    except OSError as error:
        raise BadInput(
            f"The files cannot be written to {out} ({error.strerror or error}): choose another folder with --out."
        ) from error
    return [*files, points, *forms, told]


_TOLD = """What to do with these files

1. Open the calibration camera in the package, as any camera is opened there.
2. Put the points of points.csv there: import the file where it can be, or place them where the set's own
   geometry stands right. They are in metres, Y up, right-handed.
3. Fill in return.json in the package's own numbers: frames, the camera's position and angles on each, the lens;
   where each point stands; and for a few frames where some points are seen in its picture, in pixels from the
   upper left corner. As few as three frames and three points are enough; more settle more. Write the numbers with
   all the decimals the package shows.
4. anaxis calibrate finish return.json --key KEY --out profile.json

What one file cannot tell, two more do:
5. calibration_second is the same camera in another unit and with another axis up. Open it in an empty scene and fill
   in frames, position, rotation_deg and the lens of return_second.json: whether the package goes by a file's unit and
   up axis, or takes every file the same way.
6. calibration_third has a film back of another aspect. Open it, and fill in return_third.json with pixels, as in 3:
   how the package inscribes the image in the film back.
7. anaxis calibrate finish return.json --second return_second.json --third return_third.json --key KEY --out profile.json
"""


def _empty_form(format_key: str) -> dict[str, Any]:
    return {
        "anaxis_return": 1, "format": format_key, "rate": "24", "resolution": [IMAGE.width_px, IMAGE.height_px],
        "frames": [], "position": [], "rotation_deg": [], **{k: [] for k in _LENS}, "points": {n: [] for n in POINTS}, "pixels": {},
    }  # fmt: skip


@dataclass(frozen=True, eq=False)
class Returned:
    """What a package says in its own numbers; ``pixels`` maps a frame to where points are seen, name to (x, y)."""

    frames: Floats
    rate: Fraction
    position: Floats
    rotation_deg: Floats
    lens: Lens
    points: dict[str, Floats]
    pixels: dict[float, dict[str, Floats]]
    image: Image
    format_key: str


def returned_from_file(path: Path, needs: Needs = "all") -> Returned:
    """The form filled in; raises BadInput that names what is missing."""
    try:
        document = json.loads(path.read_text(encoding="utf-8"))
    except OSError as error:
        raise BadInput(f"The form {path} cannot be read ({error.strerror}): check the name.") from error
    except (ValueError, RecursionError) as error:
        raise BadInput(f"The form {path} is not readable JSON: save it again.") from error
    return returned_from_document(document, path.name, needs)


def returned_from_document(document: Any, name: str, needs: Needs = "all") -> Returned:
    """A form from its parsed JSON; raises BadInput that names what is missing.

    ``needs`` is "all" for the first form, "camera" for the second, "pixels" beside the camera for the third.
    """
    try:
        frames = np.array(document["frames"], dtype=np.float64)
        n = len(frames)
        lens = make_lens(n, **{k: np.array(document[k], dtype=np.float64) for k in _LENS})
        found = Returned(
            frames, parse_rate(str(document["rate"])), np.array(document["position"], dtype=np.float64).reshape(n, 3),
            np.array(document["rotation_deg"], dtype=np.float64).reshape(n, 3), lens,
            {k: np.array(v, dtype=np.float64).reshape(3) for k, v in document["points"].items() if len(v)},
            {float(f): {k: np.array(v, dtype=np.float64).reshape(2) for k, v in seen.items()} for f, seen in document["pixels"].items()},
            Image(*(int(v) for v in document["resolution"])), str(document.get("format", "usd")),
        )  # fmt: skip
    except BadInput:
        raise
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise BadInput(
            f"{name} is not filled in: it needs frames, position, rotation_deg, the lens, points and pixels; {error}."
        ) from error
    numbers = [found.position, found.rotation_deg, *(getattr(lens, k) for k in _LENS)]
    if not all(np.isfinite(v).all() for v in (frames, *numbers)):
        raise BadInput(
            f"{name} holds something that is no number among frames, position, rotation_deg and lens: correct it."
        )
    if needs != "all" and (n < 1 or (needs == "pixels" and not found.pixels)):
        raise BadInput(
            f"{name} is not filled in: it needs the camera on one frame at least{', and pixels' * (needs == 'pixels')}."
        )
    if needs == "all" and (n < 1 or len(found.points) < 3 or not found.pixels):
        raise BadInput(f"{name} is not filled in: at least one frame, three points and one frame of pixels are needed.")
    if unknown := sorted(set(found.points) - set(POINTS)):
        raise BadInput(f"{name} has a point '{unknown[0]}', which is none of those sent.")
    return found


def form_of(track: Track, convention: Convention, image: Image, fit: str, format_key: str) -> dict[str, Any]:
    """The form as a package fills it in: a camera and the points in its own numbers, and some of its picture."""
    numbers = numbers_of(Outgoing(track, convention, image, fit, made_points(), ()))
    names, where = list(POINTS), np.array(list(POINTS.values()))
    seen, depth = projection_of(track, image, fit).project(where)
    pixels: dict[str, Any] = {}
    for i in sorted({min(i, len(track) - 1) for i in SEEN_AT}):
        pixels[str(plain_frame(track.frames[i]))] = {
            n: seen[i, k].tolist() for k, n in enumerate(names) if depth[i, k] > 0.01
        }
    return {
        "anaxis_return": 1,
        "format": format_key,
        "rate": rate_text(track.rate),
        "resolution": [image.width_px, image.height_px],
        "frames": [plain_frame(f) for f in track.frames.tolist()],
        "position": numbers.position.tolist(),
        "rotation_deg": numbers.rotation_deg.tolist(),
        **{k: getattr(track.lens, k).tolist() for k in _LENS},
        "points": dict(zip(names, convention.position_from_canonical(where).tolist(), strict=True)),
        "pixels": {f: s for f, s in pixels.items() if s},
    }


@dataclass(frozen=True, eq=False)
class Learned:
    """A profile with how sure each part of it is (0 to 1), and what a second round would settle."""

    profile: Profile
    confidence: dict[str, float]
    residual_px: float
    second_round: tuple[str, ...]
    explained: bool
    diagnosis: Diagnosis


def learned(
    returned: Returned, key: str, label: str, second: Returned | None = None, third: Returned | None = None
) -> Learned:
    """The profile of the package that filled in the form, or the forms. Raises BadInput where its points fit no axes."""
    world, unit, off = _world_of(returned)
    best, rivals = _camera_of(returned, world, unit)
    convention, fit, residual = best
    fits = sorted({f for _, f in rivals})
    if third is not None:
        fit, fits = _fit_of(third, convention, fits)
    track = _track_of(returned, convention)
    require_usable(track, "The camera that came back")
    sent = made_camera()
    found = diagnose(sent, track, returned.image, fit, convention, typed=True)
    causes = found.explanations[0].causes if found.explained else ()
    ways = _as_well(causes, convention) if found.explained and returned.format_key in STATED else [causes]
    if second is not None:
        ways = _by_the_second(ways, second, convention, fit)
    if ways:
        causes = ways[0]
    document = {
        "key": key, "label": label, "world": _axes(convention.world), "camera": _axes(convention.camera), "metres_per_unit": convention.metres_per_unit,
        "rotation": {"order": convention.order, "signs": list(convention.signs)}, "lens": {"fit": fit}, "time": {"rate": rate_text(returned.rate)},
        "habits": [{"code": c, **p} for c, p in in_order(list(causes))],
    }  # fmt: skip
    readings = {r[0] for r in rivals}
    few = _decimals_of(returned)
    lets_go = 1.5 * 10.0**-few * unit if few is not None else 1e-6
    asked = _second_round(returned, found, readings, fits, ways, second is not None)
    confidence = {
        "world": 1.0 if off <= max(1e-6, lets_go) else float(np.clip(1e-3 / off, 0, 0.99)),
        "unit": 1.0 if off <= max(1e-6, lets_go) else float(np.clip(1e-3 / off, 0, 0.99)),
        "camera and rotation": (1.0 if residual < 0.5 else float(np.clip(1 / residual, 0, 0.9)))
        / max(1, len(readings)),
        "fit": 1.0 / max(1, len(fits)),
        "habits": (1.0 if found.explained and not asked else 0.8 if found.explained else 0.2) / max(1, len(ways))
        if ways
        else 0.1,
    }
    return Learned(
        profile_from_dict(document, "the profile learned"),
        confidence,
        residual,
        tuple(asked),
        found.explained and bool(ways),
        found,
    )


def _second_round(
    returned: Returned, found: Diagnosis, readings: set[str], fits: list[str], ways: list[Causes], had_second: bool
) -> list[str]:
    """What is not settled yet, each with the file or the numbers that would settle it."""
    asked = []
    if len(readings) > 1:
        asked.append(
            f"the rotations: {len(readings)} ways to read the angles fit as well; fill in more frames of calibration, and more pixels on each"
        )
    if len(fits) > 1:
        asked.append(
            f"how it inscribes the image: {' or '.join(fits)} fit as well; open calibration_third and fill in return_third.json"
        )
    if len(returned.points) < 4:
        asked.append("the world's axes: place a fourth point, away from the other three's plane")
    if not ways and had_second:
        asked.append(
            "what it does to files in general: what came back of calibration_second fits nothing that explains calibration; check its numbers"
        )
    elif len(ways) > 1:
        said = " or ".join(sorted({_words(way) for way in ways}))
        asked.append(
            f"whether it goes by a file's own unit and up axis ({said}): open calibration_second and fill in return_second.json"
            if not had_second
            else f"what it does to a file ({said}): both forms agree with each; fill in more frames of calibration_second"
        )
    if not found.explained:
        asked.append(
            f"what else it does to a file: {found.explanations[0].sentence if found.explanations else 'no frame came back that was sent'}"
        )
    elif returned.frames[-1] - returned.frames[0] < len(made_camera()) - 1.5:
        asked.append("whether later frames arrive: fill in the camera's last frame, too")
    return asked


def _words(causes: Causes) -> str:
    parts = [HABITS[c].says(p) for c, p in causes if c in ("scale", "unit", "world_turn", "up_axis")]
    return "it " + " and ".join(parts) if parts else "it goes by them"


def _as_well(causes: Causes, convention: Convention) -> list[Causes]:
    """The causes, and those that do the same to a file in metres with Y up and something else to others."""
    plain = [c for c in causes if c[0] not in ("scale", "world_turn")]
    scale = [c for c in causes if c[0] == "scale"]
    turn = [c for c in causes if c[0] == "world_turn"]
    units: list[Causes] = [
        tuple(scale),
        (("unit", {"metres_per_unit": float(scale[0][1]["factor"]) if scale else 1.0}),),
    ]
    ups: list[Causes] = [tuple(turn)]
    done = np.eye(3)
    for _, params in turn:
        done = about_axis(params["axis"], params["angle_deg"], convention) @ done
    for up in ("Y", "Z", "X"):
        if np.allclose(UP_AXES[up].T @ UP_AXES["Y"], done, atol=1e-6):
            ups.append((("up_axis", {"up": up}),))
    return [(*u, *t, *plain) for u in units for t in ups]


def _by_the_second(ways: list[Causes], second: Returned, convention: Convention, fit: str) -> list[Causes]:
    """Those of the ways that explain what came back of the second file too; none where none does."""
    sent = made_camera()
    seen = _track_of(second, convention)
    require_usable(seen, "The camera that came back of the second file")
    out = []
    for causes in ways:
        whole = np.tile(np.eye(4), (len(sent), 1, 1))
        here = Arriving(sent, IMAGE, fit, whole, whole, "Z", 0.01)
        there = arrived(here, list(causes), convention).track
        a, b = on_common_frames(there, seen)
        if not len(a):
            continue
        apart = Apart(b, second.image, fit)
        off = float(apart(a).max())
        out.append((off, causes, max(EXPLAINED_PX, of_decimals(b, convention, apart).px, 0.5)))
    return [causes for off, causes, enough in sorted(out, key=lambda o: o[0]) if off <= enough]


def _fit_of(third: Returned, convention: Convention, among: list[str]) -> tuple[str, list[str]]:
    """How the image is inscribed, of those that the first film back left, by one of another aspect; and all that fit as well."""
    frames = [f for f in third.pixels if np.abs(third.frames - f).min() < 1e-3]
    if not frames:
        raise BadInput(
            "The third form has pixels on none of the frames whose numbers came back: give both for the same frames."
        )
    at = np.array([int(np.argmin(np.abs(third.frames - f))) for f in frames])
    track = _track_of(third, convention).take(at)
    target = _Target(third, frames, track.position_m, track.lens)
    off = {f: float(target.off(track.rotation[None, None], f)[0, 0]) for f in among}
    least = min(off.values())
    good = [f for f in among if off[f] <= max(least + 0.02, 1.5 * least)]
    return good[0], good


def _decimals_of(returned: Returned) -> int | None:
    """The decimals that the points are written with; None for numbers with all their digits."""
    return decimals_in(np.array(list(returned.points.values())))


def _axes(matrix: Floats) -> dict[str, str]:
    return {k: axis_name(matrix[:, i]) for i, k in enumerate(("right", "up", "back"))}


def _signed_permutations() -> Floats:
    out = []
    for order, signs in product(permutations(range(3)), product((1.0, -1.0), repeat=3)):
        m = np.zeros((3, 3))
        m[range(3), order] = signs
        out.append(m)
    return np.array(out)


_AXES = _signed_permutations()
_SIGNS: tuple[tuple[int, int, int], ...] = tuple((a, b, c) for a in (1, -1) for b in (1, -1) for c in (1, -1))


def _world_of(returned: Returned) -> tuple[Floats, float, float]:
    """World axes and metres a unit from where the points stand; how far off they are in metres."""
    names = list(returned.points)
    ours = np.array([POINTS[n] for n in names])
    theirs = np.array([returned.points[n] for n in names])
    turned = np.einsum("kij,nj->kni", _AXES, ours)
    size = (turned * theirs).sum(axis=(1, 2)) / (ours * ours).sum()
    off = np.abs(turned * size[:, None, None] - theirs).max(axis=(1, 2)) / np.maximum(np.abs(size), 1e-12)
    off = np.where(size > 0, off, np.inf)
    best = int(np.argmin(off))
    if off[best] > 0.25:
        raise BadInput(
            f"The points fit no axes: one of them is off by {off[best]:.2g} m. Check that they stand where the set stands, in the package's own numbers."
        )
    unit = 1.0 / float(size[best])
    known = next((u for u in (0.001, 0.01, 0.0254, 0.1, 0.3048, 1.0, 10.0, 100.0) if abs(unit / u - 1) < 1e-3), unit)
    return _AXES[best], known, float(off[best])


def _camera_of(
    returned: Returned, world: Floats, unit: float
) -> tuple[tuple[Convention, str, float], list[tuple[str, str]]]:
    """Order, signs, camera axes and fit that put the points where they were seen; and the rivals that fit as well."""
    hand = round(float(np.linalg.det(world)))
    frames = [f for f in returned.pixels if np.abs(returned.frames - f).min() < 1e-3]
    if not frames:
        raise BadInput(
            "The frames of the pixels are none of those whose numbers came back: give both for the same frames."
        )
    at = np.array([int(np.argmin(np.abs(returned.frames - f))) for f in frames])
    target = _Target(returned, frames, returned.position[at] @ world * unit, returned.lens.take(at))
    cameras = np.array([c for c in _AXES if round(float(np.linalg.det(c))) == hand])
    ways: list[tuple[str, tuple[int, int, int]]] = [(o, s) for o in ORDERS for s in _SIGNS]
    turns = np.array([matrices_from_angles(returned.rotation_deg[at], o, s) for o, s in ways])
    canonical = np.einsum("ji,wnjk,ckl->wcnil", world, turns, cameras)
    off = target.off(canonical, FIT)
    plain = np.array([(o != "XYZ") + sum(v < 0 for v in s) for o, s in ways])
    order = np.lexsort((np.repeat(plain, len(cameras)), np.round(off.ravel(), 3)))[:40]
    # The fit changes the picture little beside a wrong axis: it is settled for the ways that are nearly right.
    w, c = np.unravel_index(order, off.shape)
    finer = [
        (float(gap), int(plain[w[i]]), int(w[i]), int(c[i]), fit)
        for fit in FITS
        for i, gap in enumerate(target.off(canonical[w, c][:, None], fit)[:, 0].tolist())
    ]
    least = min(found[0] for found in finer)
    # Numbers with few decimals fit nothing to the last digit: of all that fit as well the plainest is taken.
    near = max(least + 0.02, 1.5 * least)
    finer.sort(key=lambda found: (found[0] > near, FITS.index(found[4]), found[1], found[0]))
    gap, _, way, camera, fit = finer[0]
    rivals = {(f"{ways[x]}{y}", f) for g, _, x, y, f in finer if g <= near}
    return (Convention(world, cameras[camera], unit, *ways[way]), fit, gap), sorted(rivals)


class _Target:
    """Where points were seen, and how far from there a camera at known places would see them."""

    def __init__(self, returned: Returned, frames: list[float], place_m: Floats, lens: Lens) -> None:
        names = sorted({n for f in frames for n in returned.pixels[f] if n in POINTS})
        if not names:
            raise BadInput("The pixels name none of the points that were sent.")
        nowhere = np.full(2, np.nan)
        self._pixels = np.array([[returned.pixels[f].get(n, nowhere) for n in names] for f in frames])
        self._away = np.array([POINTS[n] for n in names])[None] - place_m[:, None]
        self._lens, self._image = lens, returned.image

    def off(self, rotation: Floats, fit: str) -> Floats:
        """The root mean square distance in px of rotations (a, b, n, 3, 3), (a, b); behind the camera is far off."""
        lens, used = self._lens, self._lens.used(self._image, fit)
        seen = np.einsum("nkj,abnji->abnki", self._away, rotation)
        depth = -seen[..., 2]
        with np.errstate(divide="ignore", invalid="ignore"):
            x = self._image.width_px * (
                0.5
                + ((lens.focal_mm[:, None] * seen[..., 0]) / depth - lens.offset_x_mm[:, None]) / used.width_mm[:, None]
            )
            y = self._image.height_px * (
                0.5
                - ((lens.focal_mm[:, None] * seen[..., 1]) / depth - lens.offset_y_mm[:, None])
                / used.height_mm[:, None]
            )
        gap = np.hypot(x - self._pixels[..., 0], y - self._pixels[..., 1])
        known = np.isfinite(self._pixels[..., 0])
        gap = np.where((depth > 0) & np.isfinite(gap), np.minimum(gap, 1e4), 1e4)
        return np.asarray(np.sqrt(np.where(known, gap * gap, 0.0).sum(axis=(2, 3)) / max(1, int(known.sum()))))


def _track_of(returned: Returned, convention: Convention) -> Track:
    turn = matrices_from_angles(returned.rotation_deg, convention.order, convention.signs)
    return Track(
        "returned",
        returned.frames,
        returned.rate,
        convention.position_to_canonical(returned.position),
        convention.rotation_to_canonical(turn),
        returned.lens,
    )
