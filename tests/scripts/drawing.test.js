// The arrays of a drawing, as web/drawings/packed.py sends them: constant ones by a row, equal ones once.
import assert from "node:assert/strict";
import { execFileSync } from "node:child_process";
import { test } from "node:test";

import { inBlocks, placesOf, read, unpacked } from "../../src/anaxis/web/static/drawing.js";

const MADE = `
import sys
import numpy as np
from anaxis.web.drawings.packed import encode_drawing
n = np.nan
arrays = {
    "frames": np.arange(5.0), "theirs": np.arange(5.0), "focal": np.full(5, 35.0), "film": np.full(5, 35.0), "three": np.full(3, 35.0),
    "corner": np.tile([[1.0, 2.0], [3.0, 4.0]], (4, 1, 1)), "empty": np.empty((0, 3)), "one": np.array([[7.0, 8.0]]),
    "unknown": np.full(4, n), "steps": 1001 + np.arange(4) * 0.5, "odd": np.array([1.0, 2.0, 4.0]), "some": np.array([n, 1.0, n]), "minus": np.array([0.0, -0.0]), "last": np.array([9.0]),
}
sys.stdout.buffer.write(encode_drawing({"width_px": 4}, arrays))
`;

test("every array comes out as it was sent, and may be written to alone", () => {
  const sent = execFileSync(".venv/bin/python", ["-c", MADE]);
  const buffer = sent.buffer.slice(sent.byteOffset, sent.byteOffset + sent.length);
  const size = new DataView(buffer).getUint32(0, true), header = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 4, size)));
  const arrays = Object.fromEntries(Object.entries(unpacked(header, buffer, 4 + size)).map(([k, v]) => [k, Array.from(v)]));
  assert.deepEqual(arrays, {
    frames: [0, 1, 2, 3, 4], theirs: [0, 1, 2, 3, 4], focal: Array(5).fill(35), film: Array(5).fill(35), three: Array(3).fill(35),
    corner: Array(4).fill([1, 2, 3, 4]).flat(), empty: [], one: [7, 8], unknown: Array(4).fill(NaN), steps: [1001, 1001.5, 1002, 1002.5], odd: [1, 2, 4], some: [NaN, 1, NaN],
    minus: [0, -0], last: [9],
  });
  assert.deepEqual(header.constant, ["focal", "film", "three", "corner", "unknown"]);
  assert.deepEqual(header.even, ["frames", "theirs", "steps"]);
  assert.deepEqual(header.same, { theirs: "frames", film: "focal" });
  const own = unpacked(header, buffer, 4 + size);
  own.theirs[0] = 100;
  assert.equal(own.frames[0], 0);
});

// A shot of 3,000 frames with a whip at 1,700: whole, and in the parts that a long shot comes in.
const LONG = `
import sys, json, base64
import numpy as np
from anaxis.web.drawings.blocks import Drawing
from anaxis.web.drawings.packed import encode_drawing
n, at = 3000, np.arange(3000.0)
position = np.stack([np.sin(at / 90), np.where(at == 1700, 50.0, 0.0), at / 7], axis=1)
marks = np.stack([position + 1, position * -2], axis=1)
still = {"frames": 86400 + at, "segments_m": np.ones((3, 2, 3))}
rows = {"position_m": position, "landmarks_m": marks, "lens_focal_mm": np.full(n, 35.0), "lens_focus_m": np.where(at % 2, 3.0, at), "file_focus_m": np.where(at < 9, np.nan, at)}
later = lambda frames: {"bend_px": np.broadcast_to(at[frames, None, None, None], (len(at[frames]), 2, 2, 2))}
made = Drawing({"rate": [24, 1]}, still, rows, (("position_m",), ("lens_focus_m", "file_focus_m"), ("lens_focal_mm",)), ("landmarks_m",), np.array([1234]), later)
whole = encode_drawing({}, still | rows | later(slice(None)))
parts = [whole, made.part(None), *(made.part(k) for k in range(6))]
sys.stdout.write(json.dumps([base64.b64encode(p).decode() for p in parts]))
`;

test("a long shot comes thinned, and each frame's numbers in its block", async () => {
  const sent = JSON.parse(execFileSync(".venv/bin/python", ["-c", LONG], { maxBuffer: 1e8 })).map((part) => Buffer.from(part, "base64"));
  const opened = (part) => part.buffer.slice(part.byteOffset, part.byteOffset + part.length);
  const [whole, first] = sent.slice(0, 2).map((part) => read(opened(part)));
  const asked = [];
  let broken = false;
  const said = [];
  globalThis.document = {
    baseURI: "http://here/cameras/1", createElement: () => ({}),
    querySelectorAll: (which) => (which === "[data-view]" ? [{ before: (made) => said.push(made.textContent) }] : []),
  };
  const data = inBlocks(first, "/cameras/1/drawing?version=2", async (url) => {
    asked.push(url.href);
    return broken ? { ok: false, status: 503 } : { ok: true, arrayBuffer: async () => opened(sent[2 + Number(url.searchParams.get("block"))]) };
  });
  assert.deepEqual(Array.from(data.frames), Array.from(whole.frames));
  assert.deepEqual(data.shapes.landmarks_m, [3000, 2, 3]);
  assert.deepEqual(Array.from(data.lens_focal_mm), Array(3000).fill(35));
  for (const name of ["position_m", "landmarks_m", "lens_focus_m", "file_focus_m"]) {
    const wide = whole[name].length / 3000, places = placesOf(data, name);
    assert.ok(places[0] === 0 && (name.includes("focus") || places.length < 2900), name);
    const rows = (of) => places.map((i) => Array.from(of[name].subarray(i * wide, (i + 1) * wide)));
    assert.deepEqual(rows(data), rows(whole), name);
    const largest = (array) => array.reduce((m, v) => Math.max(m, Number.isNaN(v) ? m : v), -Infinity);
    assert.equal(largest(data[name]), largest(whole[name]), name);
  }
  assert.ok([1233, 1234, 1700, 2999].every((i) => placesOf(data, "position_m").includes(i)));
  assert.deepEqual(placesOf(data, "lens_focus_m", "file_focus_m"), placesOf(data, "file_focus_m"));
  assert.equal(placesOf(data, "lens_focal_mm").length, 3000);
  broken = true;
  await assert.rejects(data.ready(600), /frames from 86912 on could not be loaded \(503\)/);
  assert.match(said.join(), /frames from 86912 on could not be loaded \(503\): reload the page/);
  broken = false;
  await data.ready(600);
  assert.equal(data.ready(600), null);
  assert.equal(asked.length, 2);
  assert.equal(asked[1], "http://here/cameras/1/drawing?version=2&block=1");
  assert.equal(data.ready(900), null); // past the middle of a block the next one is on its way
  assert.equal(asked.length, 3);
  await Promise.all([data.ready(0), data.ready(1100), data.ready(1600), data.ready(2100), data.ready(2999)]);
  for (const name of Object.keys(whole.shapes)) assert.deepEqual(Array.from(data[name]), Array.from(whole[name]), name);
});
