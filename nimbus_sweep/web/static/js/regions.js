// Drawing on the picture: the region that is open in the sheet, or a mark placed by hand.

import { get, post, say } from "./api.js";
import { bench, doubleStroke } from "./bench.js";

const HOLD = 8; // CSS pixels within which a handle is taken hold of
let target = null; // { url } of a region, or { mark: address } for a mark drawn round by hand
let tool = null;
let chosen = null; // the part whose handles are shown
let seen = { parts: [], lines: [], changes: false };
let seenFor = "";
let along = {};
let begun = null; // what is being drawn: { kind, points, corners, from, ... }
let held = null; // what has been taken hold of: { part, handle, shape, from }
let pointer = null;
const brush = { size: 40, hardness: 80, ...JSON.parse(localStorage.getItem("brush") ?? "{}") };
let onChange = () => {};

export const active = () => target !== null;
const shotted = (url) => `${url}${url.includes("?") ? "&" : "?"}shot=${bench.shotAt}`;

// -- what is drawn on ------------------------------------------------------------------------------------

export function aimAt(next) {
  if (next?.url === target?.url && next?.mark === target?.mark) return;
  target = next;
  tool = next?.tool ?? null;
  chosen = begun = held = null;
  seen = { parts: [], lines: [], changes: false };
  seenFor = "";
  along = {};
  look();
  bench.set({ drawn: {} });
}

export function listen(changed) {
  onChange = changed;
}

export function choosePart(part) {
  chosen = chosen === part ? null : part;
  bench.set({ drawn: {} });
}

export function take(next) {
  if (!target) return;
  tool = tool === next ? null : next;
  begun = null;
  if (tool) chosen = null;
  bench.set({ drawn: {} });
}

async function look() {
  if (!target?.url) return;
  const key = `${target.url}/${bench.shotAt}/${bench.revision}/${seen.changes || seenFor === "" ? bench.frame : ""}`;
  if (key === seenFor) return;
  seenFor = key;
  const answer = await get(`${shotted(target.url)}&frame=${bench.frame}`).catch(() => null);
  if (!answer || key !== seenFor) return;
  seen = answer;
  seenFor = `${target?.url}/${bench.shotAt}/${bench.revision}/${seen.changes ? bench.frame : ""}`;
  held = null;
  if (chosen >= seen.parts.length) chosen = null;
  bench.set({ drawn: {} });
}

async function send(url, body) {
  try {
    const told = await post(shotted(url), body);
    if (told.said) say(told.said);
    return told;
  } catch (error) {
    say(error.message, "error");
    held = null;
    return null;
  } finally {
    onChange();
  }
}

async function finish(shape, takes = false) {
  begun = null;
  if (target.mark) {
    const told = await send(target.mark, { shape, frame: bench.frame });
    if (told) {
      aimAt(null);
      if ("index" in told) bench.set({ selected: told.index });
    }
    return;
  }
  const told = await send(`${target.url}/parts`, { shape, takes, frame: bench.frame });
  if (told && shape.kind !== "stroke") {
    tool = null;
    chosen = told.part;
  }
  bench.set({ drawn: {} });
}

// -- shapes ----------------------------------------------------------------------------------------------

// Pixel centres lie at whole numbers in shapes; the picture's own corner is at 0 on the canvas.
const off = ({ x, y }) => ({ x: x - 0.5, y: y - 0.5 });
const turned = (s, u, v) => {
  const c = Math.cos((s.turn * Math.PI) / 180),
    n = Math.sin((s.turn * Math.PI) / 180);
  return { x: s.x + c * u - n * v, y: s.y + n * u + c * v };
};
const within = (s, p) => {
  const c = Math.cos((s.turn * Math.PI) / 180),
    n = Math.sin((s.turn * Math.PI) / 180);
  return { u: c * (p.x - s.x) + n * (p.y - s.y), v: -n * (p.x - s.x) + c * (p.y - s.y) };
};

