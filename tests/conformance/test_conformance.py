"""The conformance kit: the client library, the simulated packages and both examples pass; broken clients fail, each at its own point."""

from __future__ import annotations

import asyncio
import json
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
from anaxis_exchange import Camera, Exchange, Host, Numbers
from anaxis_exchange.wire import unwired, wired
from made_up_host import MadeUpHost

from anaxis.conformance.checks import Result, conformance, names
from anaxis.packages import find_profile
from anaxis.simulated.made_up import scene_document
from anaxis.simulated.package import SimulatedPackage
from anaxis.simulated.scene import SimulatedScene
from linked import apart
from shell import run

CLIENT = Path(__file__).parents[2] / "clients" / "python"


@pytest.fixture(autouse=True)
def _comes_back_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("anaxis_exchange.connection._MOST_WAIT_S", 0.1)


def free_port() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


@contextmanager
def stepping(exchange: Exchange) -> Iterator[None]:
    """A package's main thread: steps until it is closed, whatever goes wrong in it."""

    def go() -> None:
        exchange.start()
        while not exchange._over:
            try:
                exchange.step()
            except Exception:
                exchange.connection.cut()
            time.sleep(0.005)

    thread = threading.Thread(target=go, daemon=True)
    thread.start()
    try:
        yield
    finally:
        exchange.close()
        thread.join(5)


def looked_at(host: Host, folder: Path, kind: type[Exchange] = Exchange, patience_s: float = 3.0) -> list[Result]:
    port = free_port()
    with stepping(kind(host, f"http://127.0.0.1:{port}", folder / "journal", "scene", "The mill")):
        return apart(lambda: asyncio.run(conformance(port, patience_s)))


def fails(results: list[Result]) -> list[str]:
    return [r.name for r in results if r.holds is not True]


def test_the_client_library_holds_in_every_part(tmp_path: Path) -> None:
    results = looked_at(MadeUpHost(tmp_path / "scene.json"), tmp_path)
    assert not fails(results), results
    assert [r.name for r in results] == list(names())


@pytest.mark.parametrize("key", ["zup-lh-cm", "yup-rh-m"])
def test_the_simulated_packages_hold_in_every_part(key: str, tmp_path: Path) -> None:
    document = scene_document("sim", find_profile(key).model_dump(mode="json"), count=12)
    port = free_port()

    async def both() -> list[Result]:
        package = SimulatedPackage(
            SimulatedScene.opened(tmp_path / "sim.json", document), f"http://127.0.0.1:{port}", "The mill", ""
        )
        going = asyncio.create_task(package.line.line.run())
        try:
            return await conformance(port, 4.0)
        finally:
            going.cancel()

    results = apart(lambda: asyncio.run(both()))
    assert not fails(results), results


@pytest.mark.parametrize("example", ["made_up_host", "main_thread_timer"])
def test_an_example_in_a_process_of_its_own_passes_the_command(example: str, tmp_path: Path) -> None:
    port = free_port()
    program = [
        sys.executable,
        str(CLIENT / "examples" / f"{example}.py"),
        str(tmp_path / "scene.json"),
        f"http://127.0.0.1:{port}",
        "The mill",
    ]
    with subprocess.Popen(
        program, env={"PYTHONPATH": str(CLIENT / "src")}, stdin=subprocess.PIPE, stderr=subprocess.DEVNULL
    ) as package:
        try:
            done = apart(lambda: run("exchange", "check", "--port", port, "--json", "--patience", "4"))
        finally:
            package.kill()
    assert done.returncode == 0 and done.document["holds"], done.stdout
    assert len((CLIENT / "examples" / "made_up_host.py").read_text().splitlines()) <= 110


# Clients that are broken, and the part that each fails first.


class NoProfile(MadeUpHost):
    profile = ""


class TwoOfOneId(MadeUpHost):
    def cameras(self) -> list[Camera]:
        return super().cameras() * 2


