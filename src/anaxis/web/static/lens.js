// The Lens station: a number typed or a drawing dragged goes to the server, and what comes back is drawn.

import { fitCanvas, theme, clear } from "./drawing.js";
import { paper, traceSet, tryOn } from "./views.js";

const form = () => document.getElementById("lens-form");
const digits = { film_width_mm: 4, film_height_mm: 4, offset_x_mm: 4, offset_y_mm: 4, squeeze: 4, zoom_px: 3 };
let tried = null, data = null, state = null, redraw = () => {}, busy = false, next = null, fits = [];

// Called when the station opens, with the page's drawing data and a way to draw it again.
export function openLens(drawing, shared, draw) {
  data = drawing; state = shared; redraw = draw;
  const source = document.getElementById("lens-tried");
  state.lens = null;
  if (!source || !form()) { tried = null; redraw(); return; }
  fits = [...document.querySelectorAll(".fit")].map((button) => {
    const entry = { button, name: button.dataset.fit, h: null };
    entry.draw = fitCanvas(button.querySelector("canvas"), (pen, w, h) => thumbnail(pen, w, h, entry));
    button.onclick = () => ask("fit", button.dataset.fit);
    return entry;
  });
  bind(form());
  show(JSON.parse(source.textContent));
  if (state.index > 0) frameChanged();
}

// On another frame a lens that moves has other numbers, and a lens tried another way from the one kept.
export function frameChanged() {
  if (!tried || !form()) return;
  for (const fit of fits) fit.draw();
  say("[data-lens-frame]", `frame ${data.frames[state.index]}`);
  if (form().dataset.moves === "1" && tried.same) ask("", "", true);
}

function say(selector, text) { const at = document.querySelector(`#panel ${selector}`); if (at) at.textContent = text; }

function bind(root) {
  for (const input of root.querySelectorAll("[data-lens]")) {
    if (input.dataset.lens === "keep") continue;
    input.addEventListener(input.tagName === "SELECT" ? "change" : "input", () => { if (input.value.trim()) ask(input.dataset.lens, input.value); });
    input.addEventListener("keydown", (event) => {
      if (event.key === "Enter") event.preventDefault();
      const step = { ArrowUp: 1, ArrowDown: -1 }[event.key];
      if (!step || input.tagName === "SELECT" || !Number.isFinite(Number(input.value))) return;
      event.preventDefault();
      input.value = +(Number(input.value) + step * (event.shiftKey ? 10 : event.altKey ? 0.1 : 1)).toFixed(4);
      ask(input.dataset.lens, input.value);
    });
  }
  root.addEventListener("pointerdown", drag);
  root.querySelector("[data-act=this-frame]").onclick = () => {
    for (const input of document.querySelectorAll("#panel [data-span]")) input.value = data.frames[state.index];
  };
  root.querySelector("[data-act=lens-back]").onclick = () => { ask("", "", true); };
}

// The drawing's own units under a pointer, and the scale it had when the drag began.
function drag(event) {
  const part = event.target.closest("[data-drag]"), what = part?.dataset.drag;
  if (!what) return;
  event.preventDefault();
  const svg = part.closest("svg"), toSvg = svg.getScreenCTM().inverse();
  const at = (e) => new DOMPoint(e.clientX, e.clientY).matrixTransform(toSvg);
  const began = at(event), held = { ...tried.state };
  const mm = Number(svg.dataset.mm), x0 = Number(svg.dataset.x || part.dataset.x), y0 = Number(svg.dataset.y || part.dataset.y);
  const round = (v) => Math.round(v * 100) / 100;
  const valueAt = (e) => {
    const p = at(e);
    if (what === "offset") return `${round(held.offset_x_mm + (p.x - began.x) / mm)},${round(held.offset_y_mm - (p.y - began.y) / mm)}`;
    if (what === "film") {
      const wide = Math.max(1, (2 * (p.x - x0)) / mm / held.squeeze), high = Math.max(1, (2 * (p.y - y0)) / mm);
      return `${round(wide)}x${round(e.shiftKey ? (wide * held.film_height_mm) / held.film_width_mm : high)}`;
    }
    return Math.min(175, Math.max(0.5, round((2 * Math.atan2(Math.abs(p.y - y0), Math.max(1, p.x - x0)) * 180) / Math.PI)));
  };
  let value = null;
  const move = (e) => { value = valueAt(e); ask(what, value, false, mm || ""); };
  const end = () => {
    document.removeEventListener("pointermove", move);
    document.removeEventListener("pointerup", end);
    // Drawn once more, as large as fits: with the value, for the question that carried it may still be waiting.
    if (value !== null) ask(what, value);
  };
  document.addEventListener("pointermove", move);
  document.addEventListener("pointerup", end);
}

