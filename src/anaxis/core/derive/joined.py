"""Joined over a cut: one camera that is, on every frame of an edit, exactly the camera of the shot on screen.

A frame that coincides with a source's sample is that sample, bit for bit; frames between samples (a retime) are drawn
within the shot alone. Cuts are marked where one shot follows another, so nothing is ever drawn across them.
"""

from __future__ import annotations

from dataclasses import fields, replace
from typing import Literal

import numpy as np

from anaxis.core.bounds import MAX_FRAMES, require_frame
from anaxis.core.camera.distortion.distortion import Distortion
from anaxis.core.camera.lens import Image, require_fit, same_used
from anaxis.core.camera.track import Lens, Track
from anaxis.core.derive.cut import Piece, Pieces, laid_out
from anaxis.core.derive.derived import Derived, DerivedKind, Input, Inputs, Shown
from anaxis.core.derive.disagree import disagreements
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding, by_severity
from anaxis.core.motion.cuts import cuts_of, found_cuts
from anaxis.core.motion.resample import sampled
from anaxis.core.parameters import Number, Parameters, Positive, parameter
from anaxis.core.scene.landmarks import NO_LANDMARKS, Landmarks, Names, unique_name
from anaxis.core.time.rates import format_frame, nearest_places, parse_rate
from anaxis.core.typing import Floats, Ints

_ON_SAMPLE = 1e-6
MAX_EXTRA = 1_000


class Join(Parameters):
    """``pieces`` in the order of the cut; ``first`` numbers its first frame. A ``common`` film back is that of the first
    frame, with the same picture on every other."""

    pieces: tuple[Piece, ...] = parameter("Shots in order")
    rate: str = parameter("Rate, frames/s")
    first: Number = parameter("First frame", default=1001.0)
    width_px: int = parameter("Width", "px")
    height_px: int = parameter("Height", "px")
    pixel_aspect: Positive = parameter("Pixel aspect", default=1.0)
    fit: str = parameter("Fit", default="width")
    keep: Literal["width", "height"] = parameter("For another aspect, keep", default="width")
    film_back: Literal["stepped", "common"] = parameter("Film back", default="stepped")
    gaps: Literal["hold", "close"] = parameter("Gaps", default="hold")
    missing: Literal["refuse", "hold"] = parameter("Missing frames of a shot", default="refuse")
    name: str = parameter("Name", default="joined")
    edit: str = parameter("Edit", default="")
    timecode: Literal["non-drop", "drop"] = parameter("Timecode of the EDL", default="non-drop")


def extended(p: Join, before: int, after: int) -> Join:
    """A cut with frames more of its first and last shot at its ends, which filters and motion blur read past; the numbers of the
    frames that it had stay. Raises BadInput."""
    if not (0 <= before <= MAX_EXTRA and 0 <= after <= MAX_EXTRA):
        raise BadInput(f"{max(before, after)} extra frames are not possible: choose 0 to {MAX_EXTRA}.")
    if not (before or after) or not p.pieces:
        return p
    start, end = min(c.begins for c in p.pieces), max(c.end for c in p.pieces)
    out = []
    for piece in p.pieces:
        changed = {"begins": piece.begins + before, "frames": piece.frames}
        if before and piece.begins == start:
            changed = {"begins": start, "frames": piece.frames + before}
            piece = piece.model_copy(update={"first": piece.first - before * piece.speed})
        if after and piece.end == end and changed["begins"] + changed["frames"] == end + before:
            changed["frames"] += after
        out.append(piece.model_copy(update=changed))
    return p.model_copy(update={"pieces": tuple(out), "first": p.first - before})


def make(inputs: Inputs, p: Join) -> Derived:
    """Raises BadInput where a piece's camera is not there, does not have the frames the cut shows, or fits no picture."""
    pieces = placed(p)
    require_frame(p.first + pieces.count)
    image = Image(p.width_px, p.height_px, p.pixel_aspect)
    require_fit(p.fit)
    findings = [
        *pieces.findings(p.first),
        *disagreements(inputs, pieces.pieces, parse_rate(p.rate), image, p.fit, p.film_back),
    ]
    parts: list[Track] = []
    for i, piece in enumerate(pieces.pieces):
        source = source_of(inputs, piece)
        at = pieces.source_frames(i)
        if not len(at):
            continue
        held, said = _within(source.track, at, piece, p.missing)
        findings += said
        parts.append(_as_shown(_part(source.track, held), source, image, p))
    track = _one_after_another(parts, pieces, p)
    if p.film_back == "common":
        track = replace(track, lens=on_one_film_back(track.lens, image, p.fit))
    names = tuple(piece.name for piece in pieces.pieces)
    return Derived(
        track, image, p.fit, _landmarks(inputs, pieces), _lines(inputs), findings=tuple(findings),
        shown=Shown(names, pieces.which, pieces.frames),
    )  # fmt: skip


