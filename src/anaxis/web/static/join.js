// The strip of a cut: shots in order, their ends dragged or typed. What is to be said of it comes from the server.

const SVG = "http://www.w3.org/2000/svg";
const HIGH = 100, TOP = 30, BODY = 34, LEFT = 12;
const field = document.getElementById("pieces"), strip = document.getElementById("strip");
const laid = JSON.parse(field.dataset.laid);
const cameras = new Map(laid.cameras.map((c) => [c.role, c]));
const pieces = laid.pieces;
const form = document.getElementById("cut-form");
const first = () => Number(form.elements.first.value) || 0;
const last = (p) => p.first + (p.frames - 1) * p.speed;
const show = (v) => (Number.isInteger(v) ? String(v) : v.toFixed(3).replace(/0+$/, "").replace(/\.$/, ""));

function changed(tell = true) {
  field.value = JSON.stringify(pieces);
  drawTable();
  drawStrip();
  if (!tell) return;
  clearTimeout(changed.later);
  changed.later = setTimeout(() => { if (pieces.length) form.dispatchEvent(new Event("checked")); }, 250);
}

function cell(row, value, apply, label) {
  const at = row.insertCell();
  at.className = "r num";
  const input = document.createElement("input");
  input.className = "form-control form-control-sm num"; input.value = value; input.size = 6;
  input.setAttribute("aria-label", label);
  input.onchange = () => { const v = Number(input.value); if (Number.isFinite(v)) apply(v); changed(); };
  at.append(input);
}

function drawTable() {
  const body = document.querySelector("#pieces-table tbody");
  const focus = document.activeElement?.getAttribute?.("aria-label");
  body.replaceChildren();
  pieces.forEach((p, i) => {
    const row = body.insertRow();
    const name = document.createElement("th");
    name.scope = "row"; name.className = "whole"; name.title = p.role;
    name.textContent = p.name === p.role ? p.name : `${p.name} (${p.role})`;
    row.append(name);
    cell(row, show(p.first), (v) => { p.first = v; }, `first frame of ${i + 1}`);
    cell(row, show(last(p)), (v) => { if (p.speed) p.frames = Math.max(1, Math.round((v - p.first) / p.speed) + 1); }, `last frame of ${i + 1}`);
    cell(row, p.frames, (v) => { p.frames = Math.max(1, Math.round(v)); }, `frames of ${i + 1}`);
    cell(row, show(first() + p.begins), (v) => { p.begins = Math.round(v - first()); }, `${i + 1} begins at`);
    cell(row, show(p.speed), (v) => { p.speed = v; }, `speed of ${i + 1}`);
    const acts = row.insertCell();
    acts.className = "acts";
    for (const [text, label, act] of [["Up", "Earlier", () => swap(i, i - 1)], ["Down", "Later", () => swap(i, i + 1)], ["Drop", "Remove", () => pieces.splice(i, 1)]]) {
      const button = document.createElement("button");
      button.type = "button"; button.className = "btn btn-line btn-small"; button.textContent = text;
      button.setAttribute("aria-label", `${label}: ${p.name}`);
      button.onclick = () => { act(); changed(); };
      acts.append(button);
    }
  });
  if (focus) body.querySelector(`[aria-label="${CSS.escape(focus)}"]`)?.focus();
}

// Two shots change their places: the one that came second now begins where the first began.
function swap(i, j) {
  if (j < 0 || j >= pieces.length) return;
  const [a, b] = i < j ? [pieces[i], pieces[j]] : [pieces[j], pieces[i]];
  const begins = Math.min(a.begins, b.begins), gap = Math.max(0, b.begins - a.begins - a.frames);
  b.begins = begins; a.begins = begins + b.frames + gap;
  [pieces[i], pieces[j]] = [pieces[j], pieces[i]];
}

function span() {
  const low = Math.min(0, ...pieces.map((p) => p.begins)), high = Math.max(1, ...pieces.map((p) => p.begins + p.frames));
  return [low, high];
}

function put(kind, attributes, text = "") {
  const made = document.createElementNS(SVG, kind);
  for (const [k, v] of Object.entries(attributes)) made.setAttribute(k, v);
  if (text) made.textContent = text;
  strip.append(made);
  return made;
}

