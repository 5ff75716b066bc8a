// The picture: frame, zoom, comparison, rings and cross-hair.

import { get } from "./api.js";
import { bench, doubleStroke, fitCanvas, FONT, note } from "./bench.js";
import * as forms from "./forms.js";
import { averageUrl, cropUrl, fetchImage, frameUrl } from "./images.js";
import * as regions from "./regions.js";
import * as retouch from "./retouch.js";
import * as specks from "./specks.js";
import * as tracks from "./tracks.js";

const canvas = document.getElementById("picture");
const tag = document.getElementById("tag-picture");
const warn = document.getElementById("tag-warn");
const PROXY = 960;
let last = {}; // the last pictures drawn for each view, shown until the new ones come

// The boxes (CSS pixels) the views are drawn into.
export function panes(width, height) {
  const views = bench.shown;
  if (bench.layout !== "side" && bench.layout !== "grid") return views.map((view) => ({ view, x: 0, y: 0, width, height }));
  // As many beside one another as make them largest.
  const { width: w, height: h } = bench.reel;
  const cut = (across) => {
    const down = Math.ceil(views.length / across);
    return { across, wide: (width - 4 * (across - 1)) / across, tall: (height - 4 * (down - 1)) / down };
  };
  const size = ({ wide, tall }) => Math.min(wide / (w * bench.aspect), tall / h);
  const best = views.map((_, n) => cut(n + 1)).reduce((a, b) => (size(b) > size(a) ? b : a));
  return views.map((view, i) => ({
    view,
    width: best.wide,
    height: best.tall,
    x: (i % best.across) * (best.wide + 4),
    y: Math.floor(i / best.across) * (best.tall + 4),
  }));
}

export function transform() {
  const pane = panes(canvas.clientWidth, canvas.clientHeight)[0];
  const place = bench.place(pane.width, pane.height);
  return { ...place, left: place.left + pane.x, top: place.top + pane.y, pane };
}

// Frame numbers as time code, counted from the reel's own first code (SMPTE ST 12-1, drop frame by the semicolon).
function timecode(frame) {
  const [a, b] = bench.reel.rate.split("/").map(Number);
  const whole = Math.max(1, Math.round(a / (b || 1)));
  const two = (v) => String(v).padStart(2, "0");
  const [h, m, s, f] = (bench.reel.timeCode || "00:00:00:00").split(/[:;]/).map(Number);
  const drop = bench.reel.timeCode.includes(";") ? Math.round(whole / 15) : 0;
  const minutes = 60 * h + m;
  let count = (minutes * 60 + s) * whole + f - drop * (minutes - Math.floor(minutes / 10)) + frame;
  if (drop) {
    const ten = 600 * whole - 9 * drop;
    const minute = 60 * whole - drop;
    const rest = count % ten;
    count += 9 * drop * Math.floor(count / ten) + (rest > drop ? drop * Math.floor((rest - drop) / minute) : 0);
  }
  const seconds = Math.floor(count / whole);
  return `${two(Math.floor(seconds / 3600) % 24)}:${two(Math.floor(seconds / 60) % 60)}:${two(seconds % 60)}${drop ? ";" : ":"}${two(count % whole)}`;
}

// The part of the picture a pane shows, on whole pixels, with a little to spare for moving.
function visible(pane, place) {
  const x = Math.max(0, Math.floor(-place.left / place.across) & ~31);
  const y = Math.max(0, Math.floor(-place.top / place.scale) & ~31);
  const right = Math.min(bench.reel.width, Math.ceil((pane.width - place.left) / place.across) + 32);
  const bottom = Math.min(bench.reel.height, Math.ceil((pane.height - place.top) / place.scale) + 32);
  return { x, y, w: Math.max(1, right - x), h: Math.max(1, bottom - y) };
}

