// The brush: what it takes from, its strokes while they are drawn, and the frames that were touched.

import { get, say } from "./api.js";
import { bench, doubleStroke, note } from "./bench.js";
import { fetchImage } from "./images.js";

const USUAL = { size: 40, hardness: 60, strength: 100, mode: "copy", from: "beside", away: 1, aligned: true, across: 0, down: 0 };
const brush = { ...USUAL, ...JSON.parse(localStorage.getItem("retouch") ?? "{}") };
const nudges = new Map(); // what was nudged by hand, by frame and source
const saved = JSON.parse(localStorage.getItem(`retouch-sources-${bench.reel.id}`) ?? "[]");
let paper = null;
let act = () => {};
let hand = false; // the brush is in hand
let over = "none"; // or "onion", or "match": what is laid over the picture
let anchor = null; // where the next stroke takes from: { x, y }
let begun = null; // the stroke that is drawn
let laid = []; // those that are put on and not yet seen in the picture
let pointer = null;
let asked = "";
let told = { frame: -1, strokes: [], touched: [], total: 0 };

// The brush that is open: that of a plate which is retouched, or else that of the frames.
const step = () =>
  [...(paper?.querySelectorAll("[data-of-plate]") ?? [])].find((set) => set.offsetParent) ??
  paper?.querySelector("[data-retouch]:not([data-of-plate])");
const ofPlate = () => "ofPlate" in (step()?.dataset ?? {});
// Frames are taken from before or behind the one that is shown; a plate takes from the one at the play head.
const from = () => (brush.from === "beside" ? "beside" : ofPlate() ? "head" : brush.from === "head" ? "behind" : brush.from);
const ready = () => step() && !bench.playing && bench.average === "off";
export const active = () => hand && Boolean(ready());
const elsewhere = () => from() !== "beside" || (brush.mode === "reveal" && !ofPlate());

// The frame the brush takes from in the one that is shown: so far before or behind, and never of another shot.
function lends() {
  if (brush.mode === "original" || !elsewhere()) return null;
  if (ofPlate()) return bench.frame;
  const { enter = bench.shot.first, leave = bench.shot.stop } = bench.shot;
  const inside = (n) => n >= enter && n < leave;
  const way = from() === "before" ? -1 : 1;
  const wish = bench.frame + way * brush.away;
  return inside(wish) ? wish : inside(bench.frame - way * brush.away) ? bench.frame - way * brush.away : wish;
}

const nudgeKey = () => `${bench.frame}/${lends()}`;

// How far from the brush it takes: beside it on the same frame, or what was nudged on another.
function offset() {
  if (brush.mode === "original") return { across: 0, down: 0 };
  if (!elsewhere()) return { across: brush.across, down: brush.down };
  return nudges.get(nudgeKey()) ?? { across: 0, down: 0 };
}

const source = () => ({
  mode: brush.mode === "reveal" ? "copy" : brush.mode,
  lends: lends(),
  aligned: brush.aligned || brush.mode === "reveal",
  ...offset(),
});

function set(values) {
  Object.assign(brush, values);
  localStorage.setItem("retouch", JSON.stringify(brush));
  mark(paper);
  bench.set({ brushed: {} });
}

// -- what is there -----------------------------------------------------------------------------------------

function ask() {
  if (!ready()) return;
  const key = `${step().dataset.retouch}/${ofPlate() ? "" : bench.frame}/${bench.revision}`;
  if (key === asked) return;
  asked = key;
  get(`${step().dataset.strokes}/${bench.frame}?shot=${bench.shotAt}`).then(
    (answer) => {
      if (key !== asked) return;
      told = { ...answer, shown: bench.frame };
      tell();
      bench.set({ brushed: {} });
    },
    () => {},
  );
}

