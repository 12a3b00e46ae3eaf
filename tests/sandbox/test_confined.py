"""Processes that work on what came in: what they can reach, and what is left of them."""

from __future__ import annotations

import json
import os
import socket
import subprocess
import sys
import tempfile
import zipfile
from pathlib import Path

import pytest

from anaxis.core.errors import BadInput
from anaxis.formats.zip_upload import read_zip, unpack
from anaxis.sandbox import forks
from anaxis.sandbox.calculators import Calculators
from anaxis.sandbox.confined import clean_environment
from anaxis.sandbox.folders import how_readers_work, made_for_a_reader, settle
from anaxis.sandbox.guard import Limits, ParserPool
from anaxis.sandbox.kept import AnswerCache
from anaxis.sandbox.messages import BadMessage, receive

PROBE = """
import anaxis, json, os, socket, sys
from pathlib import Path
from anaxis.sandbox.confine import confine
own, outside, port = Path(sys.argv[1]), Path(sys.argv[2]), int(sys.argv[3])
missing = confine(own)
def can(do):
    try:
        do()
        return True
    except OSError:
        return False
(own / "kept").write_text("x")
status = Path("/proc/self/status").read_text()
print(json.dumps({
    "missing": missing,
    "reads": can(lambda: outside.read_text()), "lists": can(lambda: list(outside.parent.iterdir())),
    "writes": can(lambda: (outside.parent / "made").write_text("x")), "passwords": can(lambda: Path("/etc/passwd").read_text()),
    "beside_the_code": can(lambda: (Path(anaxis.__file__).parents[2] / "pyproject.toml").read_text()),
    "network": can(lambda: socket.create_connection(("127.0.0.1", port), 3)),
    "spawns_with_more": "NoNewPrivs:\\t1" not in status,
    "capabilities": status.split("CapEff:")[1].split()[0].strip("0") != "",
    "user": os.geteuid(), "own": (own / "kept").read_text(),
}))
"""


def test_a_reader_reaches_nothing_but_its_own_folder(tmp_path: Path) -> None:
    """What this machine cannot give is said, and only that may be possible."""
    outside = tmp_path / "outside.txt"
    outside.write_text("somebody else's")
    folder = made_for_a_reader()
    with socket.create_server(("127.0.0.1", 0)) as server:
        done = subprocess.run(
            [sys.executable, "-P", "-c", PROBE, str(folder), str(outside), str(server.getsockname()[1])],
            capture_output=True, text=True, env=clean_environment(folder), check=True,
        )  # fmt: skip
    seen = json.loads(done.stdout)
    assert seen["own"] == "x" and not seen["spawns_with_more"] and not seen["capabilities"]
    missing = " ".join(seen["missing"])
    if "files" not in missing:
        assert not (seen["reads"] or seen["lists"] or seen["writes"] or seen["passwords"] or seen["beside_the_code"])
    if "network" not in missing:
        assert not seen["network"]
    if os.geteuid() == 0 and "another user" not in missing:
        assert seen["user"] != 0
    assert all(word in how_readers_work() for word in seen["missing"])


def test_files_come_through_as_before_and_nothing_is_left(demo_files: dict[str, Path], tmp_path: Path) -> None:
    own = settle(tmp_path / "own")
    try:
        pool = ParserPool(Limits(wall_s=1), ready=False)
        scene = pool.read(demo_files["TW_010"])
        assert scene.name == demo_files["TW_010"].name and scene.cameras
        with pytest.raises(BadInput, match="took longer than 1 s"):
            pool.read(_slow(tmp_path))
        (of_the_pool,) = own.iterdir()
        assert len(list(of_the_pool.iterdir())) == 1  # nothing of a file, the two readers' folders are gone
        pool.close()
        assert list(own.iterdir()) == []
    finally:
        tempfile.tempdir = None
        os.environ.pop("TMPDIR", None)


def _slow(folder: Path) -> Path:
    path = folder / "slow.csv"
    path.write_text("frame,x,y,z,rx,ry,rz\n" + "".join(f"{i},{i}.5,0,0,0,{i},0\n" for i in range(95_000)) * 1)
    big = folder / "slow.dae"
    big.write_bytes(
        b'<COLLADA version="1.4.1"><library_visual_scenes><visual_scene>'
        + b"<node/>" * 2_000_000
        + b"</visual_scene></library_visual_scenes></COLLADA>"
    )
    return big


