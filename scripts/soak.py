"""Ten people at work on one Anaxis for as long as you like, while its processes are killed: ``soak.py --minutes 60``.

It starts a server of its own (``anaxis start`` in a folder that is thrown away), lets ``--users`` work as people do
(look, take in, edit, deliver, zip, sheet, compare; a second or two between), kills one of its processes every
``--kill-every`` minutes (0: never) and watches. At the end it prints how long views and work took, what was answered, how
memory went, how long sessions were idle in a transaction, and what became of the work that was asked for; it exits with 1
where a page failed, an answer was wrong for another reason than "busy" or a kill, work was lost or done twice, or memory
grew by more than a tenth after the first tenth of the time.
"""

from __future__ import annotations

import argparse
import os
import random
import re
import secrets
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter, defaultdict
from dataclasses import dataclass, field
from pathlib import Path

import httpx
import numpy as np
import psutil
import psycopg

from anaxis.program import anaxis_command

ROOT = Path(__file__).resolve().parent.parent
SAMPLES = sorted((ROOT / "src" / "anaxis" / "web" / "samples").glob("*.usd*"))
VIEWS = ("shots", "camera", "drawing", "proof", "matrix", "packages")
FORMATS = ("usd", "alembic", "gltf", "collada", "json", "columns")
PACKAGES = ("zup-lh-cm", "yup-rh-cm", "zup-rh-m", "yup-lh-m")
# After a process was killed, so long may an answer stay away.
AWAY_S = 12.0


@dataclass
class Watch:
    """What was seen, by everybody."""

    took_s: dict[str, list[float]] = field(default_factory=lambda: defaultdict(list))
    statuses: Counter[str] = field(default_factory=Counter)
    wrong: list[str] = field(default_factory=list)
    memory_mb: dict[str, list[float]] = field(default_factory=lambda: defaultdict(list))
    idle_s: float = 0.0
    idle_said: str = ""
    last_kill: float = -1e9
    kills: list[str] = field(default_factory=list)
    conflicts: int = 0
    delivered: int = 0
    cut_off: int = 0
    refused: list[str] = field(default_factory=list)
    lock: threading.Lock = field(default_factory=threading.Lock)


