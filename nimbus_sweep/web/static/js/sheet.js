// The right-hand sheet: made by the server; its buttons say what they post.

import { post, say, text, upload } from "./api.js";
import { bench } from "./bench.js";
import * as forms from "./forms.js";
import { transform, zoomTo } from "./picture.js";
import * as match from "./match.js";
import { listen as listenToTyping, morph } from "./morph.js";
import * as regions from "./regions.js";
import * as retouch from "./retouch.js";
import * as specks from "./specks.js";
import * as tracks from "./tracks.js";
import * as trials from "./trials.js";

const sheet = document.getElementById("sheet");
const stage = document.querySelector("script[data-stage]").dataset.stage;
let refresh = () => {};
let shownFor = null;
let asked = 0;
let pressedNow = null; // while the pointer is down in the sheet: until it is let go of

export async function show(key, force = false) {
  if (key === shownFor && !force) return;
  shownFor = key;
  asked += 1;
  const mine = asked;
  let fresh;
  try {
    fresh = await text(`/reels/${bench.reel.id}/sheet/${stage}?shot=${bench.shot.id}`);
    // A button that is being pressed stays where it is until it is let go of.
    if (pressedNow) await pressedNow;
  } catch (error) {
    if (mine !== asked) return;
    shownFor = null;
    say(error.message, "error");
    return;
  }
  // An answer that was overtaken by a later one is old news.
  if (mine !== asked) return;
  const scroll = sheet.scrollTop;
  morph(sheet, fresh);
  if (bench.openTrial) sheet.querySelector(`details[data-fold="trial-${bench.openTrial}"]`)?.setAttribute("open", "");
  for (const box of sheet.querySelectorAll("[data-form] select[data-fills]")) if (!filled.has(box)) fill(box);
  sheet.scrollTop = scroll;
  hear();
  mark();
}

// On the control itself: the sheet may be made anew while a file or a choice is being made.
function hear() {
  for (const box of sheet.querySelectorAll("input, select, textarea")) box.onchange = () => changed(box);
  for (const fold of sheet.querySelectorAll("details[data-load]")) {
    fold.ontoggle = () => load(fold);
    load(fold);
  }
  regions.hearSheet(sheet);
}

// What takes a moment to be measured is asked for when it is opened.
const loaded = new Map();
async function load(fold) {
  const url = fold.dataset.load;
  if (!fold.open) return;
  const box = fold.querySelector("[data-loaded]");
  if (!loaded.has(url)) loaded.set(url, text(url));
  try {
    const made = await loaded.get(url);
    if (box.dataset.loaded === url) return;
    box.innerHTML = made;
    box.dataset.loaded = url;
  } catch (error) {
    loaded.delete(url);
    box.textContent = error.message;
  }
}

// Boxes of a form are posted together, by the button that names the form.
function formOf(name) {
  const body = {};
  for (const box of sheet.querySelectorAll(`[data-form="${name}"] [data-field]`)) {
    const { field } = box.dataset;
    const [whole, part] = field.split(".");
    if (part !== undefined) {
      body[whole] ??= {};
      body[whole][part] = fieldValue(box);
    } else if (box.type !== "checkbox") body[field] = fieldValue(box);
    else if (box.hasAttribute("value")) {
      body[field] ??= [];
      if (box.checked) body[field].push(box.value);
    } else body[field] = box.checked;
  }
  return body;
}

// What is chosen may say what belongs in the box beside it; told once when it is made, then when it is changed.
const filled = new WeakSet();
function fill(box) {
  filled.add(box);
  if (box.dataset.fills)
    box.closest("[data-form]").querySelector(`[data-field="${box.dataset.fills}"]`).value = box.selectedOptions[0].dataset.fill;
}

function changed(box) {
  if (box.dataset.field && !box.dataset.post) {
    fill(box);
    return;
  }
  if (box.type === "file") take(box);
  else if (box.dataset.name)
    act(box.dataset.post, { [box.dataset.name]: fieldValue(box), ...(box.dataset.atHead ? { [box.dataset.atHead]: bench.frame } : {}) });
  else if (box.dataset.postChange) act(box.dataset.postChange);
  else if (box.dataset.setting)
    act(box.dataset.post, { [box.dataset.setting]: Number((Number(box.value) * Number(box.dataset.scale ?? 1)).toFixed(4)) });
}

