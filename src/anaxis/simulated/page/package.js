// The page of a simulated package: what it holds is worked out in its process, here it is drawn and typed.

const el = (id) => document.getElementById(id);
const GROUPS = [["position", ["x", "y", "z"]], ["rotation", ["x", "y", "z"]],
  ["lens", ["lens", "film back width", "height", "offset x", "y", "squeeze"]], ["focus", ["distance"]], ["stop", ["f"]], ["clips", ["near", "far"]]];
let state = null, camera = null, index = 0, line = null, typing = false;

const tell = (what) => { if (line && line.readyState === 1) line.send(JSON.stringify(what)); };
const number = (v) => (v === null || v === undefined ? "" : String(Number(v.toFixed(6))));

function units(group, k) {
  if (group === "position" || group === "focus" || group === "clips") return state.unit;
  if (group === "rotation") return "°";
  if (group === "lens") return [state.shown_unit, state.film_unit, state.film_unit, "", "", "x"][k];
  return "";
}

function fields() {
  const form = el("numbers");
  form.replaceChildren();
  for (const [group, names] of GROUPS) {
    const set = document.createElement("fieldset"), legend = document.createElement("legend");
    legend.textContent = group === "rotation" ? `rotation, ${state.order}` : group;
    set.append(legend);
    names.forEach((name, k) => {
      const label = document.createElement("label"), text = document.createElement("span"), input = document.createElement("input"), unit = document.createElement("span");
      text.textContent = group === "lens" && k === 0 ? state.shown : name;
      input.type = "text"; input.name = `${group}.${k}`; input.inputMode = "decimal";
      input.setAttribute("aria-label", `${group} ${name}`);
      unit.textContent = units(group, k);
      input.onfocus = () => { typing = true; };
      input.onblur = () => { typing = false; numbers(); };
      input.onkeydown = (event) => { if (event.key === "Enter") { event.preventDefault(); set_group(group); } };
      label.append(text, input, unit);
      set.append(label);
    });
    form.append(set);
  }
}

function set_group(group) {
  const typed = [...el("numbers").querySelectorAll(`input[name^="${group}."]`)].map((i) => (i.value.trim() === "" ? null : Number(i.value)));
  if (typed.some((v) => v !== null && !Number.isFinite(v))) { el("held").textContent = "This is not a number."; return; }
  el("held").textContent = "";
  tell({ do: "set", group, value: typed, frame: camera.frames[index], over: el("over").value });
}

function numbers() {
  if (!camera || typing) return;
  for (const [group, names] of GROUPS) names.forEach((_, k) => { el("numbers").elements[`${group}.${k}`].value = number(camera.values[group][index][k]); });
}

function project(v, p) {
  return [0, 1, 2].map((r) => v[r * 4] * p[0] + v[r * 4 + 1] * p[1] + v[r * 4 + 2] * p[2] + v[r * 4 + 3]);
}

function draw() {
  const canvas = el("lens"), ratio = window.devicePixelRatio || 1, box = canvas.getBoundingClientRect();
  canvas.width = box.width * ratio; canvas.height = box.height * ratio;
  const pen = canvas.getContext("2d");
  pen.scale(ratio, ratio);
  pen.fillStyle = "#dee2e6"; pen.fillRect(0, 0, box.width, box.height);
  if (!camera || !camera.frames.length) return;
  const scale = Math.min((box.width - 20) / (camera.width_px * camera.pixel_aspect), (box.height - 20) / camera.height_px);
  const w = camera.width_px * camera.pixel_aspect * scale, h = camera.height_px * scale, x0 = (box.width - w) / 2, y0 = (box.height - h) / 2;
  const at = (q) => [x0 + (q[0] / q[2]) * scale * camera.pixel_aspect, y0 + (q[1] / q[2]) * scale];
  pen.fillStyle = "#fff"; pen.fillRect(x0, y0, w, h);
  pen.save(); pen.beginPath(); pen.rect(x0, y0, w, h); pen.clip();
  const view = camera.views[index];
  pen.strokeStyle = "#495057"; pen.lineWidth = 1;
  for (const l of camera.lines) {
    let p = project(view, l.slice(0, 3)), q = project(view, l.slice(3));
    if (p[2] < 0.02 && q[2] < 0.02) continue;
    const cut = (near, far) => { const t = (0.02 - near[2]) / (far[2] - near[2]); return near.map((v, k) => v + (far[k] - v) * t); };
    if (p[2] < 0.02) p = cut(p, q);
    if (q[2] < 0.02) q = cut(q, p);
    pen.beginPath(); pen.moveTo(...at(p)); pen.lineTo(...at(q)); pen.stroke();
  }
  pen.fillStyle = "#5a3e8e"; pen.font = "12px ui-monospace, monospace";
  for (const [name, place] of Object.entries(camera.marks)) {
    const q = project(view, place);
    if (q[2] < 0.02) continue;
    const [x, y] = at(q);
    pen.beginPath(); pen.arc(x, y, 3, 0, 7); pen.fill(); pen.fillText(name, x + 6, y - 4);
  }
  pen.restore();
  pen.strokeStyle = "#212529"; pen.strokeRect(x0, y0, w, h);
}

