// Dropping a file is choosing it; choosing one sends it.
const drop = document.getElementById("drop"), file = document.getElementById("file"), form = document.getElementById("drop-form");

function send() {
  if (!file.files.length) return;
  document.getElementById("reading").hidden = false;
  form.requestSubmit();
}
file.addEventListener("change", send);
for (const name of ["dragover", "dragenter"]) drop.addEventListener(name, (event) => { event.preventDefault(); drop.classList.add("over"); });
for (const name of ["dragleave", "drop"]) drop.addEventListener(name, (event) => { event.preventDefault(); drop.classList.remove("over"); });
drop.addEventListener("drop", (event) => {
  if (!event.dataTransfer.files.length) return;
  if (event.dataTransfer.files.length > 1) {
    // None of them is passed over in silence.
    const said = document.getElementById("several");
    said.textContent = `${event.dataTransfer.files.length} files were dropped: use the page Take in many files.`;
    said.hidden = false;
    return;
  }
  file.files = event.dataTransfer.files;
  send();
});