function wanted(pane, place, ratio) {
  if (bench.average !== "off")
    return { url: averageUrl(pane.view === "difference" ? "treated" : pane.view, Math.min(1600, bench.reel.width)), box: null };
  const small = frameUrl(bench.frame, pane.view, Math.min(PROXY, bench.reel.width));
  const exact = place.scale * ratio >= 0.999;
  if (bench.playing && pane.view !== "difference") return { url: small, box: null };
  if (exact && bench.rested === bench.frame) {
    const box = visible(pane, place);
    return { url: cropUrl(bench.frame, pane.view, box), box, small };
  }
  const width = Math.min(bench.reel.width, Math.ceil(bench.reel.width * Math.max(place.scale, place.across) * ratio));
  return { url: width <= PROXY ? small : frameUrl(bench.frame, pane.view, Math.ceil(width / 160) * 160), box: null, small };
}

// The picture takes the height its shape needs; the row slice takes what is left.
export function share() {
  const views = canvas.parentElement.parentElement;
  const height = (canvas.clientWidth * bench.reel.height) / Math.max(1, bench.reel.width * bench.aspect);
  views.style.setProperty("--picture-height", `${Math.round(height)}px`);
}

export function draw() {
  const { pen, width, height, ratio } = fitCanvas(canvas);
  if (!bench.reel.ready) return;
  const current = {};
  for (const [i, pane] of panes(width, height).entries()) {
    const place = bench.place(pane.width, pane.height);
    const wish = wanted(pane, place, ratio);
    let got = { ...wish, entry: fetchImage(wish.url), frame: bench.frame };
    if (!got.entry.ready) {
      const before = last[pane.view];
      const small = wish.small && wish.small !== wish.url ? fetchImage(wish.small) : null;
      if (small?.ready) got = { box: null, entry: small, frame: bench.frame };
      else if (before?.entry.ready) got = { ...before, stale: true };
    }
    if (got.entry.ready) current[pane.view] = got;
    pen.save();
    pen.beginPath();
    if (bench.layout === "split") {
      const edge = Math.round(bench.split * width);
      pen.rect(i ? edge : 0, 0, i ? width - edge : edge, height);
    } else pen.rect(pane.x, pane.y, pane.width, pane.height);
    pen.clip();
    pen.translate(pane.x + place.left, pane.y + place.top);
    if (got.entry.ready) {
      pen.imageSmoothingEnabled = !(got.box && place.scale * ratio >= 1);
      pen.imageSmoothingQuality = "high";
      const box = got.box ?? { x: 0, y: 0, w: bench.reel.width, h: bench.reel.height };
      pen.drawImage(got.entry.image, box.x * place.across, box.y * place.scale, box.w * place.across, box.h * place.scale);
    }
    const marked = !bench.plane || bench.holdSource;
    if (marked) {
      forms.draw(pen, place);
      specks.draw(pen, place);
    }
    if (marked && bench.rings && !regions.active() && !tracks.open()) {
      rings(pen, place);
      if (pane.view === "treated" && bench.average === "off") legend(pen, place);
    }
    if (marked) {
      tracks.draw(pen, place);
      regions.draw(pen, place);
    }
    if (pane.view !== "difference" && bench.layout !== "grid")
      retouch.draw(pen, pane, place, got.entry.ready ? { ...got, fresh: got.entry === fetchImage(wish.url) } : null, ratio);
    if (!retouch.active()) crosshair(pen, place);
    pen.restore();
    if (bench.layout === "grid") caption(pen, pane, place, i);
  }
  last = { ...last, ...current };
  canvas.dataset.shown = Object.entries(current)
    .map(([view, g]) => `${view}:${g.frame}:${g.stale ? "stale" : g.box ? "exact" : "small"}:${g.entry.image.src.includes("w=") ? 1 : 0}`)
    .join(" ");
  if (bench.layout === "split") splitEdge(pen, width, height);
  label();
}

// A pixel is ringed with room to see it; a mark is held whole.
function ringOf(site, scale) {
  return Math.max(8, Math.max(7, 0.6 * Math.hypot(site.width, site.height) + 2) * scale);
}

