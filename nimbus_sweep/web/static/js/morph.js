// Brings a part of the page up to date from the server's HTML, in place: what has the focus, is being typed into or was opened stays so.

import { Idiomorph } from "../vendor/idiomorph.js";

const typing = new WeakSet(); // boxes with something typed in that was not sent yet
const KEYS = ["fold", "finding", "shot", "way", "part"];

export function listen(root) {
  root.addEventListener("input", (event) => typing.add(event.target));
  root.addEventListener("change", (event) => typing.delete(event.target));
}

// What a box held when the server made it.
function given(box) {
  if (box.type === "checkbox" || box.type === "radio") return box.defaultChecked;
  if (box.tagName === "TEXTAREA") return box.defaultValue;
  return box.tagName === "SELECT" ? [...box.options].find((o) => o.defaultSelected)?.value : box.getAttribute("value");
}

// What the user filled in stays, until the server says something else; a box that sends its own value shows what the server made of it.
const keeps = (box, fresh) => typing.has(box) || (!box.dataset.post && given(box) === given(fresh));

function carry(box, fresh) {
  if (box.type === "file" || box.tagName !== fresh.tagName || !keeps(box, fresh)) return;
  if (box.type === "checkbox" || box.type === "radio") fresh.checked = box.checked;
  else if (box.tagName === "SELECT") {
    if ([...fresh.options].some((o) => o.value === box.value)) fresh.value = box.value;
  } else fresh.value = box.value;
}

// Items of lists are known again by what they stand for, not by where they stand.
function name(root) {
  for (const key of KEYS) for (const item of root.querySelectorAll(`[data-${key}]`)) if (!item.id) item.id = `${key}-${item.dataset[key]}`;
}

export function morph(root, html) {
  const fresh = document.createElement("template");
  fresh.innerHTML = html;
  name(root);
  name(fresh.content);
  Idiomorph.morph(root, [...fresh.content.childNodes], {
    morphStyle: "innerHTML",
    callbacks: {
      beforeNodeMorphed: (old, now) => {
        if (!(old instanceof Element) || !(now instanceof Element)) return true;
        if (old.matches("[data-fold], [data-finding] > details")) now.open = old.open;
        if (old.matches("input, select, textarea")) carry(old, now);
        // What was fetched into its place stays until it is fetched anew.
        return !(old.matches("[data-loaded]") && now.matches("[data-loaded]"));
      },
      beforeAttributeUpdated: (attribute, box, change) => !(attribute === "value" && change === "remove" && box.matches("input")),
    },
  });
}
