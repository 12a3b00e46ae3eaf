// The Live page: two packages' cameras on the same frame, kept up with what they hold.

import { nearest } from "./curve.js";
import { loadDrawing } from "./drawing.js";
import { curveView, overlayView, pixels, setUpMagnify } from "./overlay.js";
import { Ruler, startFrame } from "./ruler.js";

const board = document.getElementById("board");
const { show, a, b } = board.dataset;
const asked = `a=${a}&b=${b === "0" ? "" : b}`;
const say = (name, text) => { board.querySelector(`[data-live=${name}]`).textContent = text; };
const EXACT_PX = 0.01, STATE_MS = 400, CURVE_MS = 250;
const DRAWN = { meant: 12, arrived: 12, shift: 12, deviation_px: 1, here_rows: 16, there_rows: 16 };

for (const pick of board.querySelectorAll("[data-pick]")) pick.onchange = () => pick.form.requestSubmit();

const decimals = (value, digits) => value.toFixed(digits).replace(/^-(0\.0+)$/, "$1");

// At most once in a while, and the last time for sure.
function now_and_then(ms, act) {
  let timer = null;
  return () => { if (!timer) timer = setTimeout(() => { timer = null; act(); }, ms); };
}

function sheets(data, i) {
  for (const side of ["here", "there"]) {
    const frame = board.querySelector(`[data-frame=${side}]`);
    if (frame) frame.textContent = side === "here" ? data.frames[i] : data.theirs_frames[i];
    const rows = data[`${side}_rows`];
    for (const cell of board.querySelectorAll(`[data-row=${side}]`)) {
      const value = rows[i * 16 + Number(cell.dataset.column)];
      cell.textContent = Number.isFinite(value) ? decimals(value, Number(cell.dataset.digits)) : "–";
    }
  }
}

// The first thing seen: whether both sides show the same.
function answer(data, i) {
  if (data.facts.alone) return;
  const line = document.getElementById("answer"), words = document.getElementById("answer-words");
  const worst = data.deviation_px.reduce((best, v, k) => (v > data.deviation_px[best] ? k : best), 0);
  const most = data.deviation_px[worst], same = most <= EXACT_PX;
  const { only_here, only_there, beside, rates, images, resampling } = data.facts;
  const whole = same && !only_here && !only_there;
  // What a side that is away holds is what it said last.
  const away = document.getElementById("away").textContent.trim();
  const sure = whole && !beside.length && (resampling || !rates.length) && !images.length && !away;
  line.className = `answer ${sure ? "yes" : same ? "open" : "off"}`;
  line.querySelector("strong").textContent = !same ? "The sides differ" : !whole ? "Same where both have frames"
    : away ? "Same at the last report" : beside.length || images.length ? "Same picture" : resampling ? "Same by time" : rates.length ? "Same frame for frame" : "Same on both sides";
  const parts = [`at frame ${data.frames[i]}: ${pixels(data.deviation_px[i])}`,
    `at most ${pixels(most)}${most > 0 ? `, at frame ${data.frames[worst]}` : ""}, of ${data.frames.length} frames`];
  if (only_here) parts.push(`${only_here} frames only on the left`);
  if (only_there) parts.push(`${only_there} frames only on the right`);
  if (away) parts.push(`${away} is not connected: its changes are unknown`);
  if (resampling) parts.push(`by time, ${rates.join(" to ")} frames/s: resampling costs up to ${pixels(resampling[0])}, at frame ${resampling[1]}`);
  else if (rates.length) parts.push(`${rates[0]} frames/s left, ${rates[1]} right: the move takes another time`);
  if (images.length) parts.push(`${images[0]} px left, ${images[1]} right`);
  if (beside.length) parts.push(`other: ${beside.join(", ")}`);
  words.textContent = parts.join(" · ");
}