function rings(pen, { scale, across }) {
  for (const site of bench.sites) {
    // What is of the whole picture has no place.
    if (site.drawn === "frame" || site.state === "dismissed" || (site.state === "doubtful" && bench.selected !== site.index)) continue;
    if (bench.frame < site.first || bench.frame >= site.stop) continue;
    if (site.drawn === "path") {
      bracket(pen, site, across, scale);
      continue;
    }
    const x = (site.x + site.width / 2) * across;
    const y = (site.y + site.height / 2) * scale;
    const radius = ringOf(site, scale);
    const chosen = bench.selected === site.index;
    doubleStroke(pen, () => {
      pen.beginPath();
      // Placed by hand: a square; found: a circle. Chosen: ticks outside. Form tells them apart, not colour.
      if (site.by_hand) pen.rect(x - radius, y - radius, 2 * radius, 2 * radius);
      else pen.arc(x, y, radius, 0, 7);
      if (chosen)
        for (const [dx, dy] of [
          [1, 0],
          [-1, 0],
          [0, 1],
          [0, -1],
        ]) {
          pen.moveTo(x + dx * (radius + 3), y + dy * (radius + 3));
          pen.lineTo(x + dx * (radius + 10), y + dy * (radius + 10));
        }
      pen.stroke();
    });
  }
}

// A scratch is held at both ends, so that the line itself stays to be seen.
function bracket(pen, site, across, scale) {
  const [left, right] = [site.x * across - 5, (site.x + site.width) * across + 5];
  const deep = bench.selected === site.index ? 22 : 10;
  doubleStroke(pen, () => {
    pen.beginPath();
    for (const [y, way] of [
      [1, 1],
      [bench.reel.height * scale - 1, -1],
    ]) {
      pen.moveTo(left, y + way * deep);
      pen.lineTo(left, y);
      pen.lineTo(right, y);
      pen.lineTo(right, y + way * deep);
    }
    pen.stroke();
  });
}

// How each mark is mended in this frame, in words beside it; asked for when the play head rests.
let ways = { key: "", marks: [] };
const SAID = {
  undo: () => "undone",
  borrow: (m) => `from ${m.frames.length} frame${m.frames.length === 1 ? "" : "s"}`,
  surround: () => "made up",
};

function askWays() {
  const key = `${bench.frame}/${bench.revision}/${bench.treated}`;
  if (key === ways.key || bench.playing || bench.rested !== bench.frame) return;
  ways = { key, marks: [] };
  get(`/reels/${bench.reel.id}/ways/${bench.frame}?shot=${bench.shot.id}`).then(
    (told) => {
      if (key === ways.key) {
        ways.marks = told.marks;
        bench.set({ ways: told.marks });
      }
    },
    () => {},
  );
}

function legend(pen, { scale, across }) {
  askWays();
  pen.font = FONT;
  for (const mark of ways.marks) {
    const said = `${SAID[mark.way](mark)}${mark.doubt ? " ?" : ""}`;
    const wide = pen.measureText(said).width + 8;
    const middle = ((mark.left + mark.right) / 2) * across;
    const radius = ringOf({ width: mark.right - mark.left, height: mark.bottom - mark.top }, scale);
    const below = ((mark.top + mark.bottom) / 2) * scale + radius + 10;
    const x = Math.min(Math.max(2, middle - wide / 2), bench.reel.width * across - wide - 2);
    const y = below + 8 > bench.reel.height * scale ? below - 2 * radius - 20 : below;
    note(pen, said, x, y, mark.doubt);
  }
}

// The name and the figures of one of a trial's ways, in its pane.
function caption(pen, pane, place, n) {
  const { trial } = bench;
  const top = n ? pane.y + 10 : pane.y + 30;
  note(pen, `${n + 1}  ${bench.holdSource ? "source" : trial.names[n]}`, pane.x + 4, top);
  const below = pane.y + place.top + bench.reel.height * place.scale + 12;
  note(pen, trial.lines[n], pane.x + 4, Math.min(below, pane.y + pane.height - 10));
}

