// A framing camera in its sphere: the plate with the frame's outline, and what the camera sees.

import { FONT, clear, fitCanvas, loadDrawing, theme } from "./drawing.js";
import { Plate } from "./plate.js";
import { Ruler, startFrame } from "./ruler.js";
import { cross, lensView } from "./views.js";

const board = document.getElementById("sphere");

function sphereView(canvas, data, state) {
  const ink = theme(), { plate_width_px: wide, plate_height_px: high } = data.facts;
  return fitCanvas(canvas, (pen, width, height) => {
    clear(pen, width, height);
    const scale = Math.min((width - 24) / wide, (height - 24) / high);
    const w = wide * scale, h = high * scale, x = (width - w) / 2, y = (height - h) / 2;
    pen.fillStyle = "#fffdf8"; pen.fillRect(x, y, w, h);
    const picture = state.plate?.at(data.frames[state.index]);
    if (picture) pen.drawImage(picture, x, y, w, h);
    pen.save();
    pen.beginPath(); pen.rect(x, y, w, h); pen.clip();
    pen.strokeStyle = picture ? "rgba(255,253,248,.5)" : ink.faint; pen.lineWidth = 1;
    pen.beginPath(); // every 30 degrees
    for (let k = 1; k < 12; k += 1) { pen.moveTo(x + (w * k) / 12, y); pen.lineTo(x + (w * k) / 12, y + h); }
    for (let k = 1; k < 6; k += 1) { pen.moveTo(x, y + (h * k) / 6); pen.lineTo(x + w, y + (h * k) / 6); }
    pen.stroke();
    const [, count] = data.shapes.outline_px, base = state.index * count * 2;
    for (const [colour, thick] of [["rgba(255,253,248,.9)", 4], [ink.cool, 2]]) {
      pen.strokeStyle = colour; pen.lineWidth = thick;
      pen.beginPath();
      for (let k = 0; k <= count; k += 1) {
        const o = base + (k % count) * 2, before = base + ((k + count - 1) % count) * 2;
        const px = x + data.outline_px[o] * scale, py = y + data.outline_px[o + 1] * scale;
        // Over the seam the outline goes on at the other side.
        if (k === 0 || Math.abs(data.outline_px[o] - data.outline_px[before]) > wide / 2) pen.moveTo(px, py); else pen.lineTo(px, py);
      }
      pen.stroke();
    }
    pen.font = FONT;
    const [, marks] = data.shapes.marks_px, used = [];
    data.facts.landmarks.forEach((name, l) => {
      const o = (state.index * marks + l) * 2, px = x + data.marks_px[o] * scale, py = y + data.marks_px[o + 1] * scale;
      cross(pen, px, py, ink.ink);
      const room = pen.measureText(name).width, tx = Math.min(px + 7, x + w - room - 3);
      if (used.some((u) => Math.abs(u.y - py) < 13 && tx < u.x + u.w && u.x < tx + room)) return; // a name gives way
      used.push({ x: tx, y: py, w: room });
      pen.fillStyle = "rgba(255,253,248,.8)"; pen.fillRect(tx - 2, py - 16, room + 4, 13);
      pen.fillStyle = ink.ink; pen.textAlign = "left"; pen.fillText(name, tx, py - 6);
    });
    pen.restore();
    pen.strokeStyle = ink.ink; pen.lineWidth = 1.5; pen.strokeRect(x, y, w, h);
    pen.fillStyle = ink.soft; pen.textAlign = "center";
    for (const [at, text] of [[0, "-180°"], [0.25, "-90°"], [0.5, "0°"], [0.75, "90°"], [1, "180°"]]) pen.fillText(text, Math.min(Math.max(x + w * at, 24), width - 24), Math.min(y + h + 12, height - 1));
  });
}

async function start() {
  const data = await loadDrawing(board.dataset.url);
  const whole = { index: 0 }, lens = { index: 0 }; // the plate is behind the sphere alone
  const view = (name) => board.querySelector(`[data-view=${name}]`);
  const draw = [sphereView(view("sphere"), data, whole), lensView(view("lens"), data, lens)];
  const ruler = new Ruler(document.getElementById("ruler"), data, (i) => {
    whole.index = i; lens.index = i;
    draw.forEach((f) => f());
    board.querySelector("[data-live=view]").textContent = `${data.hfov_deg[i].toFixed(2)}° × ${data.vfov_deg[i].toFixed(2)}° at frame ${data.frames[i]}`;
  });
  ruler.goToFrame(startFrame(data.frames[0]));
  if (board.dataset.plate) {
    whole.plate = await Plate.load(board.dataset.plate, () => draw[0]());
    draw[0]();
  }
  window.anaxisReady = true;
}

start().catch((error) => { document.getElementById("answer").textContent = error.message; });
