// The reel log: the whole reel over time, upright.

import { get } from "./api.js";
import { bench, fitCanvas } from "./bench.js";
import { fetchImage, frameUrl } from "./images.js";

const canvas = document.getElementById("log");
const said = document.getElementById("log-said");
let first = 0;
let stop = bench.reel.frames;
let light = null;
let pending = null;
let hover = null;

const COLUMNS = { number: 4, thumb: 40, light: 80, rows: 108, altered: 140 };
const colour = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
const yOf = (frame, height) => ((frame - first) / (stop - first)) * height;
const frameAt = (y, height) => first + (y / height) * (stop - first);

async function fetchLight() {
  const want = `${first}-${stop}`;
  if (!bench.reel.ready || light?.want === want || pending === want) return;
  pending = want;
  const points = Math.min(1200, stop - first);
  try {
    const told = await get(`/reels/${bench.reel.id}/light?first=${first}&stop=${stop}&points=${points}`);
    if (pending === want) light = { ...told, want };
  } catch { /* the strip stays empty; the next zoom asks again */ }
  pending = null;
  draw();
}

export function draw() {
  const { pen, width, height } = fitCanvas(canvas);
  if (!bench.reel.ready) return;
  fetchLight();
  const ink = colour("--ink"), soft = colour("--soft"), rule = colour("--rule"), act = colour("--act");
  if (bench.range) {
    pen.fillStyle = colour("--tint");
    const [a, b] = bench.range;
    pen.fillRect(0, yOf(a, height), width, yOf(b + 1, height) - yOf(a, height));
  }
  const span = stop - first;
  const step = [1, 2, 5, 10, 20, 24, 50, 100, 200, 500, 1000, 2000, 5000, 10000, 20000].find((s) => (s / span) * height >= 46) ?? 50000;
  pen.font = "10.5px 'DM Mono', monospace";
  for (let n = Math.ceil(first / step) * step; n < stop; n += step) {
    const y = Math.round(yOf(n, height)) + 0.5;
    pen.strokeStyle = rule;
    pen.lineWidth = 1;
    pen.beginPath(); pen.moveTo(0, y); pen.lineTo(width, y); pen.stroke();
    pen.fillStyle = soft;
    pen.fillText(String(n).padStart(4, "0"), COLUMNS.number, y + 11);
    const entry = fetchImage(frameUrl(n, "source", Math.min(960, bench.reel.width)));
    if (entry.ready) {
      const tall = 34 * bench.reel.height / bench.reel.width;
      pen.drawImage(entry.image, COLUMNS.thumb, y + 3, 34, tall);
    }
  }
  strip(pen, height);
  if (light) curve(pen, height, ink);
  altered(pen, height, act);
  const y = Math.round(yOf(bench.frame + 0.5, height)) + 0.5;
  pen.strokeStyle = act;
  pen.lineWidth = 1.5;
  pen.beginPath(); pen.moveTo(0, y); pen.lineTo(width, y); pen.stroke();
  pen.fillStyle = act;
  pen.beginPath(); pen.moveTo(0, y - 5); pen.lineTo(7, y); pen.lineTo(0, y + 5); pen.fill();
  caption();
}

function strip(pen, height) {
  const points = Math.min(1200, stop - first);
  const entry = fetchImage(`/reels/${bench.reel.id}/rows.png?first=${first}&stop=${stop}&points=${points}&m=${bench.reel.fingerprint}`);
  if (entry.ready) {
    pen.imageSmoothingEnabled = false;
    pen.drawImage(entry.image, COLUMNS.rows, 0, 28, height);
  }
}

function curve(pen, height, ink) {
  const low = Math.min(...light.low), high = Math.max(...light.high);
  const scale = 22 / Math.max(0.02, high - low);
  pen.strokeStyle = ink;
  pen.lineWidth = 1;
  pen.beginPath();
  for (let i = 0; i < light.low.length; i += 1) {
    const y = yOf(light.first + ((i + 0.5) / light.low.length) * (light.stop - light.first), height);
    const x = COLUMNS.light + ((light.low[i] + light.high[i]) / 2 - low) * scale;
    if (i) pen.lineTo(x, y); else pen.moveTo(x, y);
  }
  pen.stroke();
}

function altered(pen, height, act) {
  if (!bench.treated) return;
  pen.fillStyle = act;
  pen.fillRect(COLUMNS.altered, 0, 3, height);
}

function caption() {
  if (hover !== null && light) {
    const i = Math.min(light.low.length - 1, Math.max(0, Math.floor(((hover - light.first) / (light.stop - light.first)) * light.low.length)));
    said.textContent = `${String(hover).padStart(4, "0")}  light ${(50 * (light.low[i] + light.high[i])).toFixed(1)} %`;
    said.className = "number";
  } else {
    said.className = "";
    said.textContent = bench.range ? `range ${bench.range[0]} to ${bench.range[1]}` : `light · rows${bench.treated ? " · altered" : ""}`;
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
  canvas.addEventListener("pointerleave", () => { hover = null; draw(); });
  canvas.addEventListener("wheel", (event) => {
    event.preventDefault();
    const total = bench.reel.frames;
    const at = frameAt(event.offsetY, canvas.clientHeight);
    const factor = event.deltaY < 0 ? 0.7 : 1 / 0.7;
    const span = Math.min(total, Math.max(Math.min(8, total), Math.round((stop - first) * factor)));
    first = Math.min(Math.max(0, Math.round(at - (at - first) * (span / (stop - first)))), total - span);
    stop = first + span;
    draw();
  }, { passive: false });
}
