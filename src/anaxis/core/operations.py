"""The operations a recipe can hold, and their registry KINDS.

To add one, write what it does (or call it from its own file) and add one entry here.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from anaxis.core import edits, resample, tree
from anaxis.core.cuts import with_mark
from anaxis.core.errors import BadInput
from anaxis.core.landmarks import MAX_NAME, Landmarks, joined
from anaxis.core.lens import FITS, Image
from anaxis.core.lens_edits import BY_LABEL, WAYS, Part, changed_curve, of_part
from anaxis.core.lens_trial import KEEPS as FILM_KEEPS
from anaxis.core.placement import similarity_of
from anaxis.core.recipe import Field, Kind, Work
from anaxis.core.scene import UP_AXES, corrected
from anaxis.core.surroundings import landmarks_of, set_lines_m
from anaxis.core.timing import format_frame, nearest_places, parse_rate
from anaxis.core.typing import Floats

LENS_PARTS = ("lens", "film back", "focal length")
_NODE = Field("node", "Node", "node")

CUT_WAYS = ("a cut", "no cut")
Params = dict[str, Any]
# From a phone's sensor to a sheet of film, with room for mistakes in a unit.
_FILM_MM = (0.01, 100_000.0)


# On the node tree


def _correct(work: Work, p: Params) -> Work:
    rate = parse_rate(str(p["rate"])) if "rate" in p else None
    return replace(work, scene=corrected(work.scene, p.get("up_axis"), p.get("metres_per_unit"), rate))


def _says_correct(p: Params) -> str:
    parts = []
    if p.get("up_axis"):
        parts.append(f"{p['up_axis']} up")
    if p.get("metres_per_unit"):
        parts.append(f"1 unit = {float(p['metres_per_unit']):g} m")
    if p.get("rate"):
        parts.append(f"{p['rate']} frames/s")
    return ", ".join(parts)


def _lens_factor(work: Work, p: Params) -> Work:
    factor = p["factor"]
    if factor <= 0:
        raise BadInput(f"A factor of {factor:g} cannot be: it must be above zero.")
    names = {
        "lens": ("focal_mm", "film_width_mm", "film_height_mm", "offset_x_mm", "offset_y_mm"),
        "film back": ("film_width_mm", "film_height_mm", "offset_x_mm", "offset_y_mm"),
        "focal length": ("focal_mm",),
    }[p["what"]]
    return _with_lens(work, lambda lens: {k: getattr(lens, k) * factor for k in names})


def _film_back(work: Work, p: Params) -> Work:
    if not (
        _FILM_MM[0] <= min(p["width_mm"], p["height_mm"])
        and max(p["width_mm"], p["height_mm"]) <= _FILM_MM[1]
    ):
        raise BadInput(
            f"A film back needs a width and a height above zero, from {_FILM_MM[0]:g} to {_FILM_MM[1]:g} mm, not "
            f"{p['width_mm']:g} x {p['height_mm']:g} mm."
        )

    # A file that holds a field of view and no film back: the view is what is known of its lens.
    only_view = f"lens:{work.path}" in work.scene.guesses
    keep = p.get("keep") or (FILM_KEEPS[1] if only_view else FILM_KEEPS[0])

    def sizes(lens: Any) -> dict[str, Floats]:
        ratio = np.ones_like(lens.focal_mm)
        if keep == FILM_KEEPS[1]:
            side = "height" if work.scene.source_fit == "height" else "width"
            ratio = p[f"{side}_mm"] / getattr(lens, f"film_{side}_mm")
        focal = {"focal_mm": lens.focal_mm * ratio}
        return focal | {
            f"film_{k}_mm": np.full_like(lens.focal_mm, p[f"{k}_mm"]) for k in ("width", "height")
        }  # fmt: skip

    return _with_lens(work, sizes)


def _with_lens(work: Work, change: Any) -> Work:
    node = work.scene.camera(work.path)
    assert node.lens is not None
    guesses = {k: v for k, v in work.scene.guesses.items() if k != f"lens:{work.path}"}
    scene = work.scene.replaced(replace(node, lens=replace(node.lens, **change(node.lens))))
    return replace(work, scene=replace(scene, guesses=guesses))


def _aim(work: Work, p: Params) -> Work:
    return replace(work, scene=tree.aimed(work.scene, work.path, p["node"], work.frames))


def _place_at(work: Work, p: Params) -> Work:
    return replace(work, scene=tree.placed_at(work.scene, work.path, p["node"], work.frames))


def _attach(work: Work, p: Params) -> Work:
    keep = p.get("keep_place") == "where it stands"
    return replace(work, scene=tree.attached(work.scene, work.path, p["node"], keep, work.frames))


def _inherit(work: Work, p: Params) -> Work:
    return replace(work, scene=tree.inheriting(work.scene, p["node"]))


def _drop_scale(work: Work, p: Params) -> Work:
    return replace(work, scene=tree.without_scale(work.scene, p["node"]))


def _level(work: Work, p: Params) -> Work:
    return replace(work, scene=tree.level_off(work.scene, p["node"], p["way"], float(work.frames[0])))


# The bake itself: its parameters are read by recipe.replay


def _bake(work: Work, p: Params) -> Work:
    return work


def _says_bake(p: Params) -> str:
    span = ""
    if p.get("first") not in (None, "") or p.get("last") not in (None, ""):
        span = f"frames {p.get('first', 'first')} to {p.get('last', 'last')}"
    step = float(p.get("step") or 1)
    return (
        ", ".join(x for x in (span, f"every {step:g} frames" if step != 1 else "") if x)
        or "every whole frame"
    )


# On the baked track


def _trim(work: Work, p: Params) -> Work:
    track = work.done.between(p.get("first", -np.inf), p.get("last", np.inf))
    keep = np.flatnonzero(np.isin(work.done.frames, track.frames))
    return replace(work, track=track, kept=work.kept[keep], landmarks=work.landmarks.at_frames(keep))


def _bridge(work: Work, p: Params) -> Work:
    last = p["last"] if "last" in p else p["first"]
    return work.with_track(edits.bridged(work.done, p["first"], last))


def _rate(work: Work, p: Params) -> Work:
    rate, track = parse_rate(p["rate"]), work.done
    made = resample.at_rate(track, rate, p["keep"])
    if p["keep"] == "frames" or rate == track.rate:
        return work.with_track(made)
    at = track.frames[0] + float(track.rate / rate) * np.arange(len(made))
    marks = resample.landmarks_at(track, work.landmarks, at)
    return replace(work, track=made, kept=work.kept[nearest_places(track.frames, at)], landmarks=marks)


def _handles(work: Work, p: Params) -> Work:
    head, tail = int(p.get("head", 0)), int(p.get("tail", 0))
    made = resample.with_handles(work.done, head, tail, p["way"])
    index = np.clip(np.arange(-head, len(work.done) + tail), 0, len(work.done) - 1)
    return replace(work, track=made, kept=work.kept[index], landmarks=work.landmarks.at_frames(index))


def _focal(work: Work, p: Params) -> Work:
    """The focal length of the frames from first to last, or of all of them."""
    if p["focal_mm"] <= 0:
        raise BadInput(f"A focal length of {p['focal_mm']:g} mm cannot be: it must be above zero.")
    track = work.done
    inside = (track.frames >= p.get("first", -np.inf)) & (track.frames <= p.get("last", np.inf))
    if not inside.any():
        track.between(p.get("first", -np.inf), p.get("last", np.inf))  # raises the sentence for it
    focal = np.where(inside, p["focal_mm"], track.lens.focal_mm)
    return work.with_track(replace(track, lens=replace(track.lens, focal_mm=focal)))


def _lens_curve(work: Work, p: Params) -> Work:
    channel = BY_LABEL[p["channel"]]
    first, last = p.get("first", -np.inf), p.get("last", np.inf)
    return work.with_track(changed_curve(work.done, channel, p["way"], p.get("value"), first, last))


def _says_curve(p: Params) -> str:
    what = f"{p.get('channel')} {p.get('way')}"
    if p.get("value") not in (None, "") and p.get("way") != "hold outside":
        what += f" {float(p['value']):.6g}"
    spanned = any(p.get(k) not in (None, "") for k in ("first", "last"))
    return what + (f", {_span(p)}" if spanned else "")


def _part(work: Work, p: Params) -> Work:
    """The part of the plate that becomes the image; the picture's own size is kept beside the recipe."""
    plate = Image(int(p["plate_width_px"]), int(p["plate_height_px"]), p["pixel_aspect"])
    part = Part(p["x_px"], p["y_px"], p["width_px"], p["height_px"])
    return work.with_track(of_part(work.done, plate, p["fit"], part))


