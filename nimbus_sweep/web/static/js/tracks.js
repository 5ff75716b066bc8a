// The track that is open in the sheet: its plane on the picture, its corners to be put right, how well it holds over the shot.

import { get } from "./api.js";
import { bench, doubleStroke, fitCanvas } from "./bench.js";

const HOLD = 9; // CSS pixels within which a corner is taken hold of
const WORST = 0.4; // misfit that fills the lane
let url = null;
let seen = null;
let seenFor = "";
let over = { key: "", misfit: [], states: [] }; // of all frames: asked for when the track has changed, not with every frame
let held = null; // { n, corners, from }
let act = () => {};

export const open = () => url !== null;

export function mark(sheet) {
  const fold = sheet.querySelector("details[data-track][open]");
  const next = fold?.dataset.track ?? null;
  if (next !== url) {
    url = next;
    seen = null;
    seenFor = "";
    held = null;
    bench.set({ drawn: {} });
  }
  if (!url || bench.playing) return;
  const key = `${url}/${bench.frame}/${bench.revision}`;
  if (key !== seenFor) ask(key);
  fold.querySelector("[data-track-said]").textContent = seen?.said ?? "";
  curve(fold.querySelector("canvas[data-track-curve]"));
}

async function ask(key) {
  seenFor = key;
  const whole = `${url}/${bench.revision}`;
  const told = await get(`${url}&frame=${bench.frame}&whole=${over.key === whole ? 0 : 1}`).catch(() => null);
  if (!told || key !== seenFor) return;
  if (over.key !== whole) over = { key: whole, misfit: told.misfit ?? [], states: told.states ?? [] };
  seen = told;
  held = null;
  bench.set({ drawn: {} });
}

// Misfit over the frames that were followed, what does not hold in a hatch of its own.
function curve(canvas) {
  if (!canvas || !seen?.followed || !over.misfit.length) return;
  const { pen, width, height } = fitCanvas(canvas);
  const style = getComputedStyle(document.documentElement);
  const ink = style.getPropertyValue("--ink"),
    loss = style.getPropertyValue("--loss");
  const per = width / over.misfit.length;
  for (const [n, miss] of over.misfit.entries()) {
    const tall = over.states[n] >= 2 ? height : Math.max(1, Math.sqrt(Math.min(1, miss / WORST)) * height);
    pen.fillStyle = over.states[n] ? loss : ink;
    pen.globalAlpha = over.states[n] >= 2 ? 0.35 : 1;
    pen.fillRect(n * per, height - tall, Math.max(1, per - (per > 3 ? 1 : 0)), tall);
  }
  pen.globalAlpha = 1;
  pen.fillStyle = style.getPropertyValue("--act");
  pen.fillRect((bench.frame - seen.first + 0.5) * per - 0.5, 0, 1.5, height);
  canvas.onclick = (event) => bench.go(seen.first + Math.floor(event.offsetX / per));
}

export function draw(pen, { across, scale }) {
  if (!url || !seen?.corners) return;
  const at = ([x, y]) => [(x + 0.5) * across, (y + 0.5) * scale];
  const corners = held?.corners ?? seen.corners;
  if (!held) {
    pen.save();
    pen.globalAlpha = 0.6;
    for (const line of seen.grid)
      doubleStroke(
        pen,
        () => {
          pen.beginPath();
          pen.moveTo(...at(line[0]));
          pen.lineTo(...at(line[1]));
          pen.stroke();
        },
        0.6,
      );
    pen.restore();
  }
  doubleStroke(pen, () => {
    pen.beginPath();
    for (const [n, c] of corners.entries()) pen[n ? "lineTo" : "moveTo"](...at(c));
    pen.closePath();
    pen.stroke();
  });
  for (const c of corners)
    doubleStroke(
      pen,
      () => {
        const [x, y] = at(c);
        pen.beginPath();
        pen.moveTo(x - 5, y);
        pen.lineTo(x, y - 5);
        pen.lineTo(x + 5, y);
        pen.lineTo(x, y + 5);
        pen.closePath();
        pen.stroke();
      },
      1,
    );
}

// The lane of the reel log: how far each frame misses; what does not hold is drawn hollow and across.
export function drawLog(pen, yOf, height, lane, ink, loss) {
  if (!url || !seen?.followed || !over.misfit.length) return false;
  for (const [n, miss] of over.misfit.entries()) {
    const top = yOf(seen.first + n, height),
      tall = Math.max(1, yOf(seen.first + n + 1, height) - top);
    if (top > height || top + tall < 0) continue;
    const bad = over.states[n] > 0;
    pen.fillStyle = bad ? loss : ink;
    pen.fillRect(
      lane,
      top,
      over.states[n] >= 2 ? 11 : Math.max(1, Math.sqrt(Math.min(1, miss / WORST)) * 11),
      Math.max(1, tall - (tall > 3 ? 1 : 0)),
    );
  }
  return true;
}

// Each gives true when the pointer was meant for a corner.
export function press(at, event) {
  if (!url || !seen?.corners || !seen.followed || event.shiftKey || event.button > 0) return false;
  const x = at.x - 0.5,
    y = at.y - 0.5;
  const near = seen.corners
    .map(([cx, cy], n) => [Math.hypot((cx - x) * at.place.across, (cy - y) * at.place.scale), n])
    .sort((a, b) => a[0] - b[0])[0];
  if (near[0] > HOLD) return false;
  held = { n: near[1], from: [x, y], corners: structuredClone(seen.corners) };
  return true;
}

export function move(at) {
  if (!held) return false;
  const [x, y] = seen.corners[held.n];
  held.corners[held.n] = [x + at.x - 0.5 - held.from[0], y + at.y - 0.5 - held.from[1]];
  bench.set({ drawn: {} });
  return true;
}

export function release() {
  if (!held) return;
  const { corners, n } = held;
  if (Math.hypot(corners[n][0] - seen.corners[n][0], corners[n][1] - seen.corners[n][1]) < 0.05) {
    held = null;
    return;
  }
  seen = { ...seen, corners };
  act(`${url.split("?")[0]}/corners?shot=${bench.shot.id}`, { frame: bench.frame, corners });
  held = null;
}

export function listen(sheet, how) {
  act = how;
  sheet.addEventListener(
    "toggle",
    (event) => {
      if (event.target.matches?.("details[data-track], details[data-track] details")) mark(sheet);
    },
    true,
  );
}
