// The row and the column under the cross-hair over all frames, lined up with the picture.

import { bench, doubleStroke, fitCanvas } from "./bench.js";
import { fetchImage, sliceUrl } from "./images.js";
import { transform } from "./picture.js";
import * as regions from "./regions.js";

const row = document.getElementById("row");
const column = document.getElementById("column");
const tags = { row: document.getElementById("tag-row"), column: document.getElementById("tag-column") };
let at = { x: bench.x, y: bench.y };
let wait = null;
const last = {};
const making = {};

function view() {
  if (bench.trial) return bench.grid ? "source" : bench.shown[0];
  if (bench.holdSource || !bench.treated) return "source";
  return { split: "treated", side: "source" }[bench.view] ?? bench.view;
}

function image(kind) {
  // A shot that is not laid open yet has no slices; the page asks for it and draws them when they are there.
  if (!bench.laid[bench.shotAt]) return null;
  const entry = fetchImage(sliceUrl(kind, kind === "row" ? at.y : at.x, view()));
  making[kind] = !entry.ready;
  if (entry.ready) last[kind] = { entry, first: bench.shot.first };
  return last[kind]?.first === bench.shot.first ? last[kind].entry : null;
}

export function draw() {
  if (!bench.reel.ready) return;
  // Wait until the cross-hair rests: a slice reads every frame.
  if (at.x !== bench.x || at.y !== bench.y) {
    clearTimeout(wait);
    wait = setTimeout(() => {
      at = { x: bench.x, y: bench.y };
      draw();
    }, 90);
  }
  const place = transform();
  drawRow(place);
  drawColumn(place);
  const laid = bench.laid[bench.shotAt];
  tags.row.textContent = laid
    ? `row ${bench.y} over the shot, time down${making.row ? " · being made" : ""}`
    : bench.reel.state === "ready"
      ? "preparing time slices"
      : "slices follow when the reel is read";
  tags.column.textContent = laid ? `x ${bench.x}` : "";
}

const share = () => (bench.frame - bench.shot.first + 0.5) / Math.max(1, bench.shot.stop - bench.shot.first);
const frameAt = (part) => bench.shot.first + Math.min(0.9999, Math.max(0, part)) * (bench.shot.stop - bench.shot.first) - 0.5;

function drawRow(place) {
  const { pen, width, height } = fitCanvas(row);
  const entry = image("row");
  const left = place.left;
  pen.save();
  pen.beginPath();
  pen.rect(place.pane.x, 0, place.pane.width, height);
  pen.clip();
  if (entry?.ready) {
    pen.imageSmoothingEnabled = place.scale < 1;
    pen.drawImage(entry.image, left, 0, bench.reel.width * place.across, height);
  }
  const spans = Math.max(1, bench.shot.stop - bench.shot.first);
  regions.drawAlong(pen, "row", at.y, (x, frame) => [left + x * place.across, (frame / spans) * height]);
  now(pen, "h", share() * height, width);
  here(pen, left + (bench.x + 0.5) * place.across, 0, 0, height);
  pen.restore();
}

function drawColumn(place) {
  const { pen, width, height } = fitCanvas(column);
  const entry = image("column");
  pen.save();
  pen.beginPath();
  pen.rect(0, place.pane.y, width, place.pane.height);
  pen.clip();
  if (entry?.ready) {
    pen.imageSmoothingEnabled = place.scale < 1;
    pen.drawImage(entry.image, 0, place.top, width, bench.reel.height * place.scale);
  }
  const spans = Math.max(1, bench.shot.stop - bench.shot.first);
  regions.drawAlong(pen, "column", at.x, (y, frame) => [(frame / spans) * width, place.top + y * place.scale]);
  now(pen, "v", share() * width, height);
  here(pen, 0, place.top + (bench.y + 0.5) * place.scale, width, 0);
  pen.restore();
}

function now(pen, kind, where, length) {
  const v = Math.round(where) + 0.5;
  doubleStroke(
    pen,
    () => {
      pen.beginPath();
      if (kind === "h") {
        pen.moveTo(0, v);
        pen.lineTo(length, v);
      } else {
        pen.moveTo(v, 0);
        pen.lineTo(v, length);
      }
      pen.stroke();
    },
    1,
  );
}

function here(pen, x, y, dx, dy) {
  pen.save();
  pen.setLineDash([2, 4]);
  pen.lineWidth = 1;
  for (const [colour, offset] of [
    ["rgb(20 20 20 / 0.6)", 0],
    ["rgb(245 245 245 / 0.8)", 3],
  ]) {
    pen.strokeStyle = colour;
    pen.lineDashOffset = offset;
    // Short, at both ends: a streak at the cross-hair must not hide under it.
    for (const [from, to] of [
      [0, 0.09],
      [0.91, 1],
    ]) {
      pen.beginPath();
      pen.moveTo(x + from * dx, y + from * dy);
      pen.lineTo(x + to * dx, y + to * dy);
      pen.stroke();
    }
  }
  pen.restore();
}

export function listen() {
  drag(row, (px, py) => {
    const place = transform();
    bench.aim((px - place.left) / place.across, bench.y);
    bench.go(frameAt(py / row.clientHeight));
  });
  drag(column, (px, py) => {
    const place = transform();
    bench.aim(bench.x, (py - place.top) / place.scale);
    bench.go(frameAt(px / column.clientWidth));
  });
}

export function drag(canvas, moved) {
  let on = false;
  const tell = (event) => {
    const bounds = canvas.getBoundingClientRect();
    moved(event.clientX - bounds.left, event.clientY - bounds.top, event);
  };
  canvas.addEventListener("pointerdown", (event) => {
    on = true;
    canvas.setPointerCapture(event.pointerId);
    tell(event);
  });
  canvas.addEventListener("pointermove", (event) => {
    if (on) tell(event);
  });
  for (const end of ["pointerup", "pointercancel"])
    canvas.addEventListener(end, () => {
      on = false;
    });
}