def _shift(work: Work, p: Params) -> Work:
    offset = np.array([p["x_m"], p["y_m"], p["z_m"]])
    marks = replace(work.landmarks, position_m=work.landmarks.position_m + offset)
    track = replace(work.done, position_m=work.done.position_m + offset)
    return replace(work, track=track, landmarks=marks, lines_m=work.lines_m + offset)


def _place(work: Work, p: Params) -> Work:
    found = similarity_of(p)
    lines = found.points(work.lines_m) if len(work.lines_m) else work.lines_m
    return replace(
        work, track=found.track(work.done), landmarks=found.landmarks(work.landmarks), lines_m=lines
    )


def _keep_lens(work: Work, p: Params) -> Work:
    return work.with_track(edits.with_lens(work.done, p["lens"]))


# Landmarks and set


def _marks_add(work: Work, p: Params) -> Work:
    names, places = [], []
    for entry in p["marks"]:
        try:
            name = str(entry["name"]).strip()[:MAX_NAME]
            place = np.array(entry["position_m"], dtype=np.float64)
            if not name or place.shape != (3,) or not np.isfinite(place).all():
                raise ValueError
        except (KeyError, TypeError, ValueError) as error:
            raise BadInput(f"The landmark {entry!r} needs a name and three numbers.") from error
        names.append(name)
        places.append(place)
    kept = [i for i, n in enumerate(work.landmarks.names) if n not in names]
    # One of the same name takes the other's place: that is how a typed position is corrected.
    old = work.landmarks.take(np.array(kept, dtype=np.int64))
    added = Landmarks(tuple(names), np.array(places).reshape(1, -1, 3))
    return replace(work, landmarks=joined([old, added], len(work.done)))


