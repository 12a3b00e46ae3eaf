"""Cameras that a package got wrong in a known way, and pictures of them: for tests of the diagnosis by pictures. How a wrong camera
sees is worked out here from its own numbers, and by nothing that the diagnosis uses."""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track, make_lens
from anaxis.core.scene.landmarks import Landmarks
from anaxis.diagnosis.case import Case
from anaxis.diagnosis.picture.candidates import FILM_DEFAULTS, OTHER_FIT
from anaxis.diagnosis.picture.evidence import PictureCase
from anaxis.diagnosis.picture.points import PicturePoints
from anaxis.diagnosis.pose import CHANNELS, LOOKS
from anaxis.diagnosis.time import Cause
from anaxis.packages import find_profile
from anaxis.packages.habits import HABITS

Causes = list[tuple[str, dict[str, Any]]]
POSE = (
    "look_axis",
    "mirror",
    "scale",
    "world_turn",
    "free_turn",
    "world_shift",
    "parents",
    "rotation_order",
    "channels",
)
TIME = ("frame_offset", "only_first")
LENS = ("vfov_as_hfov", "no_offsets", "no_lens_animation", "film_factor", "focal_factor", "film_default", OTHER_FIT)
_ORDERS = ("XYZ", "XZY", "YXZ", "YZX", "ZXY", "ZYX")
_RULES = ("zup-lh-cm", "yup-rh-cm", "zup-rh-m", "yup-lh-m")


def walk(rng: np.random.Generator, frames: int = 120, first: int = 1001) -> Track:
    """A hand-held walk with a slow zoom and an offset lens."""
    t = np.arange(frames) / 24
    yaw = np.radians(rng.uniform(-180, 180) + 8 * t + 3 * np.sin(t * 1.7))
    pitch, roll = np.radians(-8 + 4 * np.sin(t * 0.9)), np.radians(2 * np.sin(t * 1.1))
    rotation = Rotation.from_euler("YXZ", np.column_stack([yaw, pitch, roll])).as_matrix()
    place = np.column_stack([4 + 1.5 * t, 1.7 + 0.2 * np.sin(t), -6 + 0.8 * t])
    lens = make_lens(
        frames, focal_mm=28 + 1.5 * t, film_width_mm=25.6, film_height_mm=14.4, offset_x_mm=0.9, offset_y_mm=-0.6
    )
    return Track("cam", np.arange(first, first + frames, dtype=np.float64), Fraction(24), place, rotation, lens)


def seen(track: Track, at: int, image: Image, fit: str, points_m: np.ndarray) -> np.ndarray:
    """Pixels (m, 2) and depths of points, by the equations of docs/conventions.md written once more."""
    lens = track.lens
    film_w, film_h = lens.film_width_mm[at] * lens.squeeze[at], lens.film_height_mm[at]
    aspect = image.width_px * image.pixel_aspect / image.height_px
    rule = {"inside": "width" if aspect > film_w / film_h else "height", "outside": "height" if aspect > film_w / film_h else "width"}.get(fit, fit)  # fmt: skip
    used_w, used_h = {"width": (film_w, film_w / aspect), "height": (film_h * aspect, film_h), "stretch": (film_w, film_h)}[rule]  # fmt: skip
    x, y, z = (track.rotation[at].T @ (points_m - track.position_m[at]).T).copy()
    with np.errstate(divide="ignore", invalid="ignore"):
        px = image.width_px * (0.5 + (lens.focal_mm[at] * x / -z - lens.offset_x_mm[at]) / used_w)
        py = image.height_px * (0.5 - (lens.focal_mm[at] * y / -z - lens.offset_y_mm[at]) / used_h)
    return np.column_stack([px, py, -z])


@dataclass(frozen=True, eq=False)
class Wrong:
    """A picture of a camera that a package got wrong: the case to explain, what was done, and the wrong camera itself."""

    case: PictureCase
    causes: Causes
    track: Track
    fit: str

    def names(self, causes: tuple[Cause, ...]) -> bool:
        """Whether these are the causes, numbers that were fitted within a few hundredths."""
        mine, theirs = (sorted(every, key=lambda c: c[0]) for every in (self.causes, causes))
        if [code for code, _ in mine] != [code for code, _ in theirs]:
            return False
        for (_, a), (_, b) in zip(mine, theirs, strict=True):
            for key in a:
                if isinstance(a[key], str):
                    if a[key] != b[key]:
                        return False
                elif abs(a[key] - b[key]) > 0.03 * max(abs(v) for v in a.values() if not isinstance(v, str)):
                    return False
        return True

    def same_pictures(self, track: Track, fit: str) -> bool:
        """Whether another camera shows the landmarks within a pixel of the wrong one, on every frame of the shot."""
        marks, image = self.case.landmarks.position_m[0], self.case.pictures[0].image
        for frame in self.case.meant.frames[::6]:
            a, b = (seen(t, int(np.abs(t.frames - frame).argmin()), image, f, marks) for t, f in ((self.track, self.fit), (track, fit)))  # fmt: skip
            ahead = (a[:, 2] > 0.5) & (b[:, 2] > 0.5) & (np.abs(a[:, :2]) < 1e4).all(axis=1)
            if ((a[:, 2] > 0.5) != (b[:, 2] > 0.5)).any() or np.abs(a - b)[ahead, :2].max(initial=0.0) > 2.0:
                return False
        return True


