// The drawings. Everything is computed on the server; here points are only put on paper.

import { bender } from "./plate.js";
import { drawGuides } from "./guides.js";
import { FONT, clear, fitCanvas, niceStep, placesOf, theme } from "./drawing.js";

// World to pixels by the i-th 3x4 matrix: [x d, y d, d].
export function project(matrices, i, x, y, z, out) {
  const o = i * 12;
  for (let r = 0; r < 3; r += 1) {
    const k = o + r * 4;
    out[r] = matrices[k] * x + matrices[k + 1] * y + matrices[k + 2] * z + matrices[k + 3];
  }
  return out;
}

const NEAR = 0.02;
const a = [0, 0, 0], b = [0, 0, 0];

// The set's lines through one camera, cut at a plane just before it.
// With a bend they are drawn in steps, for what is straight in a pinhole picture is not as shot.
export function traceSet(pen, data, matrices, i, toX, toY, bend = null) {
  const s = data.segments_m, step = data.facts.width_px / 40;
  pen.beginPath();
  for (let k = 0; k < s.length; k += 6) {
    project(matrices, i, s[k], s[k + 1], s[k + 2], a);
    project(matrices, i, s[k + 3], s[k + 4], s[k + 5], b);
    if (a[2] < NEAR && b[2] < NEAR) continue;
    let [ax, ay, ad] = a, [bx, by, bd] = b;
    if (ad < NEAR) { const t = (NEAR - ad) / (bd - ad); ax += (bx - ax) * t; ay += (by - ay) * t; ad = NEAR; }
    if (bd < NEAR) { const t = (NEAR - bd) / (ad - bd); bx += (ax - bx) * t; by += (ay - by) * t; bd = NEAR; }
    if (bend) { traceBent(pen, ax / ad, ay / ad, bx / bd, by / bd, step, bend, toX, toY); continue; }
    pen.moveTo(toX(ax / ad), toY(ay / ad));
    pen.lineTo(toX(bx / bd), toY(by / bd));
  }
  pen.stroke();
}

const bentAt = [0, 0];

function traceBent(pen, ax, ay, bx, by, step, bend, toX, toY) {
  const count = Math.min(400, Math.max(1, Math.ceil(Math.hypot(bx - ax, by - ay) / step)));
  let down = false;
  for (let k = 0; k <= count; k += 1) {
    const share = k / count, seen = bend(ax + (bx - ax) * share, ay + (by - ay) * share, bentAt);
    if (seen && down) pen.lineTo(toX(bentAt[0]), toY(bentAt[1]));
    else if (seen) pen.moveTo(toX(bentAt[0]), toY(bentAt[1]));
    down = seen;
  }
}

export function landmarkAt(data, i, l) {
  const count = data.facts.landmarks.length;
  const o = ((data.shapes.landmarks_m[0] > 1 ? i : 0) * count + l) * 3;
  return data.landmarks_m.subarray(o, o + 3);
}

// The image's rectangle on a canvas, as large as fits, with its own pixel aspect.
export function paper(data, width, height, pad) {
  const { width_px, height_px, pixel_aspect } = data.facts;
  const scale = Math.min((width - 2 * pad) / (width_px * pixel_aspect), (height - 2 * pad) / height_px);
  const w = width_px * pixel_aspect * scale, h = height_px * scale;
  const x = (width - w) / 2, y = (height - h) / 2;
  return { x, y, w, h, toX: (u) => x + u * scale * pixel_aspect, toY: (v) => y + v * scale, scale };
}

// Homogeneous pixels taken on: 3x3 times the i-th 3x4.
export function tryOn(matrices, i, h) {
  const out = new Float64Array(12);
  for (let r = 0; r < 3; r += 1) for (let c = 0; c < 4; c += 1) {
    for (let k = 0; k < 3; k += 1) out[r * 4 + c] += h[r * 3 + k] * matrices[i * 12 + k * 4 + c];
  }
  return out;
}

