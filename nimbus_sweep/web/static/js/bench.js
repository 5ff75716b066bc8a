// What the linked views share: the frame, the cross-hair, the zoom, and what is shown. Views listen for "change".

const start = JSON.parse(document.getElementById("start").textContent);
const stage = document.querySelector("script[data-stage]").dataset.stage;

class Bench extends EventTarget {
  reel = start;
  shots = start.shots;
  mark = start.mark;
  aspect = start.aspect;
  frame = 0;
  x = Math.floor(start.width / 2);
  y = Math.floor(start.height / 2);
  view = "source";
  holdSource = false;
  zoom = null; // null fits the whole picture; else screen pixels to a picture pixel
  centreX = start.width / 2;
  centreY = start.height / 2;
  split = 0.5;
  gain = 8;
  rings = true;
  average = "off"; // or "mean", or "flat": the mean of the shot's frames in place of the current one
  loupe = 6;
  range = null;
  loop = "all";
  playing = false;
  treated = false; // whether the treated picture can be shown
  revision = "";
  sitesOf = null; // the number of the shot whose findings are at hand
  allSites = [];
  laid = [];
  selected = null;
  ways = []; // how each mark is mended in the frame that is shown
  forms = null; // how what is steady, moving and flickering is told; null does not paint it
  trials = []; // those of the reel, the newest first
  openTrial = null; // the number of the one whose ways are shown
  way = 0; // the way that is shown, from 0; -1 is the source
  grid = true; // all ways at once

  // The frame the play head has rested on. Exact pictures are asked for only then: in a file of few key frames each
  // may take the server seconds, and whoever is still looking for a frame must not wait for those passed by.
  rested = 0;
  #rest = null;

  set(values) {
    let changed = false;
    for (const [name, value] of Object.entries(values)) {
      if (this[name] !== value) {
        this[name] = value;
        changed = true;
      }
    }
    if (changed && this.frame !== this.rested && !this.playing) {
      clearTimeout(this.#rest);
      this.#rest = setTimeout(() => this.set({ rested: this.frame }), 180);
    }
    if (changed) this.dispatchEvent(new CustomEvent("change", { detail: values }));
  }

  go(frame) {
    this.set({ frame: Math.min(Math.max(0, Math.round(frame)), this.reel.frames - 1) });
  }

  // The shot the current frame lies in, and its place among the shots.
  get shotAt() {
    const at = this.shots.findIndex((s) => this.frame >= s.first && this.frame < s.stop);
    return Math.max(0, at);
  }

  get shot() {
    return this.shots[this.shotAt];
  }

  get sites() {
    return this.sitesOf === this.shot?.id ? this.allSites : [];
  }

  aim(x, y) {
    this.set({
      x: Math.min(Math.max(0, Math.floor(x)), this.reel.width - 1),
      y: Math.min(Math.max(0, Math.floor(y)), this.reel.height - 1),
    });
  }

  // Scale (down, and across where pixels are not square) and offset of the picture inside a box, in CSS pixels.
  place(width, height) {
    const { width: w, height: h } = this.reel;
    const fit = Math.min(width / (w * this.aspect), height / h);
    const scale = this.zoom ?? fit;
    const across = scale * this.aspect;
    const along = (size, length, centre, by) => {
      const span = length * by;
      if (span <= size) return (size - span) / 2;
      return Math.min(0, Math.max(size - span, size / 2 - centre * by));
    };
    // Whole device pixels, so that pictures of whole multiples keep hard pixels.
    const ratio = window.devicePixelRatio || 1;
    const snap = (v) => Math.round(v * ratio) / ratio;
    return { scale, across, fit, left: snap(along(width, w, this.centreX, across)), top: snap(along(height, h, this.centreY, scale)) };
  }

  // The trial whose ways are shown, once it is computed.
  get trial() {
    return (stage === "trials" && this.trials.find((t) => t.id === this.openTrial && t.ready)) || null;
  }

  // The views a picture is made of, left to right.
  get shown() {
    const { trial } = this;
    if (trial) {
      const all = trial.names.map((_, n) => `trial-${trial.id}-${n}`);
      // All panes stay where they are while the source is held.
      if (this.grid) return this.holdSource ? all.map(() => "source") : all;
      return [this.holdSource ? "source" : (all[this.way] ?? "source")];
    }
    if (this.holdSource) return ["source"];
    if (this.plane) return [this.plane];
    if (!this.treated && this.view !== "source") return ["source"];
    return { split: ["source", "treated"], side: ["source", "treated"] }[this.view] ?? [this.view];
  }

  get layout() {
    if (this.trial) return this.grid ? "grid" : "one";
    return this.holdSource || this.plane || !this.treated ? "one" : ({ split: "split", side: "side" }[this.view] ?? "one");
  }
}

export const bench = new Bench();

export function fitCanvas(canvas) {
  const ratio = window.devicePixelRatio || 1;
  const { clientWidth: width, clientHeight: height } = canvas;
  if (canvas.width !== Math.round(width * ratio) || canvas.height !== Math.round(height * ratio)) {
    canvas.width = Math.round(width * ratio);
    canvas.height = Math.round(height * ratio);
  }
  const pen = canvas.getContext("2d");
  pen.setTransform(ratio, 0, 0, ratio, 0, 0);
  pen.clearRect(0, 0, width, height);
  return { pen, width, height, ratio };
}

// Thin double strokes, dark outside and light inside, so that marks show on any picture.
export function doubleStroke(pen, draw, width = 1.2) {
  pen.lineWidth = width + 2;
  pen.strokeStyle = "rgb(20 20 20 / 0.75)";
  draw();
  pen.lineWidth = width;
  pen.strokeStyle = "rgb(245 245 245 / 0.95)";
  draw();
}

export const FONT = "11px 'Source Code Pro', monospace";

// Words on the picture, with their middle at `y`.
export function note(pen, said, x, y, caution = false) {
  pen.font = FONT;
  pen.textBaseline = "middle";
  pen.fillStyle = "rgb(32 32 32 / 0.78)";
  pen.fillRect(x, y - 8, pen.measureText(said).width + 8, 16);
  pen.fillStyle = caution ? "#f0c06a" : "#ececec";
  pen.fillText(said, x + 4, y);
}
