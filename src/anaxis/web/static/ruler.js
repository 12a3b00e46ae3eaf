// The frame ruler shared by all drawings of a page: both numberings, seconds, play, keys.

import { nearest } from "./curve.js";
import { FONT, clear, fitCanvas, niceStep, theme } from "./drawing.js";

export class Ruler {
  // `onFrame` is told of a frame when the drawing has its numbers: of a long shot they come in blocks.
  constructor(root, data, onFrame) {
    const { frames, theirs_frames: theirs = frames, cuts = [] } = data, [per, second] = data.facts.rate;
    Object.assign(this, { root, data, frames, theirs, cuts, onFrame, index: 0, playing: false, seconds: frames.map((f) => (f * second) / per) });
    this.canvas = root.querySelector("canvas");
    this.ink = theme();
    this.canvas.setAttribute("aria-valuemin", frames[0]);
    this.canvas.setAttribute("aria-valuemax", frames[frames.length - 1]);
    this.redraw = fitCanvas(this.canvas, (pen, w, h) => this.draw(pen, w, h));
    this.bind();
  }

  bind() {
    const acts = {
      first: () => this.go(0), last: () => this.go(this.frames.length - 1),
      back: () => this.go(this.index - 1), on: () => this.go(this.index + 1), play: () => this.toggle(),
    };
    for (const button of this.root.querySelectorAll("[data-act]")) button.onclick = () => acts[button.dataset.act]();
    document.addEventListener("keydown", (event) => {
      if (event.ctrlKey || event.metaKey || event.altKey) return;
      if (event.target.closest("input, select, textarea")) return;
      const step = event.shiftKey ? 10 : 1;
      const keys = { ArrowLeft: () => this.go(this.index - step), ArrowRight: () => this.go(this.index + step),
        Home: acts.first, End: acts.last };
      if (event.key === " " && !event.target.closest("button, a")) keys[" "] = acts.play;
      if (keys[event.key]) { keys[event.key](); event.preventDefault(); }
    });
    const drag = (event) => {
      const box = this.canvas.getBoundingClientRect();
      this.go(Math.round(((event.clientX - box.left - 24) / (box.width - 48)) * (this.frames.length - 1)));
    };
    this.canvas.addEventListener("pointerdown", (event) => {
      this.canvas.setPointerCapture(event.pointerId);
      this.stop(); drag(event);
      this.canvas.onpointermove = drag;
    });
    this.canvas.addEventListener("pointerup", () => { this.canvas.onpointermove = null; });
  }

  go(index) {
    const next = Math.max(0, Math.min(this.frames.length - 1, index));
    this.index = next;
    return this.show();
  }

  goToFrame(frame) {
    return this.go(nearest(this.frames, frame));
  }

  show() {
    const frame = this.frames[this.index];
    const set = (name, text) => { this.root.querySelector(`[data-now=${name}]`).textContent = text; };
    set("ours", frame);
    set("theirs", this.theirs[this.index]);
    set("seconds", `${this.seconds[this.index].toFixed(3)} s`);
    this.canvas.setAttribute("aria-valuenow", frame);
    this.canvas.setAttribute("aria-valuetext", `frame ${frame} of the shot, ${this.theirs[this.index]} in the package, ${this.seconds[this.index].toFixed(3)} seconds`);
    history.replaceState(history.state, "", `#f=${frame}`);
    this.redraw();
    const index = this.index, waits = this.data.ready?.(index);
    if (!waits) { this.onFrame(index); return Promise.resolve(); }
    this.root.setAttribute("aria-busy", "true");
    return waits.then(() => { if (this.index === index) this.onFrame(index); }, () => this.stop())
      .finally(() => this.root.removeAttribute("aria-busy"));
  }

  toggle() { if (this.playing) this.stop(); else this.play(); }

  play() {
    this.playing = true;
    this.mark();
    if (this.index === this.frames.length - 1) this.index = 0;
    const from = this.index, began = performance.now();
    const tick = (now) => {
      if (!this.playing) return;
      // The frame that is due, so that a slow browser drops frames rather than time.
      const due = this.seconds[from] + (now - began) / 1000;
      let index = this.index;
      while (index < this.frames.length - 1 && this.seconds[index + 1] <= due) index += 1;
      if (index !== this.index) this.go(index);
      if (index === this.frames.length - 1) this.stop();
      else requestAnimationFrame(tick);
    };
    requestAnimationFrame(tick);
  }

  stop() { this.playing = false; this.mark(); }

  mark() {
    const button = this.root.querySelector("[data-act=play]");
    button.setAttribute("aria-pressed", this.playing);
    button.textContent = this.playing ? "Stop" : "Play";
    button.setAttribute("aria-label", this.playing ? "Stop" : "Play");
  }

  draw(pen, width, height) {
    clear(pen, width, height);
    const { ink, soft, cool } = this.ink;
    const count = this.frames.length, left = 24, span = width - 48;
    const at = (i) => left + (count > 1 ? (i / (count - 1)) * span : span / 2);
    const step = Math.max(1, niceStep((count * 64) / span));
    pen.font = FONT; pen.textAlign = "center"; pen.lineWidth = 1;
    const middle = height / 2;
    pen.strokeStyle = ink;
    pen.beginPath(); pen.moveTo(left, middle); pen.lineTo(left + span, middle); pen.stroke();
    const minor = Math.max(1, step / 10);
    pen.strokeStyle = soft;
    pen.beginPath();
    for (let i = 0; i < count; i += minor) { const x = at(Math.round(i)); pen.moveTo(x, middle - 4); pen.lineTo(x, middle + 4); }
    pen.stroke();
    for (let i = 0; i < count; i += 1) {
      const frame = this.frames[i];
      if (frame % step !== 0 && i !== 0 && i !== count - 1) continue;
      // A label needs room to its neighbours at both ends.
      if (i !== 0 && i !== count - 1 && (at(i) - at(0) < 46 || at(count - 1) - at(i) < 46)) continue;
      pen.strokeStyle = ink;
      pen.beginPath(); pen.moveTo(at(i), middle - 8); pen.lineTo(at(i), middle + 8); pen.stroke();
      pen.fillStyle = ink; pen.fillText(frame, at(i), middle - 13);
      pen.fillStyle = cool; pen.fillText(this.theirs[i], at(i), middle + 22);
    }
    pen.fillStyle = ink; // a cut lies before its first frame
    for (const i of this.cuts) { const x = at(i - 0.5); pen.fillRect(x - 0.75, middle - 7, 1.5, 14); pen.fillRect(x - 0.75, middle - 7, 7, 1.5); }
    const x = at(this.index);
    pen.fillStyle = ink;
    pen.beginPath(); pen.moveTo(x, middle - 3); pen.lineTo(x - 6, middle - 14); pen.lineTo(x + 6, middle - 14); pen.fill();
    pen.fillRect(x - 1, 4, 2, height - 8);
  }
}

export function startFrame(fallback) {
  const asked = /f=(-?[\d.]+)/.exec(location.hash);
  return asked ? Number(asked[1]) : fallback;
}
