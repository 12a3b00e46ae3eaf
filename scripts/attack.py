"""Attacks a running Anaxis as a stranger would: hostile files on every upload, senseless values on every address.

``attack.py URL [--requests 800] [--seconds 600] [--clients 8] [--seed 1] [--pid WEB_PID]``. It reads the server's own
description of its addresses, so that one added tomorrow is attacked too. It is bounded: so many requests, so many
seconds. At the end it prints what came back, by status, and exits with 1 where there was a server error other than
"busy", a trace in an answer, an answer that held what stands in a file outside, pages that stood still, or, with
--pid, a server that grew. A server to be attacked is one to be thrown away: ``anaxis start --folder /some/new/folder``.
"""

from __future__ import annotations

import argparse
import base64
import io
import json
import random
import re
import struct
import sys
import tempfile
import threading
import time
import zipfile
import zlib
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import psutil

ROOT = Path(__file__).resolve().parent.parent
sys.path[:0] = [str(ROOT / "demo"), str(ROOT / "scripts")]

from fuzz import mutate, seeds  # noqa: E402
from page_watch import watched_page  # noqa: E402

File = tuple[str, bytes]
# What is too long for a view of the shots' page, and too much for the pages' process to grow by.
_STOOD_STILL_S, _GREW_MB = 15.0, 250.0
SECRET = "the-miller-keeps-the-key-under-the-third-stone"
NUMBERS = [
    "0", "1", "-1", "2", "nan", "inf", "-inf", "1e308", "-1e308", "1e-320", "1/1000000000000", "24000/1001", "9" * 400,
    "1/" + "9" * 400, "9223372036854775808", "2147483648", "-0", "1e5", "100000", "1_000", "٣", "0x10", "", " ", "\0",
]  # fmt: skip
TEXTS = [
    "", "x" * 5000, "../../../etc/passwd", "..", "\0", "\ud800", "🎥" * 200, "<script>alert(1)</script>", "'; DROP TABLE shots; --",
    "{{ 7 * 7 }}", "zup-lh-cm", "usd", "yup-rh-m", "file", "time", "still", "1001", "$1,300.50", "%00", "\r\nSet-Cookie: a=b",
]  # fmt: skip


# Files that are made to hurt


def hostile_files() -> list[File]:
    """One or more of each kind of malice that has a name, for all the kinds of file that are taken."""
    return [*_usd(), *_gltf(), *_collada(), *_tables(), *_documents(), *_zips(), *_pictures(), *_edits(), *_names()]


def _usd() -> Iterator[File]:
    head = "#usda 1.0\n"
    yield (
        "outside.usda",
        f'{head}(subLayers = [@/etc/passwd@, @../../secret.usda@, @http://127.0.0.1:1/x.usda@])\ndef Camera "c" {{}}\n'.encode(),
    )
    yield (
        "payload.usda",
        f'{head}def Camera "c" (payload = @{tempfile.gettempdir()}/anaxis-secret.usda@) {{}}\n'.encode(),
    )
    yield "itself.usda", f'{head}def Xform "a" (references = </a>) {{ def Camera "c" {{}} }}\n'.encode()
    yield "deep.usda", (head + 'def Xform "x" { ' * 3000 + 'def Camera "c" {}' + " }" * 3000).encode()
    yield (
        "far.usda",
        f'{head}(timeCodesPerSecond = 24)\ndef Camera "c" {{ double3 xformOp:translate.timeSamples = {{ 1: (0,0,0), 1e300: (1,1,1) }}\nuniform token[] xformOpOrder = ["xformOp:translate"] }}\n'.encode(),
    )
    yield (
        "numbers.usda",
        f'{head}(metersPerUnit = 1e-300 timeCodesPerSecond = 1e300)\ndef Camera "c" {{ float focalLength = inf\nfloat horizontalAperture = nan }}\n'.encode(),
    )
    many = "".join(
        f'def Camera "c{i}" {{ double3 xformOp:translate.timeSamples = {{ 1: (0,0,0), 90000: (1,1,1) }}\nuniform token[] xformOpOrder = ["xformOp:translate"] }}\n'
        for i in range(300)
    )
    yield "many.usda", (head + many).encode()
    yield "cut.usdc", b"PXR-USDC" + struct.pack("<QQ", 8, 1 << 62) + bytes(200)