export function lensView(canvas, data, state) {
  const ink = theme();
  return fitCanvas(canvas, (pen, width, height) => {
    clear(pen, width, height);
    const box = paper(data, width, height, 12);
    pen.fillStyle = "#fffdf8"; pen.fillRect(box.x, box.y, box.w, box.h);
    pen.save();
    pen.beginPath(); pen.rect(box.x, box.y, box.w, box.h); pen.clip();
    if (state.plate) state.plate.draw(pen, box, data.frames[state.index]);
    const bend = state.bent && !state.lens ? bender(data, state.index) : null;
    pen.strokeStyle = ink.faint; pen.lineWidth = 1;
    pen.beginPath();
    pen.moveTo(box.x + box.w / 2, box.y); pen.lineTo(box.x + box.w / 2, box.y + box.h);
    pen.moveTo(box.x, box.y + box.h / 2); pen.lineTo(box.x + box.w, box.y + box.h / 2);
    pen.stroke();
    pen.strokeStyle = ink.ink; pen.lineWidth = 0.8; pen.globalAlpha = 0.75;
    // A lens that is only tried takes the pixels of the one kept to its own.
    const tried = state.lens ? tryOn(data.meant, state.index, state.lens) : null;
    if (state.plate) { // over a picture, lines need a pale edge to be seen on dark
      pen.strokeStyle = "rgba(255,253,248,.85)"; pen.lineWidth = 2.6;
      traceSet(pen, data, tried || data.meant, tried ? 0 : state.index, box.toX, box.toY, bend);
      pen.strokeStyle = ink.ink; pen.lineWidth = 1; pen.globalAlpha = 1;
    }
    traceSet(pen, data, tried || data.meant, tried ? 0 : state.index, box.toX, box.toY, bend);
    pen.globalAlpha = 1;
    labels(pen, data, state.index, box, ink, tried, bend);
    if (data.facts.ground_m) {
      pen.font = FONT; pen.textAlign = "left"; pen.fillStyle = ink.soft;
      pen.fillText(`no set: ground grid of ${data.facts.ground_m} m`, box.x + 8, box.y + box.h - 8);
    }
    if (state.guides) drawGuides(pen, box, state.guides, ink);
    pen.restore();
    pen.strokeStyle = ink.ink; pen.lineWidth = 1.5; pen.strokeRect(box.x, box.y, box.w, box.h);
  });
}

// Landmarks as crosses with names; a name gives way where it would lie over another.
function labels(pen, data, i, box, ink, tried, bend = null) {
  pen.font = FONT; pen.textAlign = "left";
  const used = [];
  data.facts.landmarks.forEach((name, l) => {
    const p = landmarkAt(data, i, l);
    project(tried || data.meant, tried ? 0 : i, p[0], p[1], p[2], a);
    if (a[2] < NEAR) return;
    let [px, py] = [a[0] / a[2], a[1] / a[2]];
    if (bend) { if (!bend(px, py, bentAt)) return; [px, py] = bentAt; }
    const x = box.toX(px), y = box.toY(py);
    if (x < box.x || x > box.x + box.w || y < box.y || y > box.y + box.h) return;
    cross(pen, x, y, ink.ink);
    const text = name.length > 26 ? `${name.slice(0, 25)}…` : name;
    const wide = pen.measureText(text).width;
    const tx = Math.min(x + 7, box.x + box.w - wide - 3), ty = Math.max(y - 6, box.y + 12);
    if (used.some((u) => Math.abs(u.y - ty) < 12 && tx < u.x + u.w && u.x < tx + wide)) return;
    used.push({ x: tx, y: ty, w: wide });
    pen.fillStyle = "rgba(255,253,248,.8)"; pen.fillRect(tx - 2, ty - 10, wide + 4, 13);
    pen.fillStyle = ink.ink; pen.fillText(text, tx, ty);
  });
}

