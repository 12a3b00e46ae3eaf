// Many files: each is sent, read and kept by a request of its own, two at a time; its row comes as it is done.
const form = document.getElementById("many"), rows = document.getElementById("rows"), keep = document.getElementById("keep");
const accept = document.getElementById("accept"), drop = document.getElementById("drop"), files = document.getElementById("files");
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
    try { await job(); } catch (error) { trouble.textContent = `${error.message} The others go on.`; trouble.hidden = false; }
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

async function row(url, data, place) {
  const answer = await fetch(url, { method: "POST", body: data });
  const text = await answer.text();
  const held = document.createElement("template");
  held.innerHTML = text.trim();
  const made = held.content.querySelector("tr");
  if (!answer.ok || !made) throw new Error(`${data.get("path")} was not read (${answer.status}): send it again.`);
  if (place) place.replaceWith(made); else rows.append(made);
  offer();
}

// The remedies of all rows, each to be ticked once for all.
function offer() {
  const found = new Map();
  for (const tr of rows.querySelectorAll("tr:not([data-kept])"))
    for (const [code, words] of Object.entries(JSON.parse(tr.dataset.remedies))) found.set(code, [(found.get(code)?.[0] ?? 0) + 1, words]);
  const ticked = new Set([...accept.querySelectorAll("input:checked")].map((i) => i.value));
  accept.replaceChildren(...[...found].map(([code, [count, words]]) => {
    const label = document.createElement("label"), box = document.createElement("input");
    label.className = "tick";
    label.title = words;
    Object.assign(box, { type: "checkbox", name: "accept", value: code, className: "form-check-input", checked: ticked.has(code) });
    label.append(box, ` remedy of ${code.replaceAll("_", " ")} (${count})`);
    return label;
  }));
}

function asked(path) {
  const data = new FormData(form);
  data.set("path", path);
  return data;
}
function take(list) {
  const wanted = list.filter(([file, path]) => !path.includes("/") || suffixes.some((s) => file.name.toLowerCase().endsWith(s)));
  begin(wanted.map(([file, path]) => () => {
    const data = asked(path);
    data.set("file", file);
    return row("/take-in/many/file", data);
  }), "read");
}

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
    () => row(`/take-in/many/${tr.dataset.source}/row`, asked(tr.dataset.path), tr)), "looked at again");
});
rows.addEventListener("change", tell);
keep.addEventListener("click", () => {
  const chosen = [...rows.querySelectorAll("tr[data-source]")].filter((tr) => tr.querySelector("input:checked"));
  begin(chosen.map((tr) => () => row(`/take-in/many/${tr.dataset.source}/keep`, asked(tr.dataset.path), tr)), "kept");
});
