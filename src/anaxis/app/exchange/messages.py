"""The messages of the exchange, version 1 (docs/exchange.md): what a package says and what it is told.

Each is one JSON text. A change of many frames is one binary message: 4 bytes little-endian, the length of the JSON that
follows and says all but the numbers; then, at the next multiple of 8 bytes, 8-byte little-endian floats, a row a frame:
the frame, then the numbers of the groups in their order. What a camera holds of many frames is acknowledged likewise.

A message is measured before it is read, and what is wrong with it is looked for no further than the first fault: a thousand
connections that talk nonsense cost little.
"""

from __future__ import annotations

import json
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, BeforeValidator, ConfigDict, FailFast, Field, TypeAdapter, ValidationError

from anaxis.app.exchange.cells import FramePatch, cells_of_matrix, cells_of_values
from anaxis.core.bounds import MAX_FRAMES
from anaxis.core.errors import BadInput
from anaxis.core.typing import Floats
from anaxis.packages.package_values import GROUPS, columns_of

PROTOCOL = 1
# From so many frames on a change is sent in binary.
MANY_FRAMES = 64
# A hello is read before it is known whose it is; what is longer than a text may be is sent in binary.
HELLO_BYTES, TEXT_BYTES, BINARY_BYTES = 4096, 1_000_000, 8 * (MAX_FRAMES + 100) * 18
_HEAD_BYTES = 4096

Group = Literal["position", "rotation", "lens", "focus", "stop", "clips"]
Number = Annotated[int, Field(ge=1, le=2**53)]
Counted = Annotated[int, Field(ge=0, le=2**53)]
Key = Annotated[str, Field(min_length=1, max_length=120)]
Finite = Annotated[float, Field(allow_inf_nan=False)]


def _only_groups(values: Any) -> Any:
    if isinstance(values, dict) and not set(values) <= set(GROUPS):
        raise ValueError(f"its groups must be from {', '.join(GROUPS)}")
    return values


_Row = Annotated[list[float | None], FailFast()]
Values = Annotated[dict[Group, Annotated[list[_Row], FailFast()]], BeforeValidator(_only_groups)]
Frames = Annotated[list[float], Field(max_length=MAX_FRAMES), FailFast()]


class _Message(BaseModel):
    model_config = ConfigDict(extra="ignore", frozen=True)


class CameraEntry(_Message):
    """A camera of a package's scene: its id there, its name, its range and rate, and the image it is visible in."""

    id: Key
    name: Annotated[str, Field(min_length=1, max_length=200)]
    first: Finite
    last: Finite
    rate: Annotated[str, Field(max_length=40)] = "24/1"
    width_px: Annotated[int, Field(ge=1, le=32768)] = 1920
    height_px: Annotated[int, Field(ge=1, le=32768)] = 1080
    pixel_aspect: Annotated[float, Field(gt=0.05, lt=20)] = 1.0


class Mark(_Message):
    """A named point of the scene, in the package's own axes and unit."""

    name: Annotated[str, Field(min_length=1, max_length=120)]
    position: tuple[Finite, Finite, Finite]


class Hello(_Message):
    """The first message: who it is. ``client`` is made once and kept with the scene; ``last`` is the highest number it has given
    a change of its own, ``have`` the highest of ours that it holds."""

    type: Literal["hello"] = "hello"
    protocol: int
    client: Annotated[str, Field(pattern=r"^[A-Za-z0-9-]{8,64}$")]
    kind: Literal["package", "tracker"] = "package"
    name: Annotated[str, Field(min_length=1, max_length=60)]
    show: Annotated[str, Field(max_length=120)] = ""
    profile: str | dict[str, Any] = ""
    token: Annotated[str, Field(max_length=200)] = ""
    last: Counted = 0
    have: Counted = 0


class SceneMessage(_Message):
    """What is in the package: all cameras, named points, and lines (two points each) to draw."""

    type: Literal["scene"] = "scene"
    cameras: Annotated[list[CameraEntry], Field(max_length=500), FailFast()]
    marks: Annotated[list[Mark], Field(max_length=500), FailFast()] = []
    lines: Annotated[
        list[tuple[Finite, Finite, Finite, Finite, Finite, Finite]], Field(max_length=5000), FailFast()
    ] = []


class Change(_Message):
    """Some frames of a camera hold something else from now on. ``base`` is the highest number of the other side that the one who
    changed it held then; ``replaces``: the camera has these frames and no others; ``answers_pull``: an answer to a pull, which says
    what is there and changes nothing."""

    type: Literal["change"] = "change"
    number: Number
    camera: Key
    base: Counted = 0
    frames: Frames = []
    values: Values = {}
    replaces: bool = False
    answers_pull: bool = False
    entry: CameraEntry | None = None


