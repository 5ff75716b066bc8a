// The work page: brings the linked views together and keeps them up to date.

import { follow, get, post, say, shows } from "./api.js";
import { bench } from "./bench.js";
import { letGo, onReady } from "./images.js";
import * as layout from "./layout.js";
import * as loupe from "./loupe.js";
import * as picture from "./picture.js";
import * as play from "./play.js";
import * as log from "./reel-log.js";
import * as regions from "./regions.js";
import * as retouch from "./retouch.js";
import * as sheet from "./sheet.js";
import * as slices from "./slices.js";
import * as specks from "./specks.js";
import * as trials from "./trials.js";

const id = bench.reel.id;
const stage = document.querySelector("script[data-stage]").dataset.stage;
const settings = JSON.parse(document.getElementById("settings").textContent);
const by = (name) => document.getElementById(name);

// -- drawing ---------------------------------------------------------------------------------------------

let asked = false;
function redraw() {
  if (asked) return;
  asked = true;
  requestAnimationFrame(() => {
    asked = false;
    picture.draw();
    if (!bench.playing || bench.frame % 2 === 0) {
      slices.draw();
      log.draw();
    }
    loupe.draw();
    buttons();
    readout();
  });
}

function buttons() {
  for (const button of document.querySelectorAll("[data-view]")) {
    button.setAttribute("aria-pressed", String(button.dataset.view === bench.view));
    button.disabled = button.dataset.view !== "source" && !bench.treated && bench.view === "source";
  }
  by("rings").setAttribute("aria-pressed", String(bench.rings));
  by("average").setAttribute("aria-pressed", String(bench.average !== "off"));
  by("average").textContent = `Average: ${{ off: "off", mean: "held", flat: "flattened" }[bench.average]}`;
  by("gain-label").hidden = bench.view !== "difference";
  play.label();
  sheet.mark();
}

let readFor = "";
let readWait = null;
function readout() {
  const key = `${bench.frame}/${bench.x}/${bench.y}/${bench.shown.at(-1)}/${bench.revision}`;
  if (key === readFor || bench.playing || !bench.reel.ready || bench.rested !== bench.frame) return;
  readFor = key;
  by("readout").textContent = `x ${String(bench.x).padStart(4)}  y ${String(bench.y).padStart(4)}`;
  clearTimeout(readWait);
  readWait = setTimeout(async () => {
    const view = bench.shown.at(-1) === "difference" ? "source" : bench.shown.at(-1);
    const told = await get(`/reels/${id}/value/${bench.frame}?x=${bench.x}&y=${bench.y}&view=${view}`).catch(() => null);
    if (told && key === readFor) {
      const samples = Object.entries(told.samples)
        .map(([name, v]) => `${name} ${String(v).padStart(3)}`)
        .join("  ");
      by("readout").textContent = `x ${String(told.x).padStart(4)}  y ${String(told.y).padStart(4)}   ${samples}`;
    }
  }, 120);
}

// -- keeping up to date ----------------------------------------------------------------------------------

let wasState = bench.reel.state;
const lastTask = {};

let asking = false;
let askAgain = false;
let news = null;

// One question is under way at a time: however often it is called for, the page asks no faster than it is answered.
async function refresh(told = null) {
  news = told;
  askAgain = true;
  if (asking) return;
  asking = true;
  try {
    while (askAgain) {
      askAgain = false;
      await bringUpToDate(news);
    }
  } finally {
    asking = false;
  }
}

let state = null;
let stateOf = "";
shows(() => bench.revision);

