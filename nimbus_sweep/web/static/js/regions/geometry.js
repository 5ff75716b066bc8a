// Shapes of a region: their lines, their handles, and what lies inside.

export const HOLD = 8; // CSS pixels within which a handle is taken hold of

// Pixel centres lie at whole numbers in shapes; the picture's own corner is at 0 on the canvas.
export const off = ({ x, y }) => ({ x: x - 0.5, y: y - 0.5 });

export const turned = (s, u, v) => {
  const c = Math.cos((s.turn * Math.PI) / 180),
    n = Math.sin((s.turn * Math.PI) / 180);
  return { x: s.x + c * u - n * v, y: s.y + n * u + c * v };
};

export const within = (s, p) => {
  const c = Math.cos((s.turn * Math.PI) / 180),
    n = Math.sin((s.turn * Math.PI) / 180);
  return { u: c * (p.x - s.x) + n * (p.y - s.y), v: -n * (p.x - s.x) + c * (p.y - s.y) };
};

export function trace(pen, shape, { across, scale }) {
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

export function handlesOf(shape, scale) {
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

export function inside(shape, p, place) {
  const path = new Path2D();
  trace(path, shape, place);
  const pen = document.createElement("canvas").getContext("2d");
  return pen.isPointInPath(path, (p.x + 0.5) * place.across, (p.y + 0.5) * place.scale);
}

export const far = (a, b, place) => Math.hypot((a.x - b.x) * place.across, (a.y - b.y) * place.scale);
