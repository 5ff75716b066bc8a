// The loupe: the pixels around the cross-hair, hard, 4x to 8x.

import { bench, doubleStroke, fitCanvas } from "./bench.js";
import { cropUrl, fetchImage } from "./images.js";

const canvas = document.getElementById("loupe");
const tag = document.getElementById("tag-loupe");
let last = null;

export function draw() {
  const { pen, width, height } = fitCanvas(canvas);
  if (!bench.reel.ready) return;
  const scale = bench.loupe;
  const reachX = Math.ceil(width / scale / 2) + 1;
  const reachY = Math.ceil(height / scale / 2) + 1;
  const box = { x: Math.max(0, bench.x - reachX), y: Math.max(0, bench.y - reachY), w: 2 * reachX + 1, h: 2 * reachY + 1 };
  box.w = Math.min(box.w, bench.reel.width - box.x);
  box.h = Math.min(box.h, bench.reel.height - box.y);
  const view = bench.shown.at(-1);
  if (!bench.playing && bench.rested === bench.frame) {
    const entry = fetchImage(cropUrl(bench.frame, view, box));
    if (entry.ready) last = { entry, box };
  }
  pen.imageSmoothingEnabled = false;
  const left = Math.round(width / 2 - (bench.x + 0.5) * scale);
  const top = Math.round(height / 2 - (bench.y + 0.5) * scale);
  if (last) pen.drawImage(last.entry.image, left + last.box.x * scale, top + last.box.y * scale, last.box.w * scale, last.box.h * scale);
  doubleStroke(
    pen,
    () => {
      pen.beginPath();
      pen.rect(left + bench.x * scale - 0.5, top + bench.y * scale - 0.5, scale + 1, scale + 1);
      pen.stroke();
    },
    1,
  );
  tag.textContent = `${scale}x`;
}

export function listen() {
  canvas.addEventListener("pointerdown", (event) => {
    const bounds = canvas.getBoundingClientRect();
    const dx = (event.clientX - bounds.left - bounds.width / 2) / bench.loupe;
    const dy = (event.clientY - bounds.top - bounds.height / 2) / bench.loupe;
    bench.aim(bench.x + 0.5 + dx, bench.y + 0.5 + dy);
  });
  canvas.addEventListener(
    "wheel",
    (event) => {
      event.preventDefault();
      step(event.deltaY < 0 ? 1 : -1);
    },
    { passive: false },
  );
}

export function step(direction) {
  const sizes = [4, 6, 8];
  const next = sizes.indexOf(bench.loupe) + direction;
  bench.set({ loupe: sizes[Math.min(sizes.length - 1, Math.max(0, next))] });
}

export function cycle() {
  const sizes = [4, 6, 8];
  bench.set({ loupe: sizes[(sizes.indexOf(bench.loupe) + 1) % sizes.length] });
}
