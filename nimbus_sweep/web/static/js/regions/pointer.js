// Drawing, and taking hold of shapes, with pointer, wheel and keys.

import { state } from "./state.js";
import { HOLD, far, handlesOf, inside, off, within } from "./geometry.js";
import { aimAt, brushing, finish, reshape, resize, send } from "./target.js";
import { say } from "../api.js";
import { bench } from "../bench.js";

// Each gives true when the pointer was meant for drawing.
export function press(at, event) {
  if (!state.target || event.shiftKey || event.button > 0) return false;
  const p = off(at);
  if (brushing()) state.begun = { kind: "stroke", takes: state.tool === "erase", points: [[p.x, p.y]] };
  else if (state.tool === "ellipse")
    state.begun = { kind: "ellipse", from: p, shape: { kind: "ellipse", x: p.x, y: p.y, across: 0.1, down: 0.1, turn: 0 } };
  else if (state.tool === "outline") return corner(p, at.place, event);
  else return grasp(p, at.place, event);
  bench.set({ drawn: {} });
  return true;
}

export function corner(p, place, event) {
  state.begun ??= { kind: "outline", corners: [] };
  const first = state.begun.corners[0];
  if (first && state.begun.corners.length > 2 && (far(first, p, place) < HOLD || event.detail > 1)) {
    close();
    return true;
  }
  if (event.detail > 1) return true;
  state.begun.corners.push({ x: p.x, y: p.y, curved: false });
  state.begun.pulling = p;
  bench.set({ drawn: {} });
  return true;
}

export function close() {
  if (state.begun?.kind !== "outline") return;
  if (state.begun.corners.length < 3) {
    say("An outline needs three corners.");
    return;
  }
  finish({ kind: "outline", corners: state.begun.corners });
}

export function grasp(p, place, event) {
  const shape = state.seen.parts[state.chosen]?.shape;
  if (shape) {
    const handle = handlesOf(shape, place.scale).find((h) => far(h.at, p, place) < HOLD);
    if (handle && shape.kind === "outline" && (event.detail > 1 || event.altKey)) {
      reform(shape, handle.name, event.altKey);
      return true;
    }
    if (handle) {
      state.held = { part: state.chosen, handle: handle.name, shape: structuredClone(shape), from: p, was: shape };
      return true;
    }
    if (shape.kind === "outline" && event.detail > 1) {
      split(shape, p, place);
      return true;
    }
  }
  const order = [...state.seen.parts.keys()].reverse().filter((n) => ["ellipse", "outline"].includes(state.seen.parts[n].shape.kind));
  const hit = order.find((n) => inside(state.seen.parts[n].shape, p, place));
  if (hit === undefined) {
    if (state.chosen !== null) {
      state.chosen = null;
      bench.set({ drawn: {} });
    }
    return false;
  }
  state.chosen = hit;
  state.held = {
    part: hit,
    handle: "whole",
    shape: structuredClone(state.seen.parts[hit].shape),
    from: p,
    was: state.seen.parts[hit].shape,
  };
  bench.set({ drawn: {} });
  return true;
}

// Twice on a corner bends or straightens it; with Alt it goes.
export function reform(shape, n, gone) {
  const corners = shape.corners.map((c, m) => (m === n && !gone ? { ...c, curved: !c.curved } : c)).filter((_, m) => !gone || m !== n);
  if (corners.length < 3) {
    say("An outline needs three corners.");
    return;
  }
  reshape(state.chosen, { kind: "outline", corners });
}

export function split(shape, p, place) {
  const gap = (n) => {
    const a = shape.corners[n],
      b = shape.corners[(n + 1) % shape.corners.length];
    const t = Math.min(
      1,
      Math.max(0, ((p.x - a.x) * (b.x - a.x) + (p.y - a.y) * (b.y - a.y)) / Math.max(1e-9, (b.x - a.x) ** 2 + (b.y - a.y) ** 2)),
    );
    return far({ x: a.x + t * (b.x - a.x), y: a.y + t * (b.y - a.y) }, p, place);
  };
  const n = [...shape.corners.keys()].reduce((best, k) => (gap(k) < gap(best) ? k : best), 0);
  reshape(state.chosen, {
    kind: "outline",
    corners: shape.corners.toSpliced(n + 1, 0, { x: p.x, y: p.y, curved: shape.corners[n].curved }),
  });
}

