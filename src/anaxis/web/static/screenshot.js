// Landmarks placed in a screenshot: dragged, clicked, moved by keys or typed; drawn over the picture, and sent as one form.

/** The corner nearest to a place, within a distance; null where there is none. */
export function nearestCorner(corners, at, within) {
	let best = null;
	let least = within * within;
	for (const corner of corners) {
		const off = (corner[0] - at[0]) ** 2 + (corner[1] - at[1]) ** 2;
		if (off < least) {
			least = off;
			best = corner;
		}
	}
	return best;
}

/** What is sent: pixels by name, null for one that is hidden; what is neither is left out. */
export function pointsOf(marks) {
	const placed = {};
	for (const mark of marks) if (mark.hidden) placed[mark.name] = null;
		else if (mark.at) placed[mark.name] = mark.at;
	return placed;
}

/** The part of the picture that is shown, zoomed by a factor about a place and kept over the picture. */
export function zoomed(view, factor, at, size) {
	const w = Math.min(size[0], Math.max(20, view[2] / factor)), h = (w * size[1]) / size[0];
	const x = at[0] - ((at[0] - view[0]) * w) / view[2], y = at[1] - ((at[1] - view[1]) * h) / view[3];
	return [Math.min(size[0] - w, Math.max(0, x)), Math.min(size[1] - h, Math.max(0, y)), w, h];
}

const SVG = "http://www.w3.org/2000/svg";
const round = (v) => Math.round(v * 100) / 100;

