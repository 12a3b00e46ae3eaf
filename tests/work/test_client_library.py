"""A package that uses the client library, killed again and again while somebody works in it: the server ends with what its scene holds."""

from __future__ import annotations

import json
import random
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import Engine, select

from anaxis.app.context import Context
from anaxis.app.exchange.cells import CameraState
from anaxis.app.exchange.sides import held_by
from anaxis.app.roles import LOCAL, Role
from anaxis.packages.package_values import SLICES
from anaxis.store.exchange import RemoteCamera
from jobs import wait_for
from lanes import sized
from linked import quiet, shown
from test_api import caller

__all__ = ["caller"]
CLIENT = Path(__file__).resolve().parents[2] / "clients" / "python"


def held(engine: Engine) -> CameraState:
    with Context(engine, LOCAL) as store:
        return held_by(store, store.execute(select(RemoteCamera)).unique().scalar_one())


def test_a_package_that_is_killed_loses_no_change(caller: Any, site: str, engine: Engine, tmp_path: Path) -> None:
    shown(engine, "The mill")
    token, file, dice = caller(Role.LEAD).token, tmp_path / "scene.json", random.Random(7)
    program = [sys.executable, str(CLIENT / "examples" / "made_up_host.py"), str(file), site, "The mill"]

    def begun() -> subprocess.Popen[bytes]:
        environment = {"PYTHONPATH": str(CLIENT / "src"), "ANAXIS_TOKEN": token}
        return subprocess.Popen(program, env=environment, stdin=subprocess.PIPE, stderr=subprocess.DEVNULL)

    def positions() -> dict[float, list[float]]:
        if not file.exists():  # it may be killed before it has written its file
            return {}
        return {float(f): cells["position"] for f, cells in json.loads(file.read_text())["shotcam"]["frames"].items()}

    def is_there() -> bool:
        with Context(engine, LOCAL) as store:
            row = store.execute(select(RemoteCamera)).unique().scalar_one_or_none()
            return row is not None and row.known

    package = begun()
    try:
        wait_for(is_there, 60)
        for _ in range(sized(40, 6)):
            for _ in range(4):
                assert package.stdin is not None
                package.stdin.write(
                    f"move shotcam {float(dice.randrange(1001, 1049))} {dice.uniform(-1, 1):.6f}\n".encode()
                )
                package.stdin.flush()
            time.sleep(dice.uniform(0.0, 0.3))  # killed wherever it is just then
            package.kill()
            package.wait()
            package = begun()

        def same() -> bool:
            now, own = held(engine), positions()
            there = dict(zip(now.frames.tolist(), now.rows[:, SLICES["position"]], strict=True))
            return (
                quiet(engine) and set(there) == set(own) and all(np.allclose(there[f], own[f], atol=1e-9) for f in own)
            )

        wait_for(same, 60)
        assert any(abs(p[1] - 1.7) > 0.01 for p in positions().values()), "somebody worked in it"
    finally:
        package.kill()
        package.wait()