function crosshair(pen, { scale, across }) {
  const x = (bench.x + 0.5) * across;
  const y = (bench.y + 0.5) * scale;
  const gap = Math.max(6, 1.5 * scale);
  pen.save();
  pen.setLineDash([2, 4]);
  pen.lineWidth = 1;
  for (const [colour, offset] of [
    ["rgb(20 20 20 / 0.7)", 0],
    ["rgb(245 245 245 / 0.85)", 3],
  ]) {
    pen.strokeStyle = colour;
    pen.lineDashOffset = offset;
    pen.beginPath();
    pen.moveTo(0, y);
    pen.lineTo(x - gap, y);
    pen.moveTo(x + gap, y);
    pen.lineTo(bench.reel.width * across, y);
    pen.moveTo(x, 0);
    pen.lineTo(x, y - gap);
    pen.moveTo(x, y + gap);
    pen.lineTo(x, bench.reel.height * scale);
    pen.stroke();
  }
  pen.restore();
}

function splitEdge(pen, width, height) {
  const edge = Math.round(bench.split * width);
  doubleStroke(pen, () => {
    pen.beginPath();
    pen.moveTo(edge, 0);
    pen.lineTo(edge, height);
    pen.stroke();
  });
  doubleStroke(pen, () => {
    pen.beginPath();
    pen.rect(edge - 4, height - 44, 8, 28);
    pen.stroke();
  });
}

function label() {
  const { trial } = bench;
  const names = {
    difference: `difference x${bench.gain}`,
    ...(bench.plane ? { [bench.plane]: bench.plane.startsWith("still") ? "standing still" : "the plate" } : {}),
  };
  const said =
    bench.layout === "grid"
      ? `${trial.names.length} ways`
      : bench.shown.map((v) => names[v] ?? trial?.names[Number(v.split("-")[2])] ?? v).join(" | ");
  const zoom = transform().scale;
  const shots = bench.shots.length > 1 ? `  shot ${bench.shotAt + 1}` : "";
  if (bench.average !== "off") {
    tag.textContent = `average of the shot${bench.average === "flat" ? ", flattened" : ""}${shots}  ${said}  ${Math.round(zoom * 100)} %`;
  } else
    tag.textContent = `frame ${String(bench.frame).padStart(4, "0")}${shots}  ${timecode(bench.frame)}  ${said}  ${Math.round(zoom * 100)} %`;
  if (trial && bench.layout === "one") tag.textContent += `\n${trial.lines[bench.way] ?? ""}`.trimEnd();
  const waiting = !trial && bench.view !== "source" && !bench.treated && !bench.holdSource;
  const outside = trial && (bench.frame < trial.first || bench.frame >= trial.stop);
  const missing = bench.reel.absent.includes(bench.frame);
  warn.hidden = !waiting && !missing && !outside;
  if (missing) warn.textContent = `frame ${bench.frame} is missing in the reel`;
  else if (outside) warn.textContent = `the trial is of frames ${trial.first} to ${trial.stop - 1}`;
  else if (waiting) warn.textContent = "source shown: the treated picture is not ready";
}

export function toPicture(event) {
  const bounds = canvas.getBoundingClientRect();
  let px = event.clientX - bounds.left;
  let py = event.clientY - bounds.top;
  const all = panes(canvas.clientWidth, canvas.clientHeight);
  const pane = all.find((p) => px >= p.x && px < p.x + p.width && py >= p.y && py < p.y + p.height) ?? all[0];
  px -= pane.x;
  py -= pane.y;
  const place = bench.place(pane.width, pane.height);
  return { x: (px - place.left) / place.across, y: (py - place.top) / place.scale, pane, place, px, py };
}

export function zoomTo(zoom, at = null) {
  const { pane, fit } = transform();
  const centre = at ?? { x: bench.x + 0.5, y: bench.y + 0.5, px: pane.width / 2, py: pane.height / 2 };
  let next = zoom === null ? null : Math.min(32, Math.max(fit, zoom));
  if (next !== null && next <= fit * 1.001) next = null;
  const scale = next ?? fit;
  bench.set({
    zoom: next,
    centreX: centre.x + (pane.width / 2 - centre.px) / (scale * bench.aspect),
    centreY: centre.y + (pane.height / 2 - centre.py) / scale,
  });
}

