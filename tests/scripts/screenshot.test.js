import assert from "node:assert/strict";
import test from "node:test";

import { nearestCorner, pointsOf, zoomed } from "../../src/anaxis/web/static/screenshot.js";

test("a place snaps to the nearest corner within reach", () => {
	const corners = [[10, 10], [12, 10], [100, 100]];
	assert.deepEqual(nearestCorner(corners, [11.4, 10], 5), [12, 10]);
	assert.equal(nearestCorner(corners, [50, 50], 5), null);
});

test("what is sent has places, and null for what is hidden", () => {
	const marks = [{ name: "bell", at: [1, 2] }, { name: "post", hidden: true }, { name: "hub", at: null }];
	assert.deepEqual(pointsOf(marks), { bell: [1, 2], post: null });
});

test("a zoom keeps the place under the pointer, and the view within the picture", () => {
	const size = [1920, 1080], near = zoomed([0, 0, 1920, 1080], 2, [480, 270], size);
	assert.deepEqual(near, [240, 135, 960, 540]);
	assert.deepEqual(zoomed(near, 0.1, [0, 0], size), [0, 0, 1920, 1080]);
	const edge = zoomed([0, 0, 1920, 1080], 4, [1920, 1080], size);
	assert.deepEqual(edge, [1440, 810, 480, 270]);
});