function tell() {
  const set = step();
  if (!set || (told.shown !== bench.frame && !ofPlate())) return;
  const many = told.strokes.length;
  set.querySelector("[data-strokes-told]").textContent = ofPlate()
    ? `${many} stroke${many === 1 ? "" : "s"} on this plate.`
    : `This frame: ${many} stroke${many === 1 ? "" : "s"}. ${told.touched.length} frame${told.touched.length === 1 ? "" : "s"} touched, ${told.total} in all.`;
  const list = set.querySelector("[data-strokes-list]");
  const key = told.strokes.map((s) => s.name).join();
  if (list.dataset.key === key) return;
  list.dataset.key = key;
  const said = { copy: "copy", blend: "blend", original: "original" };
  list.replaceChildren(
    ...told.strokes
      .slice(-40)
      .reverse()
      .map((stroke) => {
        const item = document.createElement("li");
        item.innerHTML = `<span></span><button type="button" class="button-small" aria-label="Take this stroke off">×</button>`;
        item.firstChild.textContent = `${said[stroke.mode]}, ${stroke.size} px${stroke.lends === null ? "" : `, from ${stroke.lends}`}`;
        item.onmouseenter = () => {
          item.dataset.over = "";
          laidOut = stroke;
          bench.set({ brushed: {} });
        };
        item.onmouseleave = () => {
          laidOut = null;
          bench.set({ brushed: {} });
        };
        item.lastChild.onclick = () => act(`${set.dataset.strokes}/remove?shot=${bench.shotAt}`, { strokes: [stroke.name] });
        return item;
      }),
  );
}
let laidOut = null; // a stroke of the list that is pointed at

// -- drawing -----------------------------------------------------------------------------------------------

function sourceUrl(box, show) {
  const { mode, lends: from, aligned, across, down } = source();
  const query = new URLSearchParams({
    shot: bench.shotAt,
    x: box.x,
    y: box.y,
    w: box.w,
    h: box.h,
    mode,
    aligned: aligned ? 1 : 0,
    across,
    down,
    show,
    m: `${bench.mark}-${step().dataset.before}`,
  });
  if (from !== null) query.set("lends", from);
  return `${step().dataset.source}/${bench.frame}.png?${query}`;
}

// The part of the picture that is seen, on whole multiples, so that it is asked for seldom.
function seen(pane, place) {
  const x = Math.max(0, Math.floor(-place.left / place.across) & ~63),
    y = Math.max(0, Math.floor(-place.top / place.scale) & ~63);
  const w = Math.min(bench.reel.width - x, Math.ceil(pane.width / place.across) + 64),
    h = Math.min(bench.reel.height - y, Math.ceil(pane.height / place.scale) + 64);
  return { x, y, w, h };
}

// From another frame, or of the reel itself, it comes from the server; beside the brush it is in the picture already.
function taken(pane, place, shown) {
  if (brush.mode !== "original" && !elsewhere())
    return shown?.entry.ready
      ? { image: shown.entry.image, box: shown.box ?? { x: 0, y: 0, w: bench.reel.width, h: bench.reel.height }, ...offset() }
      : null;
  // On a plane that stands still, other frames are shown once they are put on.
  if (bench.plane || bench.rested !== bench.frame) return null;
  const box = seen(pane, place);
  const entry = fetchImage(sourceUrl(box, "source"));
  return entry.ready ? { image: entry.image, box, across: 0, down: 0 } : null;
}

function path(pen, points, place) {
  pen.beginPath();
  for (const [n, [x, y]] of points.entries())
    pen[n ? "lineTo" : "moveTo"]((x + 0.5) * place.across, (y + 0.5) * place.scale + (n ? 0 : 0.01));
  pen.stroke();
}

const ink = document.createElement("canvas");