function shown() {
  if (!camera || !camera.frames.length) return;
  index = Math.max(0, Math.min(index, camera.frames.length - 1));
  el("frame").max = camera.frames.length - 1;
  el("frame").value = index;
  el("shown").textContent = camera.frames[index];
  el("at").textContent = camera.frames[index];
  numbers(); draw();
}

function title() {
  el("name").textContent = state.name; el("profile").textContent = state.profile;
  document.title = `${state.name}: simulated package`;
  el("line").textContent = state.state === "connected" ? `connected${state.waiting ? `, ${state.waiting} to be told` : ""}` : `away, ${state.waiting} to be told${state.said ? `: ${state.said}` : ""}`;
  el("line").className = state.state;
  el("habits").textContent = state.habits.length ? `Does to what it is sent: ${state.habits.join(", ")}.` : "No habits.";
  const list = el("cameras");
  list.replaceChildren(...state.cameras.map((c) => {
    const item = document.createElement("li"), button = document.createElement("button");
    button.type = "button"; button.textContent = `${c.name} ${c.first}–${c.last}`;
    button.setAttribute("aria-pressed", c.id === state.selected);
    button.onclick = () => tell({ do: "choose", camera: c.id });
    item.append(button);
    return item;
  }));
}

async function load(key) {
  const answer = await fetch(`/camera/${encodeURIComponent(key)}`);
  if (!answer.ok) return;
  camera = await answer.json();
  shown();
}

function near(frame) {
  let best = 0;
  camera.frames.forEach((f, i) => { if (Math.abs(f - frame) < Math.abs(camera.frames[best] - frame)) best = i; });
  return best;
}

async function hear(told) {
  if (told.t === "state") {
    const before = state && state.selected, count = state && state.cameras.length;
    state = told; title();
    if (state.selected && (state.selected !== before || state.cameras.length !== count)) await load(state.selected);
  } else if (told.t === "whole" && camera && told.camera === camera.id) await load(camera.id);
  else if (told.t === "frames" && camera && told.camera === camera.id) {
    for (let k = 0; k < told.frames.length; k += 1) {
      const i = camera.frames.indexOf(told.frames[k]);
      if (i < 0) { await load(camera.id); return; }
      camera.views[i] = told.views[k];
      for (const [group] of GROUPS) camera.values[group][i] = told.values[group][k];
    }
    shown();
  } else if (told.t === "look" && camera) { index = near(told.frame); shown(); }
}

function connect() {
  line = new WebSocket(`ws://${location.host}/line`);
  line.onmessage = (event) => { hear(JSON.parse(event.data)); };
  line.onclose = () => setTimeout(connect, 1000);
}

let from = null;
const canvas = el("lens");
canvas.addEventListener("pointerdown", (event) => { from = [event.clientX, event.clientY]; canvas.setPointerCapture(event.pointerId); });
canvas.addEventListener("pointerup", () => { from = null; });
canvas.addEventListener("pointermove", (event) => {
  if (!from || !camera) return;
  const dx = event.clientX - from[0], dy = event.clientY - from[1];
  if (Math.abs(dx) + Math.abs(dy) < 2) return;
  from = [event.clientX, event.clientY];
  const asked = { frame: camera.frames[index], over: el("over").value };
  if (event.shiftKey) tell({ do: "move", right: -dx * 0.01, up: dy * 0.01, ...asked });
  else tell({ do: "turn", left_deg: dx * 0.1, up_deg: dy * 0.1, ...asked });
});
canvas.addEventListener("wheel", (event) => {
  event.preventDefault();
  if (camera) tell({ do: "move", ahead: -Math.sign(event.deltaY) * 0.1, frame: camera.frames[index], over: el("over").value });
}, { passive: false });
canvas.addEventListener("keydown", (event) => {
  const step = { ArrowLeft: { left_deg: 1 }, ArrowRight: { left_deg: -1 }, ArrowUp: { up_deg: 1 }, ArrowDown: { up_deg: -1 } }[event.key];
  if (step && camera) { event.preventDefault(); tell({ do: "turn", ...step, frame: camera.frames[index], over: el("over").value }); }
});
el("frame").oninput = () => { index = Number(el("frame").value); shown(); tell({ do: "look", frame: camera.frames[index] }); };
el("numbers").onsubmit = (event) => event.preventDefault();
new ResizeObserver(draw).observe(canvas);

(async () => {
  state = await (await fetch("/state")).json();
  fields(); title();
  if (state.selected) { await load(state.selected); index = near(state.frame); shown(); }
  connect();
  window.packageReady = true;
})();
