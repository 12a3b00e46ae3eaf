// Many files: each is sent, read and kept by a request of its own, two at a time; its row comes as it is done.
import { filesOf, isZip } from "./zip.js";

const form = document.getElementById("many"), rows = document.getElementById("rows"), keep = document.getElementById("keep");
const head = document.getElementById("head"), drop = document.getElementById("drop"), files = document.getElementById("files");
const folder = document.getElementById("folder"), trouble = document.getElementById("trouble"), suffixes = files.accept.split(",");
const AT_ONCE = 2;
let work = [], busy = 0, sum = 0, over = 0, doing = "";

function tell() {
  const of = (state) => rows.querySelectorAll(`tr[data-state="${state}"]:not([data-kept])`).length;
  const kept = rows.querySelectorAll("tr[data-kept]").length, bad = of("cannot be taken in");
  document.getElementById("told").textContent = busy ? `${over} of ${sum} ${doing}` : kept ? `${kept} kept` : `${rows.children.length} read`;
  document.getElementById("counts").textContent = ["new", "newer take", "older", "same again", "cannot be taken in"].map((s) => [of(s), s])
    .filter(([n]) => n).map(([n, s]) => `${n} ${s}`).join(", ");
  document.getElementById("answer").className = `answer ${busy ? "open" : bad ? "off" : rows.children.length ? "yes" : "open"}`;
  keep.disabled = busy > 0 || !rows.querySelector("input:checked");
}

// Takes up what waits until nothing does. What a request says that failed is shown, and stops nothing.
async function run() {
  if (busy >= AT_ONCE) return;
  busy += 1;
  for (let job = work.shift(); job; job = work.shift()) {
    try { await job(); } catch (error) { trouble.textContent = `${error.message} The other files continue.`; trouble.hidden = false; }
    over += 1;
    tell();
  }
  busy -= 1;
  tell();
}
function begin(jobs, words) {
  if (!busy) { sum = 0; over = 0; trouble.hidden = true; }
  doing = words;
  sum += jobs.length;
  work.push(...jobs);
  for (let i = 0; i < AT_ONCE; i++) run();
  tell();
}

const turns = new Map();  // of each file that was read: what was asked last holds, whatever answer comes last
async function row(url, data, source) {
  const turn = (turns.get(source) ?? 0) + 1;
  if (source) turns.set(source, turn);
  const answer = await fetch(url, { method: "POST", body: data });
  const text = await answer.text();
  const held = document.createElement("template");
  held.innerHTML = text.trim();
  const got = held.content.querySelector("tr");
  if (!answer.ok || !got) throw new Error(`${data.get("path") ?? data.get("at")} was not read (${answer.status}): try again.`);
  if (source && turns.get(source) !== turn) return;
  const same = source ? `data-source="${source}"` : `data-path="${CSS.escape(got.dataset.path)}"`;  // or the same file, come again
  const place = rows.querySelector(`tr[${same}]:not([data-kept])`);
  if (place) place.replaceWith(got);
  else rows.insertBefore(got, [...rows.children].find((r) => r.dataset.path.localeCompare(got.dataset.path, "en", { numeric: true }) > 0) ?? null);
  later(columns);
}
let drawing = 0;
function later(draw) {
  if (drawing) return;
  drawing = requestAnimationFrame(() => { drawing = 0; draw(); });
}

// A column for each kind of finding: in how many files it is, and its remedy, to be ticked once for all.
const made = (tag, name, ...inside) => {
  const element = document.createElement(tag);
  element.className = name;
  element.append(...inside);
  return element;
};
function columns() {
  const all = [...rows.children].map((tr) => [tr, JSON.parse(tr.dataset.findings), JSON.parse(tr.dataset.remedies)]), found = new Map();
  for (const [, findings, remedies] of all)
    for (const [code, severity] of Object.entries(findings)) {
      const held = found.get(code) ?? { count: 0, error: false, remedy: "" };
      found.set(code, { count: held.count + 1, error: held.error || severity === "error", remedy: held.remedy || remedies[code] || "" });
    }
  const ticked = new Set([...head.querySelectorAll("input:checked")].map((i) => i.value));
  const codes = [...found].sort(([, a], [, b]) => b.error - a.error || b.count - a.count);
  for (const old of document.querySelectorAll(".finding-column")) old.remove();
  for (const [code, { count, remedy }] of codes) {
    const words = code.replaceAll("_", " "), th = made("th", "finding-column", words, made("small", "", `in ${count}`));
    th.scope = "col";
    if (remedy) {
      const box = Object.assign(made("input", "form-check-input"), { type: "checkbox", name: "accept", value: code, checked: ticked.has(code) });
      box.setAttribute("form", "many");
      box.setAttribute("aria-label", `Remedy of ${words}`);
      const label = made("label", "tick", box, " remedy");
      label.title = remedy;
      th.append(label);
    }
    head.append(th);
  }
  for (const [tr, findings] of all)
    for (const [code] of codes) tr.append(made("td", `finding-column ${findings[code] === "error" ? "warm" : ""}`, findings[code] ?? ""));
}

function asked(path) {
  const data = new FormData(form);
  data.set("path", path);
  return data;
}
function fail(sentence) { trouble.textContent = sentence; trouble.hidden = false; }