// A stroke as it will be, before the server has put it on: its source, through its own paint.
function ghost(pen, pane, place, stroke, from, ratio) {
  const wide = Math.round(pane.width * ratio),
    tall = Math.round(pane.height * ratio);
  if (ink.width !== wide || ink.height !== tall) {
    ink.width = wide;
    ink.height = tall;
  }
  const wet = ink.getContext("2d");
  wet.setTransform(1, 0, 0, 1, 0, 0);
  wet.globalCompositeOperation = "source-over";
  wet.clearRect(0, 0, wide, tall);
  wet.setTransform(ratio, 0, 0, ratio, place.left * ratio, place.top * ratio);
  const soft = ((1 - stroke.hardness) * stroke.size * place.scale * ratio) / 4;
  wet.filter = soft > 0.3 ? `blur(${soft}px)` : "none";
  wet.lineCap = wet.lineJoin = "round";
  wet.lineWidth = stroke.size * place.scale;
  wet.strokeStyle = `rgb(128 128 128 / ${stroke.strength})`;
  path(wet, stroke.points, place);
  wet.filter = "none";
  if (from) {
    wet.globalCompositeOperation = "source-in";
    wet.imageSmoothingEnabled = place.scale * ratio < 1;
    const { image, box, across, down } = from;
    wet.globalAlpha = 1;
    wet.drawImage(image, (box.x - across) * place.across, (box.y - down) * place.scale, box.w * place.across, box.h * place.scale);
  }
  pen.save();
  pen.setTransform(1, 0, 0, 1, 0, 0);
  pen.globalAlpha = from ? stroke.strength : 0.5;
  pen.drawImage(ink, Math.round(pane.x * ratio), Math.round(pane.y * ratio));
  pen.restore();
}

export function draw(pen, pane, place, shown, ratio) {
  if (!ready()) return;
  ask();
  // What was put on is shown until the picture has it.
  if (shown?.fresh)
    laid = laid.filter((stroke) => stroke.frame === bench.frame && (stroke.before === null || stroke.before === bench.revision));
  if (hand && over !== "none" && !bench.plane && bench.rested === bench.frame && (elsewhere() || brush.mode === "original")) {
    const box = seen(pane, place);
    const entry = fetchImage(sourceUrl(box, over === "match" ? "match" : "source"));
    if (entry.ready) {
      pen.save();
      pen.globalAlpha = over === "match" ? 1 : 0.5;
      pen.imageSmoothingEnabled = place.scale * ratio < 1;
      pen.drawImage(entry.image, box.x * place.across, box.y * place.scale, box.w * place.across, box.h * place.scale);
      pen.restore();
    }
  } else if (hand && over === "onion" && pointer && shown?.entry.ready) {
    const from = taken(pane, place, shown);
    pen.save();
    pen.globalAlpha = 0.5;
    if (from)
      pen.drawImage(
        from.image,
        (from.box.x - from.across) * place.across,
        (from.box.y - from.down) * place.scale,
        from.box.w * place.across,
        from.box.h * place.scale,
      );
    pen.restore();
  }
  for (const stroke of laid.filter((s) => s.frame === bench.frame)) ghost(pen, pane, place, stroke, stroke.from, ratio);
  if (begun) ghost(pen, pane, place, begun, taken(pane, place, shown), ratio);
  if (laidOut) doubleStroke(pen, () => path(pen, laidOut.points, place), 1.5);
  if (!hand) return;
  if (pointer) {
    const circle = (x, y, r) => {
      pen.beginPath();
      pen.ellipse(
        (x + 0.5) * place.across,
        (y + 0.5) * place.scale,
        Math.max(1.5, r * place.across),
        Math.max(1.5, r * place.scale),
        0,
        0,
        7,
      );
      pen.stroke();
    };
    doubleStroke(pen, () => circle(pointer.x, pointer.y, brush.size / 2), 1);
    if (!elsewhere() && brush.mode !== "original") {
      const at = anchor ?? { x: pointer.x + brush.across, y: pointer.y + brush.down };
      doubleStroke(
        pen,
        () => {
          cross(pen, at, place);
        },
        1,
      );
    }
  }
  if (elsewhere() && brush.mode !== "original")
    note(pen, `from frame ${lends()}${over === "match" ? ", black where it matches" : ""}`, 4 - place.left, 44 - place.top);
}

