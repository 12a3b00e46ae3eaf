"""How many mutations of the code its tests find: ``mutate.py [--mutants 60] [--seed 1] [core formats packages]``.

Mutations are drawn by lot over all modules of a room and all operators of cosmic-ray. The room's tests run once with
coverage, which says which test runs which line. Each mutation is then written into a copy of the source, and the tests that
run its line are run until the first failure, those that run the least code first. Printed are the share found for each room,
and the mutations that no test noticed: each is a test that is missing, or code that does nothing.
"""

from __future__ import annotations

import argparse
import ast
import difflib
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from queue import Queue

from cosmic_ray.ast import get_ast
from cosmic_ray.mutating import mutate_code
from cosmic_ray.plugins import get_operator, operator_names
from coverage import CoverageData

ROOT = Path(__file__).resolve().parents[1]
# The tests nearest to a room.
TESTS = {
    "core": ("tests/core", "tests/delivery", "tests/diagnosis"),
    "formats": ("tests/formats", "tests/delivery", "tests/outside"),
    "packages": ("tests/packages", "tests/delivery", "tests/cli"),
}
AIM = {"core": 0.85, "formats": 0.75, "packages": 0.75}
_LONGEST_S = 600
# Mutations of annotations and of what is never run say nothing.
_LEFT_OUT = (
    "core/RemoveDecorator", "core/ReplaceBinaryOperator_BitOr", "core/VariableReplacer", "core/VariableInserter", "core/ExceptionReplacer",
)  # fmt: skip
_PYTEST = [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider"]


def mutants(room: str) -> Iterator[tuple[Path, str, int]]:
    """Every module of a room with every operator and each of its occurrences."""
    for path in sorted((ROOT / "src" / "anaxis" / room).rglob("*.py")):
        tree = get_ast(path.read_text())
        for name in operator_names():
            if name.startswith(_LEFT_OUT):
                continue
            operator = get_operator(name)()
            nodes = [tree]
            count = 0
            while nodes:
                node = nodes.pop()
                count += sum(1 for _ in operator.mutation_positions(node))
                nodes += getattr(node, "children", ())
            yield from ((path, name, k) for k in range(count))


@dataclass(frozen=True)
class Mutation:
    """A mutated file: its path in the repository, the operator, the code before and after."""

    path: Path
    operator: str
    code: str
    mutated: str

    def lines(self) -> range:
        """The lines of the statement that it changes (of a compound statement, its head)."""
        pairs = zip(self.code.splitlines(), self.mutated.splitlines(), strict=False)
        line = next((k for k, (a, b) in enumerate(pairs, 1) if a != b), 1)
        around = [
            s
            for s in ast.walk(ast.parse(self.code))
            if isinstance(s, ast.stmt) and s.lineno <= line <= (s.end_lineno or 0)
        ]
        if not around:
            return range(line, line + 1)
        smallest = max(around, key=lambda s: (s.lineno, -(s.end_lineno or 0)))
        body: list[ast.stmt] = getattr(smallest, "body", [])
        return range(
            smallest.lineno, body[0].lineno if body and body[0].lineno > line else (smallest.end_lineno or line) + 1
        )

    def difference(self) -> str:
        lines = difflib.unified_diff(self.code.splitlines(), self.mutated.splitlines(), lineterm="", n=0)
        return "\n".join(line for line in list(lines)[2:] if not line.startswith("@@"))


def chosen_mutations(room: str, wanted: int, seed: int) -> tuple[list[Mutation], int]:
    """That many mutations of a room, drawn by lot, and how many there are in all."""
    everything = list(mutants(room))
    chosen = []
    for path, name, occurrence in random.Random(seed).sample(everything, min(wanted, len(everything))):
        code = path.read_text()
        mutated = mutate_code(code, get_operator(name)(), occurrence)
        if mutated is not None and mutated != code:
            chosen.append(Mutation(path.relative_to(ROOT), name.removeprefix("core/"), code, mutated))
    return chosen, len(everything)


class Tests:
    """The nearest tests of a room, and which of them runs which line."""

    def __init__(self, room: str, folder: Path) -> None:
        self._room = room
        data = folder / f"{room}.coverage"
        environment = {**os.environ, "COVERAGE_FILE": str(data), "OPENBLAS_NUM_THREADS": "1"}
        command = [*_PYTEST, "--cov=src/anaxis", "--cov-context=test", "--cov-report=", "-n", "2", *TESTS[room]]
        subprocess.run(command, cwd=ROOT, env=environment, stdout=subprocess.DEVNULL, check=True)
        self._data = CoverageData(str(data))
        self._data.read()
        self._lines_of_test: Counter[str] = Counter()
        for path in self._data.measured_files():
            for contexts in self._data.contexts_by_lineno(path).values():
                self._lines_of_test.update(contexts)

    def that_run(self, mutation: Mutation) -> list[str]:
        """The tests that run a mutation's lines, those that run the least code first; every test, for what an import runs."""
        by_line = self._data.contexts_by_lineno(str(ROOT / mutation.path))
        contexts = {c for line in mutation.lines() for c in by_line.get(line, ())}
        tests = {c.split("|")[0] for c in contexts if c}
        if not tests and contexts:
            return list(TESTS[self._room])
        return sorted(
            tests, key=lambda t: min(self._lines_of_test[f"{t}|{part}"] or sys.maxsize for part in ("run", "setup"))
        )


def found(mutation: Mutation, tests: list[str], copy: Path) -> bool:
    """Whether a test fails once a mutation is written into a copy of the source."""
    if not tests:
        return False
    target = copy / mutation.path
    target.write_text(mutation.mutated)
    environment = {**os.environ, "PYTHONPATH": str(copy / "src"), "OPENBLAS_NUM_THREADS": "1"}
    try:
        done = subprocess.run(
            [*_PYTEST, "-x", *tests], cwd=ROOT, env=environment, capture_output=True, timeout=_LONGEST_S, check=False
        )
    except subprocess.TimeoutExpired:
        return True  # it goes on for ever, which is noticed
    finally:
        target.write_text(mutation.code)
    return done.returncode != 0


def share_found(room: str, folder: Path, copies: Queue[Path], wanted: int, seed: int) -> float:
    begun = time.monotonic()
    chosen, there_are = chosen_mutations(room, wanted, seed)
    tests = Tests(room, folder)

    def noticed(mutation: Mutation) -> bool:
        nearest = tests.that_run(mutation)
        copy = copies.get()
        try:
            seen = found(mutation, nearest, copy)
        finally:
            copies.put(copy)
        if not seen:
            reason = f"{len(nearest)} tests run it" if nearest else "no test runs it"
            print(f"NOT NOTICED {mutation.path}, {mutation.operator} ({reason})\n{mutation.difference()}", flush=True)
        return seen

    with ThreadPoolExecutor(copies.qsize()) as pool:
        killed = sum(pool.map(noticed, chosen))
    share = killed / max(len(chosen), 1)
    print(f"{room}: {killed} of {len(chosen)} mutations found, {share:.0%} (aim {AIM[room]:.0%}), of {there_are} there are; "
          f"{(time.monotonic() - begun) / 60:.0f} minutes", flush=True)  # fmt: skip
    return share


def main() -> None:
    asked = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    asked.add_argument("rooms", nargs="*", default=list(TESTS))
    asked.add_argument("--mutants", type=int, default=60, help="How many for each room.")
    asked.add_argument("--seed", type=int, default=1)
    asked.add_argument(
        "--at-once", type=int, default=os.cpu_count() or 1, help="How many mutations are tried at a time."
    )
    given = asked.parse_args()
    with tempfile.TemporaryDirectory(prefix="anaxis-mutants-") as name:
        folder = Path(name)
        copies: Queue[Path] = Queue()
        for k in range(given.at_once):
            shutil.copytree(ROOT / "src", folder / str(k) / "src")
            copies.put(folder / str(k))
        shares = [share_found(room, folder, copies, given.mutants, given.seed) >= AIM[room] for room in given.rooms]
    sys.exit(0 if all(shares) else 1)


if __name__ == "__main__":
    main()
