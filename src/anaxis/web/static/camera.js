import { loadBundle } from "./bundle.js";
import { Ruler, startFrame } from "./ruler.js";
import { lensView, measuredView } from "./views.js";

const board = document.getElementById("board");
const say = (name, text) => { const at = board.querySelector(`[data-live=${name}]`); if (at) at.textContent = text; };

// As many decimals as the digits before the point leave room for, so that columns line up.
function cells(data) {
  return [...board.querySelectorAll("[data-cell]")].map((cell) => {
    const [name, column] = cell.dataset.cell.split(".");
    const array = data[name], width = data.shapes[name][1] || 1, offset = Number(column || 0);
    const unit = cell.dataset.unit;
    return (i) => {
      const value = array[i * width + offset];
      cell.textContent = Number.isFinite(value) ? `${value.toFixed(4)} ${unit.padEnd(2)}` : "–   ";
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