function trace(pen, shape, { across, scale }) {
  const at = (p) => [(p.x + 0.5) * across, (p.y + 0.5) * scale];
  if (shape.kind === "ellipse") {
    for (let n = 0; n <= 72; n++) {
      const a = (n * Math.PI) / 36;
      pen[n ? "lineTo" : "moveTo"](...at(turned(shape, shape.across * Math.cos(a), shape.down * Math.sin(a))));
    }
  } else if (shape.kind === "outline") {
    const c = shape.corners,
      count = c.length;
    pen.moveTo(...at(c[0]));
    for (let n = 0; n < count; n++) {
      const a = c[n],
        b = c[(n + 1) % count],
        before = c[(n + count - 1) % count],
        behind = c[(n + 2) % count];
      if (!a.curved && !b.curved) {
        pen.lineTo(...at(b));
        continue;
      }
      // The same cubic through the corners that the region is made of.
      const leave = a.curved ? { x: (b.x - before.x) / 2, y: (b.y - before.y) / 2 } : { x: b.x - a.x, y: b.y - a.y };
      const arrive = b.curved ? { x: (behind.x - a.x) / 2, y: (behind.y - a.y) / 2 } : { x: b.x - a.x, y: b.y - a.y };
      pen.bezierCurveTo(
        ...at({ x: a.x + leave.x / 3, y: a.y + leave.y / 3 }),
        ...at({ x: b.x - arrive.x / 3, y: b.y - arrive.y / 3 }),
        ...at(b),
      );
    }
    pen.closePath();
  }
}

function handlesOf(shape, scale) {
  if (shape.kind === "ellipse") {
    const far = shape.down + 22 / scale;
    return [
      ["across", turned(shape, shape.across, 0)],
      ["across", turned(shape, -shape.across, 0)],
      ["down", turned(shape, 0, shape.down)],
      ["down", turned(shape, 0, -shape.down)],
      ["turn", turned(shape, 0, -far)],
    ].map(([name, at]) => ({ name, at }));
  }
  if (shape.kind === "outline") return shape.corners.map((at, n) => ({ name: n, at }));
  return [];
}

function inside(shape, p, place) {
  const path = new Path2D();
  trace(path, shape, place);
  const pen = document.createElement("canvas").getContext("2d");
  return pen.isPointInPath(path, (p.x + 0.5) * place.across, (p.y + 0.5) * place.scale);
}

// -- drawing ---------------------------------------------------------------------------------------------

export function draw(pen, place) {
  if (!target) return;
  look();
  const { across, scale } = place;
  pen.save();
  pen.lineJoin = "round";
  pen.setLineDash([7, 3]);
  for (const line of seen.lines)
    doubleStroke(pen, () => {
      pen.beginPath();
      for (const [n, [x, y]] of line.entries()) pen[n ? "lineTo" : "moveTo"]((x + 0.5) * across, (y + 0.5) * scale);
      pen.closePath();
      pen.stroke();
    });
  pen.setLineDash([]);
  const shape = held?.shape ?? seen.parts[chosen]?.shape;
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
  if (begun?.kind === "ellipse")
    doubleStroke(pen, () => {
      pen.beginPath();
      trace(pen, begun.shape, place);
      pen.stroke();
    });
  if (begun?.kind === "outline") {
    const open = pointer && !begun.pulling ? [...begun.corners, { ...off(pointer), curved: false }] : begun.corners;
    doubleStroke(pen, () => {
      pen.beginPath();
      for (const [n, c] of open.entries()) pen[n ? "lineTo" : "moveTo"]((c.x + 0.5) * across, (c.y + 0.5) * scale);
      for (const c of begun.corners) {
        const x = (c.x + 0.5) * across,
          y = (c.y + 0.5) * scale;
        pen.moveTo(x + 4, y);
        if (c.curved) pen.arc(x, y, 4, 0, 7);
        else pen.rect(x - 3.5, y - 3.5, 7, 7);
      }
      pen.stroke();
    });
  }
  if (begun?.kind === "stroke") {
    pen.lineCap = "round";
    pen.strokeStyle = begun.takes ? "rgb(20 20 20 / 0.55)" : "rgb(245 245 245 / 0.55)";
    pen.lineWidth = brush.size * scale;
    pen.beginPath();
    for (const [n, [x, y]] of begun.points.entries()) pen[n ? "lineTo" : "moveTo"]((x + 0.5) * across, (y + 0.5) * scale + (n ? 0 : 0.01));
    pen.stroke();
  }
  if (brushing() && pointer)
    doubleStroke(
      pen,
      () => {
        pen.beginPath();
        pen.ellipse(pointer.x * across, pointer.y * scale, (brush.size / 2) * across, (brush.size / 2) * scale, 0, 0, 7);
        pen.stroke();
      },
      1,
    );
  pen.restore();
}

const brushing = () => tool === "paint" || tool === "erase";