class AnswersInPart(MadeUpHost):
    def read(self, camera: str, frames: list[float] | None = None) -> Numbers:
        whole = super().read(camera, frames)
        return (
            whole
            if frames is not None
            else Numbers(whole.frames[1:], {g: rows[1:] for g, rows in whole.values.items()})
        )


class WritesNothing(MadeUpHost):
    """And says that it holds what it was sent."""

    def write(self, camera: str, numbers: Numbers, replaces: bool) -> None:
        pass


class PositionAlone(MadeUpHost):
    def write(self, camera: str, numbers: Numbers, replaces: bool) -> None:
        known = {g: rows for g, rows in numbers.values.items() if g in ("position", "rotation")}
        super().write(camera, Numbers(numbers.frames, known), replaces)


class KeepsOldFrames(MadeUpHost):
    def write(self, camera: str, numbers: Numbers, replaces: bool) -> None:
        super().write(camera, numbers, False)


class SilentAboutNewCameras(Exchange):
    def tell_scene(self) -> None:
        if "conformance" not in {c.id for c in self.host.cameras()}:
            super().tell_scene()


class AnotherEachTime(Exchange):
    def _hello(self) -> dict[str, Any]:
        self._count = getattr(self, "_count", 0) + 1
        return {**super()._hello(), "client": f"client-{self._count:08d}"}


class ForgetsWhatItSaid(Exchange):
    def _hear(self, message: dict[str, Any]) -> None:
        if message["type"] == "welcome":
            self.journal.outbox.clear()
        super()._hear(message)


class NeverAnswers(Exchange):
    def _take(self, message: dict[str, Any]) -> None:
        self.journal.taken(int(message["number"]), int(message["base"]))
        self._do(message)


class SaysNothingOfWhatItHolds(Exchange):
    def _held_instead(self, message: dict[str, Any]) -> dict[str, Any] | None:
        return None


class DoesItAgain(Exchange):
    def _take(self, message: dict[str, Any]) -> None:
        if int(message["number"]) <= self.journal.have:
            self._do(message)
        super()._take(message)


class TakesWhatComes(Exchange):
    def _take(self, message: dict[str, Any]) -> None:
        if int(message["number"]) > self.journal.have + 1:
            self.journal.have = int(message["number"]) - 1
        super()._take(message)


class TextAlone(Exchange):
    def _hear(self, message: dict[str, Any]) -> None:
        if len(message.get("frames", ())) < 64:
            super()._hear(message)


class EndsAtWhatItDoesNotKnow(Exchange):
    def _hear(self, message: dict[str, Any]) -> None:
        if message["type"] == "of_a_later_version":
            self.close()
        super()._hear(message)


class NoNumbers(Exchange):
    def _tell_what_moved(self) -> None:
        self.connection.send(
            {"type": "playhead", "frame": "1001"} if self._told[1] is None else {"type": "playhead", "frame": None}
        )
        super()._tell_what_moved()


BROKEN: list[tuple[Any, str]] = [
    (NoProfile, "says hello"), (TwoOfOneId, "sends its scene"), (AnswersInPart, "answers a pull"), (AnotherEachTime, "reconnects"),
    (ForgetsWhatItSaid, "sends unacknowledged"), (NeverAnswers, "applies a change of one frame"), (PositionAlone, "applies a change of one group"),
    (DoesItAgain, "applies a change once"), (TakesWhatComes, "refuses a change after a gap"), (KeepsOldFrames, "replaces the frames"),
    (SilentAboutNewCameras, "creates a new camera"), (TextAlone, "applies a change of 5000 frames"), (EndsAtWhatItDoesNotKnow, "survives"),
    (NoNumbers, "follows the schema"),
]  # fmt: skip


