// The strokes that are there, by frame.

import { state } from "./state.js";
import { ofPlate, ready, step } from "./source.js";
import { get, say } from "../api.js";
import { bench } from "../bench.js";

export function ask() {
  if (!ready()) return;
  const key = `${step().dataset.retouch}/${ofPlate() ? "" : bench.frame}/${bench.revision}`;
  if (key === state.asked) return;
  state.asked = key;
  get(`${step().dataset.strokes}/${bench.frame}?shot=${bench.shot.id}`).then(
    (answer) => {
      if (key !== state.asked) return;
      state.known = { ...answer, shown: bench.frame };
      tell();
      bench.set({ brushed: {} });
    },
    () => {},
  );
}

export function tell() {
  const set = step();
  if (!set || (state.known.shown !== bench.frame && !ofPlate())) return;
  const many = state.known.strokes.length;
  set.querySelector("[data-strokes-told]").textContent = ofPlate()
    ? `${many} stroke${many === 1 ? "" : "s"} on this plate.`
    : `This frame: ${many} stroke${many === 1 ? "" : "s"}. ${state.known.touched.length} frame${state.known.touched.length === 1 ? "" : "s"} touched, ${state.known.total} in all.`;
  const list = set.querySelector("[data-strokes-list]");
  const key = state.known.strokes.map((s) => s.name).join();
  if (list.dataset.key === key) return;
  list.dataset.key = key;
  const said = { copy: "copy", blend: "blend", original: "original" };
  list.replaceChildren(
    ...state.known.strokes
      .slice(-40)
      .reverse()
      .map((stroke) => {
        const item = document.createElement("li");
        item.innerHTML = `<span></span><button type="button" class="button-small" aria-label="Take this stroke off">×</button>`;
        item.firstChild.textContent = `${said[stroke.mode]}, ${stroke.size} px${stroke.lends === null ? "" : `, from ${stroke.lends}`}`;
        item.onmouseenter = () => {
          item.dataset.over = "";
          state.pointedAt = stroke;
          bench.set({ brushed: {} });
        };
        item.onmouseleave = () => {
          state.pointedAt = null;
          bench.set({ brushed: {} });
        };
        item.lastChild.onclick = () => state.act(`${set.dataset.strokes}/remove?shot=${bench.shot.id}`, { strokes: [stroke.name] });
        return item;
      }),
  );
}

// The next frame one way that was touched, or was not.
export function through(direction, touched = true) {
  if (!step()) return false;
  const there = new Set(state.known.touched);
  for (let n = bench.frame + direction; n >= bench.shot.first && n < bench.shot.stop; n += direction)
    if (there.has(n) === touched) {
      bench.go(n);
      return true;
    }
  say(touched ? "No other frame that way was touched." : "Every frame that way was touched.");
  return true;
}

export async function repeat() {
  const frames = Math.round(Number(step().querySelector("[data-brush-frames]").value)) || 1;
  const stroke = state.known.strokes.some((s) => s.name === state.last) ? state.last : state.known.strokes.at(-1)?.name;
  if (!stroke) {
    say("Put a stroke on this frame first; it is repeated on the next ones.", "error");
    return;
  }
  await state.act(`${step().dataset.strokes}/repeat?shot=${bench.shot.id}`, { stroke, frames });
}