function start(board) {
	const svg = document.getElementById("shot"), layer = document.getElementById("marks"), snap = document.getElementById("snap");
	const where = document.getElementById("where"), form = document.getElementById("place");
	const size = [Number(board.dataset.width), Number(board.dataset.height)];
	const marks = JSON.parse(board.dataset.marks);
	let view = [0, 0, ...size], corners = [], chosen = null, dragged = null, panned = null;
	fetch(`/screenshots/${board.dataset.number}/corners.json`).then((a) => a.json()).then((found) => { corners = found; }).catch(() => {});

	const unit = () => view[2] / Math.max(1, svg.clientWidth); // picture pixels for one on the screen
	const place = (event) => {
		const at = new DOMPoint(event.clientX, event.clientY).matrixTransform(svg.getScreenCTM().inverse());
		return [at.x, at.y];
	};
	const made = (name, attributes, parent) => {
		const element = document.createElementNS(SVG, name);
		for (const [key, value] of Object.entries(attributes)) element.setAttribute(key, value);
		parent.append(element);
		return element;
	};
	const rowOf = (mark) => document.querySelector(`tr[data-mark="${CSS.escape(mark.name)}"]`);

	function draw() {
		const u = unit(), focused = document.activeElement?.dataset?.name;
		svg.setAttribute("viewBox", view.join(" "));
		layer.replaceChildren();
		for (const mark of marks) {
			if (mark.expected && !mark.hidden) {
				const [x, y] = mark.expected;
				made("path", { class: "expected", d: `M${x - 6 * u} ${y}L${x} ${y - 6 * u}L${x + 6 * u} ${y}L${x} ${y + 6 * u}Z`, "stroke-width": 1.2 * u }, layer);
				if (mark.at) made("line", { class: "between", x1: x, y1: y, x2: mark.at[0], y2: mark.at[1], "stroke-width": u }, layer);
			}
			const at = mark.at ?? (mark.hidden ? null : mark.expected);
			if (!at) continue;
			const said = mark.at ? `placed at ${Math.round(at[0])}, ${Math.round(at[1])}` : "not placed";
			const group = made("g", { class: `mark${mark.at ? " placed" : ""}${mark === chosen ? " chosen" : ""}`, tabindex: 0, role: "button", "aria-label": `${mark.name}, ${said}` }, layer);
			group.dataset.name = mark.name;
			made("circle", { cx: at[0], cy: at[1], r: 12 * u, class: "grip" }, group);
			if (mark.at) made("path", { d: `M${at[0] - 9 * u} ${at[1]}h${18 * u}M${at[0]} ${at[1] - 9 * u}v${18 * u}`, "stroke-width": 1.8 * u }, group);
			const right = at[0] > view[0] + view[2] * 0.85;
			const text = made("text", { x: at[0] + (right ? -10 : 10) * u, y: at[1] - 8 * u, "font-size": 12 * u, "text-anchor": right ? "end" : "start", "stroke-width": 3 * u }, group);
			text.textContent = mark.name;
			if (mark.name === focused) group.focus();
		}
	}

	function fill(mark) {
		const row = rowOf(mark);
		if (!row) return;
		for (const field of row.querySelectorAll("[data-axis]")) {
			field.value = mark.at ? String(round(mark.at[field.dataset.axis])) : "";
			field.disabled = mark.hidden;
		}
		row.querySelector("[data-hidden]").checked = mark.hidden;
		row.classList.toggle("chosen", mark === chosen);
	}

	function put(mark, at) {
		mark.at = at && [round(at[0]), round(at[1])];
		if (at) mark.hidden = false;
		fill(mark);
		draw();
		if (at) where.textContent = `${mark.name}: ${round(at[0])}, ${round(at[1])}`;
	}
	const snapped = (at) => (snap.checked && nearestCorner(corners, at, 9 * unit())) || at;
	const markAt = (target) => marks.find((m) => m.name === target.closest?.("[data-name]")?.dataset.name);
	function choose(mark) {
		const before = chosen;
		chosen = mark;
		for (const one of [before, mark]) if (one) fill(one);
		where.textContent = mark ? `${mark.name}: click in the picture to place it` : "";
	}

	svg.addEventListener("pointerdown", (event) => {
		const mark = markAt(event.target);
		svg.setPointerCapture(event.pointerId);
		if (mark) {
			choose(mark);
			dragged = mark;
		} else panned = { at: place(event), moved: false };
		if (mark) draw();
	});
	svg.addEventListener("pointermove", (event) => {
		if (dragged) put(dragged, place(event));
		else if (panned) {
			const at = place(event), off = [panned.at[0] - at[0], panned.at[1] - at[1]];
			if (Math.hypot(...off) < 3 * unit() && !panned.moved) return;
			panned.moved = true;
			view = zoomed([view[0] + off[0], view[1] + off[1], view[2], view[3]], 1, [view[0], view[1]], size);
			draw();
		}
	});
	svg.addEventListener("pointerup", (event) => {
		if (dragged) {
			const mark = dragged;
			dragged = null;
			if (mark.at) put(mark, snapped(place(event)));
			layer.querySelector(`[data-name="${CSS.escape(mark.name)}"]`)?.focus();
		} else if (panned && !panned.moved && chosen) put(chosen, snapped(place(event)));
		panned = null;
	});
	svg.addEventListener("wheel", (event) => {
		event.preventDefault();
		view = zoomed(view, event.deltaY < 0 ? 1.25 : 0.8, place(event), size);
		draw();
	}, { passive: false });
	const zoom = (how) => {
		const at = chosen?.at ?? [view[0] + view[2] / 2, view[1] + view[3] / 2];
		view = how === "fit" ? [0, 0, ...size] : zoomed(view, how === "in" ? 1.5 : 1 / 1.5, at, size);
		draw();
	};
	for (const button of document.querySelectorAll("[data-zoom]")) button.onclick = () => zoom(button.dataset.zoom);
	layer.addEventListener("focusin", (event) => { const mark = markAt(event.target); if (mark && mark !== chosen) { choose(mark); event.target.classList.add("chosen"); } });
	layer.addEventListener("keydown", (event) => {
		const mark = markAt(event.target), step = event.shiftKey ? 10 : 1, at = mark?.at ?? mark?.expected;
		if (!mark) return;
		const moves = { ArrowLeft: [-step, 0], ArrowRight: [step, 0], ArrowUp: [0, -step], ArrowDown: [0, step] };
		if (moves[event.key]) put(mark, [at[0] + moves[event.key][0], at[1] + moves[event.key][1]]);
		else if (event.key === "s") put(mark, nearestCorner(corners, at, 40) ?? at);
		else if (event.key === "h") { mark.hidden = true; put(mark, null); mark.hidden = true; fill(mark); draw(); }
		else if (event.key === "Delete") put(mark, null);
		else if (event.key === "+" || event.key === "=") zoom("in");
		else if (event.key === "-") zoom("out");
		else if (event.key === "Enter" || event.key === " ") put(mark, at);
		else return;
		event.preventDefault();
	});
	for (const row of document.querySelectorAll("tr[data-mark]")) {
		const mark = marks.find((m) => m.name === row.dataset.mark);
		row.querySelector("[data-choose]").onclick = () => { choose(mark); draw(); };
		row.querySelector("[data-hidden]").onchange = (event) => { mark.hidden = event.target.checked; if (mark.hidden) mark.at = null; fill(mark); draw(); };
		for (const field of row.querySelectorAll("[data-axis]")) field.onchange = () => {
			const typed = [...row.querySelectorAll("[data-axis]")].map((f) => (f.value.trim() === "" ? Number.NaN : Number(f.value.replace(",", "."))));
			if (typed.every(Number.isFinite)) put(mark, typed);
			else if (typed.every(Number.isNaN)) put(mark, null);
		};
		fill(mark);
	}
	function showArea() {
		const [x, y, w, h] = document.getElementById("area").value.split(",").map(Number);
		const hole = [x, y, w, h].every(Number.isFinite) ? `M${x} ${y}h${w}v${h}h${-w}Z` : "";
		document.getElementById("cut").setAttribute("d", `M0 0H${size[0]}V${size[1]}H0Z${hole}`);
	}
	document.getElementById("area").oninput = showArea;
	form.addEventListener("submit", () => { form.elements.points.value = JSON.stringify(pointsOf(marks)); });
	new ResizeObserver(draw).observe(svg);
	showArea();
	draw();
	window.anaxisReady = true;
}

if (typeof document !== "undefined") start(document.getElementById("board"));