def wrong(seed: int, marks: int, pair: bool = False, noise_px: float = 1.5) -> Wrong:
    """A camera with one cause or two, and a picture with that many landmarks, each placed up to ``noise_px`` off."""
    rng = np.random.default_rng(seed)
    meant, convention = walk(rng), find_profile(str(rng.choice(_RULES))).convention
    image = Image(1920, 1200 if rng.random() < 0.4 else 1080)
    bare = replace(
        meant, position_m=meant.position_m - [2.0, 0.5, -1.0],
        rotation=Rotation.from_rotvec([0, np.radians(-25), 0]).as_matrix() @ meant.rotation,
    )  # fmt: skip
    beside = Case(meant, meant, image, "width", convention, (bare,))
    kinds = [str(rng.choice([*POSE, *TIME, *LENS]))]
    if pair:
        groups = (TIME, POSE, LENS)
        kinds = [str(rng.choice(groups[i])) for i in sorted(rng.choice(3, 2, replace=False))]
    causes = [("world_turn" if k == "free_turn" else k, _params(rng, k, convention)) for k in kinds]
    track, fit = bare if "parents" in kinds else meant, "width"
    for code, params in causes:
        if code == OTHER_FIT:
            fit = params["fit"]
        elif code != "parents":
            track = HABITS[code].arrive(beside.arriving(track), params, convention).track
    frame = float(meant.frames[int(rng.integers(15, 105))])
    at = int(np.abs(track.frames - frame).argmin())
    px = np.column_stack([rng.uniform(40, image.width_px - 40, marks), rng.uniform(40, image.height_px - 40, marks)])
    points_m = _behind(px, rng.uniform(2.5, 30, marks), track, at, image, fit)
    landmarks = Landmarks(tuple(f"mark_{k}" for k in range(marks)), points_m[None])
    placed = px + rng.uniform(-noise_px, noise_px, px.shape)
    picture = PicturePoints("shot.png", image, frame, np.arange(marks), placed, np.zeros(0, dtype=np.int64))
    return Wrong(PictureCase(meant, landmarks, image, "width", convention, (picture,), (bare,)), causes, track, fit)


def _behind(px: np.ndarray, depth: np.ndarray, track: Track, at: int, image: Image, fit: str) -> np.ndarray:
    """Points that a camera sees at pixels and depths: what it sees of three points a metre ahead says how."""
    local = np.array([[0, 0, -1.0], [0.1, 0, -1.0], [0, 0.1, -1.0]])
    at_one = seen(track, at, image, fit, track.position_m[at] + local @ track.rotation[at].T)[:, :2]
    x = (px[:, 0] - at_one[0, 0]) / (at_one[1, 0] - at_one[0, 0]) * 0.1
    y = (px[:, 1] - at_one[0, 1]) / (at_one[2, 1] - at_one[0, 1]) * 0.1
    here = np.column_stack([x * depth, y * depth, -depth])
    return np.asarray(track.position_m[at] + here @ track.rotation[at].T)


def _params(rng: np.random.Generator, code: str, convention: Any) -> dict[str, Any]:
    looks = [v for v in LOOKS.values() if v != ("-Z", "+Y")]
    look, up = looks[rng.integers(len(looks))]
    axis, sign = "XYZ"[rng.integers(3)], float(rng.choice([-1, 1]))
    width, height = FILM_DEFAULTS[rng.integers(len(FILM_DEFAULTS))]
    shift = rng.uniform(0.5, 3, 3) * rng.choice([-1, 1], 3) / convention.metres_per_unit
    every: dict[str, dict[str, Any]] = {
        "look_axis": {"look": look, "up": up},
        "mirror": {"axis": axis},
        "scale": {"factor": float(rng.choice([100, 0.01, 10, 0.1, 2.54, 1 / 2.54, 30.48]))},
        "world_turn": {"axis": axis, "angle_deg": float(rng.choice([90, -90, 180]))},
        "free_turn": {"axis": axis, "angle_deg": float(rng.uniform(5, 60)) * sign},
        "world_shift": dict(zip("xyz", shift.tolist(), strict=True)),
        "frame_offset": {"frames": float(rng.integers(1, 7)) * sign},
        "film_factor": {"factor": float(rng.choice([2.54, 1 / 2.54, 10, rng.uniform(1.1, 1.6), rng.uniform(0.6, 0.9)]))},
        "focal_factor": {"factor": float(rng.uniform(0.7, 1.5))},
        "film_default": {"width_mm": width, "height_mm": height},
        "rotation_order": {"written": convention.order, "read": str(rng.choice([o for o in _ORDERS if o != convention.order]))},
        "channels": {"position": "+X+Y+Z", "rotation": CHANNELS[rng.integers(1, 48)]},
        OTHER_FIT: {"fit": str(rng.choice(["height", "outside", "stretch", "inside"]))},
    }  # fmt: skip
    return every.get(code, {})
