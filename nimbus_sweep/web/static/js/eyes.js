// What needs eyes: one entry at a time, worst first, by keys.

import { follow, get, post, say, seldom, text } from "./api.js";

const by = (name) => document.getElementById(name);
const job = document.querySelector("[data-job]").dataset.job;
const entries = by("entries");
const SIDE = 150; // pixels of the picture that are shown around a small place
let told = JSON.parse(by("told").textContent);
let at = 0;
let showing = "";

const one = () => told.entries[at];

function list() {
  by("count").textContent = told.open;
  by("count-said").textContent = told.open === 1 ? "thing needs eyes" : "things need eyes";
  at = Math.max(0, Math.min(at, told.entries.length - 1));
  entries.replaceChildren(
    ...told.entries.map((entry, n) => {
      const line = document.createElement("li");
      const button = document.createElement("button");
      button.type = "button";
      button.tabIndex = -1;
      button.setAttribute("aria-current", String(n === at));
      const what = document.createElement("b");
      what.textContent = entry.heading;
      const where = document.createElement("span");
      where.className = "soft";
      where.textContent = `${entry.title}${entry.pictured ? `, frame ${entry.frame}` : ""}${entry.remark ? " · remark" : ""}`;
      button.append(what, where);
      button.onclick = () => go(n);
      line.append(button);
      return line;
    }),
  );
  entries.querySelector('[aria-current="true"]')?.scrollIntoView({ block: "nearest" });
}

// Where the place lies on a picture as it is laid out: shares of its width and height.
function mark(image, [left, top, width, height]) {
  const box = image.parentElement.querySelector(".mark-place");
  box.hidden = true;
  if (!image.naturalWidth || left === null) return;
  const fits = getComputedStyle(image).objectFit === "contain";
  const scale = Math.min(image.clientWidth / image.naturalWidth, image.clientHeight / image.naturalHeight);
  const wide = fits ? image.naturalWidth * scale : image.clientWidth;
  const tall = fits ? image.naturalHeight * scale : image.clientHeight;
  const place = {
    left: (image.clientWidth - wide) / 2 + left * wide,
    top: (image.clientHeight - tall) / 2 + top * tall,
    width: width * wide,
    height: height * tall,
  };
  for (const [name, value] of Object.entries(place)) box.style[name] = `${value}px`;
  box.hidden = false;
}

function marks() {
  const entry = one();
  if (!entry?.pictured) return;
  const [x, y, w, h] = entry.box;
  const { left, top } = part(entry);
  for (const image of [by("before"), by("after")]) {
    const room = 3; // pixels around it, so that it can be seen
    const at = (value, from, all) => (value - from) / Math.max(1, all);
    const all = [image.naturalWidth, image.naturalHeight];
    mark(
      image,
      w ? [at(x - room, left, all[0]), at(y - room, top, all[1]), (w + 2 * room) / all[0], (h + 2 * room) / all[1]] : [null, 0, 0, 0],
    );
  }
  mark(by("row"), [(x + w / 2) / by("row").naturalWidth, 0, 0, 1]);
  mark(by("column"), [0, (y + h / 2) / by("column").naturalHeight, 1, 0]);
}
window.addEventListener("resize", marks);

// A picture that is not worked out yet is asked for again, a while.
function picture(image, url, patience = 20) {
  image.dataset.url = url;
  image.hidden = !url;
  if (!url) return;
  image.onerror = () => {
    if (image.dataset.url !== url || patience <= 0) return;
    image.dataset.state = "waits";
    setTimeout(() => image.dataset.url === url && picture(image, url, patience - 1), 900);
  };
  image.onload = () => {
    image.dataset.state = "";
    marks();
  };
  image.src = `${url}&try=${patience}`;
}

function part(entry) {
  const [x, y, w, h] = entry.box;
  const side = Math.max(SIDE, Math.round(1.6 * Math.max(w, h)));
  const left = Math.max(0, Math.round(x + w / 2 - side / 2));
  const top = Math.max(0, Math.round(y + h / 2 - side / 2));
  return { left, top, side };
}