class Cell(_Message):
    """What a camera holds on some frames."""

    frames: Frames
    values: Values


class Acknowledge(_Message):
    """A change is kept for good. A package says in ``held`` what its camera holds there now, where that is another thing than
    what was sent: a habit of it, or a change of its own that was newer."""

    type: Literal["acknowledge"] = "acknowledge"
    number: Number
    held: Cell | None = None


class Selection(_Message):
    """The camera that is chosen there."""

    type: Literal["selection"] = "selection"
    camera: Key | None


class Playhead(_Message):
    """The frame that is shown there."""

    type: Literal["playhead"] = "playhead"
    camera: Key | None = None
    frame: Finite


class SamplesMessage(_Message):
    """What a tracker measured: for each sample its clock in seconds, position in metres, quaternion x, y, z, w, and the focal
    lengths and principal point of its picture in pixels. ``recording`` is the one they belong to; ``last``: it ends with them."""

    type: Literal["samples"] = "samples"
    number: Number
    recording: int | None = None
    width_px: Annotated[int, Field(ge=1, le=32768)] = 1440
    height_px: Annotated[int, Field(ge=1, le=32768)] = 1920
    samples: Annotated[
        list[Annotated[list[float], Field(min_length=12, max_length=12), FailFast()]],
        Field(max_length=3000),
        FailFast(),
    ]
    last: bool = False


class Welcome(_Message):
    """The answer to hello: ``heard`` is the highest number of the package that is kept here."""

    type: Literal["welcome"] = "welcome"
    protocol: int = PROTOCOL
    heard: Counted
    server: str


class PullMessage(_Message):
    """Asks for all frames of a camera, or for the scene where it names none."""

    type: Literal["pull"] = "pull"
    camera: Key | None = None


class Record(_Message):
    """Asks a tracker to record, or to stop it."""

    type: Literal["record"] = "record"
    recording: int
    on: bool


class ProblemMessage(_Message):
    """Something that was sent cannot be taken: a code that stays, a sentence; ``about`` is the number of the change."""

    type: Literal["error"] = "error"
    code: str
    sentence: str
    about: int | None = None


FromPackage = Annotated[
    SceneMessage | Change | Acknowledge | Selection | Playhead | SamplesMessage | ProblemMessage,
    Field(discriminator="type"),
]
ToPackage = Annotated[
    Welcome | PullMessage | Change | Acknowledge | Playhead | Record | ProblemMessage, Field(discriminator="type")
]
_FROM: TypeAdapter[Any] = TypeAdapter(FromPackage)
_TO: TypeAdapter[Any] = TypeAdapter(ToPackage)


class Unreadable(BadInput):
    """A message that cannot be read; ``number`` is that of a change or of samples, where so much of it can be."""

    code = "bad_message"

    def __init__(self, sentence: str, number: int | None = None) -> None:
        super().__init__(sentence)
        self.number = number


def read_hello(text: str | bytes) -> Hello:
    """Raises BadInput where the first message is not a hello, or of another version."""
    if len(text) > HELLO_BYTES:
        raise BadInput(f"The first message is longer than {HELLO_BYTES} bytes: it must be a hello.", "too_large")
    try:
        document = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise Unreadable("The first message is not JSON: it must be a hello; see docs/exchange.md.") from error
    if isinstance(document, dict) and document.get("type") == "hello" and document.get("protocol") != PROTOCOL:
        raise BadInput(
            f"This server uses version {PROTOCOL} of the exchange, but the hello has {str(document.get('protocol'))[:40]}.",
            "other_version",
        )
    try:
        return Hello.model_validate(document)
    except ValidationError as error:
        raise Unreadable(f"The first message is not a hello: {_first(error)}; see docs/exchange.md.") from error


def require_size(data: str | bytes) -> None:
    """Raises BadInput for a message that is too long to be read."""
    most = BINARY_BYTES if isinstance(data, bytes) else TEXT_BYTES
    if len(data) > most:
        kind = "binary" if isinstance(data, bytes) else "JSON"
        raise BadInput(f"A {kind} message has {len(data)} bytes; {most} can be taken: send fewer frames.", "too_large")