export function mark() {
  for (const item of sheet.querySelectorAll("li[data-shot]"))
    item.setAttribute("aria-current", String(Number(item.dataset.shot) === bench.shotAt));
  // What is open in the sheet may ask for the picture to be laid on a plane; the last that can be seen does.
  const laid = [...sheet.querySelectorAll("details[data-plane][open]")].filter((d) => d.offsetParent).at(-1)?.dataset.plane ?? null;
  if (laid !== bench.plane) bench.set({ plane: laid });
  for (const item of sheet.querySelectorAll("li[data-finding]"))
    item.setAttribute("aria-current", String(Number(item.dataset.finding) === bench.selected));
  regions.mark(sheet);
  forms.mark(sheet);
  specks.mark(sheet);
  match.mark(sheet);
  retouch.mark(sheet);
  tracks.mark(sheet);
  trials.buttons();
  tellWays();
}

// Which marks of the frame that is shown are little to be trusted, and why.
function tellWays() {
  const box = sheet.querySelector("[data-ways]");
  if (!box) return;
  const low = bench.treated ? bench.ways.filter((m) => m.low) : [];
  const lines = low.map((m) => `Low trust at x ${m.left} y ${m.top}: ${m.low}.`);
  if (box.dataset.told === lines.join()) return;
  box.dataset.told = lines.join();
  box.replaceChildren(...lines.map((text) => Object.assign(document.createElement("p"), { className: "caution", textContent: text })));
}

// What was decided on one may be decided on its like: said with how many there are, and done when it is pressed.
export function offer(told) {
  say(told.said, "note", { do: told.do, act: () => act(told.url, {}) });
}

async function act(url, body) {
  let told = {};
  try {
    told = await post(url, body);
    if (told.offer) offer(told.offer);
    else if (typeof told.said === "string") say(told.said);
  } catch (error) {
    say(error.message, "error");
  }
  shownFor = null;
  refresh();
  return told;
}

async function take(box) {
  if (!box.files[0]) return;
  if ("raw" in box.dataset) {
    await takeRaw(box);
    return;
  }
  const content = await box.files[0].text();
  if ("text" in box.dataset) {
    act(box.dataset.post, { text: content, name: box.files[0].name });
    box.value = "";
    return;
  }
  try {
    act(box.dataset.post, JSON.parse(content));
  } catch {
    say("This file is not JSON; choose a recipe file.", "error");
  }
}

// A picture goes as it is; a mask with how its colour is to be taken.
async function takeRaw(box) {
  const set = Object.fromEntries(
    [...(box.closest("details")?.querySelectorAll("[data-mask]") ?? [])].map((b) => [b.dataset.mask, b.value]),
  );
  const query = new URLSearchParams(
    "tolerance" in set ? { colour: set.how === "own" ? set.colour : "", tolerance: set.tolerance, trim: set.trim } : {},
  );
  try {
    say((await upload(`${box.dataset.post}&${query}`, box.files[0], () => {}).done).said);
  } catch (error) {
    say(error.message, "error");
  }
  box.value = "";
  shownFor = null;
  refresh();
}

function fieldValue(box) {
  if (box.type === "checkbox") return box.checked;
  if (box.dataset.number === "any") return (Number(box.value) || 0) * Number(box.dataset.scale ?? 1);
  return "number" in box.dataset ? Math.round(Number(box.value) || 0) : box.value;
}

// A button posts what it carries; some add where the play head is, some ask to be pressed twice.
function press(button) {
  if (button.dataset.sure && !button.dataset.asked) {
    const label = button.textContent;
    button.dataset.asked = "yes";
    button.textContent = button.dataset.sure;
    setTimeout(() => {
      delete button.dataset.asked;
      button.textContent = label;
    }, 8000);
    return;
  }
  const body = JSON.parse(button.dataset.body ?? "{}");
  if ("atAim" in button.dataset) Object.assign(body, { x: bench.x, y: bench.y });
  if (button.dataset.atHead) body[button.dataset.atHead] = bench.frame + Number(button.dataset.beyond ?? 0);
  if (button.dataset.with) Object.assign(body, formOf(button.dataset.with));
  act(button.dataset.post, body).then((told) => {
    // Space plays next; it must not press this button again.
    if (told.trial) {
      trials.open(told.trial);
      document.getElementById("picture").focus();
    }
  });
}

export const cutHere = () => act(`/reels/${bench.reel.id}/cuts`, { at: bench.frame });
export const pointHere = (which) =>
  act(`/reels/${bench.reel.id}/shot?shot=${bench.shot.id}`, { [which]: bench.frame + (which === "leave" ? 1 : 0) });

// To the first frame of the shot so many places on; of this one for 0.
export function stepShot(direction) {
  const next = bench.shots[bench.shotAt + direction];
  if (next) bench.go(next.first);
  else if (direction < 0) bench.go(bench.shot.first);
}

