// Reads the server's drawing data: a JSON header, then named float64 arrays (see web/drawings/packed.py).

export async function loadDrawing(url) {
  const answer = await loaded(url, "The drawing");
  const data = read(await answer.arrayBuffer());
  return data.facts.blocks ? inBlocks(data, url) : data;
}

// Where data does not come, a sentence stands in each view, and the rest of the page is left as it is.
async function loaded(url, what, ask = fetch) {
  const answer = await ask(url).catch(() => ({ ok: false, status: "no answer" }));
  for (const old of document.querySelectorAll("p.not-loaded")) old.remove();
  if (answer.ok) return answer;
  const said = `${what} could not be loaded (${answer.status}): reload the page.`;
  for (const view of document.querySelectorAll("[data-view]")) {
    view.before(Object.assign(document.createElement("p"), { className: "not-drawn not-loaded", textContent: said }));
  }
  throw new Error(said);
}

export function read(buffer) {
  const size = new DataView(buffer).getUint32(0, true);
  const header = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 4, size)));
  return { facts: header.facts, shapes: header.arrays, ...unpacked(header, buffer, 4 + size) };
}

// A long shot: the arrays that move get their full length, and their rows come in blocks of frames (see web/drawings/blocks.py).
// Until then those rows are there that show the whole shot, at the places of `seen`; `ready(i)` brings the block of a frame.
export function inBlocks(data, url, ask = fetch) {
  const { frames, size, rows, seen } = data.facts.blocks, loading = new Map(), there = new Set();
  data.seen = {};
  for (const [name, shape] of Object.entries(rows)) {
    const wide = shape.reduce((a, b) => a * b, 1);
    data[name] = new Float64Array(frames * wide).fill(NaN);
    data.shapes[name] = [frames, ...shape];
    if (!seen.includes(name)) continue;
    data.seen[name] = Array.from(data[`${name}@`]);
    data.seen[name].forEach((at, k) => data[name].set(data[`${name}@rows`].subarray(k * wide, (k + 1) * wide), at * wide));
  }
  const bring = async (block) => {
    const asked = new URL(url, document.baseURI);
    asked.searchParams.set("block", block);
    const part = read(await (await loaded(asked, `The frames from ${data.frames[block * size]} on`, ask)).arrayBuffer());
    for (const name of Object.keys(rows)) data[name].set(part[name], block * size * (data[name].length / frames));
    there.add(block);
  };
  const brought = (block) => {
    if (!loading.has(block)) loading.set(block, bring(block).finally(() => { if (!there.has(block)) loading.delete(block); }));
    return loading.get(block);
  };
  // Nothing to wait for where the frame is there; the next block is asked for in time for a shot that plays.
  data.ready = (i) => {
    const block = Math.floor(i / size);
    if (!there.has(block)) return brought(block);
    if (i % size > size / 2 && (block + 1) * size < frames) brought(block + 1).catch(() => {});
    return null;
  };
  return data;
}

// The places of the rows that show an array over the whole shot, or arrays that are drawn together: all rows, but for a long shot.
export function placesOf(data, ...names) {
  const some = names.find((name) => data.seen?.[name]);
  return some ? data.seen[some] : Array.from({ length: data.shapes[names[0]][0] }, (_, i) => i);
}

// The arrays behind a header: a constant one has come as its first row, an even one as its first number and its step, and one that
// equals an earlier one not at all.
export function unpacked(header, buffer, begin) {
  const arrays = {}, constant = new Set(header.constant), even = new Set(header.even);
  let offset = begin;
  for (const [name, shape] of Object.entries(header.arrays)) {
    if (header.same[name]) {
      arrays[name] = arrays[header.same[name]].slice();
      continue;
    }
    const length = shape.reduce((a, b) => a * b, 1), sent = even.has(name) ? 2 : constant.has(name) ? length / shape[0] : length;
    const found = new Float64Array(buffer, offset, sent);
    if (even.has(name)) arrays[name] = new Float64Array(length).map((_, i) => found[0] + i * found[1]);
    else arrays[name] = sent === length ? found : new Float64Array(length).map((_, i) => found[i % sent]);
    offset += sent * 8;
  }
  return arrays;
}

export function theme() {
  const css = getComputedStyle(document.documentElement);
  const pick = (name) => css.getPropertyValue(`--${name}`).trim();
  return { ink: pick("ink"), soft: pick("soft"), rule: pick("rule"), faint: pick("faint"), warm: pick("warm"),
    cool: pick("cool"), sheet: pick("sheet"), paper: pick("paper") };
}

// A canvas in CSS pixels that stays sharp; `draw` runs again whenever its size changes.
export function fitCanvas(canvas, draw) {
  const pen = canvas.getContext("2d");
  const resize = () => {
    const box = canvas.getBoundingClientRect();
    const ratio = window.devicePixelRatio || 1;
    canvas.width = Math.max(1, Math.round(box.width * ratio));
    canvas.height = Math.max(1, Math.round(box.height * ratio));
    pen.setTransform(ratio, 0, 0, ratio, 0, 0);
    draw(pen, box.width, box.height, true);
  };
  new ResizeObserver(resize).observe(canvas);
  return () => draw(pen, canvas.clientWidth, canvas.clientHeight, false);
}

export const FONT = '12px "Plex Mono", monospace';

export function clear(pen, width, height) {
  pen.clearRect(0, 0, width, height);
}

// 1, 2 or 5 times a power of ten, at least `rough`.
export function niceStep(rough) {
  const power = 10 ** Math.floor(Math.log10(rough));
  return [1, 2, 5, 10].map((m) => m * power).find((s) => s >= rough * 0.999);
}