def checked(inputs: Inputs, p: Join) -> list[Finding]:
    """What is to be said of a cut before it is joined, gravest first; what would refuse it is an error."""
    pieces = placed(p)
    found = [
        *pieces.findings(p.first),
        *disagreements(
            inputs,
            pieces.pieces,
            parse_rate(p.rate),
            Image(p.width_px, p.height_px, p.pixel_aspect),
            p.fit,
            p.film_back,
        ),
    ]
    for i, piece in enumerate(pieces.pieces):
        try:
            at = pieces.source_frames(i)
            if len(at):
                found += _within(source_of(inputs, piece).track, at, piece, p.missing)[1]
        except BadInput as error:
            found.append(
                Finding(
                    "join_missing_frames" if error.code == "missing_frames" else "join_no_camera",
                    "error",
                    error.sentence,
                    "",
                )
            )
    return by_severity(found)


def placed(p: Join) -> Pieces:
    """The pieces of a cut where they lie in the joined camera. Raises BadInput for a cut that shows nothing."""
    pieces = laid_out(p.pieces, p.gaps == "close")
    if pieces.count > MAX_FRAMES:
        raise BadInput(f"The cut is {pieces.count} frames long; at most {MAX_FRAMES} are possible: join a part of it.")
    return pieces


def source_of(inputs: Inputs, piece: Piece) -> Input:
    if piece.role not in inputs:
        raise BadInput(
            f"The clip '{piece.name}' has no camera: choose a camera of its shot, or remove the clip.", "no_camera"
        )
    return inputs[piece.role]


def _within(track: Track, at: Floats, piece: Piece, missing: str) -> tuple[Floats, list[Finding]]:
    """The frames (m,) of a source that a piece shows, held at its ends where it has none."""
    low, high = float(track.frames[0]), float(track.frames[-1])
    gone = (at < low - _ON_SAMPLE) | (at > high + _ON_SAMPLE)
    if not gone.any():
        return at, []
    wanted = f"{format_frame(at.min())} to {format_frame(at.max())}"
    said = (
        f"'{piece.name}' shows frames {wanted} of '{track.name}', which has {format_frame(low)} to {format_frame(high)}"
    )
    if at.min() > high or at.max() < low:
        shift = low - np.floor(at.min())
        raise BadInput(
            f"{said}: no common frames. It is numbered otherwise: renumber the shot on Time, or the clip by {shift:+g} frames.",
            "missing_frames",
        )
    if missing == "refuse":
        before, behind = max(0.0, np.ceil(low - at.min())), max(0.0, np.ceil(at.max() - high))
        raise BadInput(
            f"{said}: add handles on Time ({before:g} before, {behind:g} behind), take in a longer camera, or hold the missing frames."
            "", "missing_frames",
        )  # fmt: skip
    finding = Finding(
        "join_held", "warning", f"{said}: {int(gone.sum())} frames are held.", "Export the shot again with handles.",
        "A held camera does not match a plate that moves on.", {"frames": int(gone.sum())},
    )  # fmt: skip
    return np.clip(at, low, high), [finding]


def _part(track: Track, at: Floats) -> Track:
    """A source on the frames (m,) in any order; samples that are there as they are, the others drawn within the shot."""
    near = nearest_places(track.frames, at)
    if (np.abs(track.frames[near] - at) <= _ON_SAMPLE).all():
        return replace(track.select_frames(near), marked=_breaks(track, at))
    once, back = np.unique(at, return_inverse=True)
    return replace(sampled(track, once).select_frames(back.reshape(-1)), marked=_breaks(track, at))


def _breaks(track: Track, at: Floats) -> Ints:
    """Where the frames (m,) of a source run over one of its own cuts, forwards or backwards: 1 behind it."""
    shot = np.searchsorted(track.frames[cuts_of(track)], at + _ON_SAMPLE, side="right")
    return np.concatenate([[0], (np.diff(shot) != 0).astype(np.int64)])


def _as_shown(part: Track, source: Input, image: Image, p: Join) -> Track:
    """A part with the film back by which the joined picture shows what its own does."""
    lens, picture = part.lens, source.picture
    own, shown = lens.used(picture.image, picture.fit), lens.used(image, p.fit)
    if same_used(own, shown):
        return part
    if picture.fit == "stretch" and not np.allclose(own.width_mm / own.height_mm, picture.image.aspect, rtol=1e-6):
        raise BadInput(
            f"'{source.name}' stretches its image over a film back of another aspect, which cannot be joined with other shots: choose another source fit on Lens."
            ""
        )
    wide, high = own.width_mm, own.height_mm
    if not np.isclose(picture.image.aspect, image.aspect, rtol=1e-6):
        wide, high = (wide, wide / image.aspect) if p.keep == "width" else (high * image.aspect, high)
    return replace(part, lens=replace(lens, film_width_mm=wide / lens.squeeze, film_height_mm=high))


