import { loadBundle } from "./bundle.js";
import { Ruler, startFrame } from "./ruler.js";
import { lensView, measuredView } from "./views.js";

const board = document.getElementById("board");
const say = (name, text) => { const at = board.querySelector(`[data-live=${name}]`); if (at) at.textContent = text; };

// Fixed decimals, so that columns line up, and no minus before a zero.
const decimals = (value) => value.toFixed(4).replace(/^-(0\.0+)$/, "$1");

function cells(data) {
  return [...board.querySelectorAll("[data-cell]")].map((cell) => {
    const sources = cell.dataset.cell.trim().split(" ").map((source) => {
      const [name, column] = source.split(".");
      return { array: data[name], width: data.shapes[name][1] || 1, offset: Number(column || 0) };
    });
    const unit = cell.dataset.unit.padEnd(2), scale = Number(cell.dataset.scale || 1);
    return (i) => {
      const values = sources.map((s) => s.array[i * s.width + s.offset] * scale);
      cell.textContent = values.every(Number.isFinite) ? `${values.map(decimals).join(" × ")} ${unit}` : "–   ";
    };
  });
}

function setUpForms() {
  document.addEventListener("change", (event) => {
    const base = event.target.dataset.reload;
    if (base) location.href = base + encodeURIComponent(event.target.value) + location.hash;
  });
  document.addEventListener("submit", (event) => {
    const status = event.target.querySelector("[role=status]");
    if (status) status.hidden = false;
    const button = event.target.querySelector("[type=submit]");
    if (button) button.disabled = true;
  });
  document.body.addEventListener("htmx:afterSwap", () => document.getElementById("panel").focus());
}

async function start() {
  setUpForms();
  const data = await loadBundle(board.dataset.url);
  const state = { index: 0 };
  const view = (name) => board.querySelector(`[data-view=${name}]`);
  const draw = [
    lensView(view("lens"), data, state),
    measuredView(view("plan"), data, state, "plan"),
    measuredView(view("elevation"), data, state, "elevation", (text) => say("elevation", text)),
  ];
  const fill = cells(data);
  const ruler = new Ruler(document.getElementById("ruler"), data.frames, data.seconds, (i) => {
    state.index = i;
    draw.forEach((f) => f());
    fill.forEach((f) => f(i));
    say("frame", data.frames[i]);
  });
  ruler.goToFrame(startFrame(data.frames[0]));
  window.anaxisReady = true;
}

start().catch((error) => { document.getElementById("answer").textContent = error.message; });
