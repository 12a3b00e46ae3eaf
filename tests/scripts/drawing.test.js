// The arrays of a drawing, as web/drawings/packed.py sends them: constant ones by a row, equal ones once.
import assert from "node:assert/strict";
import { execFileSync } from "node:child_process";
import { test } from "node:test";

import { unpacked } from "../../src/anaxis/web/static/drawing.js";

const MADE = `
import sys
import numpy as np
from anaxis.web.drawings.packed import encode_drawing
n = np.nan
arrays = {
    "frames": np.arange(5.0), "theirs": np.arange(5.0), "focal": np.full(5, 35.0), "film": np.full(5, 35.0), "three": np.full(3, 35.0),
    "corner": np.tile([[1.0, 2.0], [3.0, 4.0]], (4, 1, 1)), "empty": np.empty((0, 3)), "one": np.array([[7.0, 8.0]]),
    "unknown": np.full(4, n), "some": np.array([n, 1.0, n]), "minus": np.array([0.0, -0.0]), "last": np.array([9.0]),
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
    corner: Array(4).fill([1, 2, 3, 4]).flat(), empty: [], one: [7, 8], unknown: Array(4).fill(NaN), some: [NaN, 1, NaN],
    minus: [0, -0], last: [9],
  });
  assert.deepEqual(header.constant, ["focal", "film", "three", "corner", "unknown"]);
  assert.deepEqual(header.same, { theirs: "frames", film: "focal" });
  const own = unpacked(header, buffer, 4 + size);
  own.theirs[0] = 100;
  assert.equal(own.frames[0], 0);
});