// One question at a time; of those asked meanwhile only the newest is put.
async function ask(changed, value, afresh = false, scale = "") {
  if (busy) { next = [changed, value, afresh, scale]; return; }
  busy = true;
  form().setAttribute("aria-busy", "true");
  try {
    const query = new URLSearchParams({ frame: data.frames[state.index], changed, value, scale,
      keep: form().querySelector("[data-lens=keep]").value });
    if (!afresh) query.set("state", JSON.stringify(tried.state));
    const answer = await fetch(`${form().dataset.url}&${query}`, { headers: { "hx-request": "true" } });
    form().querySelectorAll(".said-here").forEach((old) => old.remove());
    if (answer.ok) show(await answer.json());
    else form().querySelector(".lens-grid").insertAdjacentHTML("afterend", `<div class="said-here" role="alert">${await answer.text()}</div>`);
  } finally {
    busy = false;
    if (next) { const again = next; next = null; ask(...again); } else form()?.setAttribute("aria-busy", "false");
  }
}

function show(answer) {
  tried = answer;
  const root = form();
  root.querySelector("[data-draw=film]").innerHTML = answer.film;
  root.querySelector("[data-draw=views]").innerHTML = answer.views;
  say("[data-live=uses]", answer.uses);
  say("[data-live=crop]", answer.equivalents.crop_factor.toFixed(3));
  say("[data-live=used]", `${answer.equivalents.used_width_mm.toFixed(3)} × ${answer.equivalents.used_height_mm.toFixed(3)}`);
  say("[data-lens-frame]", `frame ${data.frames[state.index]}`);
  const values = { ...answer.equivalents, ...answer.state };
  for (const input of root.querySelectorAll("[data-lens]")) {
    const value = values[input.dataset.lens];
    if (value === undefined || input === document.activeElement && input.tagName !== "SELECT") continue;
    input.value = typeof value === "number" ? +value.toFixed(digits[input.dataset.lens] ?? 4) : value;
  }
  root.elements.state.value = JSON.stringify(answer.state);
  root.elements.frame.value = data.frames[state.index];
  root.querySelector("[type=submit]").disabled = answer.same;
  root.querySelector("[data-act=lens-back]").disabled = answer.same;
  for (const fit of fits) {
    const found = answer.fits.find((f) => f.fit === fit.name);
    fit.h = found.to_pixels;
    fit.button.setAttribute("aria-pressed", answer.state.fit === fit.name);
    fit.button.querySelector("[data-fit-uses]").textContent = answer.state.fit === fit.name ? "as now" : found.same ? "the same" : found.uses;
    fit.draw();
  }
  state.lens = answer.same ? null : answer.to_pixels;
  document.querySelector(".view.lens").classList.toggle("tried", !answer.same);
  redraw();
}

function thumbnail(pen, width, height, fit) {
  const ink = theme();
  clear(pen, width, height);
  if (!fit.h || !data) return;
  const box = paper(data, width, height, 3);
  pen.fillStyle = "#fffdf8"; pen.fillRect(box.x, box.y, box.w, box.h);
  pen.save();
  pen.beginPath(); pen.rect(box.x, box.y, box.w, box.h); pen.clip();
  pen.strokeStyle = ink.ink; pen.lineWidth = 0.5; pen.globalAlpha = 0.7;
  traceSet(pen, data, tryOn(data.meant, state.index, fit.h), 0, box.toX, box.toY);
  pen.restore();
  pen.strokeStyle = ink.ink; pen.lineWidth = 1; pen.strokeRect(box.x, box.y, box.w, box.h);
}