function show() {
  const entry = one();
  by("one").hidden = !entry;
  by("none").hidden = Boolean(entry);
  if (!entry) {
    by("none-said").textContent = told.running ? "Nothing so far" : "Nothing needs eyes";
    by("none-why").textContent = told.running
      ? "The job is still being run; what cannot be decided alone comes here."
      : told.ready
        ? "The job can be delivered: open What was done, or press D."
        : "Run the job from the rack first.";
    if (told.ready) by("done").open = true;
    return;
  }
  const key = `${entry.id}/${entry.after}`;
  if (key === showing) return;
  showing = key;
  by("heading").textContent = entry.heading;
  by("place").textContent = entry.pictured ? `${entry.title}, frame ${entry.frame}` : entry.title;
  by("reason").textContent = entry.reason;
  by("accept").firstElementChild.textContent = entry.accept;
  by("leave").firstElementChild.textContent = entry.leave;
  by("open").href = entry.open;
  by("remark").value = entry.remark;
  by("like").checked = false;
  by("like-label").hidden = !entry.like;
  by("like-said").textContent = `and the ${entry.like} like it`;
  const base = `/reels/${entry.reel}`;
  const whole = !entry.box[2];
  const { left, top, side } = part(entry);
  const crop = (view) =>
    whole
      ? `${base}/frame/${entry.frame}.jpg?view=${view}&w=960&eye=${entry.id}`
      : `${base}/crop/${entry.frame}.png?view=${view}&x=${left}&y=${top}&w=${side}&h=${side}&stays=1&eye=${entry.id}`;
  document.querySelector(".eyes-pictures").hidden = !entry.pictured;
  by("after-figure").hidden = !entry.after;
  by("after-said").textContent = entry.after === "doubtful" ? "If it is mended" : "Treated";
  picture(by("before"), entry.pictured ? crop("source") : "");
  picture(by("after"), entry.pictured && entry.after ? crop(entry.after) : "");
  const x = Math.round(entry.box[0] + entry.box[2] / 2);
  const y = Math.round(entry.box[1] + entry.box[3] / 2);
  for (const name of ["row", "column"]) by(name).parentElement.hidden = !entry.pictured || whole;
  picture(by("row"), entry.pictured && !whole ? `${base}/slice/row/${y}.jpg?view=source&shot=${entry.shot}` : "");
  picture(by("column"), entry.pictured && !whole ? `${base}/slice/column/${x}.jpg?view=source&shot=${entry.shot}` : "");
  if (entry.pictured && entry.shot) post(`${base}/open?shot=${entry.shot}`).catch(() => {});
}

function take(fresh) {
  told = fresh;
  list();
  show();
}

function go(to) {
  at = Math.max(0, Math.min(to, told.entries.length - 1));
  list();
  show();
}

async function asked(work) {
  try {
    const answer = await work();
    say(answer.said);
    if (answer.entries) take(answer);
  } catch (error) {
    say(error.message, "error");
    take(await get(`/jobs/${job}/eyes/list`).catch(() => told));
  }
}

const decide = (state) => one() && asked(() => post(`/eyes/${one().id}/${state}`, { like: by("like").checked }));
by("accept").onclick = () => decide("accepted");
by("leave").onclick = () => decide("left");
by("undo").onclick = () => asked(() => post(`/jobs/${job}/eyes/undo`));
by("wave").onclick = () => asked(() => post(`/jobs/${job}/eyes/wave`));
by("remark").addEventListener("change", () => {
  const entry = one();
  entry.remark = by("remark").value;
  asked(() => post(`/eyes/${entry.id}/remark`, { remark: entry.remark }));
  list();
});
// The reel opens at the place.
by("open").addEventListener("click", () => {
  const entry = one();
  const held = JSON.parse(sessionStorage.getItem(`bench-${entry.reel}`) ?? "{}");
  const [x, y, w, h] = entry.box;
  Object.assign(held, { frame: entry.frame, x: Math.round(x + w / 2), y: Math.round(y + h / 2) });
  if (w) Object.assign(held, { zoom: 2, centreX: held.x, centreY: held.y });
  sessionStorage.setItem(`bench-${entry.reel}`, JSON.stringify(held));
  sessionStorage.setItem("list", `/jobs/${job}/eyes?after=${entry.id}`);
});
by("again").onclick = () => asked(() => post(`/jobs/${job}/eyes/again`));
document.addEventListener("submit", (event) => {
  if (event.target.id !== "deliver") return;
  event.preventDefault();
  asked(() => post(`/jobs/${job}/deliver`, Object.fromEntries(new FormData(event.target)))).then(doneToo);
});

const KEYS = {
  a: () => decide("accepted"),
  l: () => decide("left"),
  m: () => {
    if (one()?.like) by("like").checked = !by("like").checked;
  },
  o: () => one() && by("open").click(),
  r: () => by("remark").focus(),
  d: () => by("deliver")?.requestSubmit(),
  arrowdown: () => go(at + 1),
  arrowup: () => go(at - 1),
};
document.addEventListener("keydown", (event) => {
  if (event.target.matches("input[type=text], select")) {
    if (event.key === "Escape" || event.key === "Enter") event.target.blur();
    return;
  }
  const key = event.key.toLowerCase();
  if ((event.ctrlKey || event.metaKey) && key === "z") {
    event.preventDefault();
    by("undo").click();
  } else if (!event.ctrlKey && !event.metaKey && !event.altKey && KEYS[key]) {
    event.preventDefault();
    KEYS[key]();
  }
});

async function doneToo() {
  const open = by("deliver")?.elements.kind.value;
  by("done-body").innerHTML = await text(`/jobs/${job}/eyes/done`);
  if (open) by("deliver").elements.kind.value = open;
}

async function news() {
  const fresh = await get(`/jobs/${job}/eyes/list`).catch(() => null);
  if (fresh && JSON.stringify(fresh) !== JSON.stringify(told)) {
    const id = one()?.id;
    const again = fresh.entries.findIndex((entry) => entry.id === id);
    if (again >= 0) at = again;
    take(fresh);
  }
  if (by("done").open) doneToo().catch(() => {});
}
follow("/rack/events", seldom(news, 1000), () => {});
by("done").addEventListener("toggle", () => by("done").open && doneToo().catch(() => {}));
// Back from a reel that was opened here, the next one is up.
const after = Number(new URLSearchParams(location.search).get("after"));
at = told.entries.findIndex((entry) => entry.id === after) + 1;
list();
show();
