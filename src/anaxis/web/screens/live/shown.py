"""What the Live page shows of two sides: their data for the drawings, and what is said of them in words."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from anaxis.app.context import Context
from anaxis.app.exchange.clients import clients_of, is_there
from anaxis.app.exchange.links import Passed, link_between, passed
from anaxis.app.exchange.sides import Side, side_of
from anaxis.app.exchange.together import Together, together
from anaxis.core.errors import BadInput
from anaxis.core.time.rates import kept_rate, rate_label
from anaxis.core.typing import Floats
from anaxis.packages.model import Profile
from anaxis.packages.package_values import COLUMNS
from anaxis.store.exchange import Client, Link, RemoteCamera
from anaxis.store.models import Show
from anaxis.web.drawings.camera import or_ground
from anaxis.web.drawings.packed import encode_drawing

_LENS = {
    "focal": ("focal length", "mm"),
    "hfov": ("field of view, horizontal", "°"),
    "vfov": ("field of view, vertical", "°"),
    "zoom": ("zoom", "px"),
}


@dataclass(frozen=True)
class PairSheet:
    """One side's sheet: the package and its camera, and a row for each number as the package shows it: label, column, unit, digits."""

    client: Client
    remote: RemoteCamera | None
    profile: Profile
    there: bool
    rows: list[tuple[str, int, str, int]]
    habits: list[str]
    of_files: list[str]


@dataclass(frozen=True)
class Pair:
    """What is looked at: a camera on the left, one on the right or none, and the link between them, if any."""

    left: PairSheet | None
    right: PairSheet | None
    link: Link | None
    offset: float
    passed: Passed | None

    @property
    def cameras(self) -> tuple[int | None, int | None]:
        return tuple(s.remote.id if s is not None and s.remote is not None else None for s in (self.left, self.right))  # type: ignore[return-value]

    @property
    def rates(self) -> tuple[str, str] | None:
        """Both rates, where they are not the same."""
        if self.left is None or self.right is None or self.left.remote is None or self.right.remote is None:
            return None
        a, b = (kept_rate(s.rate) for s in (self.left.remote, self.right.remote))
        return (rate_label(a), rate_label(b)) if a != b else None


def pair_of(session: Context, show: Show, a: int | None, b: int | None) -> Pair:
    """The two cameras asked for, of this show; else those of the newest link, else those chosen in the first two packages."""
    packages = [p for p in clients_of(session, show) if p.kind == "package"]
    cameras = {c.id: c for p in packages for c in p.cameras if c.gone_at is None}
    left, right = cameras.get(a or 0), cameras.get(b or 0)
    if left is None:
        left = _chosen(next((p for p in packages if right is None or p.id != right.client_id), None))
    if right is None or (left is not None and right.id == left.id):
        right = _chosen(next((p for p in packages if left is None or p.id != left.client_id), None))
    link = link_between(session, left, right) if left is not None and right is not None else None
    offset = 0.0
    if left is not None and right is not None:
        offset = right.first - left.first
        if link is not None:
            offset = link.offset if link.first_id == left.id else -link.offset
    return Pair(_sheet(left), _sheet(right), link, offset, passed(session, link) if link is not None else None)


def _chosen(client: Client | None) -> RemoteCamera | None:
    if client is None:
        return None
    there = [c for c in client.cameras if c.gone_at is None]
    return next((c for c in there if c.key == client.selected), there[0] if there else None)


def _sheet(remote: RemoteCamera | None) -> PairSheet | None:
    if remote is None:
        return None
    side = side_of(remote)
    return PairSheet(
        remote.client,
        remote,
        side.profile,
        is_there(remote.client),
        number_rows(side.profile),
        [_habit(side, h) for h in side.habits],
        side.habits_of_files,
    )


def _habit(side: Side, habit: tuple[str, dict[str, Any]]) -> str:
    return next(h.sentence for h in side.profile.habits if h.code == habit[0] and h.on)