export function move(at) {
  if (!state.target) return false;
  state.pointer = at;
  const p = off(at);
  if (state.begun?.kind === "stroke") {
    const [x, y] = state.begun.points.at(-1);
    if (Math.hypot(p.x - x, p.y - y) >= Math.max(0.7, state.brush.size / 10)) state.begun.points.push([p.x, p.y]);
  } else if (state.begun?.kind === "ellipse") {
    const a = state.begun.from;
    state.begun.shape = {
      ...state.begun.shape,
      x: (a.x + p.x) / 2,
      y: (a.y + p.y) / 2,
      across: Math.max(0.5, Math.abs(p.x - a.x) / 2),
      down: Math.max(0.5, Math.abs(p.y - a.y) / 2),
    };
  } else if (state.begun?.pulling && far(state.begun.pulling, p, at.place) > HOLD) state.begun.corners.at(-1).curved = true;
  else if (state.held) drag(p);
  else if (!brushing() && state.tool !== "outline") return false;
  bench.set({ drawn: {} });
  return Boolean(state.begun || state.held);
}

export function drag(p) {
  const { handle, was } = state.held;
  const dx = p.x - state.held.from.x,
    dy = p.y - state.held.from.y;
  if (was.kind === "outline")
    state.held.shape.corners = was.corners.map((c, n) => (handle === "whole" || handle === n ? { ...c, x: c.x + dx, y: c.y + dy } : c));
  else if (handle === "whole") Object.assign(state.held.shape, { x: was.x + dx, y: was.y + dy });
  else if (handle === "turn") state.held.shape.turn = ((Math.atan2(p.y - was.y, p.x - was.x) * 180) / Math.PI + 90) % 360;
  else state.held.shape[handle] = Math.max(0.5, Math.abs(within(was, p)[handle === "across" ? "u" : "v"]));
}

export function release() {
  if (!state.target) return;
  if (state.begun?.kind === "stroke")
    finish({ kind: "stroke", points: state.begun.points, size: state.brush.size, hardness: state.brush.hardness / 100 }, state.begun.takes);
  else if (state.begun?.kind === "ellipse") {
    if (state.begun.shape.across < 1 && state.begun.shape.down < 1) state.begun = null;
    else finish(state.begun.shape);
  } else if (state.begun?.kind === "outline") state.begun.pulling = null;
  else if (state.held) {
    if (JSON.stringify(state.held.shape) !== JSON.stringify(state.held.was)) reshape(state.held.part, state.held.shape);
    else state.held = null;
  }
  bench.set({ drawn: {} });
}

export function leave() {
  state.pointer = null;
  if (state.target) bench.set({ drawn: {} });
}

export function wheel(event) {
  if (!brushing() || !event.ctrlKey) return false;
  resize(event.deltaY < 0 ? 1.12 : 1 / 1.12);
  return true;
}

// Gives true when the key was meant for drawing.
export function key(event) {
  if (!state.target) return false;
  if (event.key === "Escape") {
    if (state.begun) state.begun = null;
    else if (state.tool && !state.target.mark) state.tool = null;
    else if (state.chosen !== null) state.chosen = null;
    else if (state.target.mark) aimAt(null);
    else return false;
  } else if (event.key === "Enter" && state.begun?.kind === "outline") close();
  else if (event.key === "Backspace" && state.begun?.kind === "outline") {
    state.begun.corners.pop();
    if (!state.begun.corners.length) state.begun = null;
  } else if (event.key === "Delete" && state.chosen !== null) {
    send(`${state.target.url}/parts/${state.chosen}/remove`, {});
    state.chosen = null;
  } else if (event.key === "," && brushing()) resize(1 / 1.12);
  else if (event.key === "." && brushing()) resize(1.12);
  else return false;
  bench.set({ drawn: {} });
  return true;
}
