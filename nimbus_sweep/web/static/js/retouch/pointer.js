// Painting with pointer, wheel and keys.

import { state } from "./state.js";
import { point, round } from "./geometry.js";
import { active, fromOtherFrame, nudgeKey, offset, recall, set, source, step, still, store } from "./source.js";
import { through } from "./strokes.js";
import { taken } from "./drawing.js";
import { mark } from "./sheet.js";
import { say } from "../api.js";
import { bench } from "../bench.js";

// Each gives true when the pointer was meant for the brush.
export function press(at, event) {
  if (!active() || event.shiftKey || event.button > 0) return false;
  const p = point(at);
  if (event.ctrlKey || event.metaKey) {
    state.anchor = p;
    if (fromOtherFrame() || state.brush.mode === "original") set({ from: "beside", mode: state.brush.mode === "blend" ? "blend" : "copy" });
    say("The next stroke takes from here; the source then goes along with the brush.");
    bench.set({ brushed: {} });
    return true;
  }
  if (!fromOtherFrame() && state.brush.mode !== "original") {
    if (state.anchor) {
      set({ across: round(state.anchor.x - p.x), down: round(state.anchor.y - p.y) });
      state.anchor = null;
    }
    if (!state.brush.across && !state.brush.down) {
      say("Say where the brush takes from: Ctrl and click on the picture, or choose another frame.", "error");
      return true;
    }
  }
  state.begun = {
    frame: bench.frame,
    points: [[round(p.x), round(p.y)]],
    size: state.brush.size,
    hardness: state.brush.hardness / 100,
    strength: state.brush.strength / 100,
  };
  bench.set({ brushed: {} });
  return true;
}

export function move(at) {
  if (!state.hand) return;
  state.pointer = point(at);
  if (state.begun) {
    const [x, y] = state.begun.points.at(-1);
    if (Math.hypot(state.pointer.x - x, state.pointer.y - y) >= Math.max(0.7, state.brush.size / 12) && state.begun.points.length < 4000)
      state.begun.points.push([round(state.pointer.x), round(state.pointer.y)]);
  }
  bench.set({ brushed: {} });
}

export async function release(pane, place, shown) {
  if (!state.begun) return;
  const stroke = state.begun;
  state.begun = null;
  state.waiting.push({ ...stroke, from: taken(pane, place, shown), before: null });
  const mine = state.waiting.at(-1);
  const before = bench.revision;
  const { frame, points, size, hardness, strength } = stroke;
  const answer = await state.act(`${step().dataset.strokes}?shot=${bench.shot.id}`, {
    strokes: [{ frame, points, size, hardness, strength, ...source() }],
    ...still(),
  });
  state.last = answer?.strokes?.[0] ?? state.last;
  if (!answer?.strokes?.length) state.waiting = state.waiting.filter((s) => s !== mine);
  else mine.before = before;
  bench.set({ brushed: {} });
}

export function leave() {
  state.pointer = null;
  if (state.hand) bench.set({ brushed: {} });
}

export const resize = (by) =>
  set({
    size: Math.min(
      600,
      Math.max(
        1,
        Math.round(by > 1 ? Math.max(state.brush.size + 1, state.brush.size * by) : Math.min(state.brush.size - 1, state.brush.size * by)),
      ),
    ),
  });

export function wheel(event) {
  if (!active() || !event.ctrlKey) return false;
  resize(event.deltaY < 0 ? 1.12 : 1 / 1.12);
  return true;
}

export function take(on) {
  if (on && !step()) return;
  state.hand = on;
  if (!on) {
    state.over = "none";
    state.begun = state.anchor = null;
  }
  mark(state.paper);
  bench.set({ brushed: {} });
}

export function nudge(dx, dy) {
  if (!fromOtherFrame()) {
    set({ across: round(state.brush.across + dx), down: round(state.brush.down + dy) });
    return;
  }
  const { across, down } = offset();
  state.nudges.set(nudgeKey(), dx || dy ? { across: round(across + dx), down: round(down + dy) } : { across: 0, down: 0 });
  mark(state.paper);
  bench.set({ brushed: {} });
}

export const ARROWS = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] };

// Gives true when the key was meant for the brush.
export function key(event) {
  if (!step()) return false;
  const name = event.key.toLowerCase();
  const digit = /^Digit([1-5])$/.exec(event.code)?.[1];
  if (event.ctrlKey || event.metaKey) return false;
  if (name === "u" && !event.altKey) take(!state.hand);
  else if (!state.hand) return false;
  else if (!event.altKey && (name === "n" || name === "b")) through(name === "n" ? 1 : -1, !event.shiftKey);
  else if (event.altKey && ARROWS[event.key]) nudge(...ARROWS[event.key].map((v) => v * (event.shiftKey ? 1 : 0.25)));
  else if (event.altKey) return false;
  else if (digit) (event.shiftKey ? store : recall)(Number(digit) - 1);
  else if (name === "k" || name === "m") {
    const to = name === "k" ? "onion" : "match";
    state.over = state.over === to ? "none" : to;
    mark(state.paper);
    bench.set({ brushed: {} });
  } else if (name === ",") resize(1 / 1.12);
  else if (name === ".") resize(1.12);
  else if (name === "escape") {
    if (state.begun) state.begun = null;
    else take(false);
    bench.set({ brushed: {} });
  } else if (name === "backspace" && state.known.strokes.length)
    state.act(`${step().dataset.strokes}/remove?shot=${bench.shot.id}`, { strokes: [state.known.strokes.at(-1).name] });
  else return false;
  return true;
}
