import { loadDrawing } from "./drawing.js";
import { cells } from "./cells.js";
import { curveView, overlayView, pixels, setUpMagnify } from "./overlay.js";
import { guidesOf } from "./guides.js";
import { plateBar } from "./plate.js";
import { Ruler, startFrame } from "./ruler.js";
import { landmarkAt, project } from "./views.js";

const board = document.getElementById("board");
const say = (name, text) => { board.querySelector(`[data-live=${name}]`).textContent = text; };
const p = [0, 0, 0], q = [0, 0, 0];

// The landmarks' table at a frame: both pixels, and what lies between them.
function fillMarks(data, i) {
  const table = board.querySelector(".marktable");
  if (!table) return;
  table.querySelector("[data-mark-frame]").textContent = data.frames[i];
  for (const row of table.querySelectorAll("[data-mark]")) {
    const l = data.facts.landmarks.indexOf(row.dataset.mark);
    if (l < 0) continue;
    const at = landmarkAt(data, i, l), [meant, seen, off] = row.querySelectorAll("td");
    project(data.meant, i, at[0], at[1], at[2], p);
    project(data.arrived, i, at[0], at[1], at[2], q);
    const place = (r) => {
      if (r[2] <= 0.001) return "behind";
      const x = r[0] / r[2], y = r[1] / r[2];
      return x >= 0 && y >= 0 && x <= data.facts.width_px && y <= data.facts.height_px ? `${x.toFixed(1)}, ${y.toFixed(1)}` : "outside";
    };
    meant.textContent = place(p); seen.textContent = place(q);
    const apart = Math.hypot(p[0] / p[2] - q[0] / q[2], p[1] / p[2] - q[1] / q[2]);
    off.textContent = p[2] > 0.001 && q[2] > 0.001 ? pixels(apart).replace(" px", "") : "–";
    off.classList.toggle("warm", apart > 0.01);
  }
}

async function start() {
  const data = await loadDrawing(board.dataset.url);
  const state = { index: 0, magnify: 1, guides: guidesOf(board) };
  const view = (name) => board.querySelector(`[data-view=${name}]`);
  const worst = data.deviation_px.reduce((m, v) => Math.max(m, v), 0);
  const overlay = overlayView(view("overlay"), data, state);
  const wipe = document.getElementById("wipe");
  if (wipe) wipe.oninput = () => { state.wipe = Number(wipe.value) / 100; overlay(); };
  setUpMagnify(document.getElementById("magnify"), worst, data, state, overlay);
  const fill = cells(board, data), shownFrame = board.querySelector("[data-numbers-frame]");
  let ruler = null;
  const deviation = curveView(view("curve"), data, state, (i) => ruler.go(i));
  ruler = new Ruler(document.getElementById("ruler"), data, (i) => {
    state.index = i;
    overlay(); deviation();
    if (state.tellPlate) state.tellPlate();
    say("overlay", `frame ${data.frames[i]}`);
    fillMarks(data, i);
    fill.forEach((put) => put(i));
    if (shownFrame) shownFrame.textContent = data.frames[i];
    say("curve", `frame ${data.frames[i]}: ${pixels(data.deviation_px[i])}`);
  });
  await ruler.goToFrame(startFrame(Number(board.dataset.worst)));
  await plateBar(board.querySelector(".plate-bar"), data, state, overlay);
  window.anaxisReady = true;
}

start().catch((error) => { document.getElementById("answer").textContent = error.message; });