def _gltf() -> Iterator[File]:
    def document(**more: Any) -> bytes:
        return json.dumps(
            {
                "asset": {"version": "2.0"},
                "cameras": [{"type": "perspective", "perspective": {"yfov": 1, "znear": 1}}],
                **more,
            }
        ).encode()

    yield "cycle.gltf", document(nodes=[{"children": [1], "camera": 0}, {"children": [0]}])
    yield (
        "cameras.gltf",
        document(nodes=[{"camera": 0, "name": f"c{i}"} for i in range(1000)], scenes=[{"nodes": list(range(1000))}]),
    )
    yield (
        "outside.gltf",
        document(
            nodes=[{"camera": 0}],
            buffers=[{"uri": "../../../etc/passwd", "byteLength": 10}, {"uri": "file:///etc/passwd", "byteLength": 10}],
        ),
    )
    yield (
        "lies.gltf",
        document(
            nodes=[{"camera": 0}],
            buffers=[{"byteLength": 1 << 40}],
            bufferViews=[{"buffer": 0, "byteLength": 1 << 40}],
            accessors=[{"bufferView": 0, "componentType": 5126, "count": 1 << 38, "type": "MAT4"}],
        ),
    )
    times = struct.pack("<2f", 0.0, 100_000 / 24)
    stepped = {
        "uri": "data:application/octet-stream;base64,"
        + base64.b64encode(times + struct.pack("<6f", *range(6))).decode(),
        "byteLength": 32,
    }
    chain = [{"children": [i + 1]} for i in range(59)] + [{"camera": 0}]
    samplers = [{"input": 0, "output": 1, "interpolation": "STEP"}]
    yield "stepped.gltf", document(
        nodes=chain, scenes=[{"nodes": [0]}], buffers=[stepped],
        bufferViews=[{"buffer": 0, "byteLength": 8}, {"buffer": 0, "byteOffset": 8, "byteLength": 24}],
        accessors=[{"bufferView": 0, "componentType": 5126, "count": 2, "type": "SCALAR"}, {"bufferView": 1, "componentType": 5126, "count": 2, "type": "VEC3"}],
        animations=[{"samplers": samplers, "channels": [{"sampler": 0, "target": {"node": n, "path": "translation"}} for n in range(60)]}],
    )  # fmt: skip
    yield "deep.gltf", b"[" * 200_000
    yield "lengths.glb", b"glTF" + struct.pack("<II", 2, 0xFFFFFFFF) + struct.pack("<II", 0xFFFFFFFF, 0x4E4F534A)


def _collada() -> Iterator[File]:
    laughs = "".join(f'<!ENTITY l{i} "{f"&l{i - 1};" * 10}">' for i in range(1, 12))
    yield (
        "laughs.dae",
        f'<?xml version="1.0"?><!DOCTYPE c [<!ENTITY l0 "ha">{laughs}]><COLLADA>&l11;</COLLADA>'.encode(),
    )
    yield (
        "outside.dae",
        b'<?xml version="1.0"?><!DOCTYPE c [<!ENTITY x SYSTEM "file:///etc/passwd">]><COLLADA version="1.4.1"><asset><unit name="&x;"/></asset></COLLADA>',
    )
    yield "deep.dae", b"<COLLADA>" + b"<node>" * 100_000
    yield (
        "wide.dae",
        b'<COLLADA version="1.4.1"><library_visual_scenes><visual_scene>'
        + b"<node/>" * 300_000
        + b"</visual_scene></library_visual_scenes></COLLADA>",
    )
    yield (
        "unit.dae",
        b'<COLLADA version="1.4.1"><asset><unit meter="1e400"/></asset><library_cameras><camera id="c"><optics><technique_common><perspective><xfov>nan</xfov></perspective></technique_common></optics></camera></library_cameras></COLLADA>',
    )