class User(threading.Thread):
    """Somebody at work, from an address of their own."""

    def __init__(self, number: int, url: str, watch: Watch, until: float, cookies: httpx.Cookies) -> None:
        super().__init__(daemon=True)
        self.number, self.watch, self.until, self.random = number, watch, until, random.Random(number)
        wire = httpx.HTTPTransport(local_address=f"127.0.0.{number + 10}")
        self.line = httpx.Client(base_url=url, transport=wire, timeout=60, headers={"Origin": url}, cookies=cookies)
        self.camera: int | None = None

    def run(self) -> None:
        self._take_in()
        jobs = [
            (6, self._look), (5, self._edit), (4, self._deliver), (2, self._zip), (2, self._sheet), (1, self._take_in),
            (1, self._package), (1, self._undo),
        ]  # fmt: skip
        while time.monotonic() < self.until:
            self.random.choices([j for _, j in jobs], [n for n, _ in jobs])[0]()
            time.sleep(self.random.uniform(0.5, 2.5))

    def _ask(self, kind: str, method: str, path: str, **more: object) -> httpx.Response | None:
        begun = time.monotonic()
        try:
            answer = self.line.request(method, path, **more)  # type: ignore[arg-type]
        except httpx.HTTPError as error:
            away = begun - self.watch.last_kill < AWAY_S or time.monotonic() - self.watch.last_kill < AWAY_S
            with self.watch.lock:
                self.watch.statuses["away after a kill" if away else "no answer"] += 1
                if not away:
                    self.watch.wrong.append(f"{kind}: {error!r}")
            time.sleep(1.0)
            return None
        took, status = time.monotonic() - begun, answer.status_code
        # A worker or a database that is just coming back is said so, which is what is wanted.
        killed = begun - self.watch.last_kill < AWAY_S + took
        with self.watch.lock:
            said = "busy" if status == 503 else str(status)
            self.watch.statuses[said if status < 400 or status == 503 else f"{said} {kind}"] += 1
            if status == 422 and len(self.watch.refused) < 12:
                self.watch.refused.append(f"{kind}: {' '.join(re.sub('<[^>]+>', ' ', answer.text).split())[-260:]}")
            if not killed:
                self.watch.took_s[kind].append(took)
            if (status >= 500 and status != 503) or status in (400, 403, 404, 408, 413, 421):
                self.watch.wrong.append(
                    f"{kind}: {method} {path}: {status} {re.sub('<[^>]+>', ' ', answer.text)[-300:].split()}"
                )
        return answer

    def _take_in(self) -> None:
        path = self.random.choice(SAMPLES)
        answer = self._ask("take in", "POST", "/take-in", files={"file": (path.name, path.read_bytes())})
        if answer is None or answer.status_code != 303:
            return
        at = answer.headers["location"]
        review = self._ask("review", "GET", at)
        if review is None or review.status_code != 200:
            return
        resolution = re.search(r'id="resolution"\s+name="resolution"\s+value="([^"]+)"', review.text)
        cameras = re.findall(r'name="cameras"\s+value="([^"]+)"', review.text)
        if not (resolution and cameras):
            return
        form = {
            "show": "The Tidewright", "shot": f"SOAK_{self.number:02d}_{self.random.randint(1, 4)}", "source_fit": "width",
            "resolution": resolution[1], "cameras": cameras[0], "keeping": "recipe",
        }  # fmt: skip
        kept = self._ask("keep", "POST", at, data=form)
        found = re.search(r"/cameras/(\d+)", kept.headers.get("location", "")) if kept is not None else None
        if found:
            self.camera = int(found[1])

    def _page(self, kind: str = "camera", **query: str) -> str:
        if self.camera is None:
            return ""
        answer = self._ask(kind, "GET", f"/cameras/{self.camera}", params=query)
        return answer.text if answer is not None and answer.status_code == 200 else ""

    def _look(self) -> None:
        self._ask("shots", "GET", "/")
        text = self._page(to=self.random.choice(PACKAGES))
        drawing = re.search(r'data-url="([^"]+)"', text)
        if drawing:
            self._ask("drawing", "GET", drawing[1].replace("&amp;", "&"))
        for station in ("lens", "time", "place"):
            if self.camera is not None and text:
                self._ask("camera", "GET", f"/cameras/{self.camera}/panel/{station}", params=self._seen(text))
        proof = re.search(r"/deliveries/\d+", text)
        if proof:
            self._ask("proof", "GET", proof[0])
        self._ask(*self.random.choice([("search", "GET", "/search?q=tw"), ("packages", "GET", "/packages")]))

    def _seen(self, text: str) -> dict[str, str]:
        version, head = (re.search(rf'name="{n}"\s+value="(\d+)"', text) for n in ("version", "head"))
        return {"version": version[1] if version else "1", "head": head[1] if head else "1"}

    def _edit(self) -> None:
        text = self._page(station="clean")
        if not text:
            return
        first = str(self.random.choice((1, 101, 1001)))
        form = self._seen(text) | {
            "action": "add",
            "code": "renumber",
            "param_first": first,
            "station": "clean",
            "to": "zup-lh-cm",
        }
        answer = self._ask("edit", "POST", f"/cameras/{self.camera}/recipe", data=form)
        if answer is not None and answer.status_code not in (303, 503):
            with self.watch.lock:
                self.watch.conflicts += 1

    def _undo(self) -> None:
        text = self._page(station="clean")
        if text:
            self._ask("edit", "POST", f"/cameras/{self.camera}/undo", data=self._seen(text) | {"to": "zup-lh-cm"})

    def _deliver(self) -> None:
        text = self._page(station="deliver")
        if not text:
            return
        form = self._seen(text) | {"to": self.random.choice(PACKAGES), "format_key": self.random.choice(FORMATS)}
        if self.random.random() < 0.3:
            form["reduce_px"] = "0.5"  # long work, done by the worker
        answer = self._ask("deliver", "POST", f"/cameras/{self.camera}/deliver", data=form)
        with self.watch.lock:
            self.watch.cut_off += answer is None
            self.watch.delivered += answer is not None and answer.headers.get("location", "").startswith("/deliveries/")
        if answer is not None and answer.status_code == 303:
            self._ask("proof", "GET", answer.headers["location"])

    def _zip(self) -> None:
        text = self._page(station="deliver")
        if text:
            form = self._seen(text) | {"to": self.random.choice(PACKAGES), "format_key": "usd", "more_formats": "json"}
            self._ask("zip", "POST", f"/cameras/{self.camera}/bundle", data=form)

    def _sheet(self) -> None:
        proof = re.search(r"/deliveries/\d+", self._page(station="prove"))
        if proof:
            self._ask("sheet", "GET", f"{proof[0]}/sheet")
            if self.random.random() < 0.4:
                self._ask("pdf", "GET", f"{proof[0]}/sheet.pdf")

    def _package(self) -> None:
        self._ask("packages", "POST", "/packages/zup-lh-cm/copy", data={"label": f"Soak {self.number}"})


