// The region that is open in the sheet, or a mark that is drawn by hand: asked for, and sent.

import { state } from "./state.js";
import { get, post, say } from "../api.js";
import { bench } from "../bench.js";

export const active = () => state.target !== null;

export const shotted = (url) => `${url}${url.includes("?") ? "&" : "?"}shot=${bench.shot.id}`;

export function aimAt(next) {
  if (next?.url === state.target?.url && next?.mark === state.target?.mark) return;
  state.target = next;
  state.tool = next?.tool ?? null;
  state.chosen = state.begun = state.held = null;
  state.seen = { parts: [], lines: [], changes: false };
  state.seenFor = "";
  state.along = {};
  look();
  bench.set({ drawn: {} });
}

export function listen(changed) {
  state.onChange = changed;
}

export function choosePart(part) {
  state.chosen = state.chosen === part ? null : part;
  bench.set({ drawn: {} });
}

export function take(next) {
  if (!state.target) return;
  state.tool = state.tool === next ? null : next;
  state.begun = null;
  if (state.tool) state.chosen = null;
  bench.set({ drawn: {} });
}

export async function look() {
  if (!state.target?.url) return;
  const key = `${state.target.url}/${bench.shotAt}/${bench.revision}/${state.seen.changes || state.seenFor === "" ? bench.frame : ""}`;
  if (key === state.seenFor) return;
  state.seenFor = key;
  const answer = await get(`${shotted(state.target.url)}&frame=${bench.frame}`).catch(() => null);
  if (!answer || key !== state.seenFor) return;
  state.seen = answer;
  state.seenFor = `${state.target?.url}/${bench.shotAt}/${bench.revision}/${state.seen.changes ? bench.frame : ""}`;
  state.held = null;
  if (state.chosen >= state.seen.parts.length) state.chosen = null;
  bench.set({ drawn: {} });
}

export async function send(url, body) {
  try {
    const told = await post(shotted(url), body);
    if (told.said) say(told.said);
    return told;
  } catch (error) {
    say(error.message, "error");
    state.held = null;
    return null;
  } finally {
    state.onChange();
  }
}

export async function finish(shape, takes = false) {
  state.begun = null;
  if (state.target.mark) {
    const told = await send(state.target.mark, { shape, frame: bench.frame });
    if (told) {
      aimAt(null);
      if ("index" in told) bench.set({ selected: told.index });
    }
    return;
  }
  const told = await send(`${state.target.url}/parts`, { shape, takes, frame: bench.frame });
  if (told && shape.kind !== "stroke") {
    state.tool = null;
    state.chosen = told.part;
  }
  bench.set({ drawn: {} });
}

export const brushing = () => state.tool === "paint" || state.tool === "erase";

export const reshape = (part, shape) => send(`${state.target.url}/parts/${part}`, { shape, frame: bench.frame });

export function resize(by) {
  setBrush(
    "size",
    Math.min(
      300,
      Math.max(
        1,
        Math.round(by > 1 ? Math.max(state.brush.size + 1, state.brush.size * by) : Math.min(state.brush.size - 1, state.brush.size * by)),
      ),
    ),
  );
}

export function setBrush(name, value) {
  state.brush[name] = value;
  localStorage.setItem("brush", JSON.stringify(state.brush));
  bench.set({ drawn: {} });
}