// Zips with several camera files are opened here, unless they are to stay whole: a layer with those it refers to.
async function unpacked(list) {
  const all = [];
  for (const [file, path] of list) {
    if (!isZip(file) || form.elements.zips.value === "whole") { all.push([file, path]); continue; }
    try {
      const inside = (await filesOf(file)).filter(([one]) => !isZip(one) && suffixes.some((s) => one.name.toLowerCase().endsWith(s)));
      all.push(...(inside.length > 1 ? inside.map(([one, at]) => [one, `${path}/${at}`]) : [[file, path]]));
    } catch { all.push([file, path]); }  // what is wrong with it is said where it is read
  }
  return all;
}
async function take(list) {
  const wanted = (await unpacked(list)).filter(([file, path]) => !path.includes("/") || suffixes.some((s) => file.name.toLowerCase().endsWith(s)));
  if (!wanted.length) fail(`No camera files found: ${suffixes.join(", ")} can be read.`);
  begin(wanted.map(([file, path]) => () => {
    const data = asked(path);
    data.set("file", file);
    return row("/take-in/many/file", data);
  }), "read");
}

// A folder below a media root: read here and now, and what comes into it for as long as this page is open.
const below = document.getElementById("below");
let watching = null;
const seen = new Map();
function takeBelow(list, place) {
  begin(list.map((at) => () => {
    const data = new FormData(form);
    for (const [name, value] of [...place, ["at", at]]) data.set(name, value);
    return row("/take-in/many/below/file", data);
  }), "read");
}
async function lookBelow() {
  const place = new FormData(below), answer = await fetch(`/take-in/many/below?${new URLSearchParams(place)}`), found = await answer.json();
  const folders = document.getElementById("folders");
  folders.replaceChildren();
  if (found.said || !answer.ok) { fail(found.said ?? `The folder was not read (${answer.status}).`); return; }
  const at = place.get("folder").replace(/^\/+|\/+$/g, "");
  folders.replaceChildren(...found.folders.map((f) => Object.assign(document.createElement("option"), { value: at ? `${at}/${f}` : f })));
  if (!found.files.length) fail(`No camera files in this folder or below it${found.folders.length ? `; the folders in it: ${found.folders.slice(0, 12).join(", ")}` : ""}.`);
  takeBelow(found.files, place);
}
function watch() {
  const button = document.getElementById("watch"), place = new FormData(below);
  if (watching) { watching.close(); watching = null; button.textContent = "Read and watch folder"; button.setAttribute("aria-pressed", "false"); return; }
  watching = new EventSource(`/take-in/many/below/arrivals?${new URLSearchParams(place)}`);
  seen.clear();
  watching.addEventListener("message", (event) => {
    const { path, mark } = JSON.parse(event.data);
    if (seen.get(path) === mark) return;  // the line was cut and came again
    seen.set(path, mark);
    takeBelow([path], place);
  });
  watching.addEventListener("error", () => {
    if (watching?.readyState !== EventSource.CLOSED) return;
    watch();
    lookBelow();  // which says what is wrong with it
  });
  button.textContent = "Stop watching";
  button.setAttribute("aria-pressed", "true");
}
below?.addEventListener("submit", (event) => { event.preventDefault(); trouble.hidden = true; lookBelow(); });
document.getElementById("watch")?.addEventListener("click", watch);

files.addEventListener("change", () => { take([...files.files].map((f) => [f, f.name])); files.value = ""; });
folder.addEventListener("change", () => { take([...folder.files].map((f) => [f, f.webkitRelativePath || f.name])); folder.value = ""; });
document.getElementById("folder-button").addEventListener("click", () => folder.click());
for (const name of ["dragover", "dragenter"]) drop.addEventListener(name, (event) => { event.preventDefault(); drop.classList.add("over"); });
for (const name of ["dragleave", "drop"]) drop.addEventListener(name, (event) => { event.preventDefault(); drop.classList.remove("over"); });

async function walk(entry, found) {
  if (entry.isFile) found.push([await new Promise((done, fail) => entry.file(done, fail)), entry.fullPath.replace(/^\//, "")]);
  if (!entry.isDirectory) return;
  const reader = entry.createReader();
  for (;;) {  // a folder is told some hundred entries at a time
    const some = await new Promise((done, fail) => reader.readEntries(done, fail));
    if (!some.length) return;
    for (const one of some) await walk(one, found);
  }
}
drop.addEventListener("drop", async (event) => {
  const entries = [...event.dataTransfer.items].map((i) => i.webkitGetAsEntry()).filter(Boolean), found = [];
  for (const entry of entries) await walk(entry, found);
  take(found);
});

form.addEventListener("submit", (event) => event.preventDefault());
for (const name of ["rule", "show"]) form.elements[name].addEventListener("change", () => {
  begin([...rows.querySelectorAll("tr[data-source]:not([data-kept])")].map((tr) =>
    () => row(`/take-in/many/${tr.dataset.source}/row`, asked(tr.dataset.path), tr.dataset.source)), "checked again");
});
rows.addEventListener("change", tell);
keep.addEventListener("click", () => {
  const chosen = [...rows.querySelectorAll("tr[data-source]")].filter((tr) => tr.querySelector("input:checked"));
  begin(chosen.map((tr) => () => row(`/take-in/many/${tr.dataset.source}/keep`, asked(tr.dataset.path), tr.dataset.source)), "kept");
});
