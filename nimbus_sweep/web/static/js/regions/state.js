// What is drawn on, with which tool, and how far it has come.

export const state = {
  target: null, // { url } of a region, or { mark: address } for a mark drawn round by hand
  tool: null,
  chosen: null, // the part whose handles are shown
  seen: { parts: [], lines: [], changes: false },
  seenFor: "",
  along: {},
  begun: null, // what is being drawn: { kind, points, corners, from, ... }
  held: null, // what has been taken hold of: { part, handle, shape, from }
  pointer: null,
  brush: { size: 40, hardness: 80, ...JSON.parse(localStorage.getItem("brush") ?? "{}") },
  onChange: () => {},
};
