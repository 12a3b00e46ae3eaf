"""The wheel holds all that runs: installed elsewhere it starts, with neither the repository nor make."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import time
from pathlib import Path

import httpx
import pytest

from anaxis.store.local_postgres import free_port

ROOT = Path(__file__).resolve().parents[2]
# Packages of a lock file that only tests and checks use.
_TESTS = {"pytest", "pytest-xdist", "hypothesis", "playwright", "schemathesis", "mypy", "ruff", "vtk", "cosmic-ray"}


@pytest.fixture(scope="module")
def installed(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder that holds the wheel's content alone."""
    made = tmp_path_factory.mktemp("wheel")
    pip = [sys.executable, "-m", "pip", "--disable-pip-version-check", "-q"]
    source = made / "source"  # setuptools leaves its build folder where it builds
    shutil.copytree(ROOT / "src", source / "src", ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"))
    shutil.copy(ROOT / "pyproject.toml", source)
    subprocess.run([*pip, "wheel", "--no-deps", "--no-build-isolation", "-w", str(made), str(source)], check=True)
    (wheel,) = made.glob("anaxis-*.whl")
    subprocess.run(
        [*pip, "install", "--no-deps", "--no-index", "--target", str(made / "installed"), str(wheel)], check=True
    )
    return made / "installed"


def _answers(port: int) -> bool:
    """Whether the pages are there: the first link is printed a moment before they are."""
    try:
        return httpx.get(f"http://127.0.0.1:{port}/sign-in", timeout=10).status_code == 200
    except httpx.TransportError:
        return False


def test_the_wheel_starts_in_an_empty_folder(installed: Path, tmp_path: Path) -> None:
    tmp_path.chmod(0o755)
    environment = {k: v for k, v in os.environ.items() if k != "DATABASE_URL"} | {"PYTHONPATH": str(installed)}
    where = subprocess.run(
        [sys.executable, "-c", "import anaxis; print(anaxis.__file__)"], cwd=tmp_path, env=environment, capture_output=True, text=True,
    ).stdout  # fmt: skip
    assert where.startswith(str(installed))
    port = free_port()
    with (tmp_path / "log").open("wb") as log:
        server = subprocess.Popen(
            [sys.executable, str(installed / "bin" / "anaxis"), "start", "--port", str(port)], cwd=tmp_path, env=environment, stdout=log, stderr=log
        )  # fmt: skip
    try:
        deadline = time.monotonic() + 120
        said = ""
        while "welcome#" not in said or not _answers(port):
            said = (tmp_path / "log").read_text()
            assert time.monotonic() < deadline and server.poll() is None, said
            time.sleep(0.3)
        page = httpx.get(f"http://127.0.0.1:{port}/sign-in", timeout=10).text
        for address in re.findall(r'(?:href|src)="(/static/[^"]+)"', page):
            assert httpx.get(f"http://127.0.0.1:{port}{address}", timeout=10).status_code == 200, address
    finally:
        server.terminate()
        server.wait(30)


def test_what_runs_needs_nothing_of_what_tests() -> None:
    runs, added = (
        {line.split("==")[0] for line in (ROOT / name).read_text().splitlines() if re.match(r"[a-zA-Z].*==", line)}
        for name in ("requirements.lock", "requirements-dev.lock")
    )
    assert not runs & added and not runs & _TESTS and added >= _TESTS
