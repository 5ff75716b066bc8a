// What the brush takes from: this frame, another one, or a saved source.

import { state } from "./state.js";
import { mark } from "./sheet.js";
import { say } from "../api.js";
import { bench } from "../bench.js";

// The brush that is open: that of a plate which is retouched, or else that of the frames.
export const step = () =>
  [...(state.paper?.querySelectorAll("[data-of-plate]") ?? [])].find((set) => set.offsetParent) ??
  state.paper?.querySelector("[data-retouch]:not([data-of-plate])");

export const ofPlate = () => "ofPlate" in (step()?.dataset ?? {});

// Frames are taken from before or behind the one that is shown; a plate takes from the one at the play head.
export const from = () =>
  state.brush.from === "beside" ? "beside" : ofPlate() ? "head" : state.brush.from === "head" ? "behind" : state.brush.from;

export const ready = () => step() && !bench.playing && bench.average === "off";

export const active = () => state.hand && Boolean(ready());

export const fromOtherFrame = () => from() !== "beside" || (state.brush.mode === "reveal" && !ofPlate());

// The frame the brush takes from in the one that is shown: so far before or behind, and never of another shot.
export function lends() {
  if (state.brush.mode === "original" || !fromOtherFrame()) return null;
  if (ofPlate()) return bench.frame;
  const { enter = bench.shot.first, leave = bench.shot.stop } = bench.shot;
  const inside = (n) => n >= enter && n < leave;
  const way = from() === "before" ? -1 : 1;
  const wish = bench.frame + way * state.brush.away;
  return inside(wish) ? wish : inside(bench.frame - way * state.brush.away) ? bench.frame - way * state.brush.away : wish;
}

export const nudgeKey = () => `${bench.frame}/${lends()}`;

// How far from the brush it takes: beside it on the same frame, or what was nudged on another.
export function offset() {
  if (state.brush.mode === "original") return { across: 0, down: 0 };
  if (!fromOtherFrame()) return { across: state.brush.across, down: state.brush.down };
  return state.nudges.get(nudgeKey()) ?? { across: 0, down: 0 };
}

export const source = () => ({
  mode: state.brush.mode === "reveal" ? "copy" : state.brush.mode,
  lends: lends(),
  aligned: state.brush.aligned || state.brush.mode === "reveal",
  ...offset(),
});

export function set(values) {
  Object.assign(state.brush, values);
  localStorage.setItem("retouch", JSON.stringify(state.brush));
  mark(state.paper);
  bench.set({ brushed: {} });
}

export function sourceUrl(box, show) {
  const { mode, lends: from, aligned, across, down } = source();
  const query = new URLSearchParams({
    shot: bench.shot.id,
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

// Drawn on a plane that stands still, a stroke is put back on its frame by the server.
export const still = () => (bench.plane?.startsWith("still-") ? { still: Number(bench.plane.slice(6)) } : {});

export function store(n) {
  state.saved[n] = { mode: state.brush.mode, from: state.brush.from, away: state.brush.away, aligned: state.brush.aligned, ...offset() };
  localStorage.setItem(`retouch-sources-${bench.reel.id}`, JSON.stringify(state.saved));
  say(`Source ${n + 1} saved: ${named(state.saved[n])}`);
  mark(state.paper);
}

export function recall(n) {
  if (!state.saved[n]) {
    say(`There is no source ${n + 1} yet: Shift and ${n + 1} saves the one in use.`);
    return;
  }
  const { across, down, ...rest } = state.saved[n];
  state.anchor = null;
  set(rest);
  if (fromOtherFrame()) state.nudges.set(nudgeKey(), { across, down });
  else set({ across, down });
  say(`Source ${n + 1}: ${named(state.saved[n])}`);
}

export const named = (s) =>
  s.mode === "original"
    ? "the original"
    : s.mode !== "reveal" && s.from === "beside"
      ? `beside, ${Math.round(s.across)} across, ${Math.round(s.down)} down`
      : `${s.away} frame${s.away === 1 ? "" : "s"} ${s.from === "before" ? "before" : "behind"}`;
