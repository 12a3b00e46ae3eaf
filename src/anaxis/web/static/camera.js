import { loadDrawing, placesOf } from "./drawing.js";
import { cells } from "./cells.js";
import { plateBar } from "./plate.js";
import { curvesView } from "./curves.js";
import { guidesOf } from "./guides.js";
import { frameChanged, openLens } from "./lens.js";
import { Ruler, startFrame } from "./ruler.js";
import { lensView, measuredView } from "./views.js";

const board = document.getElementById("board");
const say = (name, text) => { const at = board.querySelector(`[data-live=${name}]`); if (at) at.textContent = text; };

function setUpForms() {
  document.addEventListener("change", (event) => {
    const base = event.target.dataset.reload;
    if (event.target.dataset.param) {
      const there = new URL(location.href);
      there.searchParams.set(event.target.dataset.param, event.target.value);
      there.searchParams.set("station", document.getElementById("panel").dataset.station);
      location.href = there;
    }
    if (base) location.href = base + encodeURIComponent(event.target.value) + location.hash;
  });
  document.addEventListener("submit", (event) => {
    if (event.submitter?.matches("[data-download]")) return; // the page stays as it is
    const status = event.target.querySelector("[role=status]");
    if (status) status.hidden = false;
    const button = event.target.querySelector("[type=submit]");
    // A form that only swaps a part of the page may be sent again.
    if (button && !event.target.matches("[hx-get]:not([method]), [hx-post]:not([method])")) button.disabled = true;
  });
  document.addEventListener("click", (event) => {
    // Which row a shared form is about goes along with the button pressed.
    const button = event.target.closest("button[form]");
    if (!button) return;
    if (button.dataset.mark) document.getElementById("mark-name").value = button.dataset.mark;
    if (button.dataset.index) {
      const form = document.getElementById(button.getAttribute("form"));
      form.querySelector("[name=index]")?.remove();
      form.insertAdjacentHTML("beforeend", `<input type="hidden" name="index" value="${button.dataset.index}">`);
    }
  });
  // A sentence that says what is wrong goes beside what was typed, and goes away when that is mended.
  document.body.addEventListener("htmx:beforeRequest", (event) => {
    const at = event.detail.elt.closest("form, .panel") || event.detail.elt;
    at.querySelectorAll(".said-here").forEach((old) => old.remove());
  });
  document.body.addEventListener("htmx:responseError", (event) => {
    const said = document.createElement("div");
    said.className = "said-here"; said.setAttribute("role", "alert");
    said.innerHTML = event.detail.xhr.responseText;
    const row = event.detail.elt.closest(".pair") || event.detail.elt;
    if (row.tagName === "FORM") row.append(said); else row.after(said);
  });
  document.body.addEventListener("htmx:afterSwap", (event) => {
    // The line of stations is swapped along with the panel, and says so too.
    if (event.target.id !== "panel") return;
    const panel = document.getElementById("panel");
    board.className = `board ${panel.dataset.station}${board.classList.contains("with-numbers") ? " with-numbers" : ""}`; // some panels need more room
    panel.focus();
    fillLevels();
    opened();
  });
}

// The tree's table: what each level adds at the frame shown.
const levels = { data: null, index: 0 };

async function fillLevels() {
  const table = document.querySelector("[data-levels]");
  levels.data = null;
  if (!table) return;
  levels.data = await loadDrawing(table.dataset.levels);
  showLevels();
}

function showLevels() {
  const { data, index } = levels;
  const table = document.querySelector("[data-levels]");
  if (!data || !table) return;
  const frames = data.shapes.moved_m[1];
  data.facts.levels.forEach((path, k) => {
    const row = [...table.querySelectorAll("[data-level]")].find((r) => r.dataset.level === path);
    if (!row) return;
    row.querySelector("[data-moved]").textContent = data.moved_m[k * frames + index].toFixed(3);
    row.querySelector("[data-turned]").textContent = data.turned_deg[k * frames + index].toFixed(2);
  });
}

let opened = () => {}; // what a station needs once its panel is there

async function start() {
  setUpForms();
  fillLevels();
  const data = await loadDrawing(board.dataset.url);
  const state = { index: 0, guides: guidesOf(board) };
  const view = (name) => board.querySelector(`[data-view=${name}]`);
  const draw = [
    lensView(view("lens"), data, state),
    measuredView(view("plan"), data, state, "plan"),
    measuredView(view("elevation"), data, state, "elevation", (text) => say("elevation", text)),
    curvesView(view("curves"), data, state, (i) => ruler.go(i)),
  ];
  const fill = cells(board, data);
  let ruler = null;
  const numbers = board.querySelector("[data-act=numbers]");
  if (!Object.keys(data).some((k) => k.startsWith("lens_") && k in data.shapes && moves(data, k))) board.classList.add("with-numbers");
  numbers.onclick = () => board.classList.add("with-numbers");
  board.querySelector("[data-act=curves]").onclick = () => board.classList.remove("with-numbers");
  opened = () => openLens(data, state, () => draw.forEach((f) => f()));
  ruler = new Ruler(document.getElementById("ruler"), data, (i) => {
    state.index = i;
    draw.forEach((f) => f());
    fill.forEach((f) => f(i));
    say("frame", data.frames[i]);
    say("sharp", sharpWords(data, i));
    say("shown", shownWords(data, i));
    if (state.tellPlate) state.tellPlate();
    for (const field of document.querySelectorAll("[data-frame-field]")) {
      if (field.value === String(data.frames[i])) continue;
      field.value = data.frames[i];
      if (field.form.querySelector("[name=moving]")) field.form.dispatchEvent(new Event("frame")); // only then is it another
    }
    levels.index = i;
    frameChanged();
    showLevels();
  });
  document.addEventListener("click", (event) => {
    const go = event.target.closest("[data-go]");
    if (go) { ruler.goToFrame(Number(go.dataset.go)); event.preventDefault(); }
  });
  await ruler.goToFrame(startFrame(data.frames[0]));
  opened();
  await plateBar(board.querySelector(".plate-bar"), data, state, () => draw[0]());
  window.anaxisReady = true;
}

function moves(data, name) {
  const first = data[name][0];
  return !Number.isNaN(first) && placesOf(data, name).some((i) => data[name][i] !== first);
}

// What a derived camera shows at a frame: the shot on screen, and its own frame.
function shownWords(data, i) {
  if (!data.facts.shown) return "";
  const frame = data.shown_frames[i];
  return ` ${data.facts.shown[data.shown_which[i]]}, frame ${Number.isInteger(frame) ? frame : frame.toFixed(3)}.`;
}

// What is sharp at a frame, as the plan's caption says it.
function sharpWords(data, i) {
  const [near, far] = data.sharp_m.subarray(i * 2, i * 2 + 2);
  if (!Number.isFinite(near)) return "";
  return ` Dotted: in focus from ${near.toFixed(2)} m to ${Number.isFinite(far) ? `${far.toFixed(2)} m` : "infinity"}.`;
}

start().catch((error) => { document.getElementById("answer").textContent = error.message; });