def processes(start: psutil.Process) -> dict[str, list[psutil.Process]]:
    """The server's processes by what they are."""
    found: dict[str, list[psutil.Process]] = defaultdict(list)
    for process in start.children(recursive=True):
        try:
            line = " ".join(process.cmdline())
        except psutil.Error:
            continue
        if "-m anaxis serve" in line:
            found["pages"].append(process)
        elif "-m anaxis worker" in line:
            found["worker"].append(process)
        elif "anaxis.sandbox" in line:
            found["reader"].append(process)
        elif "bin/postgres -D" in line:
            found["database"].append(process)
        elif line.startswith("postgres: anaxis"):
            found["backend"].append(process)
    return found


def observe(start: psutil.Process, database: str, watch: Watch, until: float, kill_every_s: float) -> None:
    """Memory, sessions idle in a transaction, and a kill now and then, until the time is over."""
    killing = random.Random(7)
    victims = ("worker", "pages", "reader", "database", "backend")
    next_kill, next_memory, turn = time.monotonic() + (kill_every_s or 1e9), 0.0, 0
    while time.monotonic() < until:
        time.sleep(1.0)
        now = time.monotonic()
        try:
            with psycopg.connect(database, connect_timeout=3) as line:
                longest = line.execute(
                    "SELECT extract(epoch FROM now() - state_change), left(query, 200), application_name FROM pg_stat_activity "
                    "WHERE state LIKE 'idle in transaction%' ORDER BY 1 DESC LIMIT 1"
                ).fetchone()
            if longest and float(longest[0]) > watch.idle_s:
                watch.idle_s, watch.idle_said = float(longest[0]), str(longest[1])
        except psycopg.Error:
            pass
        if now > next_memory:
            next_memory = now + 10
            for kind, held in processes(start).items():
                if kind in ("pages", "worker"):
                    watch.memory_mb[kind].append(sum(p.memory_info().rss for p in held if p.is_running()) / 1e6)
        if now > next_kill and now < until - 60:
            next_kill = now + kill_every_s
            kind = victims[turn % len(victims)]
            turn += 1
            there = processes(start)[kind]
            if there:
                watch.last_kill = time.monotonic()
                watch.kills.append(kind)
                killing.choice(there).send_signal(signal.SIGKILL)


def main() -> None:
    asked = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    asked.add_argument("--minutes", type=float, default=5.0)
    asked.add_argument("--users", type=int, default=10)
    asked.add_argument("--kill-every", type=float, default=5.0, help="Minutes between two kills; 0 kills nothing.")
    asked.add_argument("--port", type=int, default=8477)
    given = asked.parse_args()
    with tempfile.TemporaryDirectory(prefix="anaxis-soak-") as folder:
        Path(folder).chmod(0o755)
        command = anaxis_command("start", "--port", str(given.port), "--folder", folder)
        log = Path(folder, "soak.log").open("wb")  # noqa: SIM115  (the server writes in it)
        environment = {k: v for k, v in os.environ.items() if k != "DATABASE_URL"}
        server = subprocess.Popen(command, env=environment, stdout=log, stderr=log)
        url = f"http://127.0.0.1:{given.port}"
        try:
            _wait(url, server)
            start = psutil.Process(server.pid)
            database = _database(start)
            watch, until = Watch(), time.monotonic() + given.minutes * 60
            cookies = _signed_in(url, Path(folder, "soak.log"))
            users = [User(n, url, watch, until, cookies) for n in range(given.users)]
            for user in users:
                user.start()
            observe(start, database, watch, until, given.kill_every * 60)
            for user in users:
                user.join(90)
            failed = report(watch, database, given.minutes)
        finally:
            begun = time.monotonic()
            server.terminate()
            server.wait(60)
            ended_s = time.monotonic() - begun
            log.close()
        print(f"asked to stop, everything ended within {ended_s:.1f} s")
        said = Path(folder, "soak.log").read_text(errors="replace")
        traces = said.count("Traceback (most recent call last)")
        print(f"the server's log: {len(said.splitlines())} lines, {traces} traces")
        if traces:
            print(said[said.index("Traceback") :][:3000])
    sys.exit(1 if failed or ended_s > 11 else 0)


