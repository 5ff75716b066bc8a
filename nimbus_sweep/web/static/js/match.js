// Nudging what lends in the frame that is shown, over the difference that turns black where it matches.

import { get } from "./api.js";
import { bench } from "./bench.js";

let shownFor = "";

export function mark(sheet) {
  const fold = sheet.querySelector("[data-match]");
  if (!fold?.open || bench.playing) {
    shownFor = "";
    return;
  }
  const key = `${bench.frame}/${bench.revision}/${bench.treated}`;
  if (key === shownFor) return;
  shownFor = key;
  const url = fold.dataset.match.replace("/match/0", `/match/${bench.frame}`);
  const picture = fold.querySelector("[data-match-picture]"),
    said = fold.querySelector("[data-match-said]");
  get(url).then(
    (told) => {
      if (key !== shownFor) return;
      said.textContent = told.said;
      for (const button of fold.querySelectorAll("[data-nudge]")) button.disabled = !told.marked;
      picture.hidden = !told.marked;
      if (told.marked) picture.src = told.picture;
    },
    () => {
      said.textContent = "The repair is still being learned.";
      shownFor = "";
    },
  );
}

export function listen(sheet, act) {
  sheet.addEventListener(
    "toggle",
    (event) => {
      if (event.target.dataset.match) mark(sheet);
    },
    true,
  );
  sheet.addEventListener("click", (event) => {
    const button = event.target.closest("[data-nudge]");
    if (!button) return;
    const [dx, dy] = button.dataset.nudge.split(" ").map(Number);
    const far = event.shiftKey ? 1 : 0.25;
    act(
      button.dataset.url,
      dx || dy ? { frame: bench.frame, across: dx * far, down: dy * far } : { frame: bench.frame, across: null, down: null },
    );
  });
}