def read_message(data: str | bytes) -> tuple[Any, FramePatch | None]:
    """A message of a package and, of a change or of what an acknowledgement says is held, its cells.

    Raises Unreadable that says which field is wrong.
    """
    document: Any = None
    body: bytes | None = None
    try:
        if isinstance(data, bytes):
            document, body = _head_and_body(data)
        else:
            document = json.loads(data, parse_constant=_no_constant)
        message = _FROM.validate_python(document)
        rows = None if body is None else _rows(document, body)
    except ValidationError as error:
        raise Unreadable(
            f"A message cannot be read: {_first(error)}; see docs/exchange.md.", _number(document)
        ) from error
    except (ValueError, RecursionError, KeyError, TypeError) as error:
        sentence = "A message is neither JSON nor a binary change; see docs/exchange.md."
        raise Unreadable(sentence, _number(document)) from error
    try:
        return message, _cells(message, document, rows)
    except BadInput as error:
        raise Unreadable(error.sentence, _number(document)) from error


def _cells(message: Any, document: dict[str, Any], rows: Floats | None) -> FramePatch | None:
    held: Change | Cell | None
    if isinstance(message, Change):
        held, where = message, f"Change {message.number} of camera '{message.camera}'"
    elif isinstance(message, Acknowledge):
        held, where = message.held, f"The answer to change {message.number}"
    else:
        return None
    if rows is not None:
        return cells_of_matrix(rows, document["groups"], where)
    if held is None:
        return None
    return cells_of_values(held.frames, {str(g): values for g, values in held.values.items()}, where)


def _number(document: Any) -> int | None:
    """The number of a change or of samples that cannot be read otherwise."""
    if not isinstance(document, dict) or document.get("type") not in ("change", "samples"):
        return None
    number = document.get("number")
    return number if isinstance(number, int) and 0 < number < 2**53 else None


def _no_constant(text: str) -> float:
    raise ValueError(text)  # NaN and Infinity are no JSON


def _head_and_body(data: bytes) -> tuple[Any, bytes]:
    size = int.from_bytes(data[:4], "little")
    if size > _HEAD_BYTES:
        raise ValueError("head")
    return json.loads(data[4 : 4 + size], parse_constant=_no_constant), data[(4 + size + 7) // 8 * 8 :]


def _rows(document: dict[str, Any], body: bytes) -> Floats:
    groups = [g for g in GROUPS if g in document["groups"]]
    wide, count = 1 + len(columns_of(tuple(groups))), int(document["count"])
    if not 0 < count <= MAX_FRAMES or len(body) != 8 * wide * count:
        raise ValueError("length")
    document["groups"] = groups
    return np.frombuffer(body, "<f8", wide * count).reshape(count, wide).astype(np.float64)


def change_message(change: dict[str, Any], cells: FramePatch) -> str | bytes:
    """A change as it goes over the wire: JSON, or binary where it has many frames."""
    said = {"type": "change", **change}
    if len(cells) < MANY_FRAMES:
        return json.dumps({**said, "frames": cells.frames.tolist(), "values": cells.values()}, allow_nan=False)
    head = json.dumps({**said, "groups": list(cells.groups), "count": len(cells)}, allow_nan=False).encode()
    head += b" " * (-(len(head) + 4) % 8)
    return len(head).to_bytes(4, "little") + head + np.ascontiguousarray(cells.matrix(), "<f8").tobytes()


def schema() -> dict[str, Any]:
    """The JSON Schema of both sides' messages."""
    hello = Hello.model_json_schema(ref_template="#/$defs/{model}")
    sides = {"from_package": _FROM, "to_package": _TO}
    defs: dict[str, Any] = {"Hello": {k: v for k, v in hello.items() if k != "$defs"}, **hello.get("$defs", {})}
    out: dict[str, Any] = {}
    for name, adapter in sides.items():
        made = adapter.json_schema(ref_template="#/$defs/{model}")
        defs |= made.pop("$defs", {})
        out[name] = made
    out["from_package"]["oneOf"] = [{"$ref": "#/$defs/Hello"}, *out["from_package"]["oneOf"]]
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"Anaxis exchange {PROTOCOL}",
        "description": "Messages of a package (from_package) and of the server (to_package); of a binary message its JSON part, with "
        "'groups' and 'count' in place of 'frames' and 'values'.",
        "groups": {g: list(names) for g, names in GROUPS.items()},
        "$defs": defs | out,
        "anyOf": [{"$ref": "#/$defs/from_package"}, {"$ref": "#/$defs/to_package"}],
    }


def _first(error: ValidationError) -> str:
    first = error.errors(include_url=False, include_context=False, include_input=False)[0]
    return f"{'.'.join(str(p) for p in first['loc']) or 'the message'}: {first['msg']}"
