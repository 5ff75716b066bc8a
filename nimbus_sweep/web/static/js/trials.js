// Trials: which one is open, and which of its ways is shown.

import { bench } from "./bench.js";
import * as play from "./play.js";

let told = null;
let shown = null;

// What the server knows of the reel's trials; the newest is open to begin with.
export function know(list) {
  const key = JSON.stringify(list);
  if (key === told) return;
  const first = told === null;
  told = key;
  bench.set({ trials: list });
  if (first && bench.openTrial === null) bench.set({ openTrial: list[0]?.id ?? null });
  settle();
}

export function open(id) {
  if (bench.openTrial !== id) bench.set({ openTrial: id });
  settle();
}

export function close(id) {
  if (bench.openTrial === id) bench.set({ openTrial: null });
}

// Playback goes round in the frames of the trial that is shown.
function settle() {
  const { trial } = bench;
  if (!trial || shown === `${trial.id}/${trial.made}`) return;
  shown = `${trial.id}/${trial.made}`;
  const range = [trial.first, trial.stop - 1];
  bench.set({ range, loop: "range", way: Math.min(bench.way, trial.names.length - 1) });
  if (bench.frame < range[0] || bench.frame > range[1]) bench.go(range[0]);
}

// One way, from 0; -1 is the source.
export function show(way) {
  const { trial } = bench;
  if (trial && way < trial.names.length) bench.set({ way, grid: false });
}

export function all() {
  if (!bench.trial) return;
  play.stop();
  bench.set({ grid: !bench.grid, way: Math.max(0, bench.way) });
}

let before = 0;
export function flip() {
  if (bench.way >= 0) {
    before = bench.way;
    show(-1);
  } else show(before);
}

// A key that means something here; true when it was taken.
export function key(name) {
  if (!bench.trial) return false;
  if (/^[1-4]$/.test(name)) show(Number(name) - 1);
  else if (name === "v") all();
  else if (name === "t") flip();
  else return ["h", "j", "x"].includes(name);
  return true;
}

export function buttons() {
  for (const button of document.querySelectorAll("[data-ways-shown]")) {
    const want = button.dataset.waysShown;
    const { trial } = bench;
    const on = trial && (want === "all" ? bench.grid : !bench.grid && bench.way === Number(want));
    button.setAttribute("aria-pressed", String(Boolean(on)));
    button.disabled = !trial || Number(want) >= trial.names.length;
  }
  document.querySelector(".views").classList.toggle("grid-only", bench.layout === "grid");
  document.getElementById("readout").hidden = bench.layout === "grid";
  for (const row of document.querySelectorAll("li[data-way]")) {
    const mine = Number(row.closest("[data-trial]")?.dataset.trial) === bench.trial?.id;
    row.setAttribute("aria-current", String(mine && !bench.grid && Number(row.dataset.way) === bench.way));
  }
}

export function listen(sheet) {
  sheet.addEventListener(
    "toggle",
    (event) => {
      const { trial } = event.target.dataset;
      if (!trial || !event.target.isConnected) return;
      if (event.target.open) {
        for (const other of sheet.querySelectorAll("details[data-trial][open]")) if (other !== event.target) other.open = false;
        open(Number(trial));
      } else close(Number(trial));
    },
    true,
  );
  sheet.addEventListener("click", (event) => {
    const button = event.target.closest("[data-show-way]");
    if (button) show(Number(button.dataset.showWay));
  });
  document.addEventListener("click", (event) => {
    const want = event.target.closest("[data-ways-shown]")?.dataset.waysShown;
    if (want === "all") bench.set({ grid: true, way: Math.max(0, bench.way) });
    else if (want) show(Number(want));
  });
}
