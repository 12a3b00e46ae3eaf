// Two pictures of one frame: seen through each other, wiped, subtracted, or in turn.
const board = document.getElementById("stills"), mode = document.getElementById("still-mode"), share = document.getElementById("still-share");
const theirs = board.querySelector(".theirs"), edge = board.querySelector(".edge"), wide = board.querySelector("svg").viewBox.baseVal.width;
let beat = 0;

function show() {
  clearInterval(beat);
  const part = Number(share.value) / 100;
  board.dataset.mode = mode.value;
  theirs.style.opacity = mode.value === "opacity" ? part : 1;
  theirs.style.clipPath = mode.value === "wipe" ? `inset(0 0 0 ${part * 100}%)` : "";
  edge.setAttribute("x1", part * wide); edge.setAttribute("x2", part * wide);
  share.disabled = mode.value === "difference";
  if (mode.value === "flicker") {
    let on = true;
    beat = setInterval(() => { on = !on; theirs.style.opacity = on ? 1 : 0; }, 900 - 8 * Number(share.value));
  }
}

mode.onchange = show; share.oninput = show;
show();
window.anaxisReady = true;
