// Strokes, brush and source on the picture.

import { state } from "./state.js";
import { fromOtherFrame, lends, offset, ready, sourceUrl } from "./source.js";
import { ask } from "./strokes.js";
import { bench, doubleStroke, note } from "../bench.js";
import { fetchImage } from "../images.js";

// The part of the picture that is seen, on whole multiples, so that it is asked for seldom.
export function seen(pane, place) {
  const x = Math.max(0, Math.floor(-place.left / place.across) & ~63),
    y = Math.max(0, Math.floor(-place.top / place.scale) & ~63);
  const w = Math.min(bench.reel.width - x, Math.ceil(pane.width / place.across) + 64),
    h = Math.min(bench.reel.height - y, Math.ceil(pane.height / place.scale) + 64);
  return { x, y, w, h };
}

// From another frame, or of the reel itself, it comes from the server; beside the brush it is in the picture already.
export function taken(pane, place, shown) {
  if (state.brush.mode !== "original" && !fromOtherFrame())
    return shown?.entry.ready
      ? { image: shown.entry.image, box: shown.box ?? { x: 0, y: 0, w: bench.reel.width, h: bench.reel.height }, ...offset() }
      : null;
  // On a plane that stands still, other frames are shown once they are put on.
  if (bench.plane || bench.rested !== bench.frame) return null;
  const box = seen(pane, place);
  const entry = fetchImage(sourceUrl(box, "source"));
  return entry.ready ? { image: entry.image, box, across: 0, down: 0 } : null;
}

export function path(pen, points, place) {
  pen.beginPath();
  for (const [n, [x, y]] of points.entries())
    pen[n ? "lineTo" : "moveTo"]((x + 0.5) * place.across, (y + 0.5) * place.scale + (n ? 0 : 0.01));
  pen.stroke();
}

export const ink = document.createElement("canvas");

// A stroke as it will be, before the server has put it on: its source, through its own paint.
export function ghost(pen, pane, place, stroke, from, ratio) {
  const wide = Math.round(pane.width * ratio),
    tall = Math.round(pane.height * ratio);
  if (ink.width !== wide || ink.height !== tall) {
    ink.width = wide;
    ink.height = tall;
  }
  const wet = ink.getContext("2d");
  wet.setTransform(1, 0, 0, 1, 0, 0);
  wet.globalCompositeOperation = "source-over";
  wet.clearRect(0, 0, wide, tall);
  wet.setTransform(ratio, 0, 0, ratio, place.left * ratio, place.top * ratio);
  const soft = ((1 - stroke.hardness) * stroke.size * place.scale * ratio) / 4;
  wet.filter = soft > 0.3 ? `blur(${soft}px)` : "none";
  wet.lineCap = wet.lineJoin = "round";
  wet.lineWidth = stroke.size * place.scale;
  wet.strokeStyle = `rgb(128 128 128 / ${stroke.strength})`;
  path(wet, stroke.points, place);
  wet.filter = "none";
  if (from) {
    wet.globalCompositeOperation = "source-in";
    wet.imageSmoothingEnabled = place.scale * ratio < 1;
    const { image, box, across, down } = from;
    wet.globalAlpha = 1;
    wet.drawImage(image, (box.x - across) * place.across, (box.y - down) * place.scale, box.w * place.across, box.h * place.scale);
  }
  pen.save();
  pen.setTransform(1, 0, 0, 1, 0, 0);
  pen.globalAlpha = from ? stroke.strength : 0.5;
  pen.drawImage(ink, Math.round(pane.x * ratio), Math.round(pane.y * ratio));
  pen.restore();
}

export function draw(pen, pane, place, shown, ratio) {
  if (!ready()) return;
  ask();
  // What was put on is shown until the picture has it.
  if (shown?.fresh)
    state.waiting = state.waiting.filter(
      (stroke) => stroke.frame === bench.frame && (stroke.before === null || stroke.before === bench.revision),
    );
  if (
    state.hand &&
    state.over !== "none" &&
    !bench.plane &&
    bench.rested === bench.frame &&
    (fromOtherFrame() || state.brush.mode === "original")
  ) {
    const box = seen(pane, place);
    const entry = fetchImage(sourceUrl(box, state.over === "match" ? "match" : "source"));
    if (entry.ready) {
      pen.save();
      pen.globalAlpha = state.over === "match" ? 1 : 0.5;
      pen.imageSmoothingEnabled = place.scale * ratio < 1;
      pen.drawImage(entry.image, box.x * place.across, box.y * place.scale, box.w * place.across, box.h * place.scale);
      pen.restore();
    }
  } else if (state.hand && state.over === "onion" && state.pointer && shown?.entry.ready) {
    const from = taken(pane, place, shown);
    pen.save();
    pen.globalAlpha = 0.5;
    if (from)
      pen.drawImage(
        from.image,
        (from.box.x - from.across) * place.across,
        (from.box.y - from.down) * place.scale,
        from.box.w * place.across,
        from.box.h * place.scale,
      );
    pen.restore();
  }
  for (const stroke of state.waiting.filter((s) => s.frame === bench.frame)) ghost(pen, pane, place, stroke, stroke.from, ratio);
  if (state.begun) ghost(pen, pane, place, state.begun, taken(pane, place, shown), ratio);
  if (state.pointedAt) doubleStroke(pen, () => path(pen, state.pointedAt.points, place), 1.5);
  if (!state.hand) return;
  if (state.pointer) {
    const circle = (x, y, r) => {
      pen.beginPath();
      pen.ellipse(
        (x + 0.5) * place.across,
        (y + 0.5) * place.scale,
        Math.max(1.5, r * place.across),
        Math.max(1.5, r * place.scale),
        0,
        0,
        7,
      );
      pen.stroke();
    };
    doubleStroke(pen, () => circle(state.pointer.x, state.pointer.y, state.brush.size / 2), 1);
    if (!fromOtherFrame() && state.brush.mode !== "original") {
      const at = state.anchor ?? { x: state.pointer.x + state.brush.across, y: state.pointer.y + state.brush.down };
      doubleStroke(
        pen,
        () => {
          cross(pen, at, place);
        },
        1,
      );
    }
  }
  if (fromOtherFrame() && state.brush.mode !== "original")
    note(pen, `from frame ${lends()}${state.over === "match" ? ", black where it matches" : ""}`, 4 - place.left, 44 - place.top);
}

export function cross(pen, at, place) {
  const x = (at.x + 0.5) * place.across,
    y = (at.y + 0.5) * place.scale;
  pen.beginPath();
  pen.moveTo(x - 9, y);
  pen.lineTo(x - 2, y);
  pen.moveTo(x + 2, y);
  pen.lineTo(x + 9, y);
  pen.moveTo(x, y - 9);
  pen.lineTo(x, y - 2);
  pen.moveTo(x, y + 2);
  pen.lineTo(x, y + 9);
  pen.stroke();
}
