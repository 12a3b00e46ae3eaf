// Intake: the camera drawn before it is saved, and the columns of a table chosen.
import { loadDrawing } from "./drawing.js";
import { lensView, measuredView } from "./views.js";

const look = document.getElementById("look"), chosen = document.getElementById("look-camera");
const slider = document.getElementById("look-frame");

// A fresh canvas for each camera, so that no drawing of the one before goes on.
function fresh(name) {
  const old = look.querySelector(`[data-view=${name}]`), canvas = old.cloneNode(false);
  old.replaceWith(canvas);
  return canvas;
}

async function draw() {
  const data = await loadDrawing(look.dataset.base + encodeURIComponent(chosen.value));
  const state = { index: 0 };
  const say = (name, text) => { look.querySelector(`[data-live=${name}]`).textContent = text; };
  const views = [measuredView(fresh("plan"), data, state, "plan"),
    measuredView(fresh("elevation"), data, state, "elevation", (text) => say("elevation", text)), lensView(fresh("lens"), data, state)];
  slider.max = data.frames.length - 1;
  const go = () => {
    state.index = Math.min(Number(slider.value), data.frames.length - 1);
    say("frame", data.frames[state.index]);
    views.forEach((f) => f());
  };
  slider.oninput = go;
  slider.value = Math.floor((data.frames.length - 1) / 2);
  go();
  window.anaxisReady = true;
}

if (chosen) {
  chosen.addEventListener("change", draw);
  draw().catch((error) => { look.querySelector("h2").textContent = error.message; });
}

const layout = document.getElementById("layout-form");
if (layout) layout.addEventListener("change", (event) => { if (event.target.name !== "save_as") layout.requestSubmit(); });
