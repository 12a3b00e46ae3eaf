// The lens over the shot: one strip for every channel that moves, the frames chosen by dragging.

import { FONT, clear, fitCanvas, theme } from "./drawing.js";

const LABELS = { focal_mm: ["focal length", "mm"], focus_m: ["focus", "m"], fstop: ["stop", "f"], offset_x_mm: ["offset right", "mm"],
  offset_y_mm: ["offset up", "mm"], near_m: ["near", "m"], far_m: ["far", "m"], squeeze: ["squeeze", "x"],
  film_width_mm: ["film width", "mm"], film_height_mm: ["film height", "mm"] };
const LEFT = 112, RIGHT = 74;

export function curvesView(canvas, data, state, onFrame) {
  const ink = theme(), n = data.frames.length;
  const all = Object.keys(LABELS).map((name) => {
    const v = data[`lens_${name}`];
    let low = Infinity, high = -Infinity;
    for (const x of v) { if (x < low) low = x; if (x > high) high = x; }
    return { name, v, low, high, known: !v.some(Number.isNaN) };
  });
  const moving = all.filter((c) => c.known && c.high > c.low);
  const still = all.filter((c) => c.known && c.high === c.low && !c.name.startsWith("film_"));
  const span = { from: null, to: null };
  const place = (event) => {
    const box = canvas.getBoundingClientRect();
    return Math.max(0, Math.min(n - 1, Math.round(((event.clientX - box.left - LEFT) / (box.width - LEFT - RIGHT)) * (n - 1))));
  };
  canvas.addEventListener("pointerdown", (event) => {
    canvas.setPointerCapture(event.pointerId);
    span.from = span.to = place(event);
    canvas.onpointermove = (e) => { span.to = place(e); draw(); };
  });
  canvas.addEventListener("pointerup", (event) => {
    canvas.onpointermove = null;
    if (span.from === place(event)) { onFrame(span.from); span.from = span.to = null; fill("", ""); } else {
      fill(data.frames[Math.min(span.from, span.to)], data.frames[Math.max(span.from, span.to)]);
    }
    draw();
  });
  const fill = (first, last) => {
    for (const input of document.querySelectorAll("#panel [data-span]")) input.value = input.dataset.span === "first" ? first : last;
  };
  const draw = fitCanvas(canvas, (pen, width, height) => {
    clear(pen, width, height);
    pen.font = FONT;
    const foot = 36, x = (i) => LEFT + (n > 1 ? i / (n - 1) : 0.5) * (width - LEFT - RIGHT);
    if (span.from !== null) {
      const a = x(Math.min(span.from, span.to)), b = x(Math.max(span.from, span.to));
      pen.fillStyle = ink.faint; pen.fillRect(a, 0, b - a, height - foot);
    }
    const room = (height - foot - 4) / Math.max(1, moving.length);
    moving.forEach((c, k) => {
      const top = 4 + k * room + 6, bottom = 4 + (k + 1) * room - 6;
      const y = (v) => bottom - ((v - c.low) / (c.high - c.low)) * (bottom - top);
      const [label, unit] = LABELS[c.name];
      pen.strokeStyle = ink.faint; pen.lineWidth = 1;
      pen.beginPath(); pen.moveTo(LEFT, bottom + 5.5); pen.lineTo(width - RIGHT, bottom + 5.5); pen.stroke();
      pen.strokeStyle = ink.ink; pen.lineWidth = 1.4;
      pen.beginPath();
      for (let i = 0; i < n; i += 1) pen.lineTo(x(i), y(c.v[i]));
      pen.stroke();
      pen.fillStyle = ink.ink; pen.textAlign = "left";
      pen.fillText(label, 8, (top + bottom) / 2 - 2); pen.fillText(`${text(c.v[state.index])} ${unit}`, 8, (top + bottom) / 2 + 12);
      pen.fillStyle = ink.soft;
      pen.fillText(text(c.high), width - RIGHT + 6, top + 8); if (bottom - top > 22) pen.fillText(text(c.low), width - RIGHT + 6, bottom);
    });
    pen.fillStyle = ink.soft; pen.textAlign = "left";
    // As many words on a line as it holds; a foot of two lines holds them all.
    const words = still.map((c) => `${LABELS[c.name][0]} ${+c.low.toPrecision(5)} ${LABELS[c.name][1]}`);
    const lines = [moving.length ? "still:" : "Nothing of the lens moves:"];
    words.forEach((word, k) => {
      const longer = `${lines.at(-1)} ${word}${k < words.length - 1 ? "," : ""}`;
      if (pen.measureText(longer).width < width - 16) lines[lines.length - 1] = longer;
      else lines.push(word + (k < words.length - 1 ? "," : ""));
    });
    lines.forEach((line, k) => pen.fillText(line, 8, (moving.length ? height - foot : 8) + 14 + k * 16));
    if (moving.length) {
      const at = x(state.index);
      pen.strokeStyle = ink.ink; pen.lineWidth = 1.6; pen.beginPath(); pen.moveTo(at, 2); pen.lineTo(at, height - foot); pen.stroke();
    }
  });
  return draw;
}

function text(v) { return Math.abs(v) >= 1000 ? v.toFixed(0) : Math.abs(v) >= 100 ? v.toFixed(1) : v.toFixed(3); }
