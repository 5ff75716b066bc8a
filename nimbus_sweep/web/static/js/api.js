// Asking the server, and saying what it answered.

// What this page calls itself, and the revision it shows: a change that others have made meanwhile is not written over unseen.
const PAGE = crypto.randomUUID?.() ?? `${Date.now()}-${Math.random()}`;
let shown = () => "";
export function shows(revision) {
  shown = revision;
}

const HEADERS = { "X-Requested-By": "nimbus-sweep", Accept: "application/json" };

const known = () => ({ "X-Page": PAGE, ...(shown() ? { "X-Revision": shown() } : {}) });

export async function post(url, body = {}) {
  let answer;
  try {
    answer = await fetch(url, {
      method: "POST",
      headers: { ...HEADERS, ...known(), "Content-Type": "application/json" },
      body: JSON.stringify(body),
    });
  } catch {
    throw new Error("The application does not answer. Is it still running? Nothing was lost; try again when it is.");
  }
  const told = await answer.json().catch(() => ({}));
  if (!answer.ok) throw new Error(told.error || `The application refused this (${answer.status}).`);
  return told;
}

export async function get(url) {
  const answer = await fetch(url, { headers: { Accept: "application/json" } });
  const told = await answer.json().catch(() => ({}));
  if (!answer.ok) throw Object.assign(new Error(told.error || `The application refused this (${answer.status}).`), { answered: true });
  return told;
}

export async function text(url) {
  const answer = await fetch(url, { headers: { Accept: "text/html" } });
  if (!answer.ok) throw new Error((await answer.json().catch(() => ({}))).error || `The sheet could not be fetched (${answer.status}).`);
  return answer.text();
}

// What the server tells as it happens. A page that is not looked at lets go of it: a browser keeps only a few such lines open.
export function follow(url, onNews, onLost) {
  let line = null;
  let again = null;
  const close = () => {
    clearTimeout(again);
    line?.close();
    line = null;
  };
  const open = () => {
    close();
    line = new EventSource(url);
    line.onmessage = (event) => onNews(JSON.parse(event.data));
    line.addEventListener("over", () => {
      close();
      onLost();
    });
    line.onerror = () => {
      onLost();
      // The browser tries again by itself where nobody answered, but not where it was refused.
      if (line?.readyState === EventSource.CLOSED) again = setTimeout(open, 3000);
    };
  };
  document.addEventListener("visibilitychange", () => (document.hidden ? close() : open()));
  window.addEventListener("pagehide", close);
  open();
}

// The same, but only so often, however often it is asked for.
export function seldom(work, ms) {
  let waits = false;
  let last = 0;
  return () => {
    if (waits) return;
    waits = true;
    setTimeout(
      () => {
        waits = false;
        last = Date.now();
        work();
      },
      Math.max(0, last + ms - Date.now()),
    );
  };
}

export function upload(url, file, onProgress) {
  const request = new XMLHttpRequest();
  const done = new Promise((resolve, reject) => {
    request.upload.onprogress = (event) => onProgress(event.loaded, event.total);
    request.onload = () => {
      const told = JSON.parse(request.responseText || "{}");
      if (request.status < 300) resolve(told);
      else reject(new Error(told.error || `The upload was refused (${request.status}).`));
    };
    request.onerror = () => reject(new Error("The upload broke off. Is the application still running? Send the file again."));
    request.onabort = () => reject(new Error("The upload was stopped."));
  });
  request.open("POST", url);
  for (const [name, value] of Object.entries({ ...HEADERS, ...known() })) request.setRequestHeader(name, value);
  request.send(file);
  return { done, stop: () => request.abort() };
}

let hide;
export function say(what, kind = "note", more = null) {
  const box = document.getElementById("said");
  box.textContent = what;
  if (more) {
    const button = Object.assign(document.createElement("button"), { type: "button", className: "button-small", textContent: more.do });
    button.onclick = () => {
      box.hidden = true;
      more.act();
    };
    box.append(" ", button);
  }
  box.dataset.kind = kind;
  box.hidden = false;
  clearTimeout(hide);
  hide = setTimeout(
    () => {
      box.hidden = true;
    },
    more ? 15_000 : kind === "error" ? 9000 : 2200,
  );
}
