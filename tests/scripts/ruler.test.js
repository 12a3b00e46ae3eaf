// The frame ruler on a page made up of what it asks for: both numberings, the ends, the nearest frame, and playing in time.

import assert from "node:assert/strict";
import { beforeEach, test } from "node:test";

import { Ruler } from "../../src/anaxis/web/static/ruler.js";

const heard = {};
let ticks;

function element() {
  return {
    dataset: {}, attributes: {}, textContent: "", style: {}, width: 0, height: 0,
    setAttribute(name, value) { this.attributes[name] = value; },
    addEventListener() {},
    getBoundingClientRect: () => ({ left: 0, width: 448, height: 60 }),
    getContext: () => new Proxy({}, { get: (held, key) => held[key] ?? (() => {}), set: (held, key, value) => { held[key] = value; return true; } }),
    closest: () => null,
  };
}

function made(frames, rate = [24, 1], more = {}) {
  const parts = { canvas: element(), "[data-act=play]": element(), "[data-now=ours]": element(), "[data-now=theirs]": element(), "[data-now=seconds]": element() };
  const root = { ...element(), querySelector: (name) => parts[name], querySelectorAll: () => [], removeAttribute(name) { delete this.attributes[name]; } };
  const shown = [];
  return { parts, shown, root, ruler: new Ruler(root, { frames, facts: { rate }, ...more }, (i) => shown.push(i)) };
}

beforeEach(() => {
  ticks = [];
  globalThis.document = { addEventListener: (name, act) => { heard[name] = act; }, documentElement: element(), body: element(), fonts: { ready: Promise.resolve() } };
  globalThis.getComputedStyle = () => ({ getPropertyValue: () => "#000" });
  globalThis.history = { state: null, replaceState(_state, _title, hash) { this.hash = hash; } };
  globalThis.ResizeObserver = class { observe() {} };
  globalThis.requestAnimationFrame = (tick) => ticks.push(tick);
  globalThis.window = globalThis;
  globalThis.devicePixelRatio = 1;
  globalThis.addEventListener = () => {};
});

test("a frame is shown in both numberings and in seconds", () => {
  const { ruler, parts, shown } = made([1001, 1002, 1003], [24000, 1001], { theirs_frames: [0, 1, 2] });
  ruler.go(1);
  assert.equal(parts["[data-now=ours]"].textContent, 1002);
  assert.equal(parts["[data-now=theirs]"].textContent, 1);
  assert.equal(parts["[data-now=seconds]"].textContent, "41.792 s");
  assert.equal(globalThis.history.hash, "#f=1002");
  assert.deepEqual(shown, [1]);
});

test("it stops at both ends, and goes to the nearest frame there is", () => {
  const { ruler } = made([-20, -19.5, -19]);
  ruler.go(-4); assert.equal(ruler.index, 0);
  ruler.go(99); assert.equal(ruler.index, 2);
  ruler.goToFrame(-19.6); assert.equal(ruler.index, 1);
  ruler.goToFrame(-19.75); assert.equal(ruler.index, 0);
  ruler.goToFrame(86400); assert.equal(ruler.index, 2);
});

test("keys go on by one frame and by ten, and leave a field that is typed in alone", () => {
  const frames = Array.from({ length: 40 }, (_, k) => k);
  const { ruler } = made(frames);
  const press = (key, more = {}) => heard.keydown({ key, target: { closest: () => null }, preventDefault() {}, ...more });
  press("ArrowRight"); assert.equal(ruler.index, 1);
  press("ArrowRight", { shiftKey: true }); assert.equal(ruler.index, 11);
  press("End"); assert.equal(ruler.index, 39);
  press("Home"); assert.equal(ruler.index, 0);
  press("ArrowRight", { target: { closest: (what) => what.includes("input") } }); assert.equal(ruler.index, 0);
});

test("a slow browser drops frames and no time, and stops at the last frame", () => {
  const frames = Array.from({ length: 24 }, (_, k) => 1001 + k);
  const { ruler, parts } = made(frames);
  ruler.play();
  const began = performance.now();
  ticks.shift()(began + 505);
  assert.equal(ruler.index, 12);
  assert.equal(parts["[data-act=play]"].textContent, "Stop");
  ticks.shift()(began + 5000);
  assert.equal(ruler.index, 23);
  assert.equal(ruler.playing, false);
});

test("a frame whose numbers are on their way is shown when they are there, and only while the ruler stands on it", async () => {
  const waiting = [];
  const ready = (i) => (i < 2 ? null : new Promise((done, failed) => waiting.push({ done, failed })));
  const { ruler, shown, root } = made([1, 2, 3, 4], [24, 1], { ready });
  ruler.go(0);
  const third = ruler.go(2);
  assert.deepEqual([shown, root.attributes["aria-busy"]], [[0], "true"]);
  ruler.go(1);
  waiting.shift().done();
  await third;
  assert.deepEqual([shown, "aria-busy" in root.attributes], [[0, 1], false]);
  ruler.play();
  const fourth = ruler.go(3);
  waiting.shift().failed(new Error("The frames from 4 on could not be loaded (503): reload the page."));
  await fourth;
  assert.deepEqual([shown, ruler.playing], [[0, 1], false]);
});
