"""Two clients that generators nobody here wrote make of the interface's description: each takes a file to a proof and a download."""

from __future__ import annotations

import hashlib
import importlib
import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import httpx
import pytest

from test_api import caller

__all__ = ["caller"]
ROOT = Path(__file__).resolve().parents[2]
DESCRIPTION = ROOT / "docs" / "openapi.json"
TOOLS = ROOT / "node_modules" / ".bin"


def delivered_by_hand(client: httpx.Client, path: Path) -> str:
    """The checksum of the same file by plain requests: both clients must get the same bytes."""
    file = client.post("/files", files={"file": (path.name, path.read_bytes())}, data={"show": "By hand"}).json()
    camera = client.post(f"/files/{file['id']}/keep", json={}).json()["kept"][0]
    done = client.post(f"/cameras/{camera}/deliveries", json={"to": ["zup-lh-cm"], "formats": ["usd"]}).json()[
        "deliveries"
    ][0]
    return str(done["files"][0]["sha256"])


def test_a_client_in_python(
    caller: Any, site: str, demo_files: dict[str, Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    made = subprocess.run(
        [sys.executable, "-m", "openapi_python_client", "generate", "--path", str(DESCRIPTION), "--output-path", str(tmp_path / "made"), "--meta", "none"],
        capture_output=True, text=True, check=False, cwd=tmp_path,
    )  # fmt: skip
    assert made.returncode == 0, made.stdout + made.stderr
    monkeypatch.syspath_prepend(str(tmp_path))

    def part(name: str) -> Any:
        return importlib.import_module(f"made.{name}")

    plain, models, path = caller(), part("models"), demo_files["TW_010"]
    client = part("client").AuthenticatedClient(
        base_url=str(plain.base_url).rstrip("/"), token=plain.token, timeout=120
    )
    with path.open("rb") as data:
        body = models.BodySendFile(file=part("types").File(data, path.name), path=path.name, show="The mill")
        file = part("api.files.send_file").sync(client=client, body=body)
    kept = part("api.files.keep_file").sync(file.id, client=client, body=models.Keep())
    asked = models.NewDelivery(to=["zup-lh-cm"], formats=[models.NewDeliveryFormatsItem.USD])
    done = part("api.deliveries.deliver_camera").sync(kept.kept[0], client=client, body=asked, idempotency_key="python")
    (delivery,) = done.deliveries
    proof = part("api.deliveries.get_proof").sync(delivery.id, client=client)
    assert delivery.matches and len(proof.frames) == 120 and max(f.deviation_px for f in proof.frames) < 0.01
    answer = part("api.deliveries.get_delivery_file").sync_detailed(delivery.id, delivery.files[0].name, client=client)
    assert hashlib.sha256(answer.content).hexdigest() == delivery.files[0].sha256 == delivered_by_hand(plain, path)
    refused = part("api.deliveries.deliver_camera").sync(
        kept.kept[0],
        client=client,
        body=models.NewDelivery(to=["nowhere"], formats=[models.NewDeliveryFormatsItem.USD]),
    )
    assert isinstance(refused, models.Problem) and refused.sentence


def test_a_client_in_typescript(caller: Any, site: str, demo_files: dict[str, Path], tmp_path: Path) -> None:
    """Type-checked against the description, then run."""
    (tmp_path / "node_modules").symlink_to(ROOT / "node_modules")
    (tmp_path / "package.json").write_text('{"type": "module"}')
    (tmp_path / "main_job.ts").write_text((ROOT / "tests" / "outside" / "main_job.ts").read_text())
    subprocess.run(
        [TOOLS / "openapi-typescript", DESCRIPTION, "--default-non-nullable=false", "-o", tmp_path / "schema.d.ts"],
        check=True,
        capture_output=True,
    )
    strict = [
        "--strict",
        "--noUncheckedIndexedAccess",
        "--module",
        "esnext",
        "--moduleResolution",
        "bundler",
        "--target",
        "es2022",
    ]
    plain = caller()
    (tmp_path / "node.d.ts").write_text(
        'declare module "node:fs/promises" { export function readFile(p: string): Promise<Uint8Array<ArrayBuffer>>; '
        "export function writeFile(p: string, d: Uint8Array): Promise<void>; }\n"
        'declare module "node:path" { export function basename(p: string): string; }\ndeclare const process: { argv: string[] };\n'
    )
    checked = subprocess.run(
        [TOOLS / "tsc", *strict, "--lib", "es2022,dom,dom.iterable", "main_job.ts", "node.d.ts"], cwd=tmp_path, capture_output=True, text=True, check=False
    )  # fmt: skip
    assert checked.returncode == 0, checked.stdout
    address = str(plain.base_url).rstrip("/")
    run = subprocess.run(
        ["node", "main_job.js", address, plain.token, demo_files["TW_010"], tmp_path / "out.usd"], cwd=tmp_path, capture_output=True, text=True, check=False
    )  # fmt: skip
    assert run.returncode == 0, run.stderr
    told = json.loads(run.stdout)
    assert told["matches"] and told["frames"] == 120 and told["worst"] < 0.01
    assert hashlib.sha256((tmp_path / "out.usd").read_bytes()).hexdigest() == delivered_by_hand(
        plain, demo_files["TW_010"]
    )
