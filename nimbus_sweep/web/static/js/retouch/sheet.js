// The brush's part of the sheet.

import { state } from "./state.js";
import { from, fromOtherFrame, lends, named, ofPlate, offset, recall, set, step, store } from "./source.js";
import { ask, repeat, tell, through } from "./strokes.js";
import { nudge, take } from "./pointer.js";

export const SLIDERS = ["size", "hardness", "strength"];

export function mark(sheet) {
  state.paper = sheet;
  const set = step();
  if (!set) {
    state.hand = false;
    return;
  }
  const pressed = (selector, on) => {
    for (const b of set.querySelectorAll(selector)) b.setAttribute("aria-pressed", String(on(b)));
  };
  pressed("[data-brush-hand]", () => state.hand);
  pressed("[data-brush-mode]", (b) => b.dataset.brushMode === state.brush.mode);
  pressed(
    "[data-brush-from]",
    (b) => b.dataset.brushFrom === (state.brush.mode === "reveal" && !ofPlate() && from() === "beside" ? "behind" : from()),
  );
  pressed("[data-brush-over]", (b) => b.dataset.brushOver === state.over);
  for (const [n, b] of [...set.querySelectorAll("[data-brush-saved]")].entries()) {
    b.title = state.saved[n]
      ? `${named(state.saved[n])} (${n + 1}; Shift saves anew)`
      : `Empty: Shift and ${n + 1}, or Shift and click, saves the source in use`;
    b.classList.toggle("soft", !state.saved[n]);
  }
  for (const name of SLIDERS) {
    const box = set.querySelector(`[data-brush-set="${name}"]`);
    if (document.activeElement !== box) box.value = state.brush[name];
    set.querySelector(`[data-brush-shown="${name}"]`).textContent = name === "size" ? `${state.brush.size} px` : `${state.brush[name]} %`;
  }
  set.querySelector("[data-brush-other]").hidden = !fromOtherFrame() || state.brush.mode === "original" || ofPlate();
  set.querySelector("[data-brush-where]").hidden = state.brush.mode === "original";
  for (const b of set.querySelectorAll('[data-brush-from="beside"]')) b.disabled = state.brush.mode === "reveal" && !ofPlate();
  set.querySelector("[data-brush-set=away]").value = state.brush.away;
  set.querySelector("[data-brush-set=aligned]").checked = state.brush.aligned;
  set.querySelector("[data-brush-aligned]").hidden = state.brush.mode === "reveal";
  const { across, down } = offset();
  const way = fromOtherFrame() ? `From frame ${lends()}` : across || down ? "From beside" : "";
  set.querySelector("[data-source-said]").textContent =
    state.brush.mode === "original"
      ? ofPlate()
        ? "Puts the plate back as it was made."
        : "Puts the reel's own picture back."
      : way
        ? `${way}${across || down ? `, ${across >= 0 ? "+" : ""}${across} across, ${down >= 0 ? "+" : ""}${down} down` : ""}.`
        : "Ctrl and click on the picture says where it takes from.";
  set.querySelector("[data-brush-repeat]").disabled = !state.last && !state.known.strokes.length;
  tell();
  ask();
}

export function listen(sheet, post) {
  state.paper = sheet;
  state.act = post;
  sheet.addEventListener("click", (event) => {
    const button = event.target.closest("button");
    if (!button || !step()?.contains(button)) return;
    const { brushHand, brushMode, brushFrom, brushOver, brushSaved, brushNudge, brushThrough } = button.dataset;
    if (brushHand !== undefined) take(!state.hand);
    else if (brushMode) {
      set({ mode: brushMode, ...(brushMode === "reveal" && state.brush.from === "beside" ? { from: "behind" } : {}) });
      take(true);
    } else if (brushFrom) {
      set({ from: brushFrom });
      take(true);
    } else if (brushOver) {
      state.over = state.over === brushOver ? "none" : brushOver;
      take(true);
    } else if (brushSaved !== undefined) (event.shiftKey ? store : recall)(Number(brushSaved));
    else if (brushNudge) nudge(...brushNudge.split(" ").map((v) => Number(v) * (event.shiftKey ? 1 : 0.25)));
    else if (brushThrough) through(Number(brushThrough), !button.dataset.untouched);
    else if ("brushRepeat" in button.dataset) repeat();
    else return;
    document.getElementById("picture").focus();
  });
  sheet.addEventListener("input", (event) => {
    const name = event.target.dataset.brushSet;
    if (!name) return;
    if (name === "aligned") set({ aligned: event.target.checked });
    else if (name === "away") set({ away: Math.min(50, Math.max(1, Math.round(Number(event.target.value)) || 1)) });
    else set({ [name]: Number(event.target.value) });
  });
}
