// The region's part of the sheet.

import { state } from "./state.js";
import { aimAt, brushing, choosePart, setBrush, take } from "./target.js";
import { say } from "../api.js";
import { bench } from "../bench.js";

export const HOW = {
  ellipse: "Drag from corner to corner of the ellipse.",
  outline: "Click corners; drag at one to bend it. Close on the first, or with Enter.",
  paint: "Drag to paint. Size with , and . or Ctrl + wheel.",
  erase: "Drag over what is to go. Size with , and . or Ctrl + wheel.",
};

export function hearSheet(sheet) {
  for (const fold of sheet.querySelectorAll("details.region")) {
    fold.ontoggle = () => {
      if (fold.open) for (const other of sheet.querySelectorAll("details.region[open]")) if (other !== fold) other.open = false;
      follow(sheet);
    };
    for (const button of fold.querySelectorAll("[data-tool]")) button.onclick = () => take(button.dataset.tool);
    for (const button of fold.querySelectorAll("[data-choose-part]"))
      button.onclick = () => choosePart(Number(button.closest("[data-part]").dataset.part));
    fold.querySelector("[data-brush-size]").oninput = (event) => setBrush("size", Number(event.target.value));
    fold.querySelector("[data-brush-hardness]").oninput = (event) => setBrush("hardness", Number(event.target.value));
    for (const link of fold.querySelectorAll("[data-frame-link]"))
      link.onclick = () => {
        link.href = `${link.href.replace(/&frame=\d+/, "")}&frame=${bench.frame}`;
      };
  }
  for (const button of sheet.querySelectorAll("[data-draw-mark]"))
    button.onclick = () => {
      if (state.target?.mark && state.tool === button.dataset.tool) aimAt(null);
      else {
        aimAt(null);
        aimAt({ mark: button.dataset.drawMark, tool: button.dataset.tool });
        say(`${HOW[state.tool]} Escape leaves it.`);
      }
      mark(sheet);
    };
  follow(sheet);
}

export function follow(sheet) {
  if (state.target?.mark) return;
  const open = sheet.querySelector("details.region[open]");
  aimAt(open ? { url: open.dataset.region } : null);
  mark(sheet);
}

export function mark(sheet) {
  for (const button of sheet.querySelectorAll("[data-draw-mark]"))
    button.setAttribute("aria-pressed", String(Boolean(state.target?.mark) && state.tool === button.dataset.tool));
  const fold = sheet.querySelector("details.region[open]");
  if (!fold) return;
  for (const button of fold.querySelectorAll("[data-tool]"))
    button.setAttribute("aria-pressed", String(button.dataset.tool === state.tool));
  for (const item of fold.querySelectorAll("[data-part]"))
    item.setAttribute("aria-current", String(Number(item.dataset.part) === state.chosen));
  fold.querySelector("[data-how]").textContent =
    HOW[state.tool] ??
    (state.chosen === null
      ? "Choose a tool and draw on the picture, or take hold of a shape."
      : "Drag the shape or its handles. Double-click a corner to bend it; Alt and double-click removes it.");
  fold.querySelector("[data-brush]").hidden = !brushing();
  fold.querySelector("[data-brush-size]").value = state.brush.size;
  fold.querySelector("[data-brush-said]").textContent = `${state.brush.size} px`;
  fold.querySelector("[data-brush-hardness]").value = state.brush.hardness;
  fold.querySelector("[data-hardness-said]").textContent = `${state.brush.hardness} %`;
}
