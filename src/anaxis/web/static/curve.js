// A curve over the shot's frames: uPlot in this house's type and ink, with a line at the frame that is shown.

import { FONT, theme } from "./drawing.js";
import uPlot from "./vendor/uplot.js";

const TURNED = 1.5; // what moved by less, in CSS pixels, is a click and no drag

// `y` holds uPlot's scale and axis, `marks` draws over the curve, `drag` says what a drag does.
// Returns a function that draws the frame's line anew.
// `other` is a second curve, dashed, beside the first; `places` are those of the frames that a long curve is drawn from.
export function curve(box, { frames, places = null, values, other = null, state, y, marks = () => {}, onFrame, zoom = false, onSpan = null, stroke, width = 1.5, frameAxis = true, pad = [8, 24, 0, 0] }) {
  const ink = theme(), n = frames.length, drawn = (array) => (places ? places.map((i) => array[i]) : array);
  const indexAt = (u, left) => (places ? nearest(frames, u.posToVal(left, "x")) : u.posToIdx(left));
  const grid = { stroke: ink.faint, width: 1 };
  const axis = { font: FONT, stroke: ink.soft, grid, ticks: { show: false }, gap: 6 };
  let pressed = 0;
  const plot = new uPlot({
    width: box.clientWidth || 300, height: box.clientHeight || 100, padding: pad,
    legend: { show: false },
    cursor: { y: false, points: { show: false }, drag: { x: true, y: false, setScale: zoom, dist: TURNED, click: (u, event) => {
      // A click on the very edge is snapped to it, which is no drag.
      if (Math.abs(event.clientX - pressed) > TURNED) event.stopImmediatePropagation();
    } } },
    select: { show: true },
    scales: { x: { time: false, range: (u, low, high) => (high > low ? [low, high] : [low - 1, high + 1]) }, y: y.scale },
    axes: [
      { ...axis, show: frameAxis, size: 20, grid: { show: false }, values: (u, at) => at.map((f) => +f.toFixed(3)) },
      { ...axis, ...y.axis },
    ],
    series: [{}, { stroke: stroke ?? ink.ink, width, pxAlign: 0, points: { show: n < 4 } },
      ...(other ? [{ stroke: ink.soft, width: 1, dash: [5, 4], pxAlign: 0, points: { show: n < 4 } }] : [])],
    hooks: {
      draw: [(u) => {
        const pen = u.ctx, ratio = devicePixelRatio || 1, { top, height, left, width: wide } = u.bbox;
        marks(u, pen, ratio);
        const at = u.valToPos(frames[state.index], "x", true);
        if (at < left - 1 || at > left + wide + 1) return;
        pen.save();
        pen.strokeStyle = ink.ink; pen.lineWidth = 1.8 * ratio;
        pen.beginPath(); pen.moveTo(at, top); pen.lineTo(at, top + height); pen.stroke();
        pen.restore();
      }],
      setSelect: [(u) => {
        if (onSpan && u.select.width > TURNED) onSpan(indexAt(u, u.select.left), indexAt(u, u.select.left + u.select.width));
      }],
    },
  }, [drawn(frames), drawn(values), ...(other ? [Array.from(drawn(other), (v) => (Number.isNaN(v) ? null : v))] : [])], box);
  plot.over.addEventListener("mousedown", (event) => { pressed = event.clientX; }, true);
  plot.over.addEventListener("click", (event) => onFrame(indexAt(plot, event.clientX - plot.over.getBoundingClientRect().left)));
  new ResizeObserver(() => {
    if (box.clientWidth && box.clientHeight) plot.setSize({ width: box.clientWidth, height: box.clientHeight });
  }).observe(box);
  const draw = () => plot.redraw(false, false);
  draw.plot = plot;
  return draw;
}

// The place among rising frames that is nearest to a frame.
export function nearest(frames, frame) {
  let low = 0, high = frames.length - 1;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (frames[middle] < frame) low = middle + 1; else high = middle;
  }
  return low > 0 && frame - frames[low - 1] <= frames[low] - frame ? low - 1 : low;
}