def _born(pid: int) -> str:
    """The 22nd field of a process's stat: when it began, in clock ticks."""
    return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[19]


def test_what_a_killed_process_left_is_cleared_by_the_next(tmp_path: Path) -> None:
    ended = subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"])
    left, living = (tmp_path / f"{pid}-{_born(pid)}" for pid in (ended.pid, os.getppid()))
    for folder in (left, living, tmp_path / f"{ended.pid}-1", tmp_path / "stray"):
        folder.mkdir()
        (folder / "half").write_bytes(bytes(1000))
    command = "import sys; from pathlib import Path; from anaxis.sandbox.folders import settle; print(settle(Path(sys.argv[1])))"

    def settled() -> list[Path]:
        done = subprocess.run(
            [sys.executable, "-c", command, str(tmp_path)], capture_output=True, text=True, check=True
        )
        assert not Path(done.stdout.strip()).exists()  # its own is gone with it
        return sorted(tmp_path.iterdir())

    assert settled() == sorted([left, living])
    ended.kill()
    ended.wait()
    assert settled() == [living]


def test_a_zip_unpacks_to_no_more_than_follows_from_the_largest_file(tmp_path: Path) -> None:
    path = tmp_path / "large.zip"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as out:
        out.writestr("shot.usda", bytes(6_000_000))
    with pytest.raises(BadInput, match="unpacks to 1 files of 5 MB"):
        unpack(path, tmp_path, 5_000_000)
    with pytest.raises(BadInput, match="unpacks to 1 files"):
        read_zip(path, lambda *_: None, (".usda",), 5_000_000)  # type: ignore[arg-type]