function cross(pen, at, place) {
  const x = (at.x + 0.5) * place.across,
    y = (at.y + 0.5) * place.scale;
  pen.beginPath();
  pen.moveTo(x - 9, y);
  pen.lineTo(x - 2, y);
  pen.moveTo(x + 2, y);
  pen.lineTo(x + 9, y);
  pen.moveTo(x, y - 9);
  pen.lineTo(x, y - 2);
  pen.moveTo(x, y + 2);
  pen.lineTo(x, y + 9);
  pen.stroke();
}

// -- hand --------------------------------------------------------------------------------------------------

const point = (at) => ({ x: at.x - 0.5, y: at.y - 0.5 });
const round = (v) => Math.round(v * 100) / 100;

// Each gives true when the pointer was meant for the brush.
export function press(at, event) {
  if (!active() || event.shiftKey || event.button > 0) return false;
  const p = point(at);
  if (event.ctrlKey || event.metaKey) {
    anchor = p;
    if (elsewhere() || brush.mode === "original") set({ from: "beside", mode: brush.mode === "blend" ? "blend" : "copy" });
    say("The next stroke takes from here; the source then goes along with the brush.");
    bench.set({ brushed: {} });
    return true;
  }
  if (!elsewhere() && brush.mode !== "original") {
    if (anchor) {
      set({ across: round(anchor.x - p.x), down: round(anchor.y - p.y) });
      anchor = null;
    }
    if (!brush.across && !brush.down) {
      say("Say where the brush takes from: Ctrl and click on the picture, or choose another frame.", "error");
      return true;
    }
  }
  begun = {
    frame: bench.frame,
    points: [[round(p.x), round(p.y)]],
    size: brush.size,
    hardness: brush.hardness / 100,
    strength: brush.strength / 100,
  };
  bench.set({ brushed: {} });
  return true;
}

export function move(at) {
  if (!hand) return;
  pointer = point(at);
  if (begun) {
    const [x, y] = begun.points.at(-1);
    if (Math.hypot(pointer.x - x, pointer.y - y) >= Math.max(0.7, brush.size / 12) && begun.points.length < 4000)
      begun.points.push([round(pointer.x), round(pointer.y)]);
  }
  bench.set({ brushed: {} });
}

export async function release(pane, place, shown) {
  if (!begun) return;
  const stroke = begun;
  begun = null;
  laid.push({ ...stroke, from: taken(pane, place, shown), before: null });
  const mine = laid.at(-1);
  const before = bench.revision;
  const { frame, points, size, hardness, strength } = stroke;
  const answer = await act(`${step().dataset.strokes}?shot=${bench.shotAt}`, {
    strokes: [{ frame, points, size, hardness, strength, ...source() }],
    ...still(),
  });
  last = answer?.strokes?.[0] ?? last;
  if (!answer?.strokes?.length) laid = laid.filter((s) => s !== mine);
  else mine.before = before;
  bench.set({ brushed: {} });
}
// Drawn on a plane that stands still, a stroke is laid back on its frame by the server.
const still = () => (bench.plane?.startsWith("still-") ? { still: Number(bench.plane.slice(6)) } : {});
let last = null; // the stroke that can be repeated

export function leave() {
  pointer = null;
  if (hand) bench.set({ brushed: {} });
}

const resize = (by) =>
  set({
    size: Math.min(
      600,
      Math.max(1, Math.round(by > 1 ? Math.max(brush.size + 1, brush.size * by) : Math.min(brush.size - 1, brush.size * by))),
    ),
  });

export function wheel(event) {
  if (!active() || !event.ctrlKey) return false;
  resize(event.deltaY < 0 ? 1.12 : 1 / 1.12);
  return true;
}

function take(on) {
  if (on && !step()) return;
  hand = on;
  if (!on) {
    over = "none";
    begun = anchor = null;
  }
  mark(paper);
  bench.set({ brushed: {} });
}

