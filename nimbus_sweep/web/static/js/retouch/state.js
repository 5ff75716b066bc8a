// The brush, what it takes from, and the strokes while they are drawn.

import { bench } from "../bench.js";

export const state = {
  brush: {
    size: 40,
    hardness: 60,
    strength: 100,
    mode: "copy",
    from: "beside",
    away: 1,
    aligned: true,
    across: 0,
    down: 0,
    ...JSON.parse(localStorage.getItem("retouch") ?? "{}"),
  },
  nudges: new Map(), // what was nudged by hand, by frame and source
  saved: JSON.parse(localStorage.getItem(`retouch-sources-${bench.reel.id}`) ?? "[]"),
  paper: null,
  act: () => {},
  hand: false, // the brush is in hand
  over: "none", // or "onion", or "match": what is laid over the picture
  anchor: null, // where the next stroke takes from: { x, y }
  begun: null, // the stroke that is drawn
  waiting: [], // strokes sent and not yet seen in the picture
  pointer: null,
  asked: "",
  known: { frame: -1, strokes: [], touched: [], total: 0 },
  pointedAt: null, // a stroke of the list that is pointed at
  last: null, // the stroke that can be repeated
};