// The whole state is asked for only where the small answer tells that it changed.
async function bringUpToDate(told) {
  try {
    const pulse = told ?? (await get(`/reels/${id}/pulse`));
    const ended = pulse.tasks.map((t) => `${t.id}${t.state}`).join();
    const key = `${pulse.revision}/${pulse.mark}/${pulse.reel}/${ended}/${bench.shot?.id}`;
    if (key !== stateOf) {
      state = await get(`/reels/${id}/state?shot=${bench.shot?.id ?? 0}`);
      stateOf = key;
    }
    state.tasks = pulse.tasks;
  } catch (error) {
    by("tasks").textContent = error.answered
      ? error.message
      : "The application does not answer. Work goes on when it is started again; nothing is lost.";
    return;
  }
  if (state.reel !== wasState && (state.reel === "ready" || wasState === "ready" || state.reel === "open")) {
    location.reload();
    return;
  }
  wasState = state.reel;
  by("undo").disabled = !state.undo;
  by("undo").title = state.undo ? `Take back: ${state.undo} (Ctrl+Z)` : "Nothing to take back";
  by("redo").disabled = !state.redo;
  by("redo").title = state.redo ? `Redo: ${state.redo} (Ctrl+Y)` : "Nothing to redo";
  for (const link of document.querySelectorAll("[data-stage]:is(a)"))
    link.classList.toggle("finished", state.done.includes(link.dataset.stage));
  tasks(state.tasks);
  const justTreated = state.treated && !bench.treated;
  bench.reel.rate = state.rate;
  if (state.aspect !== bench.aspect) picture.share();
  bench.set({
    revision: state.revision,
    treated: state.treated,
    sitesOf: state.of,
    allSites: state.sites,
    mark: state.mark,
    aspect: state.aspect,
    shots: state.shots,
    laid: state.laid,
  });
  trials.know(state.trials);
  layOpen();
  if (justTreated && bench.view === "source" && stage !== "condition" && stage !== "intake") bench.set({ view: "treated" });
  if (
    !state.treated &&
    bench.view !== "source" &&
    !state.tasks.some((t) => t.kind === "analysis" && ["waiting", "running"].includes(t.state))
  )
    bench.set({ view: "source" });
  const states = state.tasks
    .filter((t) => t.state !== "running" || t.share === 0)
    .map((t) => `${t.id}${t.state}`)
    .join();
  sheetKey = `${state.revision}/${state.treated}/${state.reel}/${state.mark}/${states}`;
  await sheet.show(`${sheetKey}/${bench.shot?.id}`);
  redraw();
}

let sheetKey = "";
let askedFor = "";
// A shot is laid open in time when it is first looked at.
function layOpen() {
  const { first, stop } = bench.shot;
  if (bench.reel.state !== "ready" || bench.laid[bench.shotAt] || bench.playing || askedFor === `${first}-${stop}`) return;
  askedFor = `${first}-${stop}`;
  post(`/reels/${id}/open?shot=${bench.shot.id}`).then(
    () => refresh(),
    () => {},
  );
}

let shotShown = bench.shot?.id;
function followShot() {
  if (bench.shot?.id === shotShown || bench.playing) return;
  shotShown = bench.shot?.id;
  bench.set({ selected: null });
  refresh();
}

function tasks(list) {
  const box = by("tasks");
  const busy = list.filter((t) => ["waiting", "running"].includes(t.state)).reverse();
  const names = {
    intake: "Intake",
    open: "Slices",
    survey: "Survey",
    analysis: "Analysis",
    trial: "Trial",
    track: "Track",
    render: "Render",
    inspection: "Comparison",
    check: "Check",
    papers: "Papers",
    run: "Run",
    finish: "Delivery",
  };
  box.replaceChildren(
    ...busy.map((task) => {
      const part = document.createElement("div");
      const line = document.createElement("div");
      line.className = "line";
      const what = document.createElement("span");
      what.textContent = `${names[task.kind]}: ${task.state === "waiting" ? "waiting" : task.what || "working"}${task.again ? " (resumed)" : ""}`;
      const stop = document.createElement("button");
      stop.className = "button-small";
      stop.textContent = "Stop";
      stop.onclick = () =>
        post(`/tasks/${task.id}/cancel`).then(
          () => refresh(),
          (e) => say(e.message, "error"),
        );
      line.append(what, stop);
      const bar = document.createElement("progress");
      bar.max = 1;
      bar.value = task.share;
      const figures = document.createElement("div");
      figures.className = "number soft";
      const left =
        task.left === null ? "" : ` · ${task.left < 60 ? `${task.left} s` : `${Math.floor(task.left / 60)} min ${task.left % 60} s`} left`;
      figures.textContent = `${Math.round(task.share * 100)} %${task.rate ? ` · ${task.rate} fr/s` : ""}${left}`;
      part.append(line, bar, figures);
      return part;
    }),
  );
  for (const task of list) {
    const before = lastTask[task.id];
    if (before && before !== task.state) {
      if (task.state === "failed") say(task.error, "error");
      if (task.state === "done" && !["analysis", "open"].includes(task.kind)) say(`${names[task.kind]} done`);
    }
    lastTask[task.id] = task.state;
  }
}

