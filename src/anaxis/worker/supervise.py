"""Keeps what belongs together running: a database of one's own, the pages, a worker. Each is started again where it ended.

What was asked for stands in the database, so that each goes on with what it was doing: the queue's work is taken up
again, a page is asked for again. Asked to stop, pages and workers end within ten seconds, then the database does.
"""

from __future__ import annotations

import contextlib
import http.client
import logging
import os
import signal
import subprocess
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from anaxis.core.errors import BadInput
from anaxis.program import anaxis_command
from anaxis.store.local_postgres import LocalPostgres

_log = logging.getLogger("anaxis.supervise")
_LOOK_S = 0.5
# One that ends at once is started less and less often, up to this.
_MOST_WAIT_S = 5.0
_ENDS_S = 9.0
# Pages that answer nothing for so long are frozen, whatever their process says of itself.
_FROZEN_S, _ASK_EVERY_S = 60.0, 5.0


@dataclass
class SupervisedProcess:
    """One of the processes: how it is started, and since when it is away."""

    name: str
    command: list[str]
    answers: Callable[[], bool] | None = None
    process: subprocess.Popen[bytes] | None = None
    wait_s: float = 0.5
    begun: float = 0.0
    heard: float = field(default_factory=time.monotonic)

    def start(self, environment: dict[str, str]) -> None:
        self.begun = self.heard = time.monotonic()
        # Should this process be killed, none of them is left behind.
        self.process = subprocess.Popen(
            ["setpriv", "--pdeathsig", "TERM", "--", *self.command], env=environment, start_new_session=True
        )

    @property
    def ended(self) -> bool:
        return self.process is not None and self.process.poll() is not None


class Supervisor:
    """``url`` names the database; with ``own`` it is one of ours and is kept running too. ``demonstration`` names whom everybody on
    this machine is signed in as; ``beside`` are further commands of ours, by name."""

    def __init__(
        self,
        host: str,
        port: int,
        url: str,
        own: LocalPostgres | None = None,
        workers: int = 1,
        demonstration: str = "",
        beside: Sequence[tuple[str, list[str]]] = (),
    ) -> None:
        # Forty threads would each keep freed memory for themselves: two share what the C library holds back.
        self._own, self._environment = own, {"MALLOC_ARENA_MAX": "2", **os.environ, "DATABASE_URL": url}
        as_person = ("--demonstration", demonstration) if demonstration else ()
        serve = anaxis_command("serve", "--host", host, "--port", str(port), *as_person)
        asked = "127.0.0.1" if host in ("0.0.0.0", "::") else host
        self.services = [
            SupervisedProcess("pages", serve, lambda: _answers(asked, port)),
            *(SupervisedProcess(f"worker {n}", anaxis_command("worker")) for n in range(1, workers + 1)),
            *(SupervisedProcess(name, anaxis_command(*args)) for name, args in beside),
        ]
        self._over = threading.Event()

    def run(self) -> None:
        """Until it is asked to stop, by SIGTERM, SIGINT or :meth:`stop`."""
        if threading.current_thread() is threading.main_thread():
            for asked in (signal.SIGTERM, signal.SIGINT):
                signal.signal(asked, lambda *_: self.stop())
        for service in self.services:
            service.start(self._environment)
        threading.Thread(target=self._ask, daemon=True).start()
        try:
            while not self._over.wait(_LOOK_S):
                self._look()
        finally:
            self._end()

    def stop(self) -> None:
        self._over.set()

    def _look(self) -> None:
        if self._own is not None and not self._own.alive:
            _log.warning("the database ended and is started again")
            with contextlib.suppress(BadInput):  # said again when it ends again
                self._own.start()
        for service in self.services:
            if service.ended:
                self._start_again(service)

    def _start_again(self, service: SupervisedProcess) -> None:
        assert service.process is not None
        lived = time.monotonic() - service.begun
        service.wait_s = 0.5 if lived > 30 else min(2 * service.wait_s, _MOST_WAIT_S)
        if lived < service.wait_s:
            return
        _log.warning("%s ended (%s) and is started again", service.name, service.process.returncode)
        service.start(self._environment)

    def _ask(self) -> None:
        """Whether the pages answer; a process that is frozen is ended, and so started again."""
        while not self._over.wait(_ASK_EVERY_S):
            for service in self.services:
                if service.answers is None or service.process is None or service.ended:
                    continue
                if service.answers():
                    service.heard = time.monotonic()
                elif time.monotonic() - service.heard > _FROZEN_S:
                    _log.error("%s have not answered for %.0f s and are started again", service.name, _FROZEN_S)
                    service.process.kill()

    def _end(self) -> None:
        running = [s.process for s in self.services if s.process is not None and s.process.poll() is None]
        for process in running:
            process.terminate()
        deadline = time.monotonic() + _ENDS_S
        for process in running:
            try:
                process.wait(max(0.1, deadline - time.monotonic()))
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()


def _answers(host: str, port: int) -> bool:
    line = http.client.HTTPConnection(host, port, timeout=_ASK_EVERY_S)
    try:
        line.request("GET", "/alive")
        return line.getresponse().status < 500
    except (OSError, http.client.HTTPException):
        return False
    finally:
        line.close()