@pytest.mark.parametrize(("broken", "part"), BROKEN, ids=[b.__name__ for b, _ in BROKEN])
def test_a_broken_client_fails_at_its_own_point(broken: Any, part: str, tmp_path: Path) -> None:
    is_host = issubclass(broken, MadeUpHost)
    for patience_s in (0.7, 8.0):  # on a busy machine a part that holds may need longer
        folder = tmp_path / str(patience_s)
        folder.mkdir()
        host: MadeUpHost = (broken if is_host else MadeUpHost)(folder / "scene.json")
        results = looked_at(host, folder, Exchange if is_host else broken, patience_s)
        found = fails(results)
        if found and found[0].startswith(part):
            break
    assert found and found[0].startswith(part), results
    first = next(r for r in results if not r.holds)
    assert first.said.endswith(".") and len(first.said) > 20, "the sentence says what was seen"


def test_a_client_that_does_nothing_and_says_so_is_told_from_one_that_lies(tmp_path: Path) -> None:
    """What a package holds it says itself: one that writes nothing and says so is slow to convince, and no liar."""

    class Lies(SaysNothingOfWhatItHolds):
        pass

    honest = looked_at(WritesNothing(tmp_path / "a.json"), tmp_path / "a", patience_s=0.7)
    lying = looked_at(WritesNothing(tmp_path / "b.json"), tmp_path / "b", Lies, 0.7)
    one_frame = next(n for n in names() if n.startswith("applies a change of one frame"))
    assert one_frame not in fails(honest) and one_frame in fails(lying)


def test_nothing_connects_and_a_port_that_is_taken(tmp_path: Path) -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        done = apart(lambda: run("exchange", "check", "--port", port))
    assert done.returncode == 2 and "choose another with --port" in done.stderr


@pytest.mark.parametrize("count", [1, 63, 64, 500])
def test_messages_are_the_same_on_both_sides(count: int) -> None:
    """The library's bytes read by the server, and the server's by the library."""
    from anaxis.app.exchange.messages import change_message, read_message

    frames = [1001.0 + i for i in range(count)]
    values: dict[str, Any] = {
        "position": [[0.1 * i, 1.0, -2.5] for i in range(count)],
        "focus": [[None if i % 3 else 4.25] for i in range(count)],
    }
    message = {"type": "change", "number": 7, "camera": "cam", "base": 3, "frames": frames, "values": values}
    change, cells = read_message(wired(message))
    assert cells is not None and (change.number, change.base) == (7, 3)
    assert cells.frames.tolist() == frames and cells.values() == values
    back = unwired(change_message({"number": 7, "camera": "cam", "base": 3}, cells))
    assert back == message
    held = unwired(wired({"type": "acknowledge", "number": 7, "held": {"frames": frames, "values": values}}))
    assert json.dumps(held["values"] if count >= 64 else held["held"]["values"]) == json.dumps(values)


def test_a_journal_survives_being_cut_off_anywhere(tmp_path: Path) -> None:
    """Killed between any two bytes of its file, a package comes back with whole changes, in order, and gives no number twice."""
    from anaxis_exchange import Journal

    journal = Journal(tmp_path / "whole")
    for i in range(5):
        journal.made({"camera": "cam", "frames": [1001.0 + i], "values": {"focus": [[float(i)]]}})
    journal.acknowledged(2)
    journal.taken(1, 3)
    client = journal.client
    journal.close()
    data = (tmp_path / "whole").read_bytes()
    first = data.index(b"\n") + 1
    for cut in range(first, len(data) + 1, 7):
        (tmp_path / "cut").write_bytes(data[:cut])
        again = Journal(tmp_path / "cut")
        assert again.client == client and sorted(again.outbox) == list(
            range(again.last - len(again.outbox) + 1, again.last + 1)
        )
        assert again.made({"camera": "cam", "frames": [1.0], "values": {"focus": [[1.0]]}})["number"] == again.last
        again.close()
    whole = Journal(tmp_path / "whole")
    assert (whole.last, whole.have, sorted(whole.outbox)) == (5, 1, [3, 4, 5])
    assert whole.changed_since(3, "cam", "focus", 1004.0) and not whole.changed_since(5, "cam", "focus", 1004.0)
    whole.close()