def _tables() -> Iterator[File]:
    yield "wide.csv", b"1," * 200_000 + b"1\n"
    yield "long.csv", b"frame,x,y,z,rx,ry,rz\n" + b"".join(b"%d,0,0,0,0,0,0\n" % i for i in range(300_000))
    yield "numbers.csv", b"frame,x,y,z,rx,ry,rz\n1,1e308,nan,inf,0,0,0\n1e308,1,1,1,9e99,0,0\n"
    yield "line.txt", b"9" * 3_000_000
    yield "zeros.tsv", bytes(500_000)


def _documents() -> Iterator[File]:
    yield "deep.json", b'{"a":' * 100_000
    yield "rate.json", json.dumps({"rate": f"1/{10**300}", "frames": [1]}).encode()
    yield (
        "frames.json",
        json.dumps({"format": "anaxis-track", "version": 1, "rate": "24/1", "frames": [1, 1e308]}).encode(),
    )
    yield "digits.json", b'{"rate": ' + b"9" * 100_000 + b"}"
    yield (
        "profile.json",
        json.dumps(
            {"key": "x" * 4000, "label": "\ud800", "habits": [{"code": "scale", "params": {"factor": 1e308}}] * 500}
        ).encode(),
    )


def _zips() -> Iterator[File]:
    def packed(entries: dict[str, bytes], how: int = zipfile.ZIP_DEFLATED) -> bytes:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", how) as archive:
            for name, data in entries.items():
                archive.writestr(name, data)
        return out.getvalue()

    yield "bomb.zip", packed({"shot.usda": bytes(300_000_000)})
    yield "out.zip", packed({"../../../tmp/anaxis-escaped.usda": b"#usda 1.0\n", "/etc/anaxis-escaped": b"x"})
    link = zipfile.ZipInfo("link.usda")
    link.external_attr = 0o120777 << 16
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        archive.writestr(link, "/etc/passwd")
    yield "link.zip", out.getvalue()
    yield "many.zip", packed({f"f{i}.usda": b"#usda 1.0\n" for i in range(3000)})
    yield "within.zip", packed({"in.zip": packed({"in.zip": packed({"a.usda": b"#usda 1.0\n"})})})
    yield "bomb.usdz", packed({"a.usda": bytes(200_000_000)})


def _pictures() -> Iterator[File]:
    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    wide = struct.pack(">IIBBBBB", 60_000, 60_000, 8, 6, 0, 0, 0)
    yield (
        "wide.png",
        b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", wide) + chunk(b"IDAT", zlib.compress(bytes(1000))) + chunk(b"IEND", b""),
    )
    yield "cut.exr", b"\x76\x2f\x31\x01" + struct.pack("<I", 2) + b"channels\0chlist\0" + struct.pack("<I", 0x7FFFFFFF)
    yield "cut.jpg", b"\xff\xd8\xff\xe0" + b"\xff" * 1000


def _edits() -> Iterator[File]:
    yield "endless.edl", b"TITLE: X\n" + b"001  AX V C 99:99:99:99 00:00:00:00 00:00:00:00 99:99:99:99\n" * 20_000
    clip = {
        "OTIO_SCHEMA": "Clip.1",
        "name": "TW_010",
        "source_range": {
            "OTIO_SCHEMA": "TimeRange.1",
            "start_time": {"OTIO_SCHEMA": "RationalTime.1", "rate": 1e-300, "value": 1e308},
            "duration": {"OTIO_SCHEMA": "RationalTime.1", "rate": 0, "value": 1},
        },
    }
    track = {"OTIO_SCHEMA": "Track.1", "kind": "Video", "children": [clip] * 50}
    yield (
        "rates.otio",
        json.dumps(
            {"OTIO_SCHEMA": "Timeline.1", "name": "x", "tracks": {"OTIO_SCHEMA": "Stack.1", "children": [track]}}
        ).encode(),
    )


def _names() -> Iterator[File]:
    small = b'#usda 1.0\ndef Camera "c" { float focalLength = 35 }\n'
    for name in (
        "..",
        ".usda",
        "a" * 240 + ".usda",
        "🎥" * 200 + ".usda",
        "a\0b.usda",
        "../../a.usda",
        "CON.usda",
        "a\r\nX: y.usda",
        "<b>.usda",
    ):
        yield name, small


