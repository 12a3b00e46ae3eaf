import assert from "node:assert/strict";
import test from "node:test";

import { exactTime, shownTime } from "../../src/anaxis/web/static/times.js";

const NOW = new Date("2026-12-01T10:00:00Z");

test("a moment is said as people say it, in the reader's own day", () => {
	assert.equal(shownTime(new Date("2026-12-01T09:36:12Z"), NOW, "UTC"), "today, 09:36");
	assert.equal(shownTime(new Date("2026-11-30T23:36:12Z"), NOW, "UTC"), "yesterday, 23:36");
	assert.equal(shownTime(new Date("2026-11-30T23:36:12Z"), NOW, "Asia/Tokyo"), "today, 08:36");
	assert.equal(shownTime(new Date("2026-03-02T05:06:00Z"), NOW, "UTC"), "2 Mar, 05:06");
	assert.equal(shownTime(new Date("2025-03-02T05:06:00Z"), NOW, "UTC"), "2 Mar 2025, 05:06");
});

test("the exact time has seconds and a zone", () => {
	assert.match(exactTime(new Date("2026-12-01T09:36:12Z"), "UTC"), /1 Dec 2026.*09:36:12 UTC/);
});
