// Specks of the frame that is shown: outlined by what becomes of them, chosen, left alone or taken back.

import { get } from "./api.js";
import { bench, doubleStroke, note } from "./bench.js";

let paper = null;
let act = () => {};
let asked = "";
let told = { frame: -1, specks: [] };
let chosen = null;

const step = () => paper?.querySelector("[data-specks]");
const doubted = () => step()?.querySelector("[data-outline-doubted]")?.checked ?? false;
const DRAWN = ["swept", "left", "fast"];
const drawn = (speck) => DRAWN.includes(speck.state) || (speck.state === "unsure" && doubted());
const shown = () => step()?.querySelector("[data-outline]")?.checked ?? false;
const sameAs = (one) => (s) => s.x === one.x && s.y === one.y;

// What the boxes say now, before they are let go, so that the picture answers at once.
function wish() {
  const set = step();
  const query = new URLSearchParams({ shot: bench.shot.id, step: set.dataset.specks });
  for (const box of set.querySelectorAll("[data-speck]"))
    query.set(box.dataset.speck, Number(box.value) * Number(box.dataset.scale ?? 1) || box.value);
  return `/reels/${bench.reel.id}/specks/${bench.frame}?${query}`;
}

function ask() {
  if (bench.playing || !shown()) return;
  const url = wish();
  const key = `${url}&m=${bench.revision}-${bench.treated}`;
  if (key === asked) return;
  asked = key;
  get(url).then(
    (answer) => {
      if (key !== asked) return;
      told = { frame: bench.frame, ...answer };
      const still = chosen?.frame === bench.frame ? told.specks.find(sameAs(chosen)) : null;
      chosen = still ? { ...still, frame: bench.frame } : null;
      tell();
      bench.set({ specks: key });
    },
    () => {
      if (key === asked) told = { frame: -1, specks: [] };
    },
  );
}

function tell() {
  const box = step()?.querySelector("[data-specks-told]");
  if (!box || told.frame !== bench.frame) return;
  const of = (state) => told.specks.filter((s) => s.state === state).length;
  const said =
    told.ready === false
      ? "The shot is still being analysed."
      : `This frame: ${of("swept")} removed, ${of("left")} left alone by you, ${of("fast")} moving too fast to be sure.`;
  if (box.textContent !== said) box.textContent = said;
  const leave = step().querySelector("[data-leave=one]");
  if (leave) {
    leave.disabled = !chosen;
    leave.textContent = !chosen || chosen.state === "swept" ? "Leave this one alone" : "Remove this one";
  }
  tellOfShot();
}

// What is removed in the whole shot, and how many of those may be none.
function tellOfShot() {
  const box = step().querySelector("[data-shot-told]");
  const shot = told.shot;
  if (!box || !shot) return;
  const none = shot.false < 0.5 ? "fewer than one" : `about ${Math.round(shot.false)}`;
  const lines = [
    shot.removed ? `This shot: ${shot.removed} removed; ${none} of them expected to be no specks.` : "This shot: none removed.",
  ];
  if (shot.said && (shot.more || shot.fewer)) lines.push(`By what you decided: ${shot.more} more, ${shot.fewer} fewer.`);
  if (box.textContent !== lines.join(" ")) box.textContent = lines.join(" ");
}

export function draw(pen, { scale, across }) {
  if (!step() || !shown() || bench.average !== "off") return;
  ask();
  if (told.frame !== bench.frame) return;
  pen.save();
  for (const speck of told.specks) {
    if (!drawn(speck)) continue;
    const grow = 3;
    const [x, y, w, h] = [speck.x * across - grow, speck.y * scale - grow, speck.w * across + 2 * grow, speck.h * scale + 2 * grow];
    // Swept off: a whole line; left alone: dashes; moving too fast, or doubted: dots. Chosen: ticks outside.
    pen.setLineDash({ swept: [], left: [5, 4], fast: [1, 3], unsure: [1, 3] }[speck.state]);
    const picked = chosen && chosen.frame === bench.frame && sameAs(chosen)(speck);
    doubleStroke(
      pen,
      () => {
        pen.beginPath();
        pen.ellipse(x + w / 2, y + h / 2, Math.max(5, w / 1.7), Math.max(5, h / 1.7), 0, 0, 7);
        if (picked)
          for (const [dx, dy] of [
            [1, 0],
            [-1, 0],
            [0, 1],
            [0, -1],
          ]) {
            pen.moveTo(x + w / 2 + dx * (w / 1.7 + 4), y + h / 2 + dy * (h / 1.7 + 4));
            pen.lineTo(x + w / 2 + dx * (w / 1.7 + 10), y + h / 2 + dy * (h / 1.7 + 10));
          }
        pen.stroke();
      },
      1,
    );
    if (speck.state === "fast" && scale >= 1) note(pen, "moving too fast", x, y + h + 10);
  }
  pen.restore();
}

// A click on an outline chooses it; true when it did.
export function choose(at) {
  if (!step() || !shown() || told.frame !== bench.frame) return false;
  const far = (s) => Math.hypot(s.x + s.w / 2 - at.x, s.y + s.h / 2 - at.y) - Math.max(s.w, s.h) / 2;
  const near = told.specks.filter(drawn).sort((a, b) => far(a) - far(b))[0];
  pick(near && far(near) < 8 / at.place.scale ? near : null);
  return chosen !== null;
}

function pick(speck) {
  chosen = speck ? { ...speck, frame: bench.frame } : null;
  tell();
  bench.set({ specks: `${asked}/${speck?.x}/${speck?.y}` });
}

// Through the specks of the frame that are shown; false where there are none to step through.
export function through(direction) {
  if (!step() || !shown() || told.frame !== bench.frame) return false;
  const all = told.specks.filter(drawn);
  if (!all.length) return false;
  const at = chosen ? all.findIndex(sameAs(chosen)) : -1;
  pick(all[(at + direction + all.length) % all.length]);
  bench.aim(chosen.x + Math.floor(chosen.w / 2), chosen.y + Math.floor(chosen.h / 2));
  if (bench.zoom) bench.set({ centreX: chosen.x + chosen.w / 2, centreY: chosen.y + chosen.h / 2 });
  return true;
}

export function leaveChosen() {
  const set = step();
  if (!set || !chosen) return;
  const { x, y, w, h, frame, state } = chosen;
  const what = { swept: "one", left: "back" }[state] ?? "sweep";
  act(set.dataset.leaveUrl, { what, frame, box: [x, y, w, h] });
}

// A part of the reel, or what is seen now of the picture.
function leave(what) {
  const set = step();
  const [first, last] = bench.range ?? [bench.frame, bench.frame];
  if (what === "one") leaveChosen();
  else if (what === "range") act(set.dataset.leaveUrl, { what, first, stop: last + 1 });
}

export function mark(sheet) {
  paper = sheet;
  tell();
  if (step()) ask();
}

export function listen(sheet, post) {
  paper = sheet;
  act = post;
  sheet.addEventListener("input", (event) => {
    if (event.target.dataset.speck || "outline" in event.target.dataset || "outlineDoubted" in event.target.dataset) {
      asked = "";
      ask();
      bench.set({ specks: `${Math.random()}` });
    }
  });
  sheet.addEventListener("click", (event) => {
    const button = event.target.closest("[data-leave]");
    if (button) leave(button.dataset.leave);
  });
}