function nudge(dx, dy) {
  if (!elsewhere()) {
    set({ across: round(brush.across + dx), down: round(brush.down + dy) });
    return;
  }
  const { across, down } = offset();
  nudges.set(nudgeKey(), dx || dy ? { across: round(across + dx), down: round(down + dy) } : { across: 0, down: 0 });
  mark(paper);
  bench.set({ brushed: {} });
}

function store(n) {
  saved[n] = { mode: brush.mode, from: brush.from, away: brush.away, aligned: brush.aligned, ...offset() };
  localStorage.setItem(`retouch-sources-${bench.reel.id}`, JSON.stringify(saved));
  say(`Source ${n + 1} saved: ${named(saved[n])}`);
  mark(paper);
}

function recall(n) {
  if (!saved[n]) {
    say(`There is no source ${n + 1} yet: Shift and ${n + 1} saves the one in use.`);
    return;
  }
  const { across, down, ...rest } = saved[n];
  anchor = null;
  set(rest);
  if (elsewhere()) nudges.set(nudgeKey(), { across, down });
  else set({ across, down });
  say(`Source ${n + 1}: ${named(saved[n])}`);
}

const named = (s) =>
  s.mode === "original"
    ? "the original"
    : s.mode !== "reveal" && s.from === "beside"
      ? `beside, ${Math.round(s.across)} across, ${Math.round(s.down)} down`
      : `${s.away} frame${s.away === 1 ? "" : "s"} ${s.from === "before" ? "before" : "behind"}`;

// The next frame one way that was touched, or was not.
export function through(direction, touched = true) {
  if (!step()) return false;
  const there = new Set(told.touched);
  for (let n = bench.frame + direction; n >= bench.shot.first && n < bench.shot.stop; n += direction)
    if (there.has(n) === touched) {
      bench.go(n);
      return true;
    }
  say(touched ? "No other frame that way was touched." : "Every frame that way was touched.");
  return true;
}

const ARROWS = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] };

// Gives true when the key was meant for the brush.
export function key(event) {
  if (!step()) return false;
  const name = event.key.toLowerCase();
  const digit = /^Digit([1-5])$/.exec(event.code)?.[1];
  if (event.ctrlKey || event.metaKey) return false;
  if (name === "u" && !event.altKey) take(!hand);
  else if (!hand) return false;
  else if (!event.altKey && (name === "n" || name === "b")) through(name === "n" ? 1 : -1, !event.shiftKey);
  else if (event.altKey && ARROWS[event.key]) nudge(...ARROWS[event.key].map((v) => v * (event.shiftKey ? 1 : 0.25)));
  else if (event.altKey) return false;
  else if (digit) (event.shiftKey ? store : recall)(Number(digit) - 1);
  else if (name === "k" || name === "m") {
    const to = name === "k" ? "onion" : "match";
    over = over === to ? "none" : to;
    mark(paper);
    bench.set({ brushed: {} });
  } else if (name === ",") resize(1 / 1.12);
  else if (name === ".") resize(1.12);
  else if (name === "escape") {
    if (begun) begun = null;
    else take(false);
    bench.set({ brushed: {} });
  } else if (name === "backspace" && told.strokes.length)
    act(`${step().dataset.strokes}/remove?shot=${bench.shotAt}`, { strokes: [told.strokes.at(-1).name] });
  else return false;
  return true;
}

// -- the sheet's part --------------------------------------------------------------------------------------

const SLIDERS = ["size", "hardness", "strength"];