// -- what the user does ----------------------------------------------------------------------------------

const DO = {
  back: () => {
    play.stop();
    bench.go(bench.frame - 1);
  },
  on: () => {
    play.stop();
    bench.go(bench.frame + 1);
  },
  play: play.toggle,
  loop: play.nextLoop,
  rings: () => bench.set({ rings: !bench.rings }),
  average: () => {
    play.stop();
    bench.set({ average: { off: "mean", mean: "flat", flat: "off" }[bench.average] });
  },
  fit: () => picture.zoomTo(null),
  one: () => picture.zoomTo(1 / (window.devicePixelRatio || 1)),
  four: () => picture.zoomTo(4 / (window.devicePixelRatio || 1)),
  whole: layout.whole,
};

function setView(view) {
  if (view !== "source" && !bench.treated) {
    say("There is no treated picture yet: add a step in Treatment.");
    return;
  }
  bench.set({ view: bench.view === view && view !== "source" ? "treated" : view });
}

async function takeBack(which) {
  try {
    say((await post(`/reels/${id}/${which}`)).said);
  } catch (error) {
    say(error.message, "error");
  }
  refresh();
}

function dimRoom() {
  const room = document.documentElement.dataset.room === "dim" ? "day" : "dim";
  document.documentElement.dataset.room = room;
  by("room").textContent = `Room: ${room}`;
  post("/settings", { room }).catch(() => {});
  redraw();
}

// For looking only: a curve, and what departs from its surroundings made plainer, on the canvas, never in the output.
function lookAt() {
  const shadows = Number(by("lift").value),
    local = Number(by("local").value);
  document.getElementById("look-svg")?.remove();
  if (shadows || local) {
    const curve = "RGB"
      .split("")
      .map((c) => `<feFunc${c} type="gamma" exponent="${1 / (1 + shadows / 40)}"/>`)
      .join("");
    const more = local / 25;
    const departs = local
      ? `<feGaussianBlur stdDeviation="24" result="around"/><feComposite in="lifted" in2="around" operator="arithmetic" k2="${1 + more}" k3="${-more}"/>`
      : "";
    document.body.insertAdjacentHTML(
      "beforeend",
      `<svg id="look-svg" width="0" height="0" aria-hidden="true"><filter id="look-filter" x="0" y="0" width="1" height="1" color-interpolation-filters="sRGB"><feComponentTransfer result="lifted">${curve}</feComponentTransfer>${departs}</filter></svg>`,
    );
  }
  for (const name of ["picture", "row", "column", "loupe"]) by(name).style.filter = shadows || local ? "url(#look-filter)" : "none";
  by("lift-label").classList.toggle("lifted", shadows > 0);
  by("local-label").classList.toggle("lifted", local > 0);
}

const nudge = (dx, dy) => (event) => bench.aim(bench.x + dx * (event.shiftKey ? 10 : 1), bench.y + dy * (event.shiftKey ? 10 : 1));
// Where the in and the out point are set.
const POINTS = ["intake", "condition", "treatment"];
const KEYS = {
  arrowleft: (e) => {
    play.stop();
    bench.go(bench.frame - (e.shiftKey ? 10 : 1));
  },
  arrowright: (e) => {
    play.stop();
    bench.go(bench.frame + (e.shiftKey ? 10 : 1));
  },
  home: () => bench.go(bench.frame === bench.shot.first ? 0 : bench.shot.first),
  end: () => bench.go(bench.frame === bench.shot.stop - 1 ? bench.reel.frames - 1 : bench.shot.stop - 1),
  pageup: () => sheet.stepShot(bench.frame > bench.shot.first ? 0 : -1),
  pagedown: () => sheet.stepShot(1),
  c: () => stage === "intake" && sheet.cutHere(),
  i: () => POINTS.includes(stage) && sheet.pointHere("enter"),
  o: () => POINTS.includes(stage) && sheet.pointHere("leave"),
  " ": play.toggle,
  y: play.nextLoop,
  a: nudge(-1, 0),
  d: nudge(1, 0),
  w: nudge(0, -1),
  s: nudge(0, 1),
  p: () => stage === "condition" && sheet.placeHere(),
  n: () => specks.through(1) || sheet.stepFinding(1),
  b: () => specks.through(-1) || sheet.stepFinding(-1),
  delete: () => (stage === "condition" ? sheet.dismissChosen() : specks.leaveChosen()),
  t: () => setView(bench.view === "treated" ? "source" : "treated"),
  h: () => setView("split"),
  j: () => setView("side"),
  x: () => setView("difference"),
  f: () => sheet.paint(),
  r: DO.rings,
  e: DO.average,
  l: loupe.cycle,
  g: dimRoom,
  z: layout.whole,
  0: DO.fit,
  1: DO.one,
  4: DO.four,
  "+": () => picture.zoomStep(1),
  "=": () => picture.zoomStep(1),
  "-": () => picture.zoomStep(-1),
  "?": () => by("help").showModal(),
};

