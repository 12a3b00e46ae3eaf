// What the drawings compute, against sums written out: run by `node --test`, with neither a browser nor a server.

import assert from "node:assert/strict";
import { test } from "node:test";

import { niceStep } from "../../src/anaxis/web/static/drawing.js";
import { pixels } from "../../src/anaxis/web/static/overlay.js";
import { landmarkAt, paper, project, traceSet, tryOn } from "../../src/anaxis/web/static/views.js";

const FOCAL = 1000;
// Two 3x4 matrices of cameras at the origin and one metre to the right, that look along -Z: pixels times depth.
const MATRICES = new Float64Array([
  FOCAL, 0, -960, 0, 0, -FOCAL, -540, 0, 0, 0, -1, 0,
  FOCAL, 0, -960, -FOCAL, 0, -FOCAL, -540, 0, 0, 0, -1, 0,
]);

const near = (a, b) => assert.ok(Math.abs(a - b) < 1e-9, `${a} is not ${b}`);

function pen() {
  const lines = [];
  return { lines, beginPath() {}, stroke() {}, moveTo(x, y) { lines.push([[x, y]]); }, lineTo(x, y) { lines.at(-1).push([x, y]); } };
}

test("a point is projected by the matrix of its frame", () => {
  const [x, y, depth] = project(MATRICES, 0, 2, 1, -4, []);
  near(depth, 4); near(x / depth, 960 + (FOCAL * 2) / 4); near(y / depth, 540 - FOCAL / 4);
  near(project(MATRICES, 1, 2, 1, -4, [])[0] / 4, 960 + FOCAL / 4);
});

test("a line that runs behind the camera is cut before it, and one behind it is left out", () => {
  const drawn = pen();
  const data = { facts: { width_px: 1920 }, segments_m: [0, 0, -1, 0, 0, 3, 0, 1, 5, 1, 1, 6] };
  traceSet(drawn, data, MATRICES, 0, (x) => x, (y) => y);
  assert.equal(drawn.lines.length, 1);
  for (const [x, y] of drawn.lines[0]) { near(x, 960); near(y, 540); }
});

test("a line is bent in steps", () => {
  const drawn = pen();
  const bend = (x, y, out) => { out[0] = x; out[1] = y + 10; return true; };
  traceSet(drawn, { facts: { width_px: 1920 }, segments_m: [-0.9, 0, -1, 0.9, 0, -1] }, MATRICES, 0, (x) => x, (y) => y, bend);
  assert.ok(drawn.lines[0].length > 30);
  for (const [, y] of drawn.lines[0]) near(y, 550);
});

test("the picture keeps its own shape, pixel aspect included", () => {
  const wide = paper({ facts: { width_px: 2048, height_px: 1716, pixel_aspect: 2 } }, 800, 600, 10);
  near(wide.w / wide.h, (2048 * 2) / 1716);
  near(wide.w, 780); near(wide.toX(0), 10); near(wide.toX(2048), 790); near(wide.toY(858), 300);
  const tall = paper({ facts: { width_px: 1080, height_px: 1920, pixel_aspect: 1 } }, 800, 600, 10);
  near(tall.h, 580); near(tall.toX(540), 400);
});

test("homogeneous pixels are taken on from the left", () => {
  const twice = tryOn(MATRICES, 1, [2, 0, 0, 0, 2, 0, 0, 0, 1]);
  const [x, y, depth] = project(twice, 0, 2, 1, -4, []);
  near(depth, 4); near(x / depth, 2 * (960 + FOCAL / 4)); near(y / depth, 2 * (540 - FOCAL / 4));
});

test("a landmark that moves is where it is at its frame, and one that stands is there on each", () => {
  const moving = { facts: { landmarks: ["bell", "lamp"] }, shapes: { landmarks_m: [2, 2, 3] }, landmarks_m: new Float64Array(12).map((_, k) => k) };
  assert.deepEqual([...landmarkAt(moving, 1, 1)], [9, 10, 11]);
  const still = { ...moving, shapes: { landmarks_m: [1, 2, 3] } };
  assert.deepEqual([...landmarkAt(still, 1, 1)], [3, 4, 5]);
});

test("steps of a scale are 1, 2 or 5 times a power of ten, and never finer than asked", () => {
  assert.deepEqual([0.7, 1, 1.1, 3, 6, 72, 0.03].map(niceStep).map((s) => +s.toFixed(6)), [1, 1, 2, 5, 10, 100, 0.05]);
});

test("a deviation is written with as many digits as say something", () => {
  assert.deepEqual([0, 1e-7, 0.00005, 0.01234, 3.456, 250.4, 2e5].map(pixels), [
    "0 px", "< 0.000001 px", "0.000050 px", "0.0123 px", "3.46 px", "250 px", "> 100000 px",
  ]);
});
