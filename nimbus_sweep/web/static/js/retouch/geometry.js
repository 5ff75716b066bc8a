// Points of the picture.

export const point = (at) => ({ x: at.x - 0.5, y: at.y - 0.5 });

export const round = (v) => Math.round(v * 100) / 100;
