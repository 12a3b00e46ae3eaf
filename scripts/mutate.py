"""How many mutations of the code its tests find: ``mutate.py [--mutants 60] [--seed 1] [core formats packages]``.

Mutations are drawn by lot over all modules of a room and all operators of cosmic-ray. Each is written into a copy of the
source, and the tests nearest to the room are run until the first failure. Printed are the share found for each room, and
the mutations that no test noticed: each is a test that is missing, or code that does nothing.
"""

from __future__ import annotations

import argparse
import difflib
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from cosmic_ray.ast import get_ast
from cosmic_ray.mutating import mutate_code
from cosmic_ray.plugins import get_operator, operator_names

ROOT = Path(__file__).resolve().parents[1]
# The tests nearest to a room, in the order in which they are asked.
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


def found(copy: Path, room: str) -> bool:
    """Whether the nearest tests notice what is in the copy of the source."""
    environment = {**os.environ, "PYTHONPATH": str(copy / "src"), "OPENBLAS_NUM_THREADS": "1"}
    command = [sys.executable, "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", *TESTS[room]]
    try:
        done = subprocess.run(command, cwd=ROOT, env=environment, capture_output=True, timeout=_LONGEST_S, check=False)
    except subprocess.TimeoutExpired:
        return True  # it goes on for ever, which is noticed
    return done.returncode != 0


def main() -> None:
    asked = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    asked.add_argument("rooms", nargs="*", default=list(TESTS))
    asked.add_argument("--mutants", type=int, default=60, help="How many for each room.")
    asked.add_argument("--seed", type=int, default=1)
    given = asked.parse_args()
    short = []
    with tempfile.TemporaryDirectory(prefix="anaxis-mutants-") as folder:
        copy = Path(folder)
        shutil.copytree(ROOT / "src", copy / "src")
        for room in given.rooms:
            everything = list(mutants(room))
            chosen = random.Random(given.seed).sample(everything, min(given.mutants, len(everything)))
            begun, killed, tried = time.monotonic(), 0, 0
            for path, name, occurrence in chosen:
                code = path.read_text()
                mutated = mutate_code(code, get_operator(name)(), occurrence)
                if mutated is None or mutated == code:
                    continue
                target = copy / path.relative_to(ROOT)
                target.write_text(mutated)
                try:
                    noticed = found(copy, room)
                finally:
                    target.write_text(code)
                tried += 1
                killed += noticed
                if not noticed:
                    print(f"NOT NOTICED {path.relative_to(ROOT)}, {name.removeprefix('core/')}", flush=True)
                    lines = difflib.unified_diff(code.splitlines(), mutated.splitlines(), lineterm="", n=0)
                    print("\n".join(line for line in list(lines)[2:] if not line.startswith("@@")), flush=True)
            share = killed / max(tried, 1)
            print(f"{room}: {killed} of {tried} mutations found, {share:.0%} (aim {AIM[room]:.0%}), of {len(everything)} there are; "
                  f"{(time.monotonic() - begun) / 60:.0f} minutes", flush=True)  # fmt: skip
            short += [room] if share < AIM[room] else []
    sys.exit(1 if short else 0)


if __name__ == "__main__":
    main()
