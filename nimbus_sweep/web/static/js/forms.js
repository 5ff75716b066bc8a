// What of the frame is held to be steady, moving or flickering, painted over the picture in forms.

import { bench } from "./bench.js";
import { fetchImage, formUrl } from "./images.js";

const KINDS = ["moving", "flickering", "untold"];
const made = {};
let sheet = null;

// Lines lean where something moves, lie level where light flickers; dots are where neither can be told.
const TILES = {
  moving: (pen) => {
    for (const k of [-12, 0, 12]) {
      pen.moveTo(k, 12);
      pen.lineTo(k + 12, 0);
    }
  },
  flickering: (pen) => {
    for (const y of [3.5, 9.5]) {
      pen.moveTo(0, y);
      pen.lineTo(12, y);
    }
  },
  untold: (pen) => {
    pen.moveTo(5, 6);
    pen.lineTo(7, 6);
  },
};

function pattern(kind) {
  if (made[kind]) return made[kind];
  const tile = new OffscreenCanvas(12, 12);
  const pen = tile.getContext("2d");
  for (const [colour, width] of [
    ["rgb(20 20 20 / 0.7)", 2.6],
    ["rgb(245 245 245 / 0.95)", 1.1],
  ]) {
    pen.strokeStyle = colour;
    pen.lineWidth = width;
    pen.beginPath();
    TILES[kind](pen);
    pen.stroke();
  }
  made[kind] = pen.createPattern(tile, "repeat");
  return made[kind];
}

export function ready(frame) {
  return !bench.forms || KINDS.map((kind) => fetchImage(formUrl(frame, kind))).every((e) => e.ready || e.failed);
}

let last = null;
export function draw(pen, { across, scale }) {
  if (!bench.forms || bench.frame < bench.shot.enter || bench.frame >= bench.shot.leave) return;
  const entries = KINDS.map((kind) => fetchImage(formUrl(bench.frame, kind)));
  if (entries.every((e) => e.ready)) last = entries;
  if (!last) return;
  const { width, height } = pen.canvas;
  sheet ??= new OffscreenCanvas(width, height);
  if (sheet.width !== width || sheet.height !== height) {
    sheet.width = width;
    sheet.height = height;
  }
  const place = pen.getTransform();
  for (const [n, kind] of KINDS.entries()) {
    const over = sheet.getContext("2d");
    over.setTransform(1, 0, 0, 1, 0, 0);
    over.globalCompositeOperation = "source-over";
    over.clearRect(0, 0, width, height);
    over.setTransform(place);
    over.imageSmoothingEnabled = false;
    over.drawImage(last[n].image, 0, 0, bench.reel.width * across, bench.reel.height * scale);
    over.setTransform(1, 0, 0, 1, 0, 0);
    over.globalCompositeOperation = "source-in";
    over.fillStyle = pattern(kind);
    over.fillRect(0, 0, width, height);
    pen.save();
    pen.setTransform(1, 0, 0, 1, 0, 0);
    pen.drawImage(sheet, 0, 0);
    pen.restore();
  }
}

// The point of the order that is open says what is painted, and the boxes in it how: at once, before they are let go.
export function mark(paper) {
  const open = paper.querySelector("details[data-point][open]");
  const wanted = open && paper.querySelector("[data-paint]")?.checked;
  const number = (name) =>
    Number(open.querySelector(`[data-forms=${name}]`)?.value ?? paper.querySelector(`[data-forms=${name}]`)?.value ?? 0);
  const forms = wanted ? `before=${open.dataset.before}&reach=${number("reach") || 16}&grain=${(number("grain") / 100).toFixed(4)}` : null;
  if (forms !== bench.forms) bench.set({ forms });
}

export function listen(paper) {
  paper.addEventListener(
    "toggle",
    (event) => {
      if ("point" in event.target.dataset && event.target.isConnected) mark(paper);
    },
    true,
  );
  paper.addEventListener("input", (event) => {
    if (event.target.dataset.forms || "paint" in event.target.dataset) mark(paper);
  });
}

export function toggle(paper) {
  const box = paper.querySelector("[data-paint]");
  if (box) {
    box.checked = !box.checked;
    mark(paper);
  }
}