async function start() {
  const data = await loadDrawing(`/shows/${show}/live/drawing?${asked}`);
  const state = { index: 0, magnify: 1 };
  const view = (name) => board.querySelector(`[data-view=${name}]`);
  const overlay = overlayView(view("overlay"), data, state);
  const worst = data.deviation_px.reduce((m, v) => Math.max(m, v), 0);
  const magnify = document.getElementById("magnify");
  if (magnify) setUpMagnify(magnify, worst, data, state, overlay);
  let ruler = null, curve = () => {};
  const drawCurve = () => {
    view("curve").replaceChildren();
    if (!data.facts.alone) curve = curveView(view("curve"), data, state, (i) => ruler.go(i));
  };
  const shown = (i) => {
    state.index = i;
    overlay(); curve();
    sheets(data, i); answer(data, i);
    say("overlay", `frame ${data.frames[i]}`);
    if (!data.facts.alone) say("curve", `frame ${data.frames[i]}: ${pixels(data.deviation_px[i])}`);
  };
  drawCurve();
  ruler = new Ruler(document.getElementById("ruler"), data, shown);
  ruler.goToFrame(startFrame(data.frames[0]));

  const laterCurve = now_and_then(CURVE_MS, drawCurve);
  const laterState = now_and_then(STATE_MS, () => {
    // Not while somebody fills it in: it would be removed of their hands.
    if (!document.getElementById("state").contains(document.activeElement)) window.htmx.trigger("#state", "refresh");
  });
  const take = (told) => {
    const at = new Map(told.frames.map((f, k) => [f, k]));
    data.frames.forEach((frame, i) => {
      const k = at.get(frame);
      if (k === undefined) return;
      for (const [name, wide] of Object.entries(DRAWN)) told[name][k].forEach((v, c) => { data[name][i * wide + c] = v === null ? NaN : v; });
      at.delete(frame);
    });
    if (at.size) { location.reload(); return; } // frames that were not there
    data.facts.sequences = told.sequences;
    board.dataset.told = String(Number(board.dataset.told || 0) + 1);
    shown(state.index); laterCurve();
  };
  const redraw = now_and_then(CURVE_MS, async () => {
    const now = await loadDrawing(`/shows/${show}/live/drawing?${asked}`);
    if (now.frames.length !== data.frames.length) { location.reload(); return; }
    for (const name of Object.keys(DRAWN)) data[name].set(now[name]);
    Object.assign(data.facts, now.facts);
    board.dataset.told = String(Number(board.dataset.told || 0) + 1);
    shown(state.index); drawCurve();
  });
  document.body.addEventListener("htmx:afterSwap", () => shown(state.index));
  const watch = () => {
    const { sequences, motion_m } = data.facts;
    const line = new WebSocket(`${location.protocol === "https:" ? "wss" : "ws"}://${location.host}/live/watch?show=${show}&a=${a}&b=${b}`
      + `&sequence_a=${sequences[0]}&sequence_b=${sequences[1]}&motion_m=${motion_m}`);
    line.onopen = () => { board.dataset.watching = "yes"; };
    line.onmessage = (event) => {
      const told = JSON.parse(event.data);
      if (told.t === "frames") { take(told); laterState(); }
      else if (told.t === "redraw") { redraw(); laterState(); }
      else if (told.t === "reload") location.reload();
      else if (told.t === "state") laterState();
      else if (told.t === "playhead" && document.getElementById("follow").checked) {
        ruler.go(nearest(told.side === 0 ? data.frames : data.theirs_frames, told.frame));
      }
    };
    line.onclose = (event) => {
      board.dataset.watching = "no";
      if (event.code === 1008) document.getElementById("watching-ended").textContent = event.reason;
      else setTimeout(watch, 1000);
    };
  };
  watch();
  window.anaxisReady = true;
}

start().catch((error) => {
  document.getElementById("answer-words").textContent = error.message;
  // What nobody knows yet is asked for, and comes by itself.
  setTimeout(() => location.reload(), 2500);
});