export function choose(index, zoom = false) {
  const site = bench.sites.find((s) => s.index === index);
  if (!site) return;
  bench.set({ selected: index });
  // What is in some frames only is shown where it is.
  if (bench.frame < site.first || bench.frame >= site.stop) bench.go(site.first);
  // A site's own pixel, the middle of a mark.
  const [x, y] =
    site.drawn === "path"
      ? [site.x + site.width / 2, bench.y]
      : site.drawn === "point"
        ? [site.x, site.y]
        : [site.x + site.width / 2, site.y + site.height / 2];
  bench.aim(x, y);
  if (zoom) zoomTo(4 / (window.devicePixelRatio || 1));
  else if (bench.zoom) bench.set({ centreX: x, centreY: y });
  sheet.querySelector(`li[data-finding="${index}"]`)?.scrollIntoView({ block: "nearest" });
}

export function stepFinding(direction) {
  const kept = bench.sites.filter((s) => s.state === "kept" && s.drawn !== "frame");
  if (!kept.length) return;
  const at = kept.findIndex((s) => s.index === bench.selected);
  choose(kept[(at + direction + kept.length) % kept.length].index);
}

export function dismissChosen() {
  const site = bench.sites.find((s) => s.index === bench.selected);
  if (site) act(`/reels/${bench.reel.id}/findings/${site.index}/${site.state === "kept" ? "dismissed" : "kept"}?shot=${bench.shot.id}`);
}

export async function placeHere() {
  try {
    const told = await post(`/reels/${bench.reel.id}/findings?shot=${bench.shot.id}`, { x: bench.x, y: bench.y });
    if (told.offer) offer(told.offer);
    else say(`Placed at x ${told.x} y ${told.y}`);
    bench.aim(told.x, told.y);
    bench.set({ selected: told.index });
  } catch (error) {
    say(error.message, "error");
  }
  refresh();
}

export const paint = () => forms.toggle(sheet);

export function listen(onChange) {
  refresh = onChange;
  listenToTyping(sheet);
  hear();
  sheet.addEventListener("pointerdown", () => {
    pressedNow = new Promise((done) => {
      for (const end of ["pointerup", "pointercancel"])
        window.addEventListener(
          end,
          () =>
            setTimeout(() => {
              pressedNow = null;
              done();
            }),
          { once: true },
        );
    });
  });
  trials.listen(sheet);
  forms.listen(sheet);
  specks.listen(sheet, act);
  match.listen(sheet, act);
  retouch.listen(sheet, act);
  tracks.listen(sheet, act);
  sheet.addEventListener("click", (event) => {
    const button = event.target.closest("button[data-post]");
    if (button) {
      press(button);
      return;
    }
    const step = event.target.closest("[data-step-shot]");
    if (step) {
      stepShot(Number(step.dataset.stepShot));
      return;
    }
    const span = event.target.closest("[data-range-post]");
    if (span) {
      const [first, last] = bench.range ?? [bench.frame, bench.frame];
      act(span.dataset.rangePost, { first, stop: last + 1 });
      return;
    }
    const jump = event.target.closest("[data-go], [data-aim]");
    if (jump) {
      if (jump.dataset.go) bench.go(Number(jump.dataset.go));
      if (jump.dataset.aim) bench.aim(...jump.dataset.aim.split(" ").map(Number));
      if ("close" in jump.dataset) zoomTo(4 / (window.devicePixelRatio || 1));
      return;
    }
    const shot = event.target.closest("li[data-shot] summary");
    if (shot) bench.go(bench.shots[Number(shot.closest("li").dataset.shot)]?.first ?? bench.frame);
    if (event.target.closest("#place")) {
      placeHere();
      return;
    }
    const item = event.target.closest("li[data-finding]");
    if (item && !event.target.closest(".actions")) choose(Number(item.dataset.finding), event.detail === 2);
  });
  sheet.addEventListener("input", (event) => {
    const shown = event.target.parentElement?.querySelector("[data-shown]");
    if (shown) shown.textContent = `${event.target.value} %`;
  });
  sheet.addEventListener("keydown", (event) => {
    const item = event.target.closest?.("li[data-finding]");
    if (item && (event.key === "ArrowDown" || event.key === "ArrowUp")) {
      event.preventDefault();
      const items = [...sheet.querySelectorAll("li[data-finding]")];
      const next = items[items.indexOf(item) + (event.key === "ArrowDown" ? 1 : -1)];
      if (next) {
        (next.querySelector("summary") ?? next).focus();
        choose(Number(next.dataset.finding));
      }
    }
  });
}

export { transform };
