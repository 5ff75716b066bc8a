// The rack: uploading, opening by path, removing, and keeping the list up to date.

import { post, say, text, upload } from "./api.js";

const list = document.getElementById("rack-list");
const drop = document.getElementById("drop");
const file = document.getElementById("file");
const box = document.getElementById("upload");
const job = document.getElementById("job");

async function refresh() {
  try {
    const fresh = await text("/rack/list");
    if (fresh.trim() !== list.dataset.last) {
      list.dataset.last = fresh.trim();
      list.innerHTML = fresh;
    }
  } catch { /* the next round asks again */ }
  setTimeout(refresh, list.querySelector("[data-busy]") ? 600 : 4000);
}

const size = (bytes) => (bytes >= 1e9 ? `${(bytes / 1e9).toFixed(2)} GB` : `${(bytes / 1e6).toFixed(1)} MB`);

async function send(chosen) {
  if (!chosen) return;
  box.hidden = false;
  const bar = box.querySelector("progress");
  const began = performance.now();
  const running = upload(`/reels/upload?name=${encodeURIComponent(chosen.name)}&job=${encodeURIComponent(job.value)}`, chosen, (done, total) => {
    bar.value = done / total;
    const rate = done / ((performance.now() - began) / 1000);
    document.getElementById("upload-said").textContent = `${chosen.name}: ${size(done)} of ${size(total)}, ${Math.ceil((total - done) / Math.max(1, rate))} s left`;
  });
  document.getElementById("upload-stop").onclick = running.stop;
  try {
    location.href = (await running.done).open;
  } catch (error) {
    say(error.message, "error");
  }
  box.hidden = true;
  file.value = "";
}

file.addEventListener("change", () => send(file.files[0]));
for (const name of ["dragenter", "dragover"]) drop.addEventListener(name, (event) => { event.preventDefault(); drop.classList.add("over"); });
for (const name of ["dragleave", "drop"]) drop.addEventListener(name, () => drop.classList.remove("over"));
drop.addEventListener("drop", (event) => { event.preventDefault(); send(event.dataTransfer.files[0]); });

document.getElementById("open")?.addEventListener("submit", async (event) => {
  event.preventDefault();
  try {
    location.href = (await post("/reels/open", { path: new FormData(event.target).get("path"), job: job.value })).open;
  } catch (error) {
    say(error.message, "error");
  }
});

list.addEventListener("click", async (event) => {
  const button = event.target.closest("[data-remove]");
  if (!button) return;
  if (!button.dataset.sure) {
    button.dataset.sure = "yes";
    button.textContent = "Really remove";
    setTimeout(() => { delete button.dataset.sure; button.textContent = "Remove"; }, 4000);
    return;
  }
  try {
    await post(`/reels/${button.dataset.remove}/remove`);
    list.innerHTML = await text("/rack/list");
  } catch (error) {
    say(error.message, "error");
  }
});

list.dataset.last = list.innerHTML.trim();
refresh();
