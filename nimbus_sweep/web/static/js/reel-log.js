// The reel log: the whole reel over time, upright.

import { get } from "./api.js";
import { bench, fitCanvas } from "./bench.js";
import { fetchImage, frameUrl } from "./images.js";
import * as tracks from "./tracks.js";

const canvas = document.getElementById("log");
const said = document.getElementById("log-said");
let first = 0;
let stop = bench.reel.frames;
let light = null;
let lanes = null;
let strip = null;
let pending = null;
let hover = null;

const COLUMNS = { number: 4, thumb: 40, light: 78, rows: 104, repeats: 125, altered: 133, specks: 138 };
const colour = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
const yOf = (frame, height) => ((frame - first) / (stop - first)) * height;
const frameAt = (y, height) => first + (y / height) * (stop - first);

// What is drawn of a range comes from the server in as many lines as the strip has, however long the reel is; while a
// new range is fetched the old one is stretched to it.
async function fetchLines() {
  const want = `${bench.mark}-${bench.revision}-${bench.treated}-${first}-${stop}`;
  if (bench.reel.state !== "ready" || light?.want === want || pending === want) return;
  pending = want;
  const points = Math.min(1200, stop - first);
  const range = `first=${first}&stop=${stop}&points=${points}`;
  try {
    const [curve, marks] = await Promise.all(["light", "lanes"].map((what) => get(`/reels/${bench.reel.id}/${what}?${range}`)));
    if (pending === want) {
      light = { ...curve, want };
      lanes = marks;
    }
  } catch {
    /* the strip stays empty; the next zoom asks again */
  }
  if (pending === want) pending = null;
  draw();
}

let wait = null;
function fetchSoon() {
  clearTimeout(wait);
  wait = setTimeout(fetchLines, light ? 60 : 0);
}

export function draw() {
  const { pen, width, height } = fitCanvas(canvas);
  if (!bench.reel.ready) return;
  fetchSoon();
  const ink = colour("--ink"),
    soft = colour("--soft"),
    rule = colour("--rule"),
    act = colour("--act");
  if (bench.range) {
    pen.fillStyle = colour("--tint");
    const [a, b] = bench.range;
    pen.fillRect(0, yOf(a, height), width, yOf(b + 1, height) - yOf(a, height));
  }
  const span = stop - first;
  const step = [1, 2, 5, 10, 20, 24, 50, 100, 200, 500, 1000, 2000, 5000, 10000, 20000].find((s) => (s / span) * height >= 46) ?? 50000;
  pen.font = "10.5px 'Source Code Pro', monospace";
  for (let n = Math.ceil(first / step) * step; n < stop; n += step) {
    const y = Math.round(yOf(n, height)) + 0.5;
    pen.strokeStyle = rule;
    pen.lineWidth = 1;
    pen.beginPath();
    pen.moveTo(0, y);
    pen.lineTo(width, y);
    pen.stroke();
    pen.fillStyle = soft;
    pen.fillText(String(n).padStart(4, "0"), COLUMNS.number, y + 11);
    const entry = fetchImage(frameUrl(n, "source", Math.min(960, bench.reel.width)));
    if (entry.ready) {
      const shape = (bench.reel.width * bench.aspect) / bench.reel.height;
      const tall = Math.min(34 / shape, 36);
      pen.drawImage(entry.image, COLUMNS.thumb, y + 3, tall * shape, tall);
    }
  }
  rows(pen, height);
  if (light) curve(pen, height, ink);
  if (lanes) marks(pen, height, ink);
  cuts(pen, width, height, ink);
  altered(pen, height, act);
  const y = Math.round(yOf(bench.frame + 0.5, height)) + 0.5;
  pen.strokeStyle = act;
  pen.lineWidth = 1.5;
  pen.beginPath();
  pen.moveTo(0, y);
  pen.lineTo(width, y);
  pen.stroke();
  pen.fillStyle = act;
  pen.beginPath();
  pen.moveTo(0, y - 5);
  pen.lineTo(7, y);
  pen.lineTo(0, y + 5);
  pen.fill();
  caption();
}

