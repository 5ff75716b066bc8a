"""How the viewer keeps up, in a real browser: playback from the small pictures, and jumps in a reel of one key frame."""

from __future__ import annotations

import shutil
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from fractions import Fraction
from pathlib import Path

import av
import cv2
import numpy as np
from playwright.sync_api import Page, sync_playwright

from benchmarks.material import clip
from nimbus_sweep.core.media.frames import Colour, Frame
from nimbus_sweep.core.media.layout import picture_format, to_picture

SWITCHES = "--no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update --disable-sync".split()


def run(folder: Path) -> None:
    """Print frames a second shown in playback, and how long a jump takes to show a picture."""
    path = folder / "one-key.mp4"
    _one_key_frame(path, 480)
    with _looking_at(path, folder / "data") as page:
        print("\nThe viewer at 1920x1080, 24 frames/s, one key frame, in Chromium without a graphics processor")
        print(f"  playback from the small pictures, 960 wide   {_played(page):5.1f} frames/s shown  (aim: 24)")
        took = _jumps(page)
        print(
            f"  a jump to any frame shows a picture          median {np.median(took):4.0f} ms, 95 % within {np.percentile(took, 95):.0f} ms  (aim: 150)"
        )


def long_log(path: Path, folder: Path) -> None:
    """Print how the reel log of a very long reel keeps up with zooming and moving."""
    with _looking_at(path, folder / "long-data") as page:
        longest, drawn, seconds = page.evaluate(WHEEL)
        print(
            f"  its reel log, zoomed and moved for {seconds:.0f} s: {drawn / seconds:.0f} pictures/s, longest gap {longest:.0f} ms  (aim: no second dropped)"
        )


WHEEL = """async () => {
    const log = document.getElementById('log');
    const began = performance.now();
    let last = began, longest = 0, drawn = 0, n = 0;
    while (performance.now() - began < 8000) {
        await new Promise(requestAnimationFrame);
        const now = performance.now();
        longest = Math.max(longest, now - last);
        last = now;
        drawn += 1;
        const options = { deltaY: n % 60 < 30 ? -100 : 100, shiftKey: n % 60 > 40, bubbles: true, cancelable: true };
        const wheel = new WheelEvent('wheel', options);
        Object.defineProperty(wheel, 'offsetY', { value: 100 + (n * 37) % 500 });
        log.dispatchEvent(wheel);
        n += 1;
    }
    return [longest, drawn, (performance.now() - began) / 1000];
}"""


@contextmanager
def _looking_at(path: Path, data: Path) -> Iterator[Page]:
    """The work screen of a reel that has been taken in, in a browser."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    command = [sys.executable, "-m", "nimbus_sweep", "serve", "--data", str(data), "--port", str(port), "--allow", str(path.parent)]
    server = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    assert server.stdout is not None
    server.stdout.readline()
    try:
        with sync_playwright() as play:
            chromium = play.chromium.launch(executable_path=shutil.which("chromium") or "/usr/bin/chromium", args=SWITCHES)
            page = chromium.new_page(viewport={"width": 1280, "height": 800})
            page.goto(f"http://127.0.0.1:{port}/")
            page.fill("#open input[name=path]", str(path))
            page.click("#open button")
            page.wait_for_url("**/reels/1/intake")
            while b'"reel":"ready"' not in urllib.request.urlopen(f"http://127.0.0.1:{port}/reels/1/state").read():
                time.sleep(0.3)
            page.goto(f"http://127.0.0.1:{port}/reels/1/condition")
            page.wait_for_function("() => document.getElementById('picture').dataset.shown")
            page.wait_for_timeout(3000)
            yield page
            chromium.close()
    finally:
        server.terminate()
        server.wait(20)


def _played(page: Page, seconds: float = 6) -> float:
    """Different frames drawn a second while it plays."""
    count = page.evaluate(
        """async (seconds) => {
            const bench = window.nimbusBench, canvas = document.getElementById('picture');
            bench.go(0);
            document.getElementById('play').click();
            await new Promise((r) => setTimeout(r, 700));
            const seen = new Set();
            const end = performance.now() + seconds * 1000;
            while (performance.now() < end) {
                seen.add(canvas.dataset.shown);
                await new Promise(requestAnimationFrame);
            }
            document.getElementById('play').click();
            return seen.size;
        }""",
        seconds,
    )
    return count / seconds


def _jumps(page: Page, times: int = 40) -> list[float]:
    """Milliseconds from asking for a frame until a picture of it is drawn."""
    return page.evaluate(
        """async (times) => {
            const bench = window.nimbusBench, canvas = document.getElementById('picture');
            const took = [];
            let at = 7;
            for (let n = 0; n < times; n += 1) {
                at = (at * 137 + 61) % bench.reel.frames;
                const began = performance.now();
                bench.go(at);
                while (!canvas.dataset.shown.includes(`source:${at}:`)) await new Promise(requestAnimationFrame);
                took.push(performance.now() - began);
                await new Promise((r) => setTimeout(r, 150));
            }
            return took;
        }""",
        times,
    )


def _one_key_frame(path: Path, frames: int) -> None:
    source, layout = clip("bunny"), picture_format("yuv420p", 1920, 1080)
    pictures = [
        tuple(cv2.resize(p, shape[::-1]) for p, shape in zip(planes, layout.plane_shapes, strict=True)) for planes in source.pictures[:60]
    ]
    with av.open(str(path), "w") as out:
        stream = out.add_stream(
            "libx264", rate=Fraction(24), options={"crf": "20", "preset": "veryfast", "g": "100000", "sc_threshold": "0"}
        )
        assert isinstance(stream, av.VideoStream)
        stream.width, stream.height, stream.pix_fmt = 1920, 1080, "yuv420p"
        for n in range(frames):
            at = n % 118
            picture = to_picture(Frame(n, pictures[at if at < 60 else 118 - at], layout, Colour(matrix=1)))
            picture.pts = n
            out.mux(stream.encode(picture))
        out.mux(stream.encode())
