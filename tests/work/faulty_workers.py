"""Workers that are killed and that meet faults, one after the other, until told to end: ``faulty_workers.py SEED``.

Each is a fork of this process, which has everything loaded, so that hundreds of them cost little. A worker's job writes one
row into ``effects``, in the job's own transaction. Each has one fault, in turn:

- ``kill``: its process is killed at one of the lines of the code that does a job, drawn by lot;
- ``mapper``, ``import``, ``disk``, ``memory``: one job of three ends by such an error;
- ``poisoned``: every job ends by an error of the mapper, as in a worker that has loaded half of its tables;
- ``none``.
"""

from __future__ import annotations

import errno
import itertools
import os
import random
import signal
import sys
import threading
import time
from types import FrameType
from typing import Any

from sqlalchemy import text
from sqlalchemy.exc import InvalidRequestError
from sqlalchemy.orm import Session

from anaxis.app import long_work
from anaxis.queue import jobs, reconcile
from anaxis.store.models import Job
from anaxis.worker import attempt
from anaxis.worker import process as worker

ERRORS = {
    "mapper": InvalidRequestError("name 'Shared' is not defined"),
    "import": ImportError("no module of that name", name="scipy"),
    "disk": OSError(errno.ENOSPC, "No space left on device"),
    "memory": MemoryError(),
}
FAULTS = ("kill", "poisoned", "kill", "mapper", "kill", "import", "kill", "disk", "kill", "memory", "none")
# A worker that nothing kills is asked to end after this time.
_LIVES_S = 2.5
_TRACED = {attempt.__file__, reconcile.__file__, jobs.__file__, worker.__file__}


def work(fault: str, draw: random.Random) -> None:
    """A worker's whole life with one fault."""

    def effect(session: Session, job: Job, tell: Any) -> dict[str, Any]:
        tell(0.5)
        time.sleep(draw.uniform(0, 0.15))
        if fault == "poisoned" or (fault in ERRORS and draw.random() < 1 / 3):
            raise ERRORS["mapper" if fault == "poisoned" else fault]
        session.execute(text("INSERT INTO effects (job_id) VALUES (:job)"), {"job": job.id})
        return {"effect": job.id}

    long_work.KINDS["keys"] = effect
    if fault == "kill":
        left = [draw.randint(1, 1200)]

        def step(frame: FrameType, event: str, given: Any) -> Any:
            if frame.f_code.co_filename not in _TRACED:
                return None
            left[0] -= event == "line"
            if left[0] <= 0:
                os.kill(os.getpid(), signal.SIGKILL)
            return step

        sys.settrace(step)
        threading.settrace(step)
    lives_s = _LIVES_S if fault != "kill" else 10 * _LIVES_S  # a busy machine takes long to come to the line drawn
    threading.Timer(lives_s, os.kill, (os.getpid(), signal.SIGTERM)).start()
    worker.main(at_once=2)


def main() -> None:
    draw = random.Random(int(sys.argv[1]))
    # Waits are for people; here they only cost time.
    attempt._LONGEST_WAIT_S = attempt._OTHER_ATTEMPT_WAIT_S = 1
    worker._AGAIN_S, worker._ENDS_S, worker._GONE_AFTER_S, worker._LOOK_EVERY_S = 0.3, 2.0, 2.0, 0.5
    worker._RECONCILE_EVERY_S, reconcile._BEGINS_WITHIN_S = 1.0, 2
    attempt.MOST_TRIES = 100
    for fault in itertools.cycle(FAULTS):
        seed = draw.randint(0, 2**31)
        child = os.fork()
        if child == 0:
            try:
                work(fault, random.Random(seed))
            except SystemExit as ended:
                os._exit(int(ended.code or 0))
            os._exit(0)
        _, status = os.waitpid(child, 0)
        print(fault, status, flush=True)


if __name__ == "__main__":
    main()