def _mark_rename(work: Work, p: Params) -> Work:
    marks = work.landmarks
    at = marks.index(p["name"])
    new = str(p["to"]).strip()[:MAX_NAME]
    if not new or new in marks.names:
        raise BadInput(f"'{new}' cannot be a landmark's name: it is empty or taken.")
    names = (*marks.names[:at], new, *marks.names[at + 1 :])
    hidden = frozenset(new if n == p["name"] else n for n in marks.hidden)
    return replace(work, landmarks=replace(marks, names=names, hidden=hidden))


def _marks_hide(work: Work, p: Params) -> Work:
    hidden = set(work.landmarks.hidden)
    for name in p["names"]:
        work.landmarks.index(name)
        (hidden.discard if p["way"] == "show" else hidden.add)(name)
    return replace(work, landmarks=replace(work.landmarks, hidden=frozenset(hidden)))


def _set_add(work: Work, p: Params) -> Work:
    found = corrected(work.sets(str(p["sha256"])), p.get("up_axis"), p.get("metres_per_unit"))
    marks = joined([work.landmarks, landmarks_of(found, work.done.frames[:1])], len(work.done))
    lines = np.concatenate([work.lines_m, set_lines_m(found, found.first_frame)])
    return replace(work, landmarks=marks, lines_m=lines)


def _span(p: Params) -> str:
    first, last = p.get("first"), p.get("last")
    ends = [
        "start" if first in (None, "") else format_frame(float(first)),
        "end" if last in (None, "") else format_frame(float(last)),
    ]
    return (
        ends[0]
        if ends[0] == ends[1] or (last in (None, "") and first not in (None, ""))
        else " to ".join(ends)
    )


