// Both pictures laid over each other, and the deviation on every frame.

import { drawGuides } from "./guides.js";
import { curve } from "./curve.js";
import { clear, fitCanvas, niceStep, theme } from "./drawing.js";
import { bender } from "./plate.js";
import { cross, landmarkAt, paper, project, traceSet } from "./views.js";

const p = [0, 0, 0], q = [0, 0, 0];

export function pixels(value) {
  if (value === 0) return "0 px";
  if (value < 1e-6) return "< 0.000001 px";
  if (value >= 1e5) return "> 100000 px"; // off the picture by far: no number says more
  return `${value.toFixed(value < 1e-4 ? 6 : value < 0.1 ? 4 : value < 100 ? 2 : 0)} px`;
}

// Test points at a frame: [x meant, y meant, x arrived, y arrived] in pixels.
function points(data, i) {
  const out = [];
  data.facts.landmarks.forEach((_, l) => {
    const at = landmarkAt(data, i, l);
    project(data.meant, i, at[0], at[1], at[2], p);
    project(data.arrived, i, at[0], at[1], at[2], q);
    if (p[2] > 0.001 && q[2] > 0) out.push([p[0] / p[2], p[1] / p[2], q[0] / q[2], q[1] / q[2], true]);
  });
  const g = data.grid_px, layers = data.shapes.grid_depths_m[1];
  for (let k = 0; k < g.length; k += 2) {
    for (let layer = 0; layer < layers; layer += 1) {
      const depth = data.grid_depths_m[i * layers + layer];
      // shift takes (x d, y d, d, 1): the fourth column is constant.
      project(data.shift, i, g[k] * depth, g[k + 1] * depth, depth, q);
      if (q[2] > 0) out.push([g[k], g[k + 1], q[0] / q[2], q[1] / q[2], false]);
    }
  }
  return out;
}

export function overlayView(canvas, data, state) {
  const ink = theme();
  return fitCanvas(canvas, (pen, width, height) => {
    clear(pen, width, height);
    const box = paper(data, width, height, 14);
    pen.fillStyle = "#fffdf8"; pen.fillRect(box.x, box.y, box.w, box.h);
    pen.save();
    pen.beginPath(); pen.rect(box.x - 6, box.y - 6, box.w + 12, box.h + 12); pen.clip();
    if (state.plate) state.plate.draw(pen, box, data.frames[state.index]);
    const bend = state.bent ? bender(data, state.index) : null;
    // Wiped, the one meant stays left of the line and the one that arrived right of it.
    const edge = state.wipe > 0 ? box.x + box.w * state.wipe : null;
    const side = (from, to, draw) => {
      pen.save();
      if (edge !== null) { pen.beginPath(); pen.rect(from, box.y - 6, to - from, box.h + 12); pen.clip(); }
      draw();
      pen.restore();
    };
    side(box.x - 6, edge, () => {
      pen.lineWidth = 0.9; pen.strokeStyle = ink.ink;
      traceSet(pen, data, data.meant, state.index, box.toX, box.toY, bend);
    });
    side(edge, box.x + box.w + 6, () => {
      pen.lineWidth = 1.3; pen.strokeStyle = ink.cool;
      if (edge === null) pen.setLineDash([6, 6]);
      traceSet(pen, data, data.arrived, state.index, box.toX, box.toY, bend);
    });
    if (edge !== null) { pen.fillStyle = ink.ink; pen.fillRect(edge - 0.75, box.y, 1.5, box.h); }
    for (let [x, y, ax, ay, mark] of edge === null ? points(data, state.index) : []) {
      if (bend) { // both as the plate shows them
        if (!bend(x, y, p) || !bend(ax, ay, q)) continue;
        [x, y] = p; [ax, ay] = q;
      }
      const sx = box.toX(x), sy = box.toY(y);
      const ex = sx + (ax - x) * state.magnify * box.scale, ey = sy + (ay - y) * state.magnify * box.scale;
      if (mark) { cross(pen, sx, sy, ink.ink, 5); cross(pen, box.toX(ax), box.toY(ay), ink.cool, 3); }
      else { pen.fillStyle = ink.soft; pen.fillRect(sx - 1, sy - 1, 2, 2); }
      pen.strokeStyle = ink.warm; pen.lineWidth = 1.8;
      pen.beginPath(); pen.moveTo(sx, sy); pen.lineTo(ex, ey); pen.stroke();
    }
    if (state.guides) drawGuides(pen, box, state.guides, ink);
    pen.restore();
    pen.strokeStyle = ink.ink; pen.lineWidth = 1.5; pen.strokeRect(box.x, box.y, box.w, box.h);
  });
}

