"""The library against the core alone: what its import costs, and what its objects add to reading, numbers and writing.

Ratios of the same work in the same process, the least of a few runs in turn; the aim is 1.1 at most.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import anaxis
from anaxis.core.recipe.model import Operation
from anaxis.core.scene.picture import picture_of
from anaxis.delivery.deliver import deliver_in_formats
from anaxis.formats import read_file
from anaxis.library.sending import going_out
from anaxis.packages import find_profile
from sizes import sized

FRAMES, RUNS = sized((240, 2400), (24,)), sized(7, 1)
IMPORTS = {
    "import anaxis": "import anaxis",
    "import anaxis, and read": "import anaxis; anaxis.read",
    "import anaxis, and write": "import anaxis; anaxis.read; anaxis.write",
}


def processor_s(program: str) -> float:
    """The least processor time of a program, over a few runs."""
    said = f"import time\n{program}\nprint(time.process_time())"
    runs = (
        subprocess.run([sys.executable, "-c", said], capture_output=True, text=True, check=True).stdout
        for _ in range(RUNS)
    )
    return min(float(r) for r in runs)


def least_s(*ways: Callable[[], object]) -> list[float]:
    """The least processor time of each of several ways, done in turn."""
    best = [float("inf")] * len(ways)
    for _ in range(RUNS):
        for i, way in enumerate(ways):
            began = time.process_time()
            way()
            best[i] = min(best[i], time.process_time() - began)
    return best


def shot(folder: Path, frames: int) -> Path:
    keys = ", ".join(f"{f}: ({f % 97 / 10}, {10 + f % 13}, {300 - f / 9})" for f in range(1, frames + 1))
    path = folder / f"shot_{frames}.usda"
    path.write_text(
        f'#usda 1.0\n(\n metersPerUnit = 0.01\n upAxis = "Y"\n timeCodesPerSecond = 24\n)\ndef Camera "cam"\n{{\n double3 xformOp:translate.timeSamples = {{ {keys} }}\n'
        ' uniform token[] xformOpOrder = ["xformOp:translate"]\n float focalLength = 35\n float horizontalAperture = 36\n float verticalAperture = 20.25\n}\n'
    )
    return path


def main() -> None:
    bare = processor_s("pass")
    for what, program in IMPORTS.items():
        taken = processor_s(program) - bare
        print(f"{what}: {taken:.3f} s of processor time")
    profile = find_profile("zup-lh-cm")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for frames in FRAMES:
            path = shot(folder, frames)
            trim = Operation("trim", {"first": 2.0, "last": float(frames - 1)})

            def by_core(path: Path = path, trim: Operation = trim) -> None:
                scene = read_file(path)
                going = going_out(scene, None, (trim,), picture_of(scene, None, None))
                with tempfile.TemporaryDirectory() as out:
                    deliver_in_formats([going.leaving], profile, ["usd"], Path(out), shot=path.stem)

            def by_library(path: Path = path, frames: int = frames) -> None:
                camera = anaxis.read(path).camera.trimmed(2, frames - 1)
                with tempfile.TemporaryDirectory() as out:
                    camera.write(profile, "usd", out)

            core, library = least_s(by_core, by_library)
            print(
                f"{frames} frames read, trimmed, written and proved: {1000 * library:.0f} ms, {library / core:.2f} times the core alone"
            )


if __name__ == "__main__":
    main()
