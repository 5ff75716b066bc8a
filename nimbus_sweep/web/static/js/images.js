// Pictures from the server, kept by address; the newest wish is fetched first.

import { bench } from "./bench.js";

const kept = new Map();
const MOST = 160;
const AGAIN = 700; // ms
const drawn = new EventTarget();

function base() {
  return `/reels/${bench.reel.id}`;
}

// Source pictures do not change with the treatment; the others carry its revision.
function mark(view) {
  if (view.startsWith("trial-")) return `${bench.mark}-${bench.trial?.made}`;
  return view === "source" ? bench.mark : `${bench.mark}-${bench.revision}`;
}

export function frameUrl(frame, view, width) {
  return `${base()}/frame/${frame}.jpg?view=${view}&w=${width}&gain=${bench.gain}&m=${mark(view)}`;
}

// The mean of the shot's frames; flattened when asked for.
export function averageUrl(view, width) {
  const { first, stop } = bench.shot;
  return `${base()}/average.jpg?view=${view}&w=${width}&flat=${bench.average === "flat" ? 1 : 0}&shot=${bench.shot.id}&m=${mark(view)}-${first}-${stop}-${bench.laid[bench.shotAt] ?? 0}`;
}

// The light is measured anew when the treatment changes, the source's is not; both carry the revision.
export function formUrl(frame, kind) {
  return `${base()}/forms/${kind}/${frame}.png?${bench.forms}&shot=${bench.shot.id}&m=${mark("treated")}`;
}

export function cropUrl(frame, view, box) {
  return `${base()}/crop/${frame}.png?view=${view}&x=${box.x}&y=${box.y}&w=${box.w}&h=${box.h}&gain=${bench.gain}&m=${mark(view)}`;
}

export function sliceUrl(kind, at, view) {
  const { first, stop } = bench.shot;
  return `${base()}/slice/${kind}/${at}.jpg?view=${view}&gain=${bench.gain}&shot=${bench.shot.id}&m=${mark(view)}-${first}-${stop}-${bench.laid[bench.shotAt] ?? 0}`;
}

export function fetchImage(url) {
  let entry = kept.get(url);
  if (entry) {
    kept.delete(url);
    kept.set(url, entry);
    return entry;
  }
  const image = new Image();
  entry = { image, ready: false, failed: false };
  entry.loaded = new Promise((resolve) => {
    image.onload = () => {
      entry.ready = true;
      resolve(entry);
      drawn.dispatchEvent(new Event("ready"));
    };
    // What is not there yet is asked for again, but not at once: a page must not storm its server.
    image.onerror = () => {
      entry.failed = true;
      resolve(entry);
      setTimeout(() => {
        if (kept.get(url) === entry) {
          kept.delete(url);
          drawn.dispatchEvent(new Event("ready"));
        }
      }, AGAIN);
    };
  });
  image.src = url;
  kept.set(url, entry);
  while (kept.size > MOST) kept.delete(kept.keys().next().value);
  return entry;
}

// Exact pictures of frames that were passed by are not waited for.
export function letGo(frame) {
  for (const [url, entry] of kept) {
    if (entry.ready || !url.includes("/crop/") || url.includes(`/crop/${frame}.png`)) continue;
    kept.delete(url);
    entry.image.src = "";
  }
}

export function onReady(listener) {
  drawn.addEventListener("ready", listener);
}
