"""Conventions: in which axes, handedness and unit a package writes a camera.

A convention is two signed permutations and a unit (docs/conventions.md): the columns of ``world`` say
where canonical right (X), up (Y) and back (Z) point in the package's world axes, those of
``camera`` the same for the camera's own axes. Then

    p_pkg = W p / u          R_pkg = W R C^T          det W = det C
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats, FloatsLike

AXIS_NAMES = ("+X", "-X", "+Y", "-Y", "+Z", "-Z")
SIDES = ("right", "up", "back")
ORDERS = ("XYZ", "XZY", "YXZ", "YZX", "ZXY", "ZYX")


def axis_vector(name: str) -> Floats:
    """The unit vector, shape (3,), of a signed axis such as ``"-Z"``.

    Raises BadInput for anything but an optional sign and one of X, Y, Z.
    """
    text = name.strip().upper()
    if len(text) == 1:
        text = "+" + text
    if text not in AXIS_NAMES:
        raise BadInput(f"'{name}' is not an axis: write one of {', '.join(AXIS_NAMES)}.")
    vector = np.zeros(3)
    vector["XYZ".index(text[1])] = 1.0 if text[0] == "+" else -1.0
    return vector


def axis_name(vector: FloatsLike) -> str:
    """The signed axis a vector lies along, the inverse of :func:`axis_vector`."""
    v = np.asarray(vector, dtype=np.float64)
    i = int(np.argmax(np.abs(v)))
    return ("+" if v[i] > 0 else "-") + "XYZ"[i]


def axes_matrix(right: str, up: str, back: str, of_what: str = "world") -> Floats:
    """The signed permutation, shape (3, 3), whose columns are the three named axes.

    Raises BadInput when two of them lie along the same axis.
    """
    m = np.stack([axis_vector(right), axis_vector(up), axis_vector(back)], axis=1)
    if abs(round(float(np.linalg.det(m)))) != 1:
        raise BadInput(
            f"The {of_what} axes right {right}, up {up}, back {back} use one axis twice: right, up and back need three different axes."
            ""
        )
    return m


def turned(axes: Floats, arm: str, towards: str) -> Floats:
    """Axes (3, 3) with one of the package's own turned to point another way, as a person would turn them by hand.

    ``arm`` is one of X, Y, Z; ``towards`` says where it is to point in canonical space: "+right", "-up"... A
    quarter turn takes the axis that lies there along; the opposite way flips the one axis, and with it the
    handedness. Raises BadInput for another word.
    """
    sign, side = towards[:1], towards[1:]
    if arm not in ("X", "Y", "Z") or side not in SIDES or sign not in ("+", "-"):
        raise BadInput(f"'{arm}' cannot turn towards '{towards}': write X, Y or Z, and a side such as +right or -up.")
    row = "XYZ".index(arm)
    wanted = np.zeros(3)
    wanted[SIDES.index(side)] = 1.0 if sign == "+" else -1.0
    now = axes[row]
    if (now == wanted).all():
        return axes
    if (now == -wanted).all():
        flipped = axes.copy()
        flipped[row] = wanted
        return flipped
    # The quarter turn that takes the one to the other; each row is where an axis points.
    quarter = np.outer(wanted, now) - np.outer(now, wanted)
    across = np.cross(now, wanted)
    quarter += np.outer(across, across)
    return np.asarray(np.round(axes @ quarter.T))


def handedness(axes: Floats) -> int:
    """+1 for right-handed axes, -1 for left-handed ones."""
    return round(float(np.linalg.det(axes)))


def _identity() -> Floats:
    return np.eye(3)


@dataclass(frozen=True, eq=False)
class Convention:
    """How one package writes positions and rotations.

    ``world`` and ``camera`` are (3, 3) signed permutations, ``metres_per_unit`` the length of one
    package unit in metres, ``order`` the axes of rotation in the order they are applied about
    fixed axes (first first), ``signs`` +1 or -1 for the shown angle about x, y and z.

    Raises BadInput where the world and the camera axes are not of the same handedness, since
    such a package would have to mirror the camera.
    """

    world: Floats = field(default_factory=_identity)
    camera: Floats = field(default_factory=_identity)
    metres_per_unit: float = 1.0
    order: str = "XYZ"
    signs: tuple[int, int, int] = (1, 1, 1)

    def __post_init__(self) -> None:
        if handedness(self.world) != handedness(self.camera):
            sides = {1: "right-handed", -1: "left-handed"}
            raise BadInput(
                f"The world axes are {sides[handedness(self.world)]} but the camera axes are "
                f"{sides[handedness(self.camera)]}, which would mirror the camera: flip one axis of one of them."
                ""
            )
        if not (np.isfinite(self.metres_per_unit) and self.metres_per_unit > 0):
            raise BadInput(f"metres_per_unit is {self.metres_per_unit}: it must be a positive number.")
        if self.order not in ORDERS:
            raise BadInput(f"Rotation order '{self.order}' is unknown: write one of {', '.join(ORDERS)}.")
        if len(self.signs) != 3 or any(s not in (1, -1) for s in self.signs):
            raise BadInput(f"Rotation signs {list(self.signs)} must be three numbers, each 1 or -1.")

    @property
    def right_handed(self) -> bool:
        return handedness(self.world) == 1

    @property
    def up_axis(self) -> str:
        """The world's up axis as people say it: ``"Y"``, ``"Z"``, ``"-Y"``."""
        return axis_name(self.world[:, 1]).removeprefix("+")

    @property
    def look_axis(self) -> str:
        """The camera axis that points at the picture, for example ``"-Z"`` or ``"+X"``."""
        return axis_name(-self.camera[:, 2])

    def position_from_canonical(self, position_m: FloatsLike) -> Floats:
        """Positions (..., 3) in metres to package units: p_pkg = W p / u."""
        return np.asarray(position_m, dtype=np.float64) @ self.world.T / self.metres_per_unit

    def position_to_canonical(self, position: FloatsLike) -> Floats:
        """Positions (..., 3) in package units to metres: p = W^T p_pkg u."""
        return np.asarray(position, dtype=np.float64) @ self.world * self.metres_per_unit

    def rotation_from_canonical(self, rotation: FloatsLike) -> Floats:
        """Rotations (..., 3, 3): R_pkg = W R C^T."""
        return _sandwiched(self.world.T, rotation, self.camera.T)

    def rotation_to_canonical(self, rotation: FloatsLike) -> Floats:
        """Rotations (..., 3, 3): R = W^T R_pkg C."""
        return _sandwiched(self.world, rotation, self.camera)


def _sandwiched(left: Floats, rotation: FloatsLike, right: Floats) -> Floats:
    """left^T R right for signed permutations: rows and columns change places and signs, nothing is summed."""
    rows, columns = np.argmax(np.abs(left), axis=0), np.argmax(np.abs(right), axis=0)
    signs = np.outer(left[rows, np.arange(3)], right[columns, np.arange(3)])
    turned = np.asarray(rotation, dtype=np.float64)[..., rows[:, None], columns[None, :]]
    return np.asarray(turned * signs + 0.0)
