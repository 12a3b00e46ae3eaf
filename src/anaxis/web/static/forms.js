// After a form was refused: what was typed stands in it again, and the sentence stands at the field that it is about.
const KEY = "anaxis-typed";

/** What a form holds that may be kept for a moment: no password, no file. Pairs of name and value; null for a form with a secret. */
export function typedOf(elements) {
	const pairs = [];
	for (const field of elements) {
		if (field.type === "password") return null;
		if (!field.name || field.type === "file" || field.type === "hidden" || field.type === "submit") continue;
		if ((field.type === "checkbox" || field.type === "radio") && !field.checked) continue;
		pairs.push([field.name, field.value]);
	}
	return pairs;
}

/** Put values back; those of fields that are not there are left out. */
export function putBack(elements, pairs) {
	for (const field of elements) {
		if (!field.name || field.type === "file" || field.type === "hidden" || field.type === "submit") continue;
		const values = pairs.filter(([name]) => name === field.name).map(([, value]) => value);
		if (field.type === "checkbox" || field.type === "radio") field.checked = values.includes(field.value);
		else if (values.length === 1) field.value = values[0];
	}
}

function unfold(field) {
	for (let at = field; at; at = at.parentElement) if (at.tagName === "DETAILS") at.open = true;
}

function sayAt(field, sentence) {
	unfold(field);
	field.classList.add("is-invalid");
	field.setAttribute("aria-invalid", "true");
	sentence.id = "wrong-field";
	sentence.classList.remove("top-said");
	field.setAttribute("aria-describedby", sentence.id);
	(field.closest(".pair") ?? field.closest("label, fieldset") ?? field).after(sentence);
	field.focus();
}

/** The search dialog, opened with what was typed before; whether there is one. */
function openSearch() {
	const dialog = document.getElementById("find");
	if (!dialog || document.querySelector("dialog[open]")) return false;
	dialog.showModal();
	dialog.querySelector("input").select();
	return true;
}

function begin() {
	addEventListener("submit", (event) => {
		const form = event.target;
		const typed = form.method === "post" ? typedOf(form.elements) : null;
		if (typed) sessionStorage.setItem(KEY, JSON.stringify({ action: form.getAttribute("action"), typed }));
		else sessionStorage.removeItem(KEY);
	});
	addEventListener("keydown", (event) => {
		const keys = document.getElementById("keys");
		if (event.ctrlKey || event.metaKey || event.altKey || event.target.closest?.("input, select, textarea")) return;
		if (event.key === "?" && keys && !keys.open) keys.showModal();
		if (event.key === "/" && openSearch()) event.preventDefault();
	});
	document.getElementById("to-search")?.addEventListener("click", (event) => {
		if (!event.ctrlKey && !event.metaKey && openSearch()) event.preventDefault();
	});
	addEventListener("change", (event) => {
		const all = event.target.dataset?.all; // the name of the boxes that one box ticks
		if (all) for (const box of document.querySelectorAll(`input[type=checkbox][name="${all}"]`)) box.checked = event.target.checked;
	});
	const sentence = document.querySelector(".top-said");
	const kept = JSON.parse(sessionStorage.getItem(KEY) ?? "null");
	sessionStorage.removeItem(KEY);
	if (!sentence || !kept) return;
	const form = [...document.forms].find((f) => f.method === "post" && f.getAttribute("action") === kept.action);
	if (!form) return;
	putBack(form.elements, kept.typed);
	for (const [name, value] of kept.typed)
		for (const f of form.elements) if (f.name === name && f.type === "text" && f.value === value && value !== f.defaultValue) unfold(f);
	const name = sentence.dataset.field; // "" for a sentence that is about no field
	const field = name && [...form.elements].find((f) => f.name === name && f.type !== "hidden");
	if (field) sayAt(field, sentence);
}

if (typeof document !== "undefined") begin();