export function mark(sheet) {
  paper = sheet;
  const set = step();
  if (!set) {
    hand = false;
    return;
  }
  const pressed = (selector, on) => {
    for (const b of set.querySelectorAll(selector)) b.setAttribute("aria-pressed", String(on(b)));
  };
  pressed("[data-brush-hand]", () => hand);
  pressed("[data-brush-mode]", (b) => b.dataset.brushMode === brush.mode);
  pressed(
    "[data-brush-from]",
    (b) => b.dataset.brushFrom === (brush.mode === "reveal" && !ofPlate() && from() === "beside" ? "behind" : from()),
  );
  pressed("[data-brush-over]", (b) => b.dataset.brushOver === over);
  for (const [n, b] of [...set.querySelectorAll("[data-brush-saved]")].entries()) {
    b.title = saved[n]
      ? `${named(saved[n])} (${n + 1}; Shift saves anew)`
      : `Empty: Shift and ${n + 1}, or Shift and click, saves the source in use`;
    b.classList.toggle("soft", !saved[n]);
  }
  for (const name of SLIDERS) {
    const box = set.querySelector(`[data-brush-set="${name}"]`);
    if (document.activeElement !== box) box.value = brush[name];
    set.querySelector(`[data-brush-shown="${name}"]`).textContent = name === "size" ? `${brush.size} px` : `${brush[name]} %`;
  }
  set.querySelector("[data-brush-other]").hidden = !elsewhere() || brush.mode === "original" || ofPlate();
  set.querySelector("[data-brush-where]").hidden = brush.mode === "original";
  for (const b of set.querySelectorAll('[data-brush-from="beside"]')) b.disabled = brush.mode === "reveal" && !ofPlate();
  set.querySelector("[data-brush-set=away]").value = brush.away;
  set.querySelector("[data-brush-set=aligned]").checked = brush.aligned;
  set.querySelector("[data-brush-aligned]").hidden = brush.mode === "reveal";
  const { across, down } = offset();
  const way = elsewhere() ? `From frame ${lends()}` : across || down ? "From beside" : "";
  set.querySelector("[data-source-said]").textContent =
    brush.mode === "original"
      ? ofPlate()
        ? "Puts the plate back as it was made."
        : "Puts the reel's own picture back."
      : way
        ? `${way}${across || down ? `, ${across >= 0 ? "+" : ""}${across} across, ${down >= 0 ? "+" : ""}${down} down` : ""}.`
        : "Ctrl and click on the picture says where it takes from.";
  set.querySelector("[data-brush-repeat]").disabled = !last && !told.strokes.length;
  tell();
  ask();
}

export function listen(sheet, post) {
  paper = sheet;
  act = post;
  sheet.addEventListener("click", (event) => {
    const button = event.target.closest("button");
    if (!button || !step()?.contains(button)) return;
    const { brushHand, brushMode, brushFrom, brushOver, brushSaved, brushNudge, brushThrough } = button.dataset;
    if (brushHand !== undefined) take(!hand);
    else if (brushMode) {
      set({ mode: brushMode, ...(brushMode === "reveal" && brush.from === "beside" ? { from: "behind" } : {}) });
      take(true);
    } else if (brushFrom) {
      set({ from: brushFrom });
      take(true);
    } else if (brushOver) {
      over = over === brushOver ? "none" : brushOver;
      take(true);
    } else if (brushSaved !== undefined) (event.shiftKey ? store : recall)(Number(brushSaved));
    else if (brushNudge) nudge(...brushNudge.split(" ").map((v) => Number(v) * (event.shiftKey ? 1 : 0.25)));
    else if (brushThrough) through(Number(brushThrough), !button.dataset.untouched);
    else if ("brushRepeat" in button.dataset) repeat();
    else return;
    document.getElementById("picture").focus();
  });
  sheet.addEventListener("input", (event) => {
    const name = event.target.dataset.brushSet;
    if (!name) return;
    if (name === "aligned") set({ aligned: event.target.checked });
    else if (name === "away") set({ away: Math.min(50, Math.max(1, Math.round(Number(event.target.value)) || 1)) });
    else set({ [name]: Number(event.target.value) });
  });
}

async function repeat() {
  const frames = Math.round(Number(step().querySelector("[data-brush-frames]").value)) || 1;
  const stroke = told.strokes.some((s) => s.name === last) ? last : told.strokes.at(-1)?.name;
  if (!stroke) {
    say("Put a stroke on this frame first; it is repeated on the next ones.", "error");
    return;
  }
  await act(`${step().dataset.strokes}/repeat?shot=${bench.shotAt}`, { stroke, frames });
}
