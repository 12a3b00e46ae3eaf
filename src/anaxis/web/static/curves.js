// The lens over the shot: one strip for every channel that moves, the frames chosen by dragging.

import { curve } from "./curve.js";
import { placesOf } from "./drawing.js";

const LABELS = { focal_mm: ["focal length", "mm"], focus_m: ["focus", "m"], fstop: ["stop", "f"], offset_x_mm: ["offset right", "mm"],
  offset_y_mm: ["offset up", "mm"], near_m: ["near", "m"], far_m: ["far", "m"], squeeze: ["squeeze", "x"],
  film_width_mm: ["film width", "mm"], film_height_mm: ["film height", "mm"] };

export function curvesView(box, data, state, onFrame) {
  const all = Object.keys(LABELS).map((name) => {
    const values = data[`lens_${name}`], other = name === "focus_m" ? data.file_focus_m ?? null : null; // what the file had
    const places = other ? placesOf(data, `lens_${name}`, "file_focus_m") : placesOf(data, `lens_${name}`);
    let low = Infinity, high = -Infinity;
    for (const i of places) for (const v of [values[i], other?.[i]]) { if (v < low) low = v; if (v > high) high = v; }
    return { name, values, other, places, low, high, known: !places.some((i) => Number.isNaN(values[i])) };
  });
  const moving = all.filter((c) => c.known && c.high > c.low);
  const still = all.filter((c) => c.known && c.high === c.low && !c.name.startsWith("film_"));
  const fill = (first, last) => {
    for (const input of document.querySelectorAll("#panel [data-span]")) input.value = input.dataset.span === "first" ? first : last;
  };
  const choose = (from, to) => {
    fill(data.frames[from], data.frames[to]);
    for (const strip of strips) {
      const left = strip.plot.valToPos(data.frames[from], "x");
      strip.plot.setSelect({ left, width: strip.plot.valToPos(data.frames[to], "x") - left, top: 0, height: strip.plot.over.clientHeight }, false);
    }
  };
  const go = (index) => {
    fill("", "");
    for (const strip of strips) strip.plot.setSelect({ left: 0, width: 0, top: 0, height: 0 }, false);
    onFrame(index);
  };
  const strips = moving.map((channel) => {
    const row = add(box, "div", "strip"), label = add(row, "span", "strip-label");
    add(label, "b", "").textContent = LABELS[channel.name][0];
    const now = add(label, "span", "num");
    if (channel.other) add(label, "small", "muted").textContent = "dashed: file";
    const draw = curve(add(row, "div", "strip-curve"), {
      frames: data.frames, places: channel.places, values: channel.values, other: channel.other, state, frameAxis: false, pad: [10, 0, 10, 0], onFrame: go, onSpan: choose,
      y: {
        scale: { range: () => [channel.low, channel.high] },
        axis: { side: 1, size: 74, splits: () => [channel.low, channel.high], values: (u, at) => at.map(text) },
      },
    });
    const shown = () => { draw(); now.textContent = `${text(channel.values[state.index])} ${LABELS[channel.name][1]}`; };
    shown.plot = draw.plot;
    return shown;
  });
  const words = still.map((c) => `${LABELS[c.name][0]} ${+c.low.toPrecision(5)} ${LABELS[c.name][1]}`).join(", ");
  add(box, "p", "note").textContent = `${moving.length ? "still:" : "Nothing of the lens moves:"} ${words}`;
  return () => strips.forEach((draw) => draw());
}

function add(parent, tag, className) {
  const made = document.createElement(tag);
  made.className = className;
  parent.append(made);
  return made;
}

function text(v) { return Math.abs(v) >= 1000 ? v.toFixed(0) : Math.abs(v) >= 100 ? v.toFixed(1) : v.toFixed(3); }