// Zoom runs through the whole picture, 1:1 and whole multiples, where pixels stay hard.
export function zoomStep(direction, at = null) {
  const { scale, fit } = transform();
  const ratio = window.devicePixelRatio || 1;
  const stops = [fit, ...[0.5, 1, 2, 3, 4, 6, 8, 12, 16, 24, 32].map((s) => s / ratio).filter((s) => s > fit * 1.02)];
  const next =
    direction > 0 ? (stops.find((s) => s > scale * 1.02) ?? stops.at(-1)) : (stops.filter((s) => s < scale * 0.98).at(-1) ?? stops[0]);
  zoomTo(next, at);
}

export function listen() {
  let drag = null;
  canvas.addEventListener("pointerdown", (event) => {
    canvas.setPointerCapture(event.pointerId);
    canvas.focus();
    const at = toPicture(event);
    const edge = bench.split * canvas.clientWidth;
    if (bench.layout === "split" && Math.abs(at.px - edge) < 8) drag = { kind: "split" };
    else if (retouch.press(at, event)) drag = { kind: "brush" };
    else if (regions.press(at, event)) drag = { kind: "draw" };
    else if (!regions.active() && tracks.press(at, event)) drag = { kind: "corner" };
    else if (event.shiftKey || event.button === 1)
      drag = { kind: "move", x: event.clientX, y: event.clientY, cx: bench.centreX, cy: bench.centreY };
    else {
      drag = { kind: "aim" };
      bench.aim(at.x, at.y);
      choose(at);
    }
    event.preventDefault();
  });
  canvas.addEventListener("pointermove", (event) => {
    if (!drag || drag.kind === "brush") retouch.move(toPicture(event));
    if (drag?.kind === "brush") return;
    if (drag?.kind === "corner") {
      tracks.move(toPicture(event));
      return;
    }
    if (!drag || drag.kind === "draw") {
      if (regions.active()) regions.move(toPicture(event));
      return;
    }
    if (drag.kind === "split")
      bench.set({ split: Math.min(0.98, Math.max(0.02, (event.clientX - canvas.getBoundingClientRect().left) / canvas.clientWidth)) });
    else if (drag.kind === "move") {
      const { scale, across } = transform();
      bench.set({ centreX: drag.cx - (event.clientX - drag.x) / across, centreY: drag.cy - (event.clientY - drag.y) / scale });
    } else {
      const at = toPicture(event);
      bench.aim(at.x, at.y);
    }
  });
  for (const end of ["pointerup", "pointercancel"])
    canvas.addEventListener(end, () => {
      if (drag?.kind === "draw") regions.release();
      if (drag?.kind === "corner") tracks.release();
      if (drag?.kind === "brush") {
        const pane = panes(canvas.clientWidth, canvas.clientHeight)[0];
        retouch.release(pane, bench.place(pane.width, pane.height), last[pane.view]);
      }
      drag = null;
    });
  canvas.addEventListener("pointerleave", () => {
    regions.leave();
    retouch.leave();
  });
  canvas.addEventListener(
    "wheel",
    (event) => {
      event.preventDefault();
      if (retouch.wheel(event) || regions.wheel(event)) return;
      zoomStep(event.deltaY < 0 ? 1 : -1, toPicture(event));
    },
    { passive: false },
  );
}

// A click near a ring chooses its finding.
function choose(at) {
  if (specks.choose(at)) return;
  const far = (s) =>
    s.drawn === "path"
      ? Math.max(0, Math.abs(s.x + s.width / 2 - at.x) - s.width / 2)
      : Math.hypot(s.x + s.width / 2 - at.x, s.y + s.height / 2 - at.y);
  const reach = (s) => (s.drawn === "path" ? 6 : ringOf(s, at.place.scale)) / at.place.scale + 2;
  const near = bench.sites.filter((s) => s.state === "kept" && s.drawn !== "frame" && far(s) < reach(s)).sort((a, b) => far(a) - far(b))[0];
  bench.set({ selected: near ? near.index : null });
}
