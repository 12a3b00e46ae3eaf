"""What the exchange asks of a package, one part after the other (docs/exchange.md)."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Iterator
from typing import NamedTuple

import numpy as np

from anaxis.app.exchange.cells import EVERY
from anaxis.app.exchange.messages import Playhead, ProblemMessage
from anaxis.conformance.driven import DoesNotHold, Driven, Whole, driven
from anaxis.core.time.rates import format_frame
from anaxis.core.typing import Floats
from anaxis.packages.package_values import GROUPS, columns_of

# Numbers that go through a package's own angles and units come back within such a share.
_WITHIN = 1e-6
_MANY = 5000
_NEW = "conformance"


class Result(NamedTuple):
    """``holds`` is None for what was not tested; ``said`` then says why."""

    name: str
    holds: bool | None
    said: str

    def document(self) -> dict[str, object]:
        return self._asdict()


Check = Callable[[Driven], Awaitable[None]]
_CHECKS: list[tuple[str, Check, bool]] = []


def _check(name: str, needed: bool = False) -> Callable[[Check], Check]:
    """A part of the exchange; without a ``needed`` one the others cannot be looked at."""

    def add(check: Check) -> Check:
        _CHECKS.append((name, check, needed))
        return check

    return add


def _same(a: Floats, b: Floats) -> bool:
    with np.errstate(invalid="ignore"):
        near = np.abs(a - b) <= _WITHIN * np.maximum(1.0, np.abs(b))
    return bool((near | (np.isnan(a) & np.isnan(b))).all())


def _require_same(what: str, frames: Floats, now: Floats, meant: Floats, groups: tuple[str, ...] = EVERY) -> None:
    """Raise DoesNotHold that names the first frame and group that differ."""
    for group in groups:
        part = columns_of((group,))
        for i, frame in enumerate(frames):
            if not _same(now[i, part], meant[i, part]):
                raise DoesNotHold(
                    f"{what}: on frame {format_frame(float(frame))} its {group} is {np.round(now[i, part], 6).tolist()}, not "
                    f"{np.round(meant[i, part], 6).tolist()}."
                )


async def _whole(p: Driven) -> Whole:
    if not p.cameras:
        raise DoesNotHold("Its scene has no camera: open one that has, and start again.")
    return await p.pulled(p.cameras[0])


@_check("says hello: its identity and what it has received", needed=True)
async def _hello(p: Driven) -> None:
    hello = await p.connected(within_s=max(60.0, p.patience_s))
    if hello.kind != "package":
        raise DoesNotHold(f"It says that it is a {hello.kind}: packages are looked at here.")
    if not hello.profile:
        raise DoesNotHold("Its hello has no profile, so the meaning of its numbers is unknown.")
    p.sent, p.heard = hello.have, hello.last  # what it knows from a server before this one


@_check("sends its scene: cameras with names, frames and rate", needed=True)
async def _scene(p: Driven) -> None:
    scene = await p.told_scene()
    if len({c.id for c in scene.cameras}) != len(scene.cameras):
        raise DoesNotHold("Two of its cameras have the same id.")
    wrong = next((c for c in scene.cameras if c.first > c.last), None)
    if wrong is not None:
        raise DoesNotHold(f"Camera '{wrong.name}' ends at frame {wrong.last:g}, before it begins at {wrong.first:g}.")


@_check("answers a pull with all frames of a camera", needed=True)
async def _pull(p: Driven) -> None:
    whole = await _whole(p)
    change, cells = whole
    entry = next(c for c in p.scene.cameras if c.id == change.camera) if p.scene else None
    if not change.replaces or entry is None:
        raise DoesNotHold("The answer to a pull is not marked as all that there is ('replaces').")
    if set(cells.groups) != set(GROUPS):
        raise DoesNotHold(f"The answer to a pull has {', '.join(cells.groups)}, and a camera has {', '.join(GROUPS)}.")
    if len(cells) and (cells.frames[0] != entry.first or cells.frames[-1] != entry.last):
        raise DoesNotHold(
            f"The answer to a pull has frames {cells.frames[0]:g} to {cells.frames[-1]:g}, and the scene says {entry.first:g} to {entry.last:g}."
        )


@_check("reconnects after a network failure, as the same client")
async def _comes_back(p: Driven) -> None:
    before = p.hello
    after = await p.again()
    if before is not None and after.client != before.client:
        raise DoesNotHold("It reconnected with another 'client': create it once and save it with the scene.")
    if after.last < p.heard:
        raise DoesNotHold(
            f"It reconnected with 'last' {after.last}, and {p.heard} of its changes are stored: it forgot its own changes."
        )
    await p.told_scene()


@_check("sends unacknowledged changes again, unchanged")
async def _sends_again(p: Driven) -> None:
    p.holds_back = True
    try:
        first = await _whole(p)
        p.changes.clear()
        await p.again()
        p.holds_back = False
        number = first.change.number
        await p.until(
            lambda: any(w.change.number == number for w in p.changes),
            f"It did not send its change {number} again, although it was not acknowledged",
        )
        again = next(w for w in p.changes if w.change.number == number)
        if again.change.camera != first.change.camera or not np.array_equal(again.cells.frames, first.cells.frames):
            raise DoesNotHold(f"Its change {number} is another one when it is sent again.")
        _require_same(
            f"Its change {number} is another one when it is sent again",
            again.cells.frames,
            again.cells.rows,
            first.cells.rows,
        )
    finally:
        p.holds_back = False


@_check("applies a change of one frame, and nothing else")
async def _one_frame(p: Driven) -> None:
    change, cells = await _whole(p)
    at = len(cells) // 2
    meant = cells.rows.copy()
    meant[at, 1] += 0.25
    meant[at, 4] += 2.5
    groups = ("position", "rotation")
    held = await p.change(change.camera, cells.frames[at : at + 1], meant[at : at + 1], groups)
    now = (await p.pulled(change.camera)).cells
    if held is not None:
        # A habit of the package, or rounding: what it says that it holds must be what it holds.
        _require_same(
            "It said that it holds one thing and holds another",
            held.frames,
            now.rows[np.isin(now.frames, held.frames)],
            held.rows,
            groups,
        )
        meant[np.isin(cells.frames, held.frames)] = now.rows[np.isin(now.frames, held.frames)]
    if not np.array_equal(now.frames, cells.frames):
        raise DoesNotHold(f"After a change of one frame the camera has {len(now)} frames, before {len(cells)}.")
    _require_same("It acknowledged a change of one frame", now.frames, now.rows, meant)


@_check("applies a change of one group, and values that a camera does not state")
async def _one_group(p: Driven) -> None:
    change, cells = await _whole(p)
    meant = cells.rows.copy()
    part = columns_of(("focus",))
    meant[0, part], meant[-1, part] = 3.5, np.nan
    await p.change(change.camera, cells.frames[[0, -1]], meant[[0, -1]], ("focus",))
    now = (await p.pulled(change.camera)).cells
    _require_same("It acknowledged a change of focus alone", now.frames, now.rows, meant)


@_check("applies a change once, even if it is sent again")
async def _once(p: Driven) -> None:
    change, cells = await _whole(p)
    row, frame = cells.rows[:1].copy(), cells.frames[:1]
    row[0, 0] += 1.0
    early = p.sent + 1
    await p.change(change.camera, frame, row, ("position",))
    later = row.copy()
    later[0, 0] += 1.0
    await p.change(change.camera, frame, later, ("position",))
    await p.change(change.camera, frame, row, ("position",), number=early)
    now = (await p.pulled(change.camera)).cells
    _require_same(
        f"Change {early} came again, behind {early + 1}, and was done again", frame, now.rows[:1], later, ("position",)
    )


@_check("refuses a change after a gap")
async def _gap(p: Driven) -> None:
    change, cells = await _whole(p)
    row, true = cells.rows[:1].copy(), p.sent
    row[0, 0] += 7.0
    try:
        await p.change(change.camera, cells.frames[:1], row, ("position",), number=true + 3)
        raise DoesNotHold(
            f"Change {true + 3} came where {true + 1} is next, and it acknowledged it: what was between is lost."
        )
    except DoesNotHold as seen:
        if "acknowledged it" in str(seen):
            raise
    finally:
        p.sent = true
        hello = await p.again()
    await p.told_scene()
    if hello.have != true:
        raise DoesNotHold(f"After a gap it says that it holds {hello.have} changes: it was sent {true} in order.")
    now = (await p.pulled(change.camera)).cells
    _require_same("It applied a change after a gap", cells.frames[:1], now.rows[:1], cells.rows[:1], ("position",))


@_check("replaces the frames of a camera, without old ones")
async def _replaces(p: Driven) -> None:
    change, cells = await _whole(p)
    keep = slice(0, max(1, len(cells) // 2))
    await p.change(change.camera, cells.frames[keep], cells.rows[keep], replaces=True)
    now = (await p.pulled(change.camera)).cells
    if not np.array_equal(now.frames, cells.frames[keep]):
        raise DoesNotHold(f"It was given {len(cells.frames[keep])} frames and no others, and has {len(now)}.")
    _require_same("It was given other frames", now.frames, now.rows, cells.rows[keep])
    await p.change(change.camera, cells.frames, cells.rows, replaces=True)


@_check("creates a new camera, and sends its scene again")
async def _new_camera(p: Driven) -> None:
    change, cells = await _whole(p)
    assert p.scene is not None
    scenes = p.scenes
    entry = next(c for c in p.scene.cameras if c.id == change.camera).model_copy(update={"id": _NEW, "name": _NEW})
    said = entry.model_copy(update={"first": float(cells.frames[0]), "last": float(cells.frames[-1])}).model_dump(
        mode="json"
    )
    await p.change(_NEW, cells.frames, cells.rows, replaces=True, entry=said)
    await p.until(
        lambda: p.scenes > scenes and _NEW in p.cameras,
        "It acknowledged a camera that is new, and its scene does not list it",
    )
    now = (await p.pulled(_NEW)).cells
    _require_same("It was given a new camera", now.frames, now.rows, cells.rows)


@_check(f"applies a change of {_MANY} frames in one binary message")
async def _binary(p: Driven) -> None:
    change, cells = await _whole(p)
    frames = cells.frames[0] + np.arange(_MANY, dtype=np.float64)
    rows = np.repeat(cells.rows[:1], _MANY, axis=0)
    rows[:, 0] += np.linspace(0, 10, _MANY)
    await p.change(change.camera, frames, rows, replaces=True)
    now = (await p.pulled(change.camera)).cells
    if not np.array_equal(now.frames, frames):
        raise DoesNotHold(f"It was given {_MANY} frames in a binary message, and has {len(now)}.")
    _require_same("It was given many frames in a binary message", now.frames, now.rows, rows)
    await p.change(change.camera, cells.frames, cells.rows, replaces=True)


@_check("survives an unknown message, an error, and a frame to show")
async def _lives_on(p: Driven) -> None:
    await _whole(p)
    await p.send('{"type": "of_a_later_version", "number": 1}')
    await p.send(ProblemMessage(code="bad_message", sentence="This is a check.", about=1).model_dump_json())
    await p.send(Playhead(frame=1003.0).model_dump_json())
    await _whole(p)
    if not p.is_there:
        raise DoesNotHold("It ended the connection.")


@_check("follows the schema, and numbers its changes without a gap")
async def _schema(p: Driven) -> None:
    if p.faults:
        more = f" There are {len(p.faults)} such messages." if len(p.faults) > 1 else ""
        raise DoesNotHold(f"{p.faults[0].rstrip('.')}.{more}")


def names() -> Iterator[str]:
    return (name for name, *_ in _CHECKS)


async def conformance(
    port: int, patience_s: float = 5.0, told: Callable[[Result], None] = lambda r: None
) -> list[Result]:
    """Look at whatever package connects to a port of this machine, one part after the other; ``told`` hears each result. Raises BadInput
    where the port is taken."""
    out: list[Result] = []
    async with driven(port, patience_s) as package:
        missing = ""
        for name, check, needed in _CHECKS:
            if missing:
                result = Result(name, None, f"Not tested: it needs that a package {missing}.")
            else:
                result = await _result(package, name, check)
                if needed and not result.holds:
                    missing = name
            out.append(result)
            told(result)
        await package.cut()
    return out


async def _result(package: Driven, name: str, check: Check) -> Result:
    try:
        if package.hello is not None and not package.is_there:
            await package.connected()
            await package.told_scene()
        await check(package)
    except DoesNotHold as seen:
        return Result(name, False, str(seen))
    return Result(name, True, "")
