// Guides as they are put on a canvas: shares of the picture's box, run by `node --test`.

import assert from "node:assert/strict";
import { test } from "node:test";

import { drawGuides, guidesOf } from "../../src/anaxis/web/static/guides.js";

function pen() {
  const drawn = [];
  return {
    drawn, beginPath() {}, stroke() {}, moveTo(x, y) { drawn.push(["move", x, y]); }, lineTo(x, y) { drawn.push(["line", x, y]); },
    rect(...r) { drawn.push(["rect", ...r]); }, strokeRect(...r) { drawn.push(["stroke", ...r]); }, fill(rule) { drawn.push(["fill", rule]); },
    fillText(text, x, y) { drawn.push(["text", text, x, y]); },
  };
}

const BOX = { x: 10, y: 20, w: 200, h: 100 };

test("a rectangle and a line lie at their shares of the box", () => {
  const p = pen();
  drawGuides(p, BOX, [
    { kind: "rect", x0: 0.1, y0: 0.2, x1: 0.9, y1: 0.8, label: "safe" },
    { kind: "line", x0: 0.5, y0: 0, x1: 0.5, y1: 1, label: "" },
  ], { soft: "grey" });
  assert.deepEqual(p.drawn.map((d) => d.map((v) => (typeof v === "number" ? Math.round(v * 1e6) / 1e6 : v))), [
    ["stroke", 30, 40, 160, 60], ["text", "safe", 34, 53], ["move", 110, 20], ["line", 110, 120],
  ]);
});

test("a mask darkens all but its part", () => {
  const p = pen();
  drawGuides(p, BOX, [{ kind: "mask", x0: 0, y0: 0.25, x1: 1, y1: 0.75, label: "" }], { soft: "grey" });
  assert.deepEqual(p.drawn, [["rect", 10, 20, 200, 100], ["rect", 10, 45, 200, 50], ["fill", "evenodd"]]);
});

test("a board without guides has none", () => {
  assert.deepEqual(guidesOf({ dataset: {} }), []);
});