def number_rows(profile: Profile) -> list[tuple[str, int, str, int]]:
    """The numbers of a side's sheet: what each is called there, its place in a row, its unit, its digits."""
    unit, film = profile.unit_name, profile.lens.film_unit
    lens, lens_unit = _LENS[profile.lens.shown]
    offset = {"film_unit": film, "width_share": "of the width", "side_share": "of its side"}[profile.lens.offset_unit]
    named = {
        "position_x": ("position x", unit), "position_y": ("y", unit), "position_z": ("z", unit),
        "rotation_x": (f"rotation x, {profile.rotation.order}", "°"), "rotation_y": ("y", "°"), "rotation_z": ("z", "°"),
        "lens": (lens, lens_unit), "film_width": ("film back width", film), "film_height": ("height", film),
        "offset_x": ("offset x", offset), "offset_y": ("y", offset), "focus": ("focus distance", unit), "stop": ("stop", "f"),
    }  # fmt: skip
    return [(named[c][0], COLUMNS.index(c), named[c][1], 2 if c == "stop" else 4) for c in COLUMNS if c in named]


def drawing_of(session: Context, pair: Pair) -> bytes:
    """Both sides on every frame that both have, for the browser. Raises BadInput."""
    if pair.left is None or pair.left.remote is None:
        raise BadInput("No package is connected: there is nothing to draw.")
    right = pair.right.remote if pair.right is not None else None
    found = together(session, pair.left.remote, right, pair.offset, link=pair.link)
    lines, ground = or_ground(found.lines_m, found.track)
    here, there = found.frames, found.there
    if (
        found.resampling is not None and pair.link is not None
    ):  # the first camera's own frames, most of them between two samples
        if pair.link.first_id == pair.left.remote.id:
            here = np.round(pair.link.frame_there(there, from_first=False), 3)
        else:
            there = np.round(pair.link.frame_there(here, from_first=False), 3)
    arrays = {
        "frames": here,
        "theirs_frames": there,
        **_moving(found),
        "grid_px": found.grid_px,
        "landmarks_m": found.marks.position_m,
        "segments_m": lines,
        "key_frames": np.zeros(0),
    }
    facts = {
        "rate": [found.track.rate.numerator, found.track.rate.denominator],
        "width_px": found.image.width_px, "height_px": found.image.height_px, "pixel_aspect": found.image.pixel_aspect,
        "landmarks": list(found.marks.names), "ground_m": ground, "alone": pair.right is None, "only_here": found.only_here, "only_there": found.only_there,
        "beside": found.beside, "rates": list(pair.rates or ()), "resampling": _resampling(found), "images": _images(pair), "sequences": list(found.sequences), "motion_m": found.motion_m,
    }  # fmt: skip
    return encode_drawing(facts, arrays)


def _resampling(found: Together) -> list[float] | None:
    """What a link by time costs: pixels, and the frame of the first camera on which it costs most."""
    return [found.resampling.max_px, found.resampling.worst_frame] if found.resampling is not None else None


def _images(pair: Pair) -> list[str]:
    """Both image sizes, where they are not the same."""
    sizes = [
        f"{s.remote.width_px} × {s.remote.height_px}{f', pixel aspect {s.remote.pixel_aspect:g}' if s.remote.pixel_aspect != 1 else ''}"
        for s in (pair.left, pair.right)
        if s is not None and s.remote is not None
    ]
    return sizes if len(set(sizes)) > 1 else []


def _moving(found: Together) -> dict[str, Any]:
    """What a change changes, a row a frame."""
    return {
        "meant": found.meant.matrices.reshape(-1, 12),
        "arrived": found.arrived.matrices.reshape(-1, 12),
        "shift": found.meant.shift_to(found.arrived).reshape(-1, 12),
        "deviation_px": found.deviation_px,
        "grid_depths_m": found.depths_m,
        "here_rows": found.rows[0],
        "there_rows": found.rows[1],
    }


def frames_drawn(
    session: Context, first: RemoteCamera, second: RemoteCamera | None, offset: float, frames: Floats, motion_m: float
) -> dict[str, Any]:
    """What is drawn on some frames, as JSON; "frames" are those that both have."""
    found = together(session, first, second, offset, frames, motion_m)
    return {
        "frames": found.frames.tolist(), "beside": found.beside, "sequences": list(found.sequences),
        **{k: [[None if v != v else v for v in row] for row in a.reshape(len(a), -1).tolist()] for k, a in _moving(found).items()},
    }  # fmt: skip
