"""Makes the files that an empty store offers to try with: ``python scripts/make_samples.py``."""

from __future__ import annotations

import sys
from pathlib import Path
from tempfile import TemporaryDirectory

from pxr import Usd

HERE = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(HERE / "demo"))

from make_scenes import make_all  # noqa: E402

TARGET = HERE / "src" / "anaxis" / "web" / "samples"

if __name__ == "__main__":
    with TemporaryDirectory() as folder:
        for path in make_all(Path(folder)):
            if path.name.startswith(("TW_010", "TW_040")):
                out = TARGET / f"{path.stem}.usdc"
                out.unlink(missing_ok=True)
                Usd.Stage.Open(str(path)).Flatten().Export(str(out))
                print(out, out.stat().st_size)
