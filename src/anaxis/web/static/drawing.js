// Reads the server's drawing data: a JSON header, then named float64 arrays (see web/drawings/packed.py).

// Where the data does not come, a sentence stands in each view, and the rest of the page is left as it is.
export async function loadDrawing(url) {
  const answer = await fetch(url);
  for (const old of document.querySelectorAll("p.not-loaded")) old.remove();
  if (!answer.ok) {
    const said = `The drawing could not be loaded (${answer.status}): reload the page.`;
    for (const view of document.querySelectorAll("[data-view]")) {
      view.before(Object.assign(document.createElement("p"), { className: "not-drawn not-loaded", textContent: said }));
    }
    throw new Error(said);
  }
  const buffer = await answer.arrayBuffer();
  const size = new DataView(buffer).getUint32(0, true);
  const header = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 4, size)));
  return { facts: header.facts, shapes: header.arrays, ...unpacked(header, buffer, 4 + size) };
}

// The arrays behind a header: a constant one has come as its first row, and one that equals an earlier one not at all.
export function unpacked(header, buffer, begin) {
  const arrays = {}, constant = new Set(header.constant);
  let offset = begin;
  for (const [name, shape] of Object.entries(header.arrays)) {
    if (header.same[name]) {
      arrays[name] = arrays[header.same[name]].slice();
      continue;
    }
    const length = shape.reduce((a, b) => a * b, 1), sent = constant.has(name) ? length / shape[0] : length;
    const found = new Float64Array(buffer, offset, sent);
    arrays[name] = sent === length ? found : new Float64Array(length).map((_, i) => found[i % sent]);
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
