// Drawing on the picture: the region that is open in the sheet, or a mark placed by hand.

export { active, aimAt, choosePart, listen, take } from "./regions/target.js";
export { draw, drawAlong } from "./regions/drawing.js";
export { key, leave, move, press, release, wheel } from "./regions/pointer.js";
export { hearSheet, mark } from "./regions/sheet.js";