def on_one_film_back(lens: Lens, image: Image, fit: str) -> Lens:
    """The same picture on the film back of the first frame: focal length and offsets go with it, the squeeze is that
    of the first frame. The stop stays, so the depth of field does not."""
    used = lens.used(image, fit)
    ratio = used.width_mm[0] / used.width_mm
    n = len(lens.focal_mm)
    return replace(
        lens, focal_mm=lens.focal_mm * ratio, offset_x_mm=lens.offset_x_mm * ratio, offset_y_mm=lens.offset_y_mm * ratio,
        film_width_mm=np.full(n, used.width_mm[0] / lens.squeeze[0]), film_height_mm=np.full(n, used.height_mm[0]),
        squeeze=np.full(n, lens.squeeze[0]),
    )  # fmt: skip


def _one_after_another(parts: list[Track], pieces: Pieces, p: Join) -> Track:
    """The parts on the frames of the cut, marked where one follows another."""
    order = np.argsort(np.concatenate([pieces.on_screen(i) for i in range(len(pieces.pieces))]), kind="stable")
    lens = Lens(**{f.name: np.concatenate([getattr(t.lens, f.name) for t in parts])[order] for f in fields(Lens)})
    marked = np.concatenate([np.asarray(t.marked) for t in parts])[order]
    track = Track(
        p.name, p.first + np.arange(pieces.count, dtype=np.float64), parse_rate(p.rate),
        np.concatenate([t.position_m for t in parts])[order], np.concatenate([t.rotation for t in parts])[order], lens,
        distortion=_distortion(parts, order),
    )  # fmt: skip
    wanted = np.union1d(np.flatnonzero(marked > 0), pieces.cuts)
    wanted, seen = wanted[wanted > 0], found_cuts(track)
    told = np.zeros(pieces.count, dtype=np.int64)
    told[wanted.astype(np.int64)] = 1
    told[np.setdiff1d(seen, wanted)] = -1  # a leap that no shot has of its own
    return replace(track, marked=told if told.any() else None)


def _distortion(parts: list[Track], order: Ints) -> Distortion | None:
    """The shots' distortion over the cut, where all have one of the same model; :func:`disagreements` says where not."""
    own = [t.distortion for t in parts]
    given = [d for d in own if d is not None]
    if len(given) < len(own) or len({d.kind.code for d in given}) > 1:
        return None
    documents = [d.document() for d in given]
    if all(d == documents[0] for d in documents) and given[0].frames == 1:
        return given[0]
    if given[0].kind.code == "map":
        return None
    values = {}
    for name in given[0].values:
        columns = [np.broadcast_to(d.values[name], (len(t), 1)) for d, t in zip(given, parts, strict=True)]
        values[name] = np.concatenate(columns)[order]
    return Distortion(given[0].kind, values)


def _landmarks(inputs: Inputs, pieces: Pieces) -> Landmarks:
    """The landmarks of all shots. Those of one name at one place are one; one that moves is held outside its own shot."""
    taken, names, hidden = Names(), [], set()
    places: list[Floats] = []
    sizes: list[Floats] = []
    known: dict[str, list[Floats]] = {}
    for role in dict.fromkeys(p.role for i, p in enumerate(pieces.pieces) if len(pieces.on_screen(i))):
        source = inputs[role]
        near = nearest_places(source.track.frames, _held_around(pieces, role))
        for i, name in enumerate(source.landmarks.names):
            own = source.landmarks.position_m[:, i]
            moved = own if len(own) == 1 else own[near]
            if any(moved.shape == k.shape and np.allclose(moved, k, rtol=0, atol=1e-9) for k in known.get(name, [])):
                continue
            known.setdefault(name, []).append(moved)
            made = unique_name(name, taken)
            names.append(made)
            places.append(moved)
            sizes.append(source.landmarks.size_m[i])
            hidden |= {made} if name in source.landmarks.hidden else set()
    if not names:
        return NO_LANDMARKS
    count = max(len(m) for m in places)
    held = np.stack([np.broadcast_to(m, (count, 3)) for m in places], axis=1)
    return Landmarks(tuple(names), held, np.stack(sizes), frozenset(hidden))


def _held_around(pieces: Pieces, role: str) -> Floats:
    """On every frame of the cut the frame of a source: its own where it is on screen, else that of the nearest such."""
    own = np.flatnonzero(np.array([p.role == role for p in pieces.pieces])[pieces.which])
    frames = pieces.frames[own]
    return frames[nearest_places(own.astype(np.float64), np.arange(pieces.count, dtype=np.float64))]


def _lines(inputs: Inputs) -> Floats:
    """The sets of all shots, each line once."""
    sets = [i.lines_m for i in inputs.values() if len(i.lines_m)]
    if not sets:
        return np.zeros((0, 2, 3))
    if all(s.shape == sets[0].shape and (s == sets[0]).all() for s in sets):
        return sets[0]
    return np.unique(np.concatenate(sets), axis=0)


KIND = DerivedKind(
    "joined", "joined shots", Join, make,
    lambda p: f"{len(p.pieces)} shots{f' of {p.edit}' if p.edit else ''} from frame {format_frame(p.first)}",
)  # fmt: skip
