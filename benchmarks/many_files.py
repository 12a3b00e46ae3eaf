"""200 files of 240 frames taken in on the page: the table, as a browser fills it, against reading the same files here.

Run: ``.venv/bin/python benchmarks/many_files.py [COUNT]``.
"""

from __future__ import annotations

import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from tempfile import TemporaryDirectory

ROOT = Path(__file__).resolve().parent.parent
sys.path[:0] = [str(ROOT / "demo"), str(ROOT / "tests")]

from anaxis.formats import read_file  # noqa: E402
from anaxis.store.local_postgres import LocalPostgres  # noqa: E402
from make_scenes import make_all  # noqa: E402
from pages import Visitor, served  # noqa: E402
from sizes import sized  # noqa: E402

AT_ONCE = 2  # as the page does


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else sized(200, 3)
    with TemporaryDirectory() as folder, LocalPostgres(Path(folder) / "cluster", throwaway=True) as server:
        path = next(p for p in make_all(Path(folder)) if p.name.startswith("TW_020"))
        data = path.read_bytes()
        began = time.perf_counter()
        for _ in range(count):
            read_file(path)
        here_s = time.perf_counter() - began
        with served(server.url) as site, Visitor(base_url=site, timeout=120) as client:

            def sent(number: int) -> bool:
                name = f"MI_{number:04}_layout_v001{path.suffix}"
                files, about = {"file": (name, data)}, {"path": name, "show": "The mill"}
                return 'data-state="new"' in client.post("/take-in/many/file", files=files, data=about).text

            sent(0)  # until the readers are loaded
            began = time.perf_counter()
            with ThreadPoolExecutor(AT_ONCE) as senders:
                rows = list(senders.map(sent, range(1, count + 1)))
            page_s = time.perf_counter() - began
    assert all(rows)
    print(
        f"{count} files: {page_s:.1f} s until the table is there, {page_s / here_s:.1f} times reading them here alone"
    )


if __name__ == "__main__":
    main()
