// The rack: uploading, opening by path, removing, and keeping the list up to date.

import { follow, post, say, seldom, text, upload } from "./api.js";
import { morph } from "./morph.js";

const list = document.getElementById("rack-list");
const drop = document.getElementById("drop");
const file = document.getElementById("file");
const box = document.getElementById("upload");
const job = document.getElementById("job");

// The list as it is now; a title that is being typed stays, and the list follows once it is done.
function put(fresh) {
  if (list.dataset.editing) return;
  list.dataset.last = fresh.trim();
  morph(list, fresh);
}

async function refresh() {
  try {
    const fresh = await text("/rack/list");
    if (fresh.trim() !== list.dataset.last && !list.querySelector("[data-sure]")) put(fresh);
  } catch {
    /* the next news ask again */
  }
}

const size = (bytes) => (bytes >= 1e9 ? `${(bytes / 1e9).toFixed(2)} GB` : `${(bytes / 1e6).toFixed(1)} MB`);

// A job's archive: its reels have to be here already.
async function sendArchive(chosen) {
  try {
    say((await upload(`/jobs/archive?name=${encodeURIComponent(chosen.name)}`, chosen, () => {}).done).said);
  } catch (error) {
    say(error.message, "error");
  }
  refresh();
}

async function send(chosen) {
  if (!chosen) return;
  if (/\.zip$/i.test(chosen.name)) {
    await sendArchive(chosen);
    return;
  }
  box.hidden = false;
  const bar = box.querySelector("progress");
  const began = performance.now();
  const running = upload(
    `/reels/upload?name=${encodeURIComponent(chosen.name)}&job=${encodeURIComponent(job.value)}`,
    chosen,
    (done, total) => {
      bar.value = done / total;
      const rate = done / ((performance.now() - began) / 1000);
      document.getElementById("upload-said").textContent =
        `${chosen.name}: ${size(done)} of ${size(total)}, ${Math.ceil((total - done) / Math.max(1, rate))} s left`;
    },
  );
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
const archive = document.getElementById("archive");
archive.addEventListener("change", async () => {
  if (archive.files[0]) await sendArchive(archive.files[0]);
  archive.value = "";
});
for (const name of ["dragenter", "dragover"])
  drop.addEventListener(name, (event) => {
    event.preventDefault();
    drop.classList.add("over");
  });
for (const name of ["dragleave", "drop"]) drop.addEventListener(name, () => drop.classList.remove("over"));
// A folder that is dropped is a sequence; a file is a movie.
drop.addEventListener("drop", async (event) => {
  event.preventDefault();
  const entry = event.dataTransfer.items[0]?.webkitGetAsEntry?.();
  if (!entry?.isDirectory) {
    send(event.dataTransfer.files[0]);
    return;
  }
  const reader = entry.createReader();
  const entries = [];
  for (;;) {
    const part = await new Promise((resolve, reject) => reader.readEntries(resolve, reject));
    if (!part.length) break;
    entries.push(...part.filter((e) => e.isFile));
  }
  sendSequence(entry.name, await Promise.all(entries.map((e) => new Promise((resolve, reject) => e.file(resolve, reject)))));
});

const folder = document.getElementById("folder");
folder.addEventListener("change", () => sendSequence(folder.files[0]?.webkitRelativePath.split("/")[0] ?? "sequence", [...folder.files]));

async function sendSequence(name, files) {
  const pictures = files.filter((f) => /\.(dpx|tiff?|png|exr|jpe?g)$/i.test(f.name)).sort((a, b) => (a.name < b.name ? -1 : 1));
  if (!pictures.length) {
    say("That folder holds no pictures of a sequence (DPX, TIFF, PNG, OpenEXR or JPEG).", "error");
    return;
  }
  box.hidden = false;
  const bar = box.querySelector("progress");
  const total = pictures.reduce((sum, f) => sum + f.size, 0);
  let done = 0,
    running = null,
    stopped = false;
  const began = performance.now();
  document.getElementById("upload-stop").onclick = () => {
    stopped = true;
    running?.stop();
  };
  try {
    const { token } = await post("/reels/sequence", { name });
    for (const [n, picture] of pictures.entries()) {
      if (stopped) throw new Error("The upload was stopped.");
      running = upload(`/reels/sequence/${token}/picture?name=${encodeURIComponent(picture.name)}`, picture, () => {});
      await running.done;
      done += picture.size;
      bar.value = done / Math.max(1, total);
      const rate = done / ((performance.now() - began) / 1000);
      document.getElementById("upload-said").textContent =
        `${n + 1} of ${pictures.length} pictures, ${size(done)} of ${size(total)}, ${Math.ceil((total - done) / Math.max(1, rate))} s left`;
    }
    location.href = (await post(`/reels/sequence/${token}/finish`, { job: job.value })).open;
  } catch (error) {
    say(error.message, "error");
  }
  box.hidden = true;
  folder.value = "";
}

document.getElementById("open")?.addEventListener("submit", async (event) => {
  event.preventDefault();
  try {
    location.href = (await post("/reels/open", { path: new FormData(event.target).get("path"), job: job.value })).open;
  } catch (error) {
    say(error.message, "error");
  }
});

const describe = document.getElementById("describe");
async function change(url, body) {
  try {
    say((await post(url, body)).said ?? "Done.");
    put(await text("/rack/list"));
  } catch (error) {
    say(error.message, "error");
  }
}

list.addEventListener("click", async (event) => {
  const told = event.target.closest("[data-job]");
  if (told) {
    const form = describe.querySelector("form");
    for (const [name, value] of Object.entries(JSON.parse(told.dataset.values))) form.elements[name].value = value;
    describe.onclose = () => {
      if (describe.returnValue === "save") change(told.dataset.job, Object.fromEntries(new FormData(form)));
    };
    describe.returnValue = "";
    describe.showModal();
    return;
  }
  const running = event.target.closest("[data-run]");
  if (running) {
    run(running);
    return;
  }
  const posting = event.target.closest("[data-post]");
  if (posting) {
    change(posting.dataset.post, JSON.parse(posting.dataset.body ?? "{}"));
    return;
  }
  const naming = event.target.closest("[data-rename]");
  if (naming) {
    rename(naming);
    return;
  }
  const button = event.target.closest("[data-remove]");
  if (!button) return;
  if (!button.dataset.sure) {
    button.dataset.sure = "yes";
    button.textContent = "Really remove";
    setTimeout(() => {
      delete button.dataset.sure;
      button.textContent = "Remove";
    }, 8000);
    return;
  }
  try {
    await post(button.dataset.remove);
    put(await text("/rack/list"));
  } catch (error) {
    say(error.message, "error");
  }
});

// Which reels are run, how, and what is delivered.
function run(button) {
  const box = document.getElementById("run");
  const form = box.querySelector("form");
  document.getElementById("run-reels").replaceChildren(
    ...JSON.parse(button.dataset.reels).map(([id, title]) => {
      const label = document.createElement("label");
      const tick = document.createElement("input");
      Object.assign(tick, { type: "checkbox", name: "reels", value: id, checked: true });
      label.append(tick, ` ${title}`);
      return label;
    }),
  );
  box.onclose = () => {
    if (box.returnValue !== "run") return;
    const told = new FormData(form);
    change(button.dataset.run, { reels: told.getAll("reels").map(Number), recipe: Number(told.get("recipe")), kind: told.get("kind") });
  };
  box.returnValue = "";
  box.showModal();
}

// The title becomes a field; Enter keeps what is typed, Escape leaves it.
function rename(button) {
  // A reel that is still being drawn has a title that leads nowhere; one that is being named has a field.
  const title = button.closest("article").querySelector(".font-semibold");
  if (!title) return;
  const field = document.createElement("input");
  field.type = "text";
  field.maxLength = 200;
  field.value = button.dataset.title;
  field.setAttribute("aria-label", "Title of the reel");
  title.replaceWith(field);
  list.dataset.editing = "yes";
  field.focus();
  field.select();
  const end = () => {
    delete list.dataset.editing;
    list.dataset.last = "";
    refresh();
  };
  field.addEventListener("keydown", async (event) => {
    if (event.key === "Enter") {
      await change(button.dataset.rename, { title: field.value });
      end();
    }
    if (event.key === "Escape") end();
  });
}

sessionStorage.removeItem("list");
list.dataset.last = list.innerHTML.trim();
follow("/rack/events", seldom(refresh, 500), () => {});
