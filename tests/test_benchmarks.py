"""Every benchmark runs, at its smallest size: a figure that nobody can measure any more is not a figure."""

from __future__ import annotations

import runpy
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

HERE = Path(__file__).resolve().parents[1] / "benchmarks"
ALL = sorted(p.name for p in HERE.glob("*.py") if p.name != "sizes.py")


@pytest.mark.parametrize("name", ALL)
def test_every_benchmark_runs(name: str, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]) -> None:
    monkeypatch.setenv("ANAXIS_BENCH_SMALL", "1")
    monkeypatch.setattr(sys, "argv", [str(HERE / name)])
    monkeypatch.syspath_prepend(str(HERE))
    with ThreadPoolExecutor(1) as apart:  # a browser that tests share keeps a loop running in this thread
        ended = apart.submit(runpy.run_path, str(HERE / name), run_name="__main__").exception()
    if ended is not None:
        assert isinstance(ended, SystemExit) and not ended.code, ended
    assert capsys.readouterr().out.strip()


def test_make_bench_runs_all_of_them() -> None:
    makefile = (HERE.parent / "Makefile").read_text()
    assert all(f"benchmarks/{name}" in makefile for name in ALL)