// The region's edge on a slice: `at(place, frame)` gives canvas points for a place along it and a frame of the shot.
export function drawAlong(pen, kind, where, at) {
  if (!target?.url || !seen.lines.length) return;
  const key = `${target.url}/${kind}/${where}/${bench.shotAt}/${bench.revision}`;
  if (along[kind]?.key !== key && !bench.playing) {
    const lines = along[kind]?.lines ?? [];
    along[kind] = { key, lines };
    get(shotted(`${target.url}/${kind}/${where}`)).then(
      (told) => {
        if (along[kind]?.key === key) {
          along[kind].lines = told.lines;
          bench.set({ drawn: {} });
        }
      },
      () => {},
    );
  }
  pen.save();
  pen.setLineDash([7, 3]);
  for (const line of along[kind]?.lines ?? [])
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

// -- hand ------------------------------------------------------------------------------------------------

const far = (a, b, place) => Math.hypot((a.x - b.x) * place.across, (a.y - b.y) * place.scale);

// Each gives true when the pointer was meant for drawing.
export function press(at, event) {
  if (!target || event.shiftKey || event.button > 0) return false;
  const p = off(at);
  if (brushing()) begun = { kind: "stroke", takes: tool === "erase", points: [[p.x, p.y]] };
  else if (tool === "ellipse")
    begun = { kind: "ellipse", from: p, shape: { kind: "ellipse", x: p.x, y: p.y, across: 0.1, down: 0.1, turn: 0 } };
  else if (tool === "outline") return corner(p, at.place, event);
  else return grasp(p, at.place, event);
  bench.set({ drawn: {} });
  return true;
}

function corner(p, place, event) {
  begun ??= { kind: "outline", corners: [] };
  const first = begun.corners[0];
  if (first && begun.corners.length > 2 && (far(first, p, place) < HOLD || event.detail > 1)) {
    close();
    return true;
  }
  if (event.detail > 1) return true;
  begun.corners.push({ x: p.x, y: p.y, curved: false });
  begun.pulling = p;
  bench.set({ drawn: {} });
  return true;
}

function close() {
  if (begun?.kind !== "outline") return;
  if (begun.corners.length < 3) {
    say("An outline needs three corners.");
    return;
  }
  finish({ kind: "outline", corners: begun.corners });
}

function grasp(p, place, event) {
  const shape = seen.parts[chosen]?.shape;
  if (shape) {
    const handle = handlesOf(shape, place.scale).find((h) => far(h.at, p, place) < HOLD);
    if (handle && shape.kind === "outline" && (event.detail > 1 || event.altKey)) {
      reform(shape, handle.name, event.altKey);
      return true;
    }
    if (handle) {
      held = { part: chosen, handle: handle.name, shape: structuredClone(shape), from: p, was: shape };
      return true;
    }
    if (shape.kind === "outline" && event.detail > 1) {
      split(shape, p, place);
      return true;
    }
  }
  const order = [...seen.parts.keys()].reverse().filter((n) => ["ellipse", "outline"].includes(seen.parts[n].shape.kind));
  const hit = order.find((n) => inside(seen.parts[n].shape, p, place));
  if (hit === undefined) {
    if (chosen !== null) {
      chosen = null;
      bench.set({ drawn: {} });
    }
    return false;
  }
  chosen = hit;
  held = { part: hit, handle: "whole", shape: structuredClone(seen.parts[hit].shape), from: p, was: seen.parts[hit].shape };
  bench.set({ drawn: {} });
  return true;
}

// Twice on a corner bends or straightens it; with Alt it goes.
function reform(shape, n, gone) {
  const corners = shape.corners.map((c, m) => (m === n && !gone ? { ...c, curved: !c.curved } : c)).filter((_, m) => !gone || m !== n);
  if (corners.length < 3) {
    say("An outline needs three corners.");
    return;
  }
  reshape(chosen, { kind: "outline", corners });
}

function split(shape, p, place) {
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
  reshape(chosen, { kind: "outline", corners: shape.corners.toSpliced(n + 1, 0, { x: p.x, y: p.y, curved: shape.corners[n].curved }) });
}

const reshape = (part, shape) => send(`${target.url}/parts/${part}`, { shape, frame: bench.frame });

export function move(at) {
  if (!target) return false;
  pointer = at;
  const p = off(at);
  if (begun?.kind === "stroke") {
    const [x, y] = begun.points.at(-1);
    if (Math.hypot(p.x - x, p.y - y) >= Math.max(0.7, brush.size / 10)) begun.points.push([p.x, p.y]);
  } else if (begun?.kind === "ellipse") {
    const a = begun.from;
    begun.shape = {
      ...begun.shape,
      x: (a.x + p.x) / 2,
      y: (a.y + p.y) / 2,
      across: Math.max(0.5, Math.abs(p.x - a.x) / 2),
      down: Math.max(0.5, Math.abs(p.y - a.y) / 2),
    };
  } else if (begun?.pulling && far(begun.pulling, p, at.place) > HOLD) begun.corners.at(-1).curved = true;
  else if (held) drag(p);
  else if (!brushing() && tool !== "outline") return false;
  bench.set({ drawn: {} });
  return Boolean(begun || held);
}

function drag(p) {
  const { handle, was } = held;
  const dx = p.x - held.from.x,
    dy = p.y - held.from.y;
  if (was.kind === "outline")
    held.shape.corners = was.corners.map((c, n) => (handle === "whole" || handle === n ? { ...c, x: c.x + dx, y: c.y + dy } : c));
  else if (handle === "whole") Object.assign(held.shape, { x: was.x + dx, y: was.y + dy });
  else if (handle === "turn") held.shape.turn = ((Math.atan2(p.y - was.y, p.x - was.x) * 180) / Math.PI + 90) % 360;
  else held.shape[handle] = Math.max(0.5, Math.abs(within(was, p)[handle === "across" ? "u" : "v"]));
}

export function release() {
  if (!target) return;
  if (begun?.kind === "stroke")
    finish({ kind: "stroke", points: begun.points, size: brush.size, hardness: brush.hardness / 100 }, begun.takes);
  else if (begun?.kind === "ellipse") {
    if (begun.shape.across < 1 && begun.shape.down < 1) begun = null;
    else finish(begun.shape);
  } else if (begun?.kind === "outline") begun.pulling = null;
  else if (held) {
    if (JSON.stringify(held.shape) !== JSON.stringify(held.was)) reshape(held.part, held.shape);
    else held = null;
  }
  bench.set({ drawn: {} });
}

export function leave() {
  pointer = null;
  if (target) bench.set({ drawn: {} });
}

export function wheel(event) {
  if (!brushing() || !event.ctrlKey) return false;
  resize(event.deltaY < 0 ? 1.12 : 1 / 1.12);
  return true;
}

function resize(by) {
  setBrush(
    "size",
    Math.min(300, Math.max(1, Math.round(by > 1 ? Math.max(brush.size + 1, brush.size * by) : Math.min(brush.size - 1, brush.size * by)))),
  );
}

function setBrush(name, value) {
  brush[name] = value;
  localStorage.setItem("brush", JSON.stringify(brush));
  bench.set({ drawn: {} });
}

// Gives true when the key was meant for drawing.
export function key(event) {
  if (!target) return false;
  if (event.key === "Escape") {
    if (begun) begun = null;
    else if (tool && !target.mark) tool = null;
    else if (chosen !== null) chosen = null;
    else if (target.mark) aimAt(null);
    else return false;
  } else if (event.key === "Enter" && begun?.kind === "outline") close();
  else if (event.key === "Backspace" && begun?.kind === "outline") {
    begun.corners.pop();
    if (!begun.corners.length) begun = null;
  } else if (event.key === "Delete" && chosen !== null) {
    send(`${target.url}/parts/${chosen}/remove`, {});
    chosen = null;
  } else if (event.key === "," && brushing()) resize(1 / 1.12);
  else if (event.key === "." && brushing()) resize(1.12);
  else return false;
  bench.set({ drawn: {} });
  return true;
}

// -- the sheet's part ------------------------------------------------------------------------------------

const HOW = {
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
      if (target?.mark && tool === button.dataset.tool) aimAt(null);
      else {
        aimAt(null);
        aimAt({ mark: button.dataset.drawMark, tool: button.dataset.tool });
        say(`${HOW[tool]} Escape leaves it.`);
      }
      mark(sheet);
    };
  follow(sheet);
}