export function cross(pen, x, y, colour, size = 4) {
  pen.strokeStyle = colour; pen.lineWidth = 1.4;
  pen.beginPath(); pen.moveTo(x - size, y); pen.lineTo(x + size, y); pen.moveTo(x, y - size); pen.lineTo(x, y + size); pen.stroke();
}

// Plan (from above) or elevation (from the front or the side): set, path, landmarks and scale bar
// are drawn once, the camera with its view on every frame.
export function measuredView(canvas, data, state, kind, onName) {
  const ink = theme();
  const spread = (axis) => {
    let low = Infinity, high = -Infinity;
    for (const i of placesOf(data, "position_m")) { const v = data.position_m[i * 3 + axis]; low = Math.min(low, v); high = Math.max(high, v); }
    return high - low;
  };
  const across = kind === "plan" ? 0 : spread(0) >= spread(2) ? 0 : 2;
  const down = kind === "plan" ? 2 : 1;
  const flipX = kind !== "plan" && across === 2 ? -1 : 1; // from the right: what is far lies right
  const flipY = kind === "plan" ? 1 : -1;
  if (onName) onName(across === 0 ? "from the front" : "from the right");
  const bounds = extent(data, across, down);
  let still = null, map = null;
  return fitCanvas(canvas, (pen, width, height, resized) => {
    if (resized || !still) {
      map = fitMap(bounds, width, height, flipX, flipY);
      still = document.createElement("canvas");
      still.width = canvas.width; still.height = canvas.height;
      const under = still.getContext("2d");
      under.setTransform(canvas.width / width, 0, 0, canvas.height / height, 0, 0);
      drawStill(under, data, across, down, map, width, height, ink);
    }
    clear(pen, width, height);
    pen.drawImage(still, 0, 0, width, height);
    drawCamera(pen, data, state.index, across, down, map, ink, state.lens);
  });
}

function extent(data, across, down) {
  const box = { x0: Infinity, x1: -Infinity, y0: Infinity, y1: -Infinity };
  const take = (name, each) => {
    const points = data[name];
    for (const i of placesOf(data, name)) for (let k = i * each * 3; k < (i + 1) * each * 3; k += 3) {
      box.x0 = Math.min(box.x0, points[k + across]); box.x1 = Math.max(box.x1, points[k + across]);
      box.y0 = Math.min(box.y0, points[k + down]); box.y1 = Math.max(box.y1, points[k + down]);
    }
  };
  take("position_m", 1); take("landmarks_m", data.facts.landmarks.length);
  if (data.facts.landmarks.length === 0) take("segments_m", 2);
  if (!(box.x1 - box.x0 > 0.01)) { box.x0 -= 1; box.x1 += 1; }
  if (!(box.y1 - box.y0 > 0.01)) { box.y0 -= 1; box.y1 += 1; }
  return box;
}

function fitMap(box, width, height, flipX, flipY) {
  const pad = 26, foot = 22;
  const scale = Math.min((width - 2 * pad) / (box.x1 - box.x0), (height - 2 * pad - foot) / (box.y1 - box.y0));
  const cx = (box.x0 + box.x1) / 2, cy = (box.y0 + box.y1) / 2;
  return { scale, x: (v) => width / 2 + flipX * (v - cx) * scale, y: (v) => (height - foot) / 2 + flipY * (v - cy) * scale };
}

