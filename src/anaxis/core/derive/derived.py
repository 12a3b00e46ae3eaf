"""A derived camera: what it is made from, what comes out, and that as a scene, so that a recipe works on it like on any other."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, fields
from typing import Any, Generic, NamedTuple

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Track
from anaxis.core.findings import Finding
from anaxis.core.parameters import P, read
from anaxis.core.scene.landmarks import NO_LANDMARKS, Landmarks
from anaxis.core.scene.nodes import Node, Scene
from anaxis.core.scene.picture import Picture
from anaxis.core.space.axes import Convention
from anaxis.core.typing import Floats, Ints


def _no_lines() -> Floats:
    return np.zeros((0, 2, 3))


def _no_triangles() -> Floats:
    return np.zeros((0, 3, 3))


@dataclass(frozen=True, eq=False)
class Input:
    """A camera that another is made from; all canonical.

    ``lines_m`` (s, 2, 3) and ``triangles_m`` (t, 3, 3) are its set, ``objects`` the points (1 or n, k, 3) of what it
    is to look at, by name. ``up_axis`` and ``metres_per_unit`` are those of the file it came from.
    """

    name: str
    track: Track
    picture: Picture
    landmarks: Landmarks = NO_LANDMARKS
    lines_m: Floats = field(default_factory=_no_lines)
    triangles_m: Floats = field(default_factory=_no_triangles)
    objects: Mapping[str, Floats] = field(default_factory=dict)
    up_axis: str = "Y"
    metres_per_unit: float = 1.0


Inputs = Mapping[str, Input]


class Shown(NamedTuple):
    """What each frame of a derived camera shows: ``which`` (n,) of the ``names``, and the source's own ``frames`` (n,)."""

    names: tuple[str, ...]
    which: Ints
    frames: Floats


@dataclass(frozen=True, eq=False)
class Derived:
    """A camera made from others, with its picture, and what is to be said of it."""

    track: Track
    image: Image
    fit: str
    landmarks: Landmarks = NO_LANDMARKS
    lines_m: Floats = field(default_factory=_no_lines)
    triangles_m: Floats = field(default_factory=_no_triangles)
    findings: tuple[Finding, ...] = ()
    shown: Shown | None = None


@dataclass(frozen=True)
class DerivedKind(Generic[P]):
    """A kind of derived camera: ``make`` makes it of inputs by their roles, ``words`` say its settings in a few words."""

    code: str
    label: str
    settings: type[P]
    make: Callable[[Inputs, P], Derived]
    words: Callable[[P], str]

    def read(self, given: Mapping[str, Any]) -> P:
        """The settings, checked; raises BadInput that names the one at fault."""
        return read(self.settings, dict(given), f"a camera {self.label}")

    def derive(self, inputs: Inputs, given: Mapping[str, Any]) -> Derived:
        """The same inputs and settings give the same camera, bit for bit. Raises BadInput."""
        return self.make(inputs, self.read(given))


def scene_of(derived: Derived, file: str) -> Scene:
    """A derived camera as if a file held it: canonical, a sample on every frame, its landmarks and set beside it."""
    track, marks = derived.track, derived.landmarks
    first, last = float(track.frames[0]), float(track.frames[-1])
    if _stands(track):  # one sample that no key holds
        track = track.select_frames(np.zeros(1, dtype=np.int64))
    keys = track.frames if len(track) > 1 else np.zeros(0)
    local = np.tile(np.eye(4), (len(track), 1, 1))
    local[:, :3, :3], local[:, :3, 3] = track.rotation, track.position_m
    camera = Node(
        "/" + track.name, None, "camera", track.frames, local, keys=keys, lens=track.lens, lens_frames=track.frames,
        lens_keys=keys, distortion=track.distortion, marked=track.marked,
    )  # fmt: skip
    nodes = [camera, *(_landmark(marks, i, derived.track.frames) for i in range(len(marks)))]
    if len(derived.lines_m) or len(derived.triangles_m):
        surfaces = derived.triangles_m if len(derived.triangles_m) else None
        nodes.append(
            Node("/set", None, "set", np.zeros(1), np.eye(4)[None], segments=derived.lines_m, triangles=surfaces,
                 only_drawn=True)
        )  # fmt: skip
    return Scene(
        name=file, format="derived", convention=Convention(), rate=track.rate, first_frame=first,
        last_frame=last, nodes=tuple(nodes), image=derived.image, source_fit=derived.fit,
        findings=derived.findings,
    )  # fmt: skip


def _stands(track: Track) -> bool:
    """Whether nothing of a camera changes over its frames."""
    lens = [getattr(track.lens, f.name) for f in fields(track.lens)]
    still = all(np.array_equal(v, np.full_like(v, v[0]), equal_nan=True) for v in lens)
    bent = track.distortion is not None and track.distortion.frames > 1
    pose = np.concatenate([track.position_m, track.rotation.reshape(len(track), 9)], axis=1)
    return still and not bent and track.marked is None and bool((pose == pose[0]).all())


def _landmark(marks: Landmarks, at: int, frames: Floats) -> Node:
    place = marks.position_m[:, at]
    local = np.tile(np.eye(4), (len(place), 1, 1))
    local[:, :3, 3] = place
    moving = len(place) > 1
    size = marks.size_m[at] if marks.size_m[at].any() else None
    name = marks.names[at]
    return Node(
        f"/landmarks/{name.replace('/', '_')}", None, "landmark", frames if moving else np.zeros(1), local,
        keys=frames if moving else np.zeros(0), hidden=name in marks.hidden, size=size,
    )  # fmt: skip