document.addEventListener("keydown", (event) => {
  const typing = event.target.matches?.("input:not([type=checkbox]):not([type=range]), textarea, select");
  if (typing || by("help").open) return;
  if (event.ctrlKey || event.metaKey) {
    const key = event.key.toLowerCase();
    if (key === "z" || key === "y") {
      event.preventDefault();
      takeBack(key === "y" || event.shiftKey ? "redo" : "undo");
    }
    return;
  }
  if (retouch.key(event)) {
    event.preventDefault();
    return;
  }
  if (event.altKey) return;
  if (regions.key(event)) {
    event.preventDefault();
    return;
  }
  const key = event.key.toLowerCase();
  if (trials.key(key)) {
    event.preventDefault();
    return;
  }
  if (key === "q") {
    bench.set({ holdSource: true });
    return;
  }
  const onControl = event.target.matches?.("button, a, summary, input");
  if (onControl && (key === " " || (event.target.type === "range" && key.startsWith("arrow")))) return;
  const action = KEYS[key];
  if (action) {
    event.preventDefault();
    action(event);
  }
});
document.addEventListener("keyup", (event) => {
  if (event.key.toLowerCase() === "q") bench.set({ holdSource: false });
});
window.addEventListener("blur", () => bench.set({ holdSource: false }));
document.addEventListener("click", (event) => {
  const button = event.target.closest("[data-do], [data-view]");
  if (button?.dataset.do) DO[button.dataset.do]();
  else if (button?.dataset.view) setView(button.dataset.view);
});
by("undo").onclick = () => takeBack("undo");
by("redo").onclick = () => takeBack("redo");
by("room").onclick = dimRoom;
by("help-open").onclick = () => by("help").showModal();
for (const name of ["lift", "local"]) by(name).oninput = lookAt;
by("gain").oninput = (event) => bench.set({ gain: Number(event.target.value) });
by("gain").onchange = () => post("/settings", { gain: bench.gain }).catch(() => {});
const mat = (value) => document.documentElement.style.setProperty("--mat", `rgb(${value} ${value} ${value})`);
by("mat").oninput = (event) => mat(event.target.value);
by("mat").onchange = (event) => post("/settings", { mat: Number(event.target.value) }).catch(() => {});

// -- start -----------------------------------------------------------------------------------------------

// Opened from the list of what needs eyes, one goes on with it.
const list = sessionStorage.getItem("list");
if (list) {
  by("next").href = list;
  by("next").hidden = false;
}
if (settings.mat) mat(settings.mat);
if (settings.gain) bench.gain = settings.gain;
const remembered = JSON.parse(sessionStorage.getItem(`bench-${id}`) ?? "{}");
bench.set(remembered);
bench.addEventListener("change", () => {
  redraw();
  if (bench.frame !== bench.rested) letGo(bench.frame);
  followShot();
  if (bench.playing) return;
  const { frame, x, y, zoom, centreX, centreY, view, rings, range, loop } = bench;
  sessionStorage.setItem(`bench-${id}`, JSON.stringify({ frame, x, y, zoom, centreX, centreY, view, rings, range, loop }));
});
onReady(redraw);
picture.share();
new ResizeObserver(() => {
  picture.share();
  redraw();
}).observe(document.querySelector(".views"));
for (const part of [picture, slices, loupe, log]) part.listen();
layout.listen(settings);
sheet.listen(() => refresh());
regions.listen(() => refresh());
document.fonts?.ready.then(redraw);
follow(`/reels/${id}/events`, refresh, () => refresh());
// For the tests of the page: the state of the bench, not a way in.
window.nimbusBench = bench;
