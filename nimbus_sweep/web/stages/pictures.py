"""The pictures of a reel: frames, parts at 1:1, slices along time, and the reel log's strips."""

from __future__ import annotations

from dataclasses import asdict

import cv2
import numpy as np
from flask import Blueprint, Response, abort, jsonify, request

from ...core.media.frames import Window
from ...core.media.view import PROXY_WIDTH, crop, difference, jpeg, png
from ...jobs.reels import reading_of
from ...store.models import Reel
from ...wording.marks import doubt
from ..viewing import PLATE_VIEW, STILL_VIEW, TRIAL_VIEW, VIEWS, NotReady
from .common import LOOKED_AT, reel_or_404, services, shot_named

pages = Blueprint("pictures", __name__)
_LONGEST_CROP = 2600


@pages.errorhandler(NotReady)
def _not_ready(error: NotReady) -> tuple[Response, int]:
    return jsonify(error=str(error)), 425


def _picture(data: bytes, kind: str) -> Response:
    # Addresses carry the reel's fingerprint and the treatment's revision, so what they name never changes.
    return Response(data, mimetype=f"image/{kind}", headers={"Cache-Control": "private, max-age=3600"})


def _view() -> str:
    view = request.args.get("view", "source")
    if view not in VIEWS and not any(named.fullmatch(view) for named in (TRIAL_VIEW, STILL_VIEW, PLATE_VIEW)):
        abort(400, f"There is no view called {view}.")
    return view


def _number(name: str, low: float, high: float, usual: float | None = None) -> int:
    value = request.args.get(name, usual, type=float)
    if value is None or not np.isfinite(value):
        abort(400, f"{name} has to be a number.")
    return int(min(max(value, low), high))


def _frame(reel: Reel, number: int) -> int:
    if not 0 <= number < reel.frames:
        abort(404)
    return number


@pages.get("/reels/<int:reel_id>/frame/<int:number>.jpg")
def frame(reel_id: int, number: int) -> Response:
    """A whole frame, small enough to scrub with."""
    reel = reel_or_404(reel_id, LOOKED_AT)
    number, view = _frame(reel, number), _view()
    shared = services()
    width = min(_number("w", 16, 4096, PROXY_WIDTH), reel.facts.width)
    # After a correction the small copies still show the old colours until they are made again.
    if view == "source" and width <= PROXY_WIDTH and reel.look == reading_of(reel).key:
        try:
            return _picture(shared.viewing.proxy(reel).jpeg(number), "jpeg")
        except (FileNotFoundError, IndexError):
            pass
    if TRIAL_VIEW.fullmatch(view) and width <= PROXY_WIDTH:
        try:
            small, first = shared.viewing.trial_proxy(reel, view)
            return _picture(small.jpeg(number - first), "jpeg")
        except (FileNotFoundError, IndexError):
            pass
    return _picture(jpeg(shared.viewing.picture(reel, number, view, width, _number("gain", 1, 64, 8))), "jpeg")


@pages.get("/reels/<int:reel_id>/crop/<int:number>.png")
def part(reel_id: int, number: int) -> Response:
    """A part of a frame at 1:1 in exact values."""
    reel = reel_or_404(reel_id, LOOKED_AT)
    number, view = _frame(reel, number), _view()
    box = (
        _number("x", 0, reel.facts.width - 1),
        _number("y", 0, reel.facts.height - 1),
        _number("w", 1, _LONGEST_CROP),
        _number("h", 1, _LONGEST_CROP),
    )
    viewing = services().viewing
    window = Window(box[0], box[1], box[0] + box[2], box[1] + box[3])
    # What is to stay on the page is waited for; what is looked for may be overtaken.
    passing = "stays" not in request.args
    if view == "difference":
        one, other = (crop(viewing.frame(reel, number, side, passing, window), *box) for side in ("source", "treated"))
        return _picture(png(difference(one, other, _number("gain", 1, 64, 8))), "png")
    return _picture(png(crop(viewing.frame(reel, number, view, passing, window), *box)), "png")


@pages.get("/reels/<int:reel_id>/average.jpg")
def average(reel_id: int) -> Response:
    """The mean of a shot's frames, in which static marks stand out; flattened, they do so more."""
    reel = reel_or_404(reel_id)
    view = "treated" if _view() in ("treated", "difference") else "source"
    width = min(_number("w", 16, 4096, PROXY_WIDTH), reel.facts.width)
    return _picture(jpeg(services().viewing.average(reel, shot_named(reel), view, bool(_number("flat", 0, 1, 0)), width), 92), "jpeg")


@pages.get("/reels/<int:reel_id>/slice/row/<int:y>.jpg")
def row(reel_id: int, y: int) -> Response:
    """A row over time."""
    reel = reel_or_404(reel_id)
    if y >= reel.facts.height:
        abort(404)
    return _picture(jpeg(services().viewing.row_slice(reel, shot_named(reel), y, _view(), _number("gain", 1, 64, 8)), 92), "jpeg")


@pages.get("/reels/<int:reel_id>/slice/column/<int:x>.jpg")
def column(reel_id: int, x: int) -> Response:
    """A column over time."""
    reel = reel_or_404(reel_id)
    if x >= reel.facts.width:
        abort(404)
    return _picture(jpeg(services().viewing.column_slice(reel, shot_named(reel), x, _view(), _number("gain", 1, 64, 8)), 92), "jpeg")