function drawStrip() {
  strip.replaceChildren();
  const [low, high] = span();
  const room = strip.parentElement.clientWidth - 2 * LEFT;
  const scale = drag.scale ?? Math.max(room / (high - low), 24 * pieces.length / (high - low));
  strip.setAttribute("width", Math.ceil((high - low) * scale + 2 * LEFT));
  strip.setAttribute("height", HIGH);
  const x = (at) => LEFT + (at - low) * scale;
  strip.dataset.scale = scale;
  const ends = pieces.map((p) => [p.begins, p.begins + p.frames]).sort((a, b) => a[0] - b[0]);
  let reach = null;
  for (const [begin, end] of ends) { // what lies between and over: hatched
    if (reach !== null && begin > reach) { put("rect", { class: "gap", x: x(reach), y: TOP, width: (begin - reach) * scale, height: BODY }); put("text", { class: "soft", x: (x(reach) + x(begin)) / 2, y: TOP + BODY + 24, "text-anchor": "middle" }, `gap ${begin - reach}`); }
    reach = Math.max(reach ?? end, end);
  }
  pieces.forEach((p, i) => {
    const camera = cameras.get(p.role), left = x(p.begins), wide = p.frames * scale;
    put("rect", { class: "piece", x: left, y: TOP, width: wide, height: BODY, "data-piece": i, "data-part": "move" });
    const text = put("text", { x: left + 10, y: TOP + 21 }, p.name);
    const whole = document.createElementNS(SVG, "title");
    whole.textContent = `${p.name}, ${p.role}`;
    text.before(whole);
    if (text.getComputedTextLength() > wide - 16) text.textContent = wide > 40 ? `${p.name.slice(0, Math.floor((wide - 22) / 7))}…` : "";
    if (wide > 70) {
      put("text", { class: "n", x: left, y: TOP - 6 }, show(first() + p.begins));
      put("text", { class: "n soft", x: left + 2, y: TOP + BODY + 12 }, show(p.first));
      put("text", { class: "n soft", x: left + wide - 2, y: TOP + BODY + 12, "text-anchor": "end" }, show(last(p)));
    }
    if (camera && p.speed) { // all that the camera has, where it would lie
      const a = x(p.begins + (camera.first - p.first) / p.speed), b = x(p.begins + (camera.last - p.first) / p.speed + 1);
      put("rect", { class: "all", x: Math.max(LEFT, Math.min(a, b)), y: HIGH - (i % 2 ? 11 : 20), width: Math.max(2, Math.min(Math.abs(b - a), x(high) - Math.max(LEFT, Math.min(a, b)))), height: 8, "data-piece": i, "data-part": "slip" });
      put("rect", { class: "on", x: left, y: HIGH - (i % 2 ? 11 : 20), width: wide, height: 8 });
    }
    if (p.mixed_out) put("path", { class: "mixed", d: `M${x(p.begins + p.frames - p.mixed_out / 2)} ${TOP + BODY}L${x(p.begins + p.frames + p.mixed_out / 2)} ${TOP}` });
    for (const [part, at] of [["in", left], ["out", left + wide]]) put("rect", { class: "end", x: at - 4, y: TOP, width: 8, height: BODY, "data-piece": i, "data-part": part });
  });
  for (const [a, b] of overlaps()) put("rect", { class: "over", x: x(a), y: TOP, width: (b - a) * scale, height: BODY });
  if (pieces.length) put("text", { class: "n", x: x(high), y: TOP - 6, "text-anchor": "end" }, show(first() + high - 1));
}

function overlaps() {
  const ordered = [...pieces].sort((a, b) => a.begins - b.begins), out = [];
  let reach = -Infinity;
  for (const p of ordered) {
    if (p.begins < reach) out.push([p.begins, Math.min(reach, p.begins + p.frames)]);
    reach = Math.max(reach, p.begins + p.frames);
  }
  return out;
}

const drag = {};
strip.addEventListener("pointerdown", (event) => {
  const part = event.target.dataset.part;
  if (!part) return;
  const p = pieces[event.target.dataset.piece];
  Object.assign(drag, { p, part, from: event.clientX, was: { ...p }, scale: Number(strip.dataset.scale) });
  strip.setPointerCapture(event.pointerId);
  event.preventDefault();
});
strip.addEventListener("pointermove", (event) => {
  if (!drag.p) return;
  const { p, part, was } = drag, by = Math.round((event.clientX - drag.from) / drag.scale);
  if (part === "move") p.begins = was.begins + by;
  if (part === "slip") p.first = was.first - by * was.speed;
  if (part === "in") { const d = Math.min(by, was.frames - 1); p.begins = was.begins + d; p.first = was.first + d * was.speed; p.frames = was.frames - d; }
  if (part === "out") p.frames = Math.max(1, was.frames + by);
  changed(false);
});
strip.addEventListener("pointerup", () => { drag.p = null; delete drag.scale; changed(); });

document.getElementById("add").onclick = () => {
  const camera = cameras.get(document.getElementById("add-camera").value);
  if (!camera) return;
  pieces.push({ name: camera.role, role: camera.role, first: camera.first, begins: pieces.length ? span()[1] : 0, frames: camera.last - camera.first + 1, speed: 1, mixed_in: 0, mixed_out: 0 });
  changed();
};
document.getElementById("close-up").onclick = () => {
  let at = 0;
  for (const p of [...pieces].sort((a, b) => a.begins - b.begins)) { p.begins = at; at += p.frames; }
  changed();
};
for (const name of ["first", "rate", "width_px", "height_px", "pixel_aspect", "fit", "film_back", "keep", "gaps", "missing"]) form.elements[name].addEventListener("change", () => changed());
new ResizeObserver(() => { if (!drag.p) drawStrip(); }).observe(strip.parentElement);
changed();
window.anaxisReady = true;
