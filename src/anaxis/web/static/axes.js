// Axes turned by dragging: the server says what becomes of them, this only tells it which arm was let go where.
const near = (svg, event) => {
  const at = new DOMPoint(event.clientX, event.clientY).matrixTransform(svg.getScreenCTM().inverse());
  return [at.x, at.y];
};

let held = null;

document.addEventListener("pointerdown", (event) => {
  const handle = event.target.closest(".handle");
  if (!handle?.closest("[data-axes]")) return;
  const svg = handle.ownerSVGElement;
  const line = document.createElementNS(svg.namespaceURI, "line");
  line.setAttribute("class", "turning");
  line.setAttribute("x1", handle.dataset.x); line.setAttribute("y1", handle.dataset.y);
  svg.append(line);
  svg.classList.add("turning", handle.dataset.side);
  held = { handle, svg, line, rest: null };
  move(event);
  event.preventDefault();
});

// The arm snaps to the nearest of the six ways it may point.
function move(event) {
  const [x, y] = near(held.svg, event);
  let best = Infinity;
  for (const rest of held.svg.querySelectorAll(`.rest[data-side=${held.handle.dataset.side}]`)) {
    const away = Math.hypot(rest.cx.baseVal.value - x, rest.cy.baseVal.value - y);
    if (away < best) { best = away; held.rest = rest; }
  }
  held.line.setAttribute("x2", held.rest.cx.baseVal.value);
  held.line.setAttribute("y2", held.rest.cy.baseVal.value);
}

document.addEventListener("pointermove", (event) => { if (held) move(event); });

function letGo() {
  const { handle, svg, line, rest } = held;
  held = null;
  line.remove();
  svg.classList.remove("turning", "world", "camera");
  const box = svg.closest("[data-axes]");
  const values = { side: handle.dataset.side, arm: handle.dataset.arm, towards: rest.dataset.towards };
  for (const list of box.querySelectorAll("select")) values[list.name] = list.value;
  htmx.ajax("GET", box.getAttribute("hx-get"), { target: box, swap: "outerHTML", values });
}

document.addEventListener("pointerup", () => { if (held) letGo(); });
document.addEventListener("pointercancel", () => {
  if (!held) return;
  held.line.remove(); held.svg.classList.remove("turning", "world", "camera"); held = null;
});

// A habit, or a layout, is a version of its own: what is changed in the fields and not kept yet would be lost with it.
const fields = document.getElementById("package-form");
const written = () => (fields ? new URLSearchParams(new FormData(fields)).toString() : "");
const kept = written();

document.addEventListener("submit", (event) => {
  const form = event.target;
  if (!fields || form === fields || form.method !== "post" || written() === kept) return;
  event.preventDefault();
  fields.querySelector(".unkept")?.remove();
  fields.insertAdjacentHTML("beforeend", '<p class="sentence bad unkept" role="alert">Keep what you changed here first, or reload the page to leave it: the other change makes a version of its own.</p>');
  fields.querySelector(".unkept").scrollIntoView({ block: "center" });
}, true);