@pages.get("/reels/<int:reel_id>/value/<int:number>")
def value(reel_id: int, number: int) -> Response:
    """The native samples under a pixel."""
    reel = reel_or_404(reel_id, LOOKED_AT)
    number = _frame(reel, number)
    x, y = _number("x", 0, reel.facts.width - 1), _number("y", 0, reel.facts.height - 1)
    native = services().viewing.frame(reel, number, _view(), True, Window(x, y, x + 1, y + 1))
    samples = {}
    for i, component in enumerate(native.format.components):
        across, down = native.format.subsampling(i)
        sample = native.component(i)[y // down, x // across]
        samples[component.name] = round(float(sample), 4) if component.floating else int(sample) >> component.shift
    return jsonify(x=x, y=y, samples=samples, bits=native.format.components[0].bits, missing=native.missing)


@pages.get("/reels/<int:reel_id>/ways/<int:number>")
def ways(reel_id: int, number: int) -> Response:
    """How each mark is mended in a frame, and where that is little to be trusted."""
    reel = reel_or_404(reel_id)
    number, shot, viewing = _frame(reel, number), shot_named(reel), services().viewing
    if not (shot.treated and shot.enter <= number < shot.leave):
        return jsonify(marks=[])
    known = viewing.known(reel, shot, viewing.reader(reel).format)
    mended = [w for one in known for w in one.ways(number)]
    return jsonify(marks=[{**asdict(w.window), "way": w.way, "frames": sorted(w.frames), "doubt": doubt(w.doubt)} for w in mended])


@pages.get("/reels/<int:reel_id>/light")
def light(reel_id: int) -> Response:
    """The light curve, in no more points than asked for: lowest, mean and highest of each stretch."""
    reel = reel_or_404(reel_id)
    curve = services().viewing.summary(reel).light
    first = _number("first", 0, len(curve) - 1, 0)
    stop = _number("stop", first + 1, len(curve), len(curve))
    points = min(_number("points", 2, 4000, 800), stop - first)
    edges = np.linspace(first, stop, points + 1).round().astype(int)
    starts = edges[:-1]
    lows = np.minimum.reduceat(curve[:stop], starts)
    highs = np.maximum.reduceat(curve[:stop], starts)
    return jsonify(first=first, stop=stop, low=[round(float(v), 4) for v in lows], high=[round(float(v), 4) for v in highs])


@pages.get("/reels/<int:reel_id>/lanes")
def lanes(reel_id: int) -> Response:
    """Repeated and missing frames, as runs within a range; at most as many as asked for, the rest merged."""
    reel = reel_or_404(reel_id)
    repeats = services().viewing.repeats(reel)
    count = reel.frames
    first = _number("first", 0, count - 1, 0)
    stop = _number("stop", first + 1, count, count)
    points = min(_number("points", 2, 4000, 800), stop - first)
    edges = np.linspace(first, stop, points + 1).round().astype(int)[:-1]
    repeated = np.add.reduceat(repeats.repeated[:stop].astype(np.int32), edges)
    fields = np.maximum.reduceat((repeats.fields[:stop] > 0).astype(np.int8), edges)
    missing = np.zeros(count, bool)
    missing[[n for n in reel.facts.absent if n < count]] = True
    gone = np.maximum.reduceat(missing[:stop], edges)
    patched = np.maximum.reduceat(services().viewing.patched(reel)[:stop], edges)
    by_hand = np.zeros(count, np.int32)
    for n, strokes in services().viewing.by_hand(reel).items():
        by_hand[n] = strokes
    return jsonify(
        first=first,
        stop=stop,
        by_hand=np.maximum.reduceat(by_hand[:stop], edges).tolist(),
        repeated=repeated.tolist(),
        fields=fields.tolist(),
        missing=gone.astype(int).tolist(),
        patched=patched.tolist(),
    )


@pages.get("/reels/<int:reel_id>/rows.png")
def rows(reel_id: int) -> Response:
    """The row profiles as a picture: each line is one frame's row means less the shot's mean profile."""
    reel = reel_or_404(reel_id)
    profiles = services().viewing.summary(reel).rows
    first = _number("first", 0, len(profiles) - 1, 0)
    stop = _number("stop", first + 1, len(profiles), len(profiles))
    lines = min(_number("points", 2, 4000, 800), stop - first)
    part = profiles[first:stop]
    if len(part) > 4 * lines:
        # What a line of the strip stands for is averaged first: no more can be seen.
        part = cv2.resize(part, (part.shape[1], 4 * lines), interpolation=cv2.INTER_AREA)
    # Slow change of the scene is taken away so that rolling bands stand out.
    smooth = cv2.blur(part, (1, 25), borderType=cv2.BORDER_REPLICATE)
    fast = part - smooth
    scale = max(0.004, 3 * float(np.median(np.abs(fast))))
    picture = cv2.resize(np.clip(128 + 100 * fast / scale, 0, 255).astype(np.uint8), (part.shape[1], lines), interpolation=cv2.INTER_AREA)
    return _picture(png(cv2.cvtColor(picture, cv2.COLOR_GRAY2BGR)), "png")
