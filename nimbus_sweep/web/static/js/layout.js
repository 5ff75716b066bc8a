// How the bench is shared out: dividers between the picture and the slices, and the picture on the whole bench.

import { post } from "./api.js";

const views = document.querySelector(".views");
const bench = document.querySelector(".bench");
const LIMITS = { column: [40, 400], row: [60, 500] };

function put(name, size) {
  const [least, most] = LIMITS[name];
  const kept = Math.round(Math.min(most, Math.max(least, size)));
  views.style.setProperty(`--${name}`, `${kept}px`);
  views.querySelector(`[data-divider=${name}]`).setAttribute("aria-valuenow", kept);
  return kept;
}

const now = (name) => Number(views.querySelector(`[data-divider=${name}]`).getAttribute("aria-valuenow"));
const keep = (name) => post("/settings", { [`divider-${name}`]: now(name) }).catch(() => {});

function drag(event) {
  const name = event.target.dataset.divider;
  event.target.setPointerCapture(event.pointerId);
  const box = views.getBoundingClientRect();
  event.target.onpointermove = (move) => put(name, name === "column" ? box.right - 9 - move.clientX : box.bottom - 9 - move.clientY);
  event.target.onpointerup = () => {
    event.target.onpointermove = event.target.onpointerup = null;
    keep(name);
  };
}

function step(event) {
  const name = event.target.dataset.divider;
  const by = { ArrowLeft: 8, ArrowUp: 8, ArrowRight: -8, ArrowDown: -8 }[event.key];
  if (!by) return;
  event.preventDefault();
  event.stopPropagation();
  put(name, now(name) + by);
  keep(name);
}

export function whole() {
  const on = bench.classList.toggle("whole");
  document.getElementById("whole").setAttribute("aria-pressed", String(on));
}

export function listen(settings) {
  for (const divider of views.querySelectorAll("[data-divider]")) {
    divider.addEventListener("pointerdown", drag);
    divider.addEventListener("keydown", step);
    const kept = settings[`divider-${divider.dataset.divider}`];
    if (kept) put(divider.dataset.divider, kept);
  }
}
