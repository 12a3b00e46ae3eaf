"""A package profile: how one package writes and shows a camera, as a person describes it."""

from __future__ import annotations

import hashlib
import json
from functools import cached_property, lru_cache
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError, model_validator

from anaxis.core.errors import BadInput
from anaxis.core.space.axes import Convention, axes_matrix, axis_name, axis_vector
from anaxis.core.time.rates import parse_rate, rate_text
from anaxis.formats.tables.layout import NOTHING, QUANTITIES
from anaxis.formats.track_json.document import convention_document
from anaxis.packages.habits import HABITS, checked_habit

Axis = Annotated[str, AfterValidator(lambda text: axis_name(axis_vector(text)))]
Rate = Annotated[str, AfterValidator(lambda text: rate_text(parse_rate(text)))]
Sign = Literal[-1, 1]


class _Part(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class Axes(_Part):
    """Where right, up and back point; ``up="+Z"`` says that up is the package's +Z."""

    right: Axis
    up: Axis
    back: Axis


class RotationRule(_Part):
    """``order``: axes in the order applied about fixed axes; ``signs``: shown angle = sign * angle."""

    order: Literal["XYZ", "XZY", "YXZ", "YZX", "ZXY", "ZYX"] = "XYZ"
    signs: tuple[Sign, Sign, Sign] = (1, 1, 1)


class LensRule(_Part):
    """Which quantity the package shows, in which unit its film back is, how it inscribes the image.

    Offsets are shown in the film back's unit, as a share of its width, or each as a share of its own side;
    a sign is +1 where a positive number moves the window right or up. ``reads_gltf_zoom`` says that the package takes
    a lens that a glTF file animates, which hardly any does.
    """

    shown: Literal["focal", "hfov", "vfov", "zoom"] = "focal"
    film_unit: Literal["mm", "cm", "in"] = "mm"
    fit: Literal["width", "height", "inside", "outside", "stretch"] = "width"
    offset_unit: Literal["film_unit", "width_share", "side_share"] = "film_unit"
    offset_signs: tuple[Sign, Sign] = (1, 1)
    reads_gltf_zoom: bool = False


class TimeRule(_Part):
    """``clips_from_zero``: the package wants animations in glTF and COLLADA to begin at 0 s, whatever their first frame."""

    rate: Rate = "24/1"
    first_frame: int = 1
    clips_from_zero: bool = False


class ColumnRule(_Part):
    """One column of the package's tables: what it holds, in which unit, and whether it is counted backwards."""

    quantity: str
    unit: str = ""
    sign: Sign = 1

    @model_validator(mode="after")
    def _known(self) -> ColumnRule:
        if self.quantity not in QUANTITIES:
            raise ValueError(f"'{self.quantity}' is not a column quantity: write one of {', '.join(QUANTITIES)}")
        units = QUANTITIES[self.quantity].units
        if self.unit and self.unit not in units:
            raise ValueError(f"a column of {self.quantity} is not in '{self.unit}': write one of {', '.join(units)}")
        return self


class TableRule(_Part):
    """The package's column text: its columns from the left, under headings or not, and what separates them."""

    columns: tuple[ColumnRule, ...] = Field(min_length=3, max_length=60)
    headings: bool = True
    separator: Literal["comma", "semicolon", "tab", "blank"] = "comma"

    @model_validator(mode="after")
    def _holds_a_camera(self) -> TableRule:
        held = [c.quantity for c in self.columns if c.quantity != NOTHING]
        twice = next((q for q in held if held.count(q) > 1), None)
        if twice:
            raise ValueError(f"two columns have '{twice}': remove one of them")
        turns = {f"rotation_{a}" for a in "xyz"}, {f"quaternion_{a}" for a in "xyzw"}
        if not ({f"position_{a}" for a in "xyz"} <= set(held) and any(t <= set(held) for t in turns)):
            raise ValueError("a table needs three positions, and three rotations or a quaternion")
        if not {"frame", "seconds"} & set(held):
            raise ValueError("a table needs a column with the frame or the time")
        return self


class Habit(BaseModel):
    """One thing the package does to a file on arrival: a code of HABITS and its parameters.

    With ``on`` False it is kept for another day: neither the stand-in does it nor the delivery makes up for it.
    """

    model_config = ConfigDict(frozen=True, extra="allow")
    code: str
    on: bool = True

    @model_validator(mode="before")
    @classmethod
    def _known(cls, given: Any) -> Any:
        """Its parameters as the habit takes them: numbers as numbers, what is left out at its usual value."""
        if not isinstance(given, dict):
            return given
        own = {k: given[k] for k in ("code", "on") if k in given}
        rest = {k: v for k, v in given.items() if k not in own}
        return {**own, **checked_habit(str(given.get("code")), rest)}

    @property
    def params(self) -> dict[str, Any]:
        return dict(self.model_extra or {})

    @property
    def sentence(self) -> str:
        return HABITS[self.code].says(self.params)


class Profile(_Part):
    """One package, keyed and labelled by nature or by whatever its user calls it."""

    key: str = Field(pattern=r"^[a-z0-9][a-z0-9._-]{0,59}$")
    label: str = Field(min_length=1, max_length=120)
    world: Axes
    camera: Axes
    metres_per_unit: float = Field(gt=0)
    rotation: RotationRule = RotationRule()
    lens: LensRule = LensRule()
    time: TimeRule = TimeRule()
    habits: tuple[Habit, ...] = Field(default=(), max_length=30)
    table: TableRule | None = None
    notes: str = Field(default="", max_length=4000)

    @cached_property
    def fingerprint(self) -> str:
        """Another one for every other content: what is drawn for a package is kept under it."""
        return hashlib.sha256(self.model_dump_json().encode()).hexdigest()[:12]

    @property
    def active_habits(self) -> list[tuple[str, dict[str, Any]]]:
        """Code and parameters of every habit that is switched on, in the profile's order."""
        return [(h.code, h.params) for h in self.habits if h.on]

    @property
    def layout(self) -> dict[str, Any] | None:
        """Its tables as :mod:`anaxis.formats.tables.layout` has them; None where it has no layout of its own.

        A table with times says its rate itself; the package's own is taken for one that has frame numbers alone.
        """
        if self.table is None:
            return None
        timed = any(c.quantity == "seconds" for c in self.table.columns)
        return {
            **self.table.model_dump(mode="json"),
            "convention": convention_document(self.convention),
            "axes": self.key,
            "order": self.rotation.order,
            "rate": None if timed else self.time.rate,
        }

    @model_validator(mode="after")
    def _agrees(self) -> Profile:
        _ = self.convention  # raises where the axes do not make a convention
        return self

    @cached_property
    def convention(self) -> Convention:
        return Convention(
            world=axes_matrix(**self.world.model_dump()),
            camera=axes_matrix(**self.camera.model_dump(), of_what="camera"),
            metres_per_unit=self.metres_per_unit,
            order=self.rotation.order,
            signs=self.rotation.signs,
        )

    @property
    def film_scale(self) -> float:
        """How many of the package's film units one millimetre is."""
        return {"mm": 1.0, "cm": 0.1, "in": 1 / 25.4}[self.lens.film_unit]

    @property
    def unit_name(self) -> str:
        """``"cm"``, ``"m"``... or, for an odd unit, how many metres one is."""
        names = {0.001: "mm", 0.01: "cm", 0.1: "dm", 1.0: "m", 0.0254: "in", 0.3048: "ft", 1000.0: "km"}
        if self.lens.shown == "zoom":  # a package that works in pixels
            return "px"
        return names.get(self.metres_per_unit, f"x {self.metres_per_unit:g} m")


@lru_cache(maxsize=1000)  # a page shows hundreds of deliveries, each with the profile of its package as it was then
def _profile_from_json(text: str) -> Profile:
    return Profile.model_validate(json.loads(text))


def profile_from_dict(data: object, where: str) -> Profile:
    """A profile from parsed JSON; raises BadInput naming the field that is wrong."""
    try:
        try:
            text = json.dumps(data)
        except (TypeError, ValueError, RecursionError):  # not JSON: the model says what is wrong with it
            return Profile.model_validate(data)
        return _profile_from_json(text)
    except ValidationError as error:
        first = error.errors()[0]
        field = ".".join(str(p) for p in first["loc"])
        said = first["msg"].removeprefix("Value error, ").rstrip(".")
        at = f", field {field}" if field else ""
        raise BadInput(f"{where}{at}: {said}.") from error


def profile_from_file(path: Path) -> Profile:
    """A profile from a JSON file; raises BadInput."""
    try:
        data = path.read_bytes()
    except OSError as error:
        raise BadInput(f"The profile {path} cannot be opened ({error.strerror or error}): check the name.") from error
    return profile_from_text(data, path.name)


def profile_from_text(data: bytes, name: str) -> Profile:
    """A profile from the bytes of a JSON file called ``name``; raises BadInput."""
    try:
        document = json.loads(data.decode("utf-8"))
    except (ValueError, RecursionError) as error:  # a number of 5,000 digits is one too
        raise BadInput(f"{name} cannot be read as a profile: it is not readable JSON; see docs/profiles.md.") from error
    return profile_from_dict(document, name)