def report(watch: Watch, database: str, minutes: float) -> bool:
    """Print what was seen; whether it is not as it should be."""
    views = np.array([s for k in VIEWS for s in watch.took_s[k]] or [0.0])
    print(
        f"\n{minutes:g} minutes, {sum(watch.statuses.values())} requests: {dict(watch.statuses.most_common())}; kills: {watch.kills}"
    )
    print(
        f"  page views: {len(views)}, {np.mean(views < 1.0):.1%} under 1 s, 95 of 100 within {np.percentile(views, 95):.2f} s, slowest {views.max():.1f} s"
    )
    for kind, seconds in sorted(watch.took_s.items()):
        taken = np.array(seconds)
        print(
            f"  {kind:10}{len(taken):7} times  median {np.median(taken):6.2f} s  95% {np.percentile(taken, 95):6.2f} s  slowest {taken.max():6.1f} s"
        )
    grew = {}
    for kind, held in watch.memory_mb.items():
        settled = held[len(held) // 10 :] or held
        third = max(1, len(settled) // 3)
        first, last = float(np.median(settled[:third])), float(np.median(settled[-third:]))
        grew[kind] = last / max(first, 1.0) - 1
        print(f"  memory of {kind}: {first:.0f} MB, then {last:.0f} MB ({grew[kind]:+.0%}), at most {max(held):.0f} MB")
        twelfths = [f"{part.max():.0f}" for part in np.array_split(np.array(held), 12) if len(part)]
        print(f"    at most, in twelfths of the time: {', '.join(twelfths)}")
    print(f"  longest session idle in a transaction: {watch.idle_s:.2f} s ({watch.idle_said[:120]!r})")
    print(f"  edits refused since another was quicker: {watch.conflicts}")
    deadline = time.monotonic() + 180
    while True:
        with psycopg.connect(database) as line:
            states = dict(line.execute("SELECT state, count(*) FROM jobs GROUP BY state").fetchall())
            by_jobs = line.execute("SELECT count(*) FROM jobs WHERE kind = 'delivery' AND state = 'done'").fetchone()
            made = line.execute("SELECT count(*) FROM deliveries").fetchone()
            queued = line.execute(
                "SELECT count(*) FROM procrastinate_jobs WHERE status IN ('todo', 'doing')"
            ).fetchone()
        waiting = sum(states.get(s, 0) for s in ("waiting", "running", "stopping"))
        if not waiting or time.monotonic() > deadline:
            break
        time.sleep(1)
    assert by_jobs and made and queued
    # A delivery is a job's, or was answered at once; one whose answer a kill cut off may be there or not.
    twice = max(0, made[0] - by_jobs[0] - watch.delivered - watch.cut_off)
    print(f"  work: {states}, still in the queue {queued[0]}; deliveries made twice: {twice}")
    for line in sorted(set(watch.refused)):
        print("  refused", line)
    for line in watch.wrong[:20]:
        print("  WRONG", line[:400])
    lost = waiting > 0 or states.get("failed", 0) > 0
    return bool(watch.wrong or lost or twice or any(g > 0.10 for g in grew.values()))


def _wait(url: str, server: subprocess.Popen[bytes]) -> None:
    deadline = time.monotonic() + 90
    while time.monotonic() < deadline and server.poll() is None:
        try:
            if httpx.get(f"{url}/alive", timeout=2).status_code == 200:
                return
        except httpx.HTTPError:
            time.sleep(0.3)
    raise SystemExit("the server did not start")


def _signed_in(url: str, log: Path) -> httpx.Cookies:
    """As the administrator, by the link that the first start says."""
    link = re.search(r"/welcome#(\S+)", log.read_text())
    if link is None:
        raise SystemExit("the server did not say how the administrator signs in")
    password = secrets.token_urlsafe(12)
    with httpx.Client(base_url=url, headers={"Origin": url}) as line:
        line.post("/welcome", data={"secret": link[1], "password": password, "again": password})
        return line.cookies


def _database(start: psutil.Process) -> str:
    for process in start.children():
        address = process.environ().get("DATABASE_URL")
        if address:
            return str(address)
    raise SystemExit("no process of the server names its database")


if __name__ == "__main__":
    main()