// Deviation per frame. Below 0.01 px everything is exact, so the scale never hides that line.
export function curveView(box, data, state, onFrame) {
  const ink = theme(), d = data.deviation_px;
  const worst = Math.max(d.reduce((m, v) => Math.max(m, v), 0), 1e-6);
  // A point that went far off the picture would press everything else flat: then each tick is a hundred times the one below.
  const tens = worst > 2 * Math.hypot(data.facts.width_px, data.facts.height_px);
  const step = niceStep((worst * 1.15) / 3);
  const said = (v) => (v === 0 ? "0 px" : tens ? `${v < 1e5 ? v : `${v / 1e6} million`} px`
    : v.toFixed(Math.max(0, -Math.floor(Math.log10(step)))));
  const ticks = [];
  if (tens) for (let v = 0.01; v <= worst; v *= 100) ticks.push(v);
  else for (let v = 0; v <= worst * 1.15; v += step) ticks.push(v);
  return curve(box, {
    frames: data.frames, values: tens ? d.map((v) => Math.max(v, 0.01)) : d, state, onFrame, zoom: true, stroke: ink.warm,
    y: {
      scale: tens ? { distr: 3, range: () => [0.01, worst * 1.5] } : { range: () => [0, worst * 1.15] },
      axis: { size: 92, splits: () => ticks, filter: (u, at) => at, values: (u, at) => at.map(said) },
    },
    marks: (u, pen, ratio) => {
      const { left, top, width, height } = u.bbox;
      const line = (x0, y0, x1, y1) => { pen.beginPath(); pen.moveTo(x0, y0); pen.lineTo(x1, y1); pen.stroke(); };
      pen.save();
      pen.strokeStyle = ink.ink; pen.lineWidth = ratio;
      if (worst > 0.01) {
        const exact = u.valToPos(0.01, "y", true);
        pen.setLineDash([2 * ratio, 4 * ratio]); line(left, exact, left + width, exact); pen.setLineDash([]);
      }
      for (const frame of data.key_frames) {
        const at = u.valToPos(frame, "x", true);
        if (at >= left && at <= left + width) line(at, top + height, at, top + height - 6 * ratio);
      }
      pen.fillStyle = ink.warm;
      const x = u.valToPos(data.frames[state.index], "x", true), y = u.valToPos(Math.max(d[state.index], tens ? 0.01 : 0), "y", true);
      if (x >= left && x <= left + width) { pen.beginPath(); pen.arc(x, y, 4 * ratio, 0, 7); pen.fill(); }
      pen.restore();
    },
  });
}

// Steps of 1, 2 and 5, from none up to one that makes the worst deviation plain to see.
export function setUpMagnify(select, worst, data, state, redraw) {
  const wanted = worst > 1e-6 ? (data.facts.width_px * 0.06) / worst : 1;
  const steps = [];
  for (let power = 1; power <= 1e12; power *= 10) steps.push(power, 2 * power, 5 * power);
  const best = steps.filter((m) => m <= Math.max(1, wanted)).pop();
  for (const m of steps.filter((s) => s <= best * 10)) {
    select.add(new Option(`× ${m.toLocaleString("en")}`, m, false, m === best));
  }
  state.magnify = best;
  select.onchange = () => { state.magnify = Number(select.value); redraw(); };
}
