"""Mutates demo files of every format and reads them as uploads are read: ``fuzz.py [COUNT] [SEED]``.

Every mutant must end in a scene or in one sentence. Readers that crashed are counted; what counts as
a failure is anything that reaches this process other than BadInput.
"""

from __future__ import annotations

import io
import re
import sys
import zipfile
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
from pxr import Sdf, UsdUtils

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT / "demo"))

from anaxis.core.checks.examine import examine, take_camera  # noqa: E402
from anaxis.core.errors import BadInput  # noqa: E402
from anaxis.core.scene.picture import picture_of  # noqa: E402
from anaxis.delivery.deliver import deliver  # noqa: E402
from anaxis.formats import READABLE_SUFFIXES, read_file  # noqa: E402
from anaxis.library.archive import scene_from_bytes, scene_to_bytes  # noqa: E402
from anaxis.packages import shipped_profiles  # noqa: E402
from anaxis.sandbox.guard import Limits, ParserPool  # noqa: E402
from make_scenes import make_all  # noqa: E402
from other_formats import write_in_every_format  # noqa: E402


def seeds(folder: Path) -> list[Path]:
    """One small file of each kind that is read."""
    text = make_all(folder)[0]
    crate = folder / "crate.usdc"
    Sdf.Layer.FindOrOpen(str(text)).Export(str(crate))
    package = folder / "package.usdz"
    UsdUtils.CreateNewUsdzPackage(str(text), str(package))
    scene = read_file(text)
    work = take_camera(scene, None, (1001, 1010))
    done = deliver(
        work.done, work.landmarks, picture_of(scene, None, None), shipped_profiles()["zup-lh-cm"], "json", folder
    )
    others = write_in_every_format(folder / "others", 0)
    # A .gltf with its data beside it is read out of a bundle.
    bare = others.pop(".gltf")
    packed = folder / "others" / "gltf.zip"
    with zipfile.ZipFile(packed, "w") as out:
        out.write(bare, bare.name)
        out.write(bare.with_suffix(".bin"), bare.with_suffix(".bin").name)
    return [text, crate, package, done.files[0], *others.values(), packed]


def mutate(data: bytes, random: np.random.Generator) -> bytes:
    """A few of: bytes changed, a piece cut out, doubled or moved, the end cut off, a number made absurd."""
    out = bytearray(data)
    for _ in range(random.integers(1, 4)):
        at, size = int(random.integers(0, max(1, len(out)))), int(random.integers(1, 64))
        kind = random.integers(0, 7)
        if kind == 0:
            out[at : at + size] = random.bytes(size)
        elif kind == 1:
            del out[at : at + size]
        elif kind == 2:
            out[at:at] = out[at : at + size]
        elif kind == 3 and random.random() < 0.3:
            del out[at:]
        elif kind in (4, 5):
            # One number for another, so that a text still parses and its content is absurd.
            numbers = list(re.finditer(rb"-?\d+(\.\d+)?", bytes(out[at : at + 4096])))
            if numbers:
                found = numbers[int(random.integers(0, len(numbers)))]
                out[at + found.start() : at + found.end()] = random.choice(ABSURD)
        elif out:
            out[min(at, len(out) - 1)] ^= 1 << int(random.integers(0, 8))
        if not out:
            break
    return bytes(out)


def mutate_packed(data: bytes, random: np.random.Generator) -> bytes:
    """One entry of a package mutated, and packed again so that the package itself is sound."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as source, zipfile.ZipFile(out, "w") as target:
        entries = source.infolist()
        chosen = int(random.integers(0, len(entries)))
        for i, entry in enumerate(entries):
            inner = source.read(entry)
            target.writestr(entry.filename, mutate(inner, random) if i == chosen else inner)
    return out.getvalue()


ABSURD = [b"-1", b"0", b"1e308", b"-1e-320", b"99999999999", b"nan", b"4294967295", b"0.5", b"1e9"]
PACKED = (".zip", ".usdz")


def main() -> int:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 2000
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    limits = Limits(wall_s=60)
    ends: Counter[str] = Counter()
    with TemporaryDirectory(prefix="anaxis-fuzz-") as name:
        folder = Path(name)
        originals = [(p, p.read_bytes()) for p in seeds(folder)]
        # A pool a kind: a process then loads one library, and starts in a third of the time.
        pools = {p.suffix: ParserPool(limits, only_for=p.name) for p, _ in originals}

        def one(i: int) -> str:
            random = np.random.default_rng([seed, i])
            path, data = originals[i % len(originals)]
            mutant = folder / f"m{i}{path.suffix}"
            inside = path.suffix in PACKED and random.random() < 0.8
            mutant.write_bytes(mutate_packed(data, random) if inside else mutate(data, random))
            try:
                scene = pools[path.suffix].read(mutant, suffixes=(*READABLE_SUFFIXES, ".obj"))
                if scene.cameras:
                    examine(scene)
                    scene_from_bytes(scene_to_bytes(scene))
                return f"{path.suffix}: read"
            except BadInput as error:
                crashed = "made its reader stop" in error.sentence or "longer than" in error.sentence
                return f"{path.suffix}: {'reader crashed, said so' if crashed else 'sentence'}"
            except Exception as error:
                return f"FAILED {type(error).__name__} on {path.suffix}, seed {seed}, number {i}: {error}"
            finally:
                mutant.unlink()

        with ThreadPoolExecutor(2) as threads:
            ends.update(threads.map(one, range(count)))
        for pool in pools.values():
            pool.close()
    for end, times in sorted(ends.items()):
        print(f"{times:6}  {end}")
    return 1 if any(e.startswith("FAILED") for e in ends) else 0


if __name__ == "__main__":
    sys.exit(main())
