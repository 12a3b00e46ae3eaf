"""What is asked of a delivery, and how its frames are numbered there: one model for pages, HTTP, command line and plans."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, fields, replace
from difflib import get_close_matches
from typing import Annotated, Any, ClassVar

from pydantic import AliasChoices, ConfigDict, Field, TypeAdapter, ValidationError

from anaxis.core.errors import BadInput
from anaxis.core.image_plane import require_distance
from anaxis.core.motion.reduce import require_tolerance
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.formats import set_formats_of
from anaxis.packages.model import Profile

MAX_SAMPLES = 64
MAX_MULTIPLE = 1024


@dataclass(frozen=True)
class DeliveryOptions:
    """What is asked of a delivery; each option as usual where nobody asks for it. Raises BadInput for what cannot be."""

    __pydantic_config__: ClassVar[ConfigDict] = ConfigDict(allow_inf_nan=False)

    reduce_px: Annotated[float | None, Field(description="Keyframe reduction: the tolerance in pixels.")] = None
    first: Annotated[
        float | None,
        Field(
            validation_alias=AliasChoices("first", "first_there"),
            description="The first frame number in the receiving package; unchanged if left out.",
        ),
    ] = None
    under_root: Annotated[
        bool, Field(description="Parent the camera to a root node with the placement of the recipe.")
    ] = False
    samples: Annotated[
        int, Field(description="Samples for each frame for motion blur; from the source where it has some.")
    ] = 1
    shutter_open: Annotated[
        float, Field(description="Where the shutter opens, in frames from the frame; with several samples.")
    ] = -0.25
    shutter_close: Annotated[
        float, Field(description="Where the shutter closes, in frames from the frame; with several samples.")
    ] = 0.25
    between: Annotated[int, Field(description="The number of times in each frame at which the proof compares.")] = 1
    overscan: Annotated[
        str,
        Field(
            description="A render larger than the plate: auto for the minimum of its distortion, 10%, or 2112x1188 in pixels."
        ),
    ] = ""
    multiple: Annotated[
        int, Field(description="Round the sides of this render up to multiples of this number of pixels.")
    ] = 2
    tight: Annotated[bool, Field(description="With auto, each side grows on its own, and the offsets change.")] = False
    plane_m: Annotated[
        float | None, Field(description="The distance in metres of an image plane that fills the picture.")
    ] = None
    plane_opacity: Annotated[float, Field(description="The image plane's opacity, 0 to 1.")] = 1.0
    set_formats: Annotated[
        str, Field(description="Formats of the set in the zip, of usd, alembic, gltf and obj, with commas; or none.")
    ] = "usd,obj"
    set_each: Annotated[bool, Field(description="One file for each object of the set.")] = False
    obj_frames: Annotated[bool, Field(description="Moving objects as one OBJ for each frame.")] = False

    def __post_init__(self) -> None:
        if self.reduce_px is not None:
            require_tolerance(self.reduce_px)
        if not 1 <= self.samples <= MAX_SAMPLES or not 1 <= self.between <= MAX_SAMPLES:
            wrong = self.samples if not 1 <= self.samples <= MAX_SAMPLES else self.between
            raise BadInput(f"{wrong} samples for each frame are not possible: choose 1 to {MAX_SAMPLES}.")
        if self.samples > 1 and self.reduce_px is not None:
            raise BadInput("Keyframe reduction and several samples for each frame exclude each other: choose one.")
        if self.plane_m is not None:
            require_distance(self.plane_m, self.plane_opacity)
        set_formats_of(self.set_formats)
        if not 1 <= self.multiple <= MAX_MULTIPLE:
            raise BadInput(f"Multiples of {self.multiple} px are not possible: choose 1 to {MAX_MULTIPLE}.")
        if not -1 < self.shutter_open < self.shutter_close < 1:
            raise BadInput(
                f"A shutter from {self.shutter_open:g} to {self.shutter_close:g} frames is not possible: it must open before it closes, less than one frame away."
                ""
            )


USUAL = DeliveryOptions()
# As a form or a document names them: the first frame has an older name, too.
_OPTIONS: TypeAdapter[DeliveryOptions] = TypeAdapter(DeliveryOptions)
OPTION_NAMES = frozenset(f.name for f in fields(DeliveryOptions)) | {"first_there"}


def options_of(given: Mapping[str, Any]) -> DeliveryOptions:
    """Options by name; raises BadInput for a name that is not known, with the nearest, and for a value that cannot be."""
    for name in given:
        if name not in OPTION_NAMES:
            near = get_close_matches(name, OPTION_NAMES, 1, 0.5)
            told = f"did you mean '{near[0]}'?" if near else f"choose one of {', '.join(sorted(OPTION_NAMES))}."
            raise BadInput(f"A delivery has no option '{name}': {told}", "bad_parameter")
    try:
        return _OPTIONS.validate_python(dict(given))
    except ValidationError as error:
        fault = error.errors()[0]
        said = fault.get("ctx", {}).get("error")
        if isinstance(said, BadInput):
            raise said from error
        where = ".".join(str(p) for p in fault["loc"])
        raise BadInput(
            f"'{fault['input']}' cannot be '{where}' of a delivery: {fault['msg'].lower()}.", "bad_parameter"
        ) from error


def changed_of(options: DeliveryOptions) -> dict[str, Any]:
    """What is asked for otherwise than usual, as plain JSON."""
    usual = asdict(USUAL)
    return {k: v for k, v in asdict(options).items() if v != usual[k]}


def from_zero_up(options: DeliveryOptions, cameras: Sequence[ShotCamera], profile: Profile) -> DeliveryOptions:
    """Many packages drop what lies before frame 0: a camera that begins there goes out from the package's own first
    frame on, unless another is asked for; several keep step."""
    first = float(cameras[0].track.frames[0])
    earliest = min(float(c.track.frames[0]) for c in cameras)
    if options.first is not None or earliest >= 0:
        return options
    return replace(options, first=profile.time.first_frame + first - earliest)


def begins_there(options: DeliveryOptions, first: float, own: float) -> float:
    """The frame there at which a camera begins that begins at frame ``own`` here.

    A first frame there is that of the first camera, which begins at ``first``; the others are renumbered by as
    much, so that they keep step.
    """
    return own if options.first is None else options.first + own - first


def moved_along(options: DeliveryOptions, first: float, own: float) -> DeliveryOptions:
    """The options of a camera that begins at frame ``own`` here, where the first one begins at ``first``."""
    return options if options.first is None else replace(options, first=begins_there(options, first, own))


def along(options: DeliveryOptions, first: ShotCamera, camera: ShotCamera) -> DeliveryOptions:
    return moved_along(options, float(first.track.frames[0]), float(camera.track.frames[0]))