function rows(pen, height) {
  if (bench.reel.state !== "ready") return;
  if (light?.want === `${bench.mark}-${bench.revision}-${bench.treated}-${first}-${stop}`) {
    const points = Math.min(1200, stop - first);
    const entry = fetchImage(`/reels/${bench.reel.id}/rows.png?first=${first}&stop=${stop}&points=${points}&m=${bench.mark}`);
    if (entry.ready) strip = { image: entry.image, first, stop };
  }
  if (!strip) return;
  pen.imageSmoothingEnabled = false;
  const top = yOf(strip.first, height);
  pen.drawImage(strip.image, COLUMNS.rows, top, 18, yOf(strip.stop, height) - top);
}

// Repeated frames as short ticks, doubled for fields; missing ones as a cross-hatched block.
function marks(pen, height, ink) {
  const count = lanes.repeated.length;
  const per = (lanes.stop - lanes.first) / count;
  const loss = colour("--loss");
  const followed = tracks.drawLog(pen, yOf, height, COLUMNS.specks, ink, loss);
  for (let i = 0; i < count; i += 1) {
    const top = yOf(lanes.first + i * per, height);
    const tall = Math.max(1, yOf(lanes.first + (i + 1) * per, height) - top);
    if (top > height || top + tall < 0) continue;
    if (lanes.repeated[i]) {
      pen.fillStyle = ink;
      pen.globalAlpha = Math.min(1, 0.25 + lanes.repeated[i] / Math.max(1, per));
      pen.fillRect(COLUMNS.repeats, top, 6, Math.max(1, Math.min(tall, 3)));
      pen.globalAlpha = 1;
    } else if (lanes.fields[i]) {
      pen.fillStyle = ink;
      pen.fillRect(COLUMNS.repeats, top, 2, Math.max(1, Math.min(tall, 3)));
      pen.fillRect(COLUMNS.repeats + 4, top, 2, Math.max(1, Math.min(tall, 3)));
    }
    if (lanes.patched[i] && !followed) {
      pen.fillStyle = ink;
      pen.fillRect(COLUMNS.specks, top, Math.min(11, 1 + 2 * Math.sqrt(lanes.patched[i])), Math.max(1, Math.min(tall, 3)));
    }
    if (lanes.by_hand[i]) {
      // Touched by hand: a wedge, so that it is told from what was found.
      pen.fillStyle = colour("--act");
      pen.beginPath();
      pen.moveTo(COLUMNS.repeats - 5, top + Math.min(tall, 6) / 2);
      pen.lineTo(COLUMNS.repeats + 3, top);
      pen.lineTo(COLUMNS.repeats + 3, top + Math.max(3, Math.min(tall, 6)));
      pen.fill();
    }
    if (lanes.missing[i]) {
      pen.fillStyle = loss;
      pen.fillRect(COLUMNS.repeats - 2, top, 10, Math.max(2, tall));
    }
  }
}

// A cut is a rule across the whole log: broken while it is only found, whole when it is confirmed.
function cuts(pen, width, height, ink) {
  pen.strokeStyle = ink;
  pen.lineWidth = 1;
  for (const shot of bench.shots) {
    if (shot.use === "exclude" || shot.use === "leave") {
      const top = yOf(shot.first, height);
      pen.fillStyle = colour("--rule");
      pen.globalAlpha = shot.use === "exclude" ? 0.75 : 0.35;
      pen.fillRect(COLUMNS.light - 3, top, width, yOf(shot.stop, height) - top);
      pen.globalAlpha = 1;
    }
    if (shot.cut === "start" || shot.first < first || shot.first > stop) continue;
    const y = Math.round(yOf(shot.first, height)) + 0.5;
    pen.setLineDash(shot.confirmed ? [] : [5, 3]);
    pen.beginPath();
    pen.moveTo(0, y);
    pen.lineTo(width, y);
    pen.stroke();
    pen.setLineDash([]);
  }
}

