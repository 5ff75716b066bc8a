// The region on the picture and on the slices.

import { state } from "./state.js";
import { handlesOf, off, trace } from "./geometry.js";
import { brushing, look, shotted } from "./target.js";
import { get } from "../api.js";
import { bench, doubleStroke } from "../bench.js";

export function draw(pen, place) {
  if (!state.target) return;
  look();
  const { across, scale } = place;
  pen.save();
  pen.lineJoin = "round";
  pen.setLineDash([7, 3]);
  for (const line of state.seen.lines)
    doubleStroke(pen, () => {
      pen.beginPath();
      for (const [n, [x, y]] of line.entries()) pen[n ? "lineTo" : "moveTo"]((x + 0.5) * across, (y + 0.5) * scale);
      pen.closePath();
      pen.stroke();
    });
  pen.setLineDash([]);
  const shape = state.held?.shape ?? state.seen.parts[state.chosen]?.shape;
  if (shape) {
    doubleStroke(
      pen,
      () => {
        pen.beginPath();
        trace(pen, shape, place);
        pen.stroke();
      },
      1,
    );
    for (const { name, at } of handlesOf(shape, scale)) {
      const x = (at.x + 0.5) * across,
        y = (at.y + 0.5) * scale;
      doubleStroke(
        pen,
        () => {
          pen.beginPath();
          if (name === "turn" || at.curved) pen.arc(x, y, 4, 0, 7);
          else pen.rect(x - 3.5, y - 3.5, 7, 7);
          pen.stroke();
        },
        1,
      );
    }
  }
  if (state.begun?.kind === "ellipse")
    doubleStroke(pen, () => {
      pen.beginPath();
      trace(pen, state.begun.shape, place);
      pen.stroke();
    });
  if (state.begun?.kind === "outline") {
    const open =
      state.pointer && !state.begun.pulling ? [...state.begun.corners, { ...off(state.pointer), curved: false }] : state.begun.corners;
    doubleStroke(pen, () => {
      pen.beginPath();
      for (const [n, c] of open.entries()) pen[n ? "lineTo" : "moveTo"]((c.x + 0.5) * across, (c.y + 0.5) * scale);
      for (const c of state.begun.corners) {
        const x = (c.x + 0.5) * across,
          y = (c.y + 0.5) * scale;
        pen.moveTo(x + 4, y);
        if (c.curved) pen.arc(x, y, 4, 0, 7);
        else pen.rect(x - 3.5, y - 3.5, 7, 7);
      }
      pen.stroke();
    });
  }
  if (state.begun?.kind === "stroke") {
    pen.lineCap = "round";
    pen.strokeStyle = state.begun.takes ? "rgb(20 20 20 / 0.55)" : "rgb(245 245 245 / 0.55)";
    pen.lineWidth = state.brush.size * scale;
    pen.beginPath();
    for (const [n, [x, y]] of state.begun.points.entries())
      pen[n ? "lineTo" : "moveTo"]((x + 0.5) * across, (y + 0.5) * scale + (n ? 0 : 0.01));
    pen.stroke();
  }
  if (brushing() && state.pointer)
    doubleStroke(
      pen,
      () => {
        pen.beginPath();
        pen.ellipse(
          state.pointer.x * across,
          state.pointer.y * scale,
          (state.brush.size / 2) * across,
          (state.brush.size / 2) * scale,
          0,
          0,
          7,
        );
        pen.stroke();
      },
      1,
    );
  pen.restore();
}

// The region's edge on a slice: `at(place, frame)` gives canvas points for a place along it and a frame of the shot.
export function drawAlong(pen, kind, where, at) {
  if (!state.target?.url || !state.seen.lines.length) return;
  const key = `${state.target.url}/${kind}/${where}/${bench.shotAt}/${bench.revision}`;
  if (state.along[kind]?.key !== key && !bench.playing) {
    const lines = state.along[kind]?.lines ?? [];
    state.along[kind] = { key, lines };
    get(shotted(`${state.target.url}/${kind}/${where}`)).then(
      (told) => {
        if (state.along[kind]?.key === key) {
          state.along[kind].lines = told.lines;
          bench.set({ drawn: {} });
        }
      },
      () => {},
    );
  }
  pen.save();
  pen.setLineDash([7, 3]);
  for (const line of state.along[kind]?.lines ?? [])
    doubleStroke(
      pen,
      () => {
        pen.beginPath();
        for (const [n, [place, frame]] of line.entries()) pen[n ? "lineTo" : "moveTo"](...at(place + 0.5, frame));
        pen.closePath();
        pen.stroke();
      },
      1,
    );
  pen.restore();
}