function follow(sheet) {
  if (target?.mark) return;
  const open = sheet.querySelector("details.region[open]");
  aimAt(open ? { url: open.dataset.region } : null);
  mark(sheet);
}

export function mark(sheet) {
  for (const button of sheet.querySelectorAll("[data-draw-mark]"))
    button.setAttribute("aria-pressed", String(Boolean(target?.mark) && tool === button.dataset.tool));
  const fold = sheet.querySelector("details.region[open]");
  if (!fold) return;
  for (const button of fold.querySelectorAll("[data-tool]")) button.setAttribute("aria-pressed", String(button.dataset.tool === tool));
  for (const item of fold.querySelectorAll("[data-part]")) item.setAttribute("aria-current", String(Number(item.dataset.part) === chosen));
  fold.querySelector("[data-how]").textContent =
    HOW[tool] ??
    (chosen === null
      ? "Choose a tool and draw on the picture, or take hold of a shape."
      : "Drag it or its handles. Twice on a corner bends it, Alt takes it off.");
  fold.querySelector("[data-brush]").hidden = !brushing();
  fold.querySelector("[data-brush-size]").value = brush.size;
  fold.querySelector("[data-brush-said]").textContent = `${brush.size} px`;
  fold.querySelector("[data-brush-hardness]").value = brush.hardness;
  fold.querySelector("[data-hardness-said]").textContent = `${brush.hardness} %`;
}