_UP = Field("up_axis", "Up axis", "choice", choices=tuple(UP_AXES), optional=True)
_UNIT = Field("metres_per_unit", "Metres a unit", unit="m", optional=True)
_FIRST, _LAST = Field("first", "First frame", optional=True), Field("last", "Last frame", optional=True)

_ALL = (
    Kind("correct", "Axes, unit, rate", "tree", (_UP, _UNIT, Field("rate", "Frames a second", "text", optional=True)),
         _correct, _says_correct),
    Kind("lens_factor", "Scale the lens", "tree",
         (Field("what", "What", "choice", choices=LENS_PARTS), Field("factor", "Times")), _lens_factor,
         lambda p: f"{p.get('what')} × {float(p.get('factor', 1)):g}"),
    Kind("film_back", "Film back", "tree", (Field("width_mm", "Width", unit="mm"), Field("height_mm", "Height", unit="mm"),
          Field("keep", "Keep the", "choice", choices=FILM_KEEPS, optional=True)),
         _film_back, lambda p: f"{float(p.get('width_mm', 0)):.3f} × {float(p.get('height_mm', 0)):.3f} mm"),
    Kind("drop_scale", "Drop the scale", "tree", (_NODE,), _drop_scale, lambda p: f"of {p.get('node')}"),
    Kind("inherit", "Let parents move it", "tree", (_NODE,), _inherit, lambda p: f"{p.get('node')}"),
    Kind("level", "Switch a level off", "tree", (_NODE, Field("way", "How", "choice", choices=tree.LEVEL_WAYS)), _level,
         lambda p: f"{p.get('node')} {'held as at the first frame' if p.get('way') == 'still' else 'taken out'}"),
    Kind("place_at", "Position from a node", "tree", (_NODE,), _place_at, lambda p: f"stands where {p.get('node')} stands"),
    Kind("attach", "Attach to a node", "tree",
         (_NODE, Field("keep_place", "Its offset", "choice", choices=("its own numbers", "where it stands"), optional=True)),
         _attach, lambda p: f"moves with {p.get('node')}"),
    Kind("aim", "Aim at a node", "tree", (_NODE,), _aim, lambda p: f"looks at {p.get('node')}, roll kept"),
    Kind("bake", "Bake", "bake", (_FIRST, _LAST, Field("step", "Step", unit="frames", optional=True)), _bake, _says_bake),
    Kind("trim", "Trim", "track", (_FIRST, _LAST), _trim, _span),
    Kind("fill_gaps", "Fill gaps", "track", (), lambda w, p: w.with_track(edits.without_gaps(w.done)),
         lambda p: "samples that are no numbers, from their neighbours"),
    Kind("bridge", "Bridge a jump", "track", (Field("first", "From frame"), Field("last", "To frame", optional=True)), _bridge,
         lambda p: f"frame {_span(p)} from its neighbours"),
    Kind("level_horizon", "Level the horizon", "track", (), lambda w, p: w.with_track(edits.levelled(w.done)),
         lambda p: "the roll goes, the look stays"),
    Kind("focal", "Focal length", "track", (Field("focal_mm", "Focal length", unit="mm"), _FIRST, _LAST), _focal,
         lambda p: f"{float(p.get('focal_mm', 0)):g} mm" + ("" if p.get("first") in (None, "") and p.get("last") in (None, "") else f", {_span(p)}")),
    Kind("lens_curve", "Lens curve", "track",
         (Field("channel", "What", "choice", choices=tuple(BY_LABEL)), Field("way", "How", "choice", choices=WAYS),
          Field("value", "Value", optional=True), _FIRST, _LAST), _lens_curve, _says_curve),
    Kind("part", "Part of the plate", "track",
         (*(Field(n, n.removesuffix("_px").replace("_", " "), unit="px") for n in
            ("plate_width_px", "plate_height_px", "x_px", "y_px", "width_px", "height_px")),
          Field("pixel_aspect", "Pixel aspect"), Field("fit", "Fit of the plate", "choice", choices=FITS)), _part,
         lambda p: f"{float(p.get('width_px', 0)):g} × {float(p.get('height_px', 0)):g} px at "
                   f"{float(p.get('x_px', 0)):g}, {float(p.get('y_px', 0)):g} of {float(p.get('plate_width_px', 0)):g} × {float(p.get('plate_height_px', 0)):g}"),
    Kind("near_plane", "Near plane", "track", (Field("near_m", "Near", unit="m"),),
         lambda w, p: w.with_track(edits.with_near(w.done, p["near_m"])), lambda p: f"{float(p.get('near_m', 0)):g} m"),
    Kind("shift", "Move everything", "track", tuple(Field(f"{a}_m", a.upper(), unit="m") for a in "xyz"), _shift,
         lambda p: ", ".join(f"{float(p.get(f'{a}_m', 0)):g}" for a in "xyz") + " m (right, up, back)"),
    Kind("place", "Place", "track",
         (*(Field(n, n.removesuffix("_m")) for n in ("scale", "qx", "qy", "qz", "qw", "x_m", "y_m", "z_m")), Field("told", "How", "text", optional=True)),
         _place, lambda p: str(p.get("told") or f"scale {float(p.get('scale', 1)):g}")),
    Kind("rate", "Change the rate", "track",
         (Field("rate", "Frames a second", "text"), Field("keep", "Keep the same", "choice", choices=("frames", "time"))), _rate,
         lambda p: f"{p.get('rate')} frames/s, same {p.get('keep')}"),
    Kind("handles", "Handles", "track",
         (Field("head", "Before", unit="frames", optional=True), Field("tail", "After", unit="frames", optional=True),
          Field("way", "How", "choice", choices=resample.HANDLE_WAYS)), _handles,
         lambda p: f"{float(p.get('head') or 0):g} before, {float(p.get('tail') or 0):g} after, {p.get('way')}"),
    Kind("cut", "Cut", "track", (Field("frame", "First frame of what follows"), Field("way", "It is", "choice", choices=CUT_WAYS)),
         lambda w, p: w.with_track(with_mark(w.done, p["frame"], p["way"] == CUT_WAYS[0])),
         lambda p: f"{p.get('way')} before frame {format_frame(float(p.get('frame', 0)))}"),
    Kind("renumber", "Renumber", "track", (Field("first", "First frame"),),
         lambda w, p: w.with_track(edits.renumbered(w.done, p["first"])), lambda p: f"from {_span(p)}"),
    Kind("keep_lens", "Keep an earlier lens", "track", (Field("lens", "Lens", "data", holds=dict), Field("of", "Of", "text", optional=True)),
         _keep_lens, lambda p: f"that of {p.get('of') or 'an earlier version'}"),
    Kind("marks_add", "Landmarks typed", "track", (Field("marks", "Landmarks", "data", holds=list),), _marks_add,
         lambda p: ", ".join(str(m.get("name")) for m in p.get("marks", [])[:4]) + (" and more" if len(p.get("marks", [])) > 4 else "")),
    Kind("mark_rename", "Landmark renamed", "track", (Field("name", "Name", "text"), Field("to", "New name", "text")), _mark_rename,
         lambda p: f"{p.get('name')} is now {p.get('to')}"),
    Kind("marks_hide", "Landmarks hidden or shown", "track",
         (Field("names", "Names", "data", holds=list), Field("way", "Way", "choice", choices=("hide", "show"))), _marks_hide,
         lambda p: f"{p.get('way')} {', '.join(p.get('names', [])[:4])}" + (" and more" if len(p.get("names", [])) > 4 else "")),
    Kind("set_add", "Set from a file", "track",
         (Field("sha256", "File", "data"), Field("name", "Name", "text", optional=True), _UP, _UNIT), _set_add,
         lambda p: str(p.get("name", ""))),
)  # fmt: skip

KINDS: dict[str, Kind] = {k.code: k for k in _ALL}