def test_an_answer_is_worked_out_once_and_a_sentence_is_not_for_ever(monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[str] = []

    def worked_out(self: Calculators, what: str, question: tuple[dict[str, int], list[bytes]]) -> object:
        asked.append(what)
        if what == "bad":
            raise BadInput("It took too long.", "too_slow")
        return {"n": question[0]["n"]}, [question[1][0] * 2]

    monkeypatch.setattr(Calculators, "_worked_out", worked_out)
    calculators = Calculators(Limits(), keeps_bytes=10_000)
    for _ in range(2):
        assert calculators._answer("file", ({"n": 1}, [b"ab"])) == ({"n": 1}, [b"abab"])
        with pytest.raises(BadInput, match="too long") as error:
            calculators._answer("bad", ({"n": 9}, [b"ab"]))
        assert error.value.code == "too_slow"
    calculators._answer("file", ({"n": 2}, [b"ab"]))
    calculators._answer("file", ({"n": 1}, [b"a", b"b"]))
    assert asked == ["file", "bad", "file", "file"]
    monkeypatch.setattr("anaxis.sandbox.kept._SENTENCE_S", -1.0)
    with pytest.raises(BadInput):
        calculators._answer("bad", ({"n": 9}, [b"ab"]))
    assert asked[-1] == "bad"
    kept = AnswerCache(1000)
    for i in range(50):
        kept.put(bytes([i]), ({"n": i}, [bytes(90)]))
    assert kept.get(bytes([49])) is not None and kept.get(bytes([0])) is None


REACHES = """
import json, os, socket
from pathlib import Path
from anaxis.sandbox.fork_server import serve_forks
from anaxis.sandbox.messages import receive, send
def can(do):
    try:
        do()
        return True
    except OSError:
        return False
def serve(line, taken_bytes):
    own = Path(os.environ["TMPDIR"])
    receive(line)
    said = {
        "writes": can(lambda: (own / "kept").write_text("x")), "other": can(lambda: (own.parent / "made").write_text("x")),
        "sibling": any(can(lambda: list(p.iterdir())) for p in own.parent.glob("*") if p != own) or can(lambda: list(own.parent.iterdir())),
        "passwords": can(lambda: Path("/etc/passwd").read_text()), "user": os.geteuid(), "files": len(os.listdir("/proc/self/fd")) if can(lambda: os.listdir("/proc/self/fd")) else 0,
        "network": can(lambda: socket.create_connection(("127.0.0.1", PORT), 3)),
    }
    send(line, {"sentence": json.dumps(said), "code": "said"})
"""


def test_a_forked_reader_reaches_its_own_folder_and_not_that_of_another(
    demo_files: dict[str, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    with socket.create_server(("127.0.0.1", 0)) as server:
        start = "import os, sys; from pathlib import Path; from anaxis.sandbox.confine import confine; os.chdir(sys.argv[1]); print(*confine(Path(sys.argv[1])), file=sys.stderr); del sys.argv[1]\n"
        code = start + REACHES.replace("PORT", str(server.getsockname()[1])) + "serve_forks(dict, serve)"
        monkeypatch.setattr(
            forks, "confined", lambda _, folder, *more: [sys.executable, "-P", "-c", code, str(folder), *more]
        )
        pool = ParserPool(ready=False)
        try:
            with pytest.raises(BadInput) as told:
                pool.read(demo_files["TW_010"])
        finally:
            pool.close()
    seen, missing = json.loads(told.value.sentence), how_readers_work()
    assert seen["writes"] and seen["files"] == 0
    if "files" not in missing:
        assert not (seen["other"] or seen["sibling"] or seen["passwords"])
    if "network" not in missing.partition("does not allow")[2]:
        assert not seen["network"]
    if os.geteuid() == 0 and "another user" not in missing:
        assert seen["user"] != 0


def test_what_a_library_prints_is_no_part_of_the_answer(monkeypatch: pytest.MonkeyPatch) -> None:
    """Behind the answer or before it, by C or by Python: the answer has a line of its own."""
    noisy = (
        "import os\nfrom anaxis.sandbox.fork_server import serve_forks\nfrom anaxis.sandbox.messages import receive, send\n"
        "def serve(line, taken_bytes):\n"
        "    receive(line)\n    os.write(1, b'before')\n    print('and this')\n    send(line, {'said': 'the answer'})\n    os.write(1, b'behind')\n"
        "serve_forks(dict, serve)"
    )
    monkeypatch.setattr(forks, "confined", lambda _module, _folder, *more: [sys.executable, "-c", noisy, *more])
    source = forks.ForkSource("noisy")

    def asked(fork: forks.Fork) -> list[object]:
        fork.send({}, 60)
        answers: list[object] = [fork.receive(60)]
        with pytest.raises(forks.ForkEnded) as ended:
            fork.receive(60)
        return [*answers, ended.value.code]

    assert source.asked(asked) == [({"said": "the answer"}, []), 0]
    source.close()


def test_the_folder_of_a_living_process_stays_when_the_clock_is_set(tmp_path: Path) -> None:
    """Another process of ours starts after the clock was moved by an hour: what psutil takes for the machine's start moves too."""
    script = (
        "import sys, psutil._pslinux as linux\nfrom pathlib import Path\n"
        "linux.BOOT_TIME = None\nreal = linux.boot_time\nlinux.boot_time = lambda: real() + float(sys.argv[2])\n"
        "from anaxis.sandbox.folders import settle\nprint(settle(Path(sys.argv[1])), flush=True)\nsys.stdin.read()"
    )

    def started(moved_s: float) -> subprocess.Popen[str]:
        command = [sys.executable, "-c", script, str(tmp_path), str(moved_s)]
        return subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)

    with started(0) as first:
        assert first.stdout is not None
        own = Path(first.stdout.readline().strip())
        (tmp_path / "1-1").mkdir()  # of a process that has long ended: process 1 began at another time
        with started(3600) as second:
            assert second.stdout is not None and Path(second.stdout.readline().strip()).is_dir()
            assert own.is_dir() and not (tmp_path / "1-1").exists()
            second.communicate()
        first.communicate()


def test_what_a_confined_process_says_of_its_sizes_is_not_believed() -> None:
    """A process that a hostile file has taken over writes what it likes: the pages read no more of it than they allow."""

    def said(head: bytes, size: int | None = None) -> object:
        ours, theirs = socket.socketpair()
        with ours, theirs:
            theirs.sendall((len(head) if size is None else size).to_bytes(8, "little") + head)
            theirs.shutdown(socket.SHUT_WR)
            return receive(ours, 1000)

    assert said(b'{"document": {"a": 1}, "sizes": []}') == ({"a": 1}, [])
    longer = (b'{"document": {}, "sizes": [1001]}', b'{"document": {}, "sizes": [1000000, -1000000]}')
    for head in (*longer, b"[]", b'{"document": 1, "sizes": []}', b"\xff", b"[" * 900):
        with pytest.raises(BadMessage):
            said(head)
    with pytest.raises(BadMessage):
        said(b"", 1 << 40)
