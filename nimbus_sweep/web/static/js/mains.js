// Plays what lamps do to a picture: the light of each row, frame by frame, at the reel's own rate.

const canvas = document.querySelector("[data-lit]");

function start() {
  const pen = canvas.getContext("2d");
  const lit = JSON.parse(canvas.dataset.lit);
  const rate = Number(canvas.dataset.rate);
  const button = document.querySelector("[data-lit-play]");
  const said = document.querySelector("[data-lit-said]");
  const brightest = Math.max(...lit.flat());
  const rows = Object.assign(document.createElement("canvas"), { width: 1, height: lit[0].length });
  const rowPen = rows.getContext("2d");
  const picture = new Image();
  let begun = null;

  function draw(n) {
    pen.globalCompositeOperation = "source-over";
    if (picture.naturalWidth) pen.drawImage(picture, 0, 0, canvas.width, canvas.height);
    else {
      pen.fillStyle = "rgb(190 190 190)";
      pen.fillRect(0, 0, canvas.width, canvas.height);
    }
    lit[n].forEach((light, row) => {
      const code = Math.round((255 * light) / brightest);
      rowPen.fillStyle = `rgb(${code} ${code} ${code})`;
      rowPen.fillRect(0, row, 1, 1);
    });
    pen.globalCompositeOperation = "multiply";
    pen.drawImage(rows, 0, 0, canvas.width, canvas.height);
    said.textContent = `Frame ${n + 1} of ${lit.length}.`;
  }

  function step(now) {
    if (begun === null) return;
    // The first time that is told may lie before the button was pressed.
    draw(Math.floor((Math.max(0, now - begun) / 1000) * rate) % lit.length);
    requestAnimationFrame(step);
  }

  button.disabled = lit.length < 2;
  button.onclick = () => {
    begun = begun === null ? performance.now() : null;
    button.textContent = begun === null ? "Play" : "Stop";
    button.setAttribute("aria-pressed", String(begun !== null));
    if (begun !== null) requestAnimationFrame(step);
  };
  picture.onload = () => {
    canvas.height = Math.round((canvas.width * picture.naturalHeight) / picture.naturalWidth);
    draw(0);
  };
  if (canvas.dataset.picture) picture.src = canvas.dataset.picture;
  draw(0);
}

if (canvas) start();