function drawStill(pen, data, across, down, map, width, height, ink) {
  const s = data.segments_m;
  pen.strokeStyle = ink.rule; pen.lineWidth = 0.8;
  pen.beginPath();
  for (let k = 0; k < s.length; k += 6) {
    pen.moveTo(map.x(s[k + across]), map.y(s[k + down]));
    pen.lineTo(map.x(s[k + 3 + across]), map.y(s[k + 3 + down]));
  }
  pen.stroke();
  data.facts.landmarks.forEach((_, l) => {
    const at = landmarkAt(data, 0, l);
    cross(pen, map.x(at[across]), map.y(at[down]), ink.soft, 3);
  });
  const p = data.position_m;
  pen.strokeStyle = ink.ink; pen.lineWidth = 1.4;
  pen.beginPath();
  const cuts = new Set(data.cuts); // nothing was in transit from one shot to the next
  for (const i of placesOf(data, "position_m")) {
    const x = map.x(p[i * 3 + across]), y = map.y(p[i * 3 + down]);
    if (i && !cuts.has(i)) pen.lineTo(x, y); else { pen.moveTo(x, y); pen.lineTo(x + 0.01, y); }
  }
  pen.stroke();
  const last = p.length - 3;
  pen.fillStyle = ink.ink;
  pen.beginPath(); pen.arc(map.x(p[across]), map.y(p[down]), 3, 0, 7); pen.fill();
  pen.strokeRect(map.x(p[last + across]) - 3, map.y(p[last + down]) - 3, 6, 6);
  scaleBar(pen, map.scale, width, height, ink);
}

function scaleBar(pen, pixelsPerMetre, width, height, ink) {
  const metres = niceStep(60 / pixelsPerMetre), w = metres * pixelsPerMetre;
  const x = 12, y = height - 10;
  pen.strokeStyle = ink.ink; pen.fillStyle = ink.ink; pen.lineWidth = 1;
  pen.strokeRect(x, y - 4, w, 4); pen.fillRect(x, y - 4, w / 2, 4);
  pen.font = FONT; pen.textAlign = "left";
  pen.fillText(metres >= 1 ? `${metres} m` : `${+(metres * 100).toPrecision(3)} cm`, x + w + 6, y + 1);
}

function drawCamera(pen, data, i, across, down, map, ink, lens) {
  const px = map.x(data.position_m[i * 3 + across]), py = map.y(data.position_m[i * 3 + down]);
  const kept = (c, axis) => data.frustum_m[(i * 4 + c) * 3 + axis];
  // A lens that is only tried sees other corners: at one depth, a corner is where its pixel was before.
  const before = (c) => {
    const h = lens, { width_px: w, height_px: ht } = data.facts;
    const u = (c === 1 || c === 2 ? w : 0), v = (c > 1 ? ht : 0);
    return [(u - h[2]) / h[0] / w, (v - h[5]) / h[4] / ht];
  };
  const corner = (c) => {
    const [u, v] = lens ? before(c) : [c === 1 || c === 2 ? 1 : 0, c > 1 ? 1 : 0];
    const at = (axis) => kept(0, axis) + u * (kept(1, axis) - kept(0, axis)) + v * (kept(3, axis) - kept(0, axis));
    return [map.x(at(across)), map.y(at(down))];
  };
  pen.strokeStyle = ink.ink; pen.lineWidth = 1; pen.setLineDash([4, 3]);
  pen.beginPath();
  for (let c = 0; c < 4; c += 1) { pen.moveTo(px, py); pen.lineTo(...corner(c)); }
  pen.stroke();
  pen.setLineDash([]);
  pen.beginPath(); pen.moveTo(...corner(3));
  for (let c = 0; c < 4; c += 1) pen.lineTo(...corner(c));
  pen.stroke();
  // Where it is sharp: dotted across the view, near and far.
  if (data.sharp_m) {
    pen.setLineDash([1.5, 3]);
    for (const depth of data.sharp_m.subarray(i * 2, i * 2 + 2)) {
      const share = depth / data.reach_m[i];
      if (!Number.isFinite(share) || share > 40) continue;
      const at = (c) => corner(c).map((v, k) => (k ? py : px) + (v - (k ? py : px)) * share);
      pen.beginPath(); pen.moveTo(...at(3));
      for (let c = 0; c < 4; c += 1) pen.lineTo(...at(c));
      pen.stroke();
    }
    pen.setLineDash([]);
  }
  pen.fillStyle = ink.sheet; pen.lineWidth = 2;
  pen.beginPath(); pen.arc(px, py, 4.5, 0, 7); pen.fill(); pen.stroke();
}
