import assert from "node:assert/strict";
import { test } from "node:test";
import { putBack, typedOf } from "../../src/anaxis/web/static/forms.js";

const field = (name, type, value, checked = false) => ({ name, type, value, checked });

test("what was typed comes back, but no hidden number, file or password", () => {
	const before = [
		field("overscan", "text", "10%"),
		field("tight", "checkbox", "true", true),
		field("format_key", "radio", "usd"),
		field("format_key", "radio", "gltf", true),
		field("version", "hidden", "7"),
		field("own_profile", "file", "C:/secret.json"),
	];
	const typed = typedOf(before);
	assert.deepEqual(typed, [
		["overscan", "10%"],
		["tight", "true"],
		["format_key", "gltf"],
	]);
	const now = [
		field("overscan", "text", ""),
		field("tight", "checkbox", "true"),
		field("format_key", "radio", "usd", true),
		field("format_key", "radio", "gltf"),
		field("version", "hidden", "8"),
		field("samples", "text", "1"),
	];
	putBack(now, typed);
	assert.deepEqual(
		now.map((f) => [f.value, f.checked]),
		[["10%", false], ["true", true], ["usd", false], ["gltf", true], ["8", false], ["1", false]],
	);
	assert.equal(typedOf([field("name", "text", "a"), field("password", "password", "b")]), null);
});
