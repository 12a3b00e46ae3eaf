// Guides over a picture: shapes in shares of it, as the server works them out (core/camera/guides.py), put on a canvas.
import { FONT } from "./drawing.js";

/** The guides of a board, which carries them as JSON. */
export function guidesOf(board) {
	return JSON.parse(board.dataset.guides ?? "[]");
}

/** Draw shapes over the picture that lies in a box {x, y, w, h} of the canvas. */
export function drawGuides(pen, box, shapes, ink) {
	for (const s of shapes) {
		const x = box.x + s.x0 * box.w;
		const y = box.y + s.y0 * box.h;
		const w = (s.x1 - s.x0) * box.w;
		const h = (s.y1 - s.y0) * box.h;
		pen.strokeStyle = ink.soft;
		pen.lineWidth = 1;
		if (s.kind === "mask") {
			pen.fillStyle = "rgba(28,37,48,.55)";
			pen.beginPath();
			pen.rect(box.x, box.y, box.w, box.h);
			pen.rect(x, y, w, h);
			pen.fill("evenodd");
		} else if (s.kind === "rect") pen.strokeRect(x, y, w, h);
		else if (s.kind === "line") {
			pen.beginPath();
			pen.moveTo(x, y);
			pen.lineTo(x + w, y + h);
			pen.stroke();
		}
		if (s.label) {
			pen.font = FONT;
			pen.textAlign = "left";
			pen.fillStyle = ink.soft;
			pen.fillText(s.label, Math.max(box.x + 2, x + 4), Math.max(box.y + 12, y + 13));
		}
	}
}