function curve(pen, height, ink) {
  const low = Math.min(...light.low),
    high = Math.max(...light.high);
  const scale = 22 / Math.max(0.02, high - low);
  pen.strokeStyle = ink;
  pen.lineWidth = 1;
  pen.beginPath();
  for (let i = 0; i < light.low.length; i += 1) {
    const y = yOf(light.first + ((i + 0.5) / light.low.length) * (light.stop - light.first), height);
    const x = COLUMNS.light + ((light.low[i] + light.high[i]) / 2 - low) * scale;
    if (i) pen.lineTo(x, y);
    else pen.moveTo(x, y);
  }
  pen.stroke();
}

function altered(pen, height, act) {
  if (!bench.treated) return;
  pen.fillStyle = act;
  for (const shot of bench.shots) {
    if (shot.use !== "treat" || !shot.mends) continue;
    const top = yOf(shot.enter, height);
    pen.fillRect(COLUMNS.altered, top, 3, Math.max(1, yOf(shot.leave, height) - top));
  }
}

function caption() {
  if (hover !== null && light) {
    const i = Math.min(
      light.low.length - 1,
      Math.max(0, Math.floor(((hover - light.first) / (light.stop - light.first)) * light.low.length)),
    );
    said.textContent = `${String(hover).padStart(4, "0")}  light ${(50 * (light.low[i] + light.high[i])).toFixed(1)} %`;
    said.className = "number";
  } else {
    said.className = "";
    const repeats = lanes?.repeated.some((v) => v) ? " · repeats" : "";
    said.textContent = bench.range
      ? `range ${bench.range[0]} to ${bench.range[1]}`
      : `light · rows${repeats}${bench.treated ? " · altered" : ""}${lanes?.patched.some((v) => v) ? " · specks" : ""}${lanes?.by_hand.some((v) => v) ? " · by hand" : ""}`;
  }
}

export function listen() {
  let from = null;
  let moved = false;
  canvas.addEventListener("pointerdown", (event) => {
    canvas.setPointerCapture(event.pointerId);
    from = Math.floor(frameAt(event.offsetY, canvas.clientHeight));
    moved = false;
  });
  canvas.addEventListener("pointermove", (event) => {
    const at = Math.min(bench.reel.frames - 1, Math.max(0, Math.floor(frameAt(event.offsetY, canvas.clientHeight))));
    hover = at;
    if (from !== null && Math.abs(yOf(at, canvas.clientHeight) - yOf(from, canvas.clientHeight)) > 4) {
      moved = true;
      bench.set({ range: [Math.min(from, at), Math.max(from, at)], loop: bench.loop === "all" ? "range" : bench.loop });
    } else draw();
  });
  canvas.addEventListener("pointerup", () => {
    if (from !== null && !moved) {
      bench.set({ range: null, loop: bench.loop === "range" ? "all" : bench.loop });
      bench.go(from);
    }
    from = null;
  });
  canvas.addEventListener("pointerleave", () => {
    hover = null;
    draw();
  });
  canvas.addEventListener(
    "wheel",
    (event) => {
      event.preventDefault();
      if (event.shiftKey) {
        const span = stop - first;
        const by = Math.sign(event.deltaY || event.deltaX) * Math.max(1, Math.round(span / 8));
        first = Math.min(Math.max(0, first + by), bench.reel.frames - span);
        stop = first + span;
        draw();
        return;
      }
      const total = bench.reel.frames;
      const at = frameAt(event.offsetY, canvas.clientHeight);
      const factor = event.deltaY < 0 ? 0.7 : 1 / 0.7;
      const span = Math.min(total, Math.max(Math.min(8, total), Math.round((stop - first) * factor)));
      first = Math.min(Math.max(0, Math.round(at - (at - first) * (span / (stop - first)))), total - span);
      stop = first + span;
      draw();
    },
    { passive: false },
  );
}