# What is asked


@dataclass
class Ask:
    method: str
    path: str
    query: dict[str, str] = field(default_factory=dict)
    form: dict[str, str] = field(default_factory=dict)
    files: list[tuple[str, File]] = field(default_factory=list)
    headers: dict[str, str] = field(default_factory=dict)


class Asker:
    """Makes requests of what the server says it takes, with values that it does not expect."""

    def __init__(self, described: dict[str, Any], files: list[File], seed: int) -> None:
        self.random, self.files = random.Random(seed), files
        self.operations = list(self._operations(described))

    def _operations(self, described: dict[str, Any]) -> Iterator[tuple[str, str, list[str], list[str], list[str]]]:
        schemas = described.get("components", {}).get("schemas", {})
        for path, methods in described["paths"].items():
            for method, told in methods.items():
                query = [p["name"] for p in told.get("parameters", []) if p["in"] == "query"]
                contents: dict[str, Any] = told.get("requestBody", {}).get("content", {})
                body: dict[str, Any] = next((c.get("schema", {}) for c in contents.values()), {})
                fields = schemas.get(body.get("$ref", "").rpartition("/")[2], body).get("properties", {})
                uploads = [k for k, v in fields.items() if re.search("binary|octet", json.dumps(v))]
                yield method.upper(), path, query, [k for k in fields if k not in uploads], uploads

    def __call__(self) -> Ask:
        uploading = [o for o in self.operations if o[4]]
        method, path, query, fields, uploads = self.random.choice(
            uploading if self.random.random() < 0.35 else self.operations
        )
        filled = re.sub(r"\{(\w+)(?::\w+)?\}", lambda m: self._value(m[1], safe=True), path)
        return Ask(
            method,
            filled,
            {q: self._value(q) for q in query if self.random.random() < 0.8},
            {f: self._value(f) for f in fields if self.random.random() < 0.8} if method == "POST" else {},
            [(u, self.random.choice(self.files)) for u in uploads if self.random.random() < 0.9],
            {"X-Forwarded-Host": "elsewhere.example"} if self.random.random() < 0.05 else {},
        )

    def _value(self, name: str, safe: bool = False) -> str:
        # Half of the time what fits, so that a request comes further than the first check.
        if self.random.random() < (0.85 if safe else 0.5):
            fitting = {
                "to": "zup-lh-cm",
                "key": "zup-lh-cm",
                "format_key": "usd",
                "station": "lens",
                "kind": "csv",
                "axes": "file",
                "frame": "1",
                "param_rate": "25",
                "rate": "24",
                "name": "sluice_post_1",
                "side": "world",
            }
            return fitting.get(name, str(self.random.randint(1, 4)))
        value = self.random.choice(NUMBERS + TEXTS)
        return re.sub(r"[^!-~]|[/?#%]", "x", value)[:300] or "x" if safe else value


# What came back


@dataclass
class Seen:
    """What came back of all that was asked."""

    statuses: Counter[int] = field(default_factory=Counter)
    wrong: list[str] = field(default_factory=list)
    slowest_s: float = 0.0
    pages_slowest_s: float = 0.0
    lost: int = 0
    lock: threading.Lock = field(default_factory=threading.Lock)

    def note(self, ask: Ask, answer: httpx.Response, seconds: float) -> None:
        text = answer.content[:2_000_000]
        with self.lock:
            self.statuses[answer.status_code] += 1
            self.slowest_s = max(self.slowest_s, seconds)
            if answer.status_code >= 500 and answer.status_code not in (503, 507):
                self.wrong.append(
                    f"{answer.status_code} {ask.method} {ask.path} {str(ask.query)[:150]} {str(ask.form)[:200]} {[f[0] for _, f in ask.files]}"
                )
            if b"Traceback (most recent" in text or b'File "/' in text:
                self.wrong.append(f"a trace: {ask.method} {ask.path}")
            if SECRET.encode() in text or b"root:x:0:0" in text:
                self.wrong.append(f"a foreign file: {ask.method} {ask.path} {[f[0] for _, f in ask.files]}")


