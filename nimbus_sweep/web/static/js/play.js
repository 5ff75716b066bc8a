// Playback at the reel's true rate; says so when frames are dropped.

import { bench } from "./bench.js";
import * as forms from "./forms.js";
import { fetchImage, frameUrl } from "./images.js";
import { say } from "./api.js";

const button = document.getElementById("play");
const MODES = ["all", "shot", "range", "back and forth", "once"];
let begun = 0;
let origin = 0;
let dropped = 0;
let shown = 0;

const rate = () => {
  const [a, b] = bench.reel.rate.split("/").map(Number);
  return a / (b || 1);
};
const span = () => {
  if (bench.loop === "shot") return [looped.first, looped.stop - 1];
  return bench.range && bench.loop !== "all" ? bench.range : [0, bench.reel.frames - 1];
};
let looped = bench.shot;

function frameFor(steps) {
  const [a, b] = span();
  const count = b - a + 1;
  const from = origin - a;
  if (bench.loop === "once") return { frame: Math.min(b, origin + steps), over: origin + steps > b };
  if (bench.loop === "back and forth" && count > 1) {
    const at = (from + steps) % (2 * count - 2);
    return { frame: a + (at < count ? at : 2 * count - 2 - at) };
  }
  return { frame: a + ((from + steps) % count) };
}

const ready = (frame) =>
  forms.ready(frame) && bench.shown.every((view) => fetchImage(frameUrl(frame, view, Math.min(960, bench.reel.width))).ready);

function tick(now) {
  if (!bench.playing) return;
  const steps = Math.floor(((now - begun) / 1000) * rate());
  for (let ahead = 1; ahead <= 10; ahead += 1) ready(frameFor(steps + ahead).frame);
  const { frame, over } = frameFor(steps);
  if (over) {
    stop();
    return;
  }
  if (frame !== bench.frame) {
    if (ready(frame)) {
      const missed = steps - shown - 1;
      if (missed > 0) dropped += missed;
      shown = steps;
      bench.set({ frame });
    }
    const real = shown / Math.max(0.2, (now - begun) / 1000) - dropped / Math.max(0.2, (now - begun) / 1000);
    button.textContent = dropped ? `Stop (${real.toFixed(0)} of ${rate().toFixed(0)} fr/s)` : "Stop";
  }
  requestAnimationFrame(tick);
}

export function toggle() {
  if (bench.playing) stop();
  else start();
}

function start() {
  if (!bench.reel.ready) return;
  looped = bench.shot;
  const [a, b] = span();
  origin = bench.frame < a || bench.frame > b || (bench.loop === "once" && bench.frame === b) ? a : bench.frame;
  begun = performance.now();
  dropped = 0;
  shown = 0;
  bench.set({ playing: true });
  button.textContent = "Stop";
  requestAnimationFrame(tick);
}

export function stop() {
  if (!bench.playing) return;
  bench.set({ playing: false });
  button.textContent = "Play";
  if (dropped) say(`${dropped} frames were dropped in playback; the rate was held.`);
}

export function nextLoop() {
  const modes = MODES.filter((m) => (m !== "range" || bench.range) && (m !== "shot" || bench.shots.length > 1));
  bench.set({ loop: modes[(modes.indexOf(bench.loop) + 1) % modes.length] });
  if (bench.playing) {
    stop();
    start();
  }
}

export function label() {
  document.getElementById("loop").textContent =
    `Loop: ${bench.loop === "range" && bench.range ? `${bench.range[0]}–${bench.range[1]}` : bench.loop}`;
}
