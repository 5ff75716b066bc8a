// The brush: what it takes from, its strokes while they are drawn, and the frames that were touched.

export { active } from "./retouch/source.js";
export { through } from "./retouch/strokes.js";
export { draw } from "./retouch/drawing.js";
export { key, leave, move, press, release, wheel } from "./retouch/pointer.js";
export { listen, mark } from "./retouch/sheet.js";