def attack(url: str, requests: int, seconds: float, clients: int, seed: int, files: list[File]) -> Seen:
    """Ask so often, by so many at once, for so long at most; another one looks at the pages meanwhile."""
    described = httpx.get(f"{url}/openapi.json", timeout=60).json()
    ask_for, seen = Asker(described, files, seed), Seen()
    asks = [ask_for() for _ in range(requests)]
    deadline = time.monotonic() + seconds

    def client(mine: list[Ask]) -> None:
        with httpx.Client(base_url=url, timeout=120, headers={"Origin": url}) as line:
            for ask in mine:
                if time.monotonic() > deadline:
                    return
                begun = time.monotonic()
                try:
                    uploads = [(k, (f[0].encode("utf-8", "replace").decode(), f[1])) for k, f in ask.files]
                    form = {k: v.encode("utf-8", "replace").decode() for k, v in ask.form.items()}
                    query = {k: v.encode("utf-8", "replace").decode() for k, v in ask.query.items()}
                    answer = line.request(
                        ask.method,
                        ask.path,
                        params=query,
                        data=form or None,
                        files=uploads or None,
                        headers=ask.headers,
                    )
                except httpx.HTTPError:
                    with seen.lock:
                        seen.lost += 1
                    continue
                seen.note(ask, answer, time.monotonic() - begun)

    with watched_page(url, 1.0) as pages, ThreadPoolExecutor(clients) as pool:
        list(pool.map(client, [asks[i::clients] for i in range(clients)]))
    seen.pages_slowest_s = pages.slowest_s
    seen.wrong += pages.wrong
    return seen


def corpus(seed: int, mutants: int) -> list[File]:
    """The files made to hurt, and mutants of files of every format."""
    numbers = np.random.default_rng(seed)
    with tempfile.TemporaryDirectory() as folder:
        whole = [(p.name, p.read_bytes()) for p in seeds(Path(folder))]
    return [
        *hostile_files(),
        *whole,
        *((n, mutate(d, numbers)) for i in range(mutants) for n, d in [whole[i % len(whole)]]),
    ]


def main() -> None:
    asked = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    asked.add_argument("url")
    for name, usual, kind in (
        ("requests", 800, int),
        ("seconds", 600.0, float),
        ("clients", 8, int),
        ("seed", 1, int),
        ("mutants", 120, int),
    ):
        asked.add_argument(f"--{name}", default=usual, type=kind)
    asked.add_argument("--pid", type=int, help="The pages' process, whose memory is watched.")
    given = asked.parse_args()
    Path(tempfile.gettempdir(), "anaxis-secret.usda").write_text(f'#usda 1.0\ndef Camera "{SECRET}" {{}}\n')
    size: Callable[[], float] = lambda: psutil.Process(given.pid).memory_info().rss / 1e6 if given.pid else 0.0  # noqa: E731
    before, begun = size(), time.monotonic()
    seen = attack(
        given.url.rstrip("/"),
        given.requests,
        given.seconds,
        given.clients,
        given.seed,
        corpus(given.seed, given.mutants),
    )
    print(
        f"{seen.statuses.total()} requests in {time.monotonic() - begun:.0f} s: {dict(sorted(seen.statuses.items()))}, {seen.lost} without an answer"
    )
    print(
        f"slowest answer {seen.slowest_s:.1f} s; slowest view of the shots' page meanwhile {seen.pages_slowest_s:.1f} s"
    )
    if given.pid:
        print(f"the pages' process: {before:.0f} MB before, {size():.0f} MB after")
    if seen.pages_slowest_s > _STOOD_STILL_S:
        seen.wrong.append(f"the shots' page stood still for {seen.pages_slowest_s:.0f} s")
    if size() - before > _GREW_MB:
        seen.wrong.append(f"the pages' process grew by {size() - before:.0f} MB")
    for line in seen.wrong[:40]:
        print("WRONG", line)
    escaped = [
        p for p in (Path("/etc/anaxis-escaped"), Path(tempfile.gettempdir(), "anaxis-escaped.usda")) if p.exists()
    ]
    sys.exit(1 if seen.wrong or escaped else 0)


if __name__ == "__main__":
    main()
