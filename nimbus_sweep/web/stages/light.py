"""The light of a shot, drawn for the condition sheet, and the sheet of mains and shutters."""

from __future__ import annotations

from fractions import Fraction
from functools import lru_cache
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from flask import Blueprint, Response, abort, render_template, request

from ...core.cutting import Shot
from ...core.steady.mains import MAINS, sheet
from ...core.steady.overview import Overview, marks, overview
from ...core.steady.record import LightRecord, described
from ...jobs.work import light_path, volume_path
from ...store.models import Reel
from .common import place_named, reel_or_404, services, shot_named

pages = Blueprint("light", __name__)

# Size of the drawings in the sheet.
_WIDE, _HIGH, _LOW = 276, 64, 54


@lru_cache(maxsize=16)
def _overview(path: Path, modified: float, first: int, stop: int) -> Overview:
    return overview(LightRecord(path).between(first, stop))


def seen(reel: Reel, shot: Shot) -> Overview | None:
    """The light of a shot, once it has been laid open."""
    path = light_path(volume_path(services().data, reel, shot.first, shot.stop))
    if not (path.exists() and described(path).exists()):
        return None
    return _overview(path, path.stat().st_mtime, *shot.span)


def drawn(reel: Reel, shot: Shot) -> dict[str, Any] | None:
    """Curve and spectrum as points for the sheet; None until the shot is laid open."""
    light = seen(reel, shot)
    if light is None or len(light.curve) < 4:
        return None
    rate = Fraction(reel.facts["rate"])
    swing = max(0.05, float(np.abs(light.curve - 1).max()))
    curve = _points(np.linspace(0, 1, len(light.curve)), 0.5 + (light.curve - 1) / (2.2 * swing), _HIGH)
    top = max(0.02, float(light.amplitudes.max()))
    return {
        "width": _WIDE,
        "high": _HIGH,
        "low": _LOW,
        "curve": curve,
        "swing": swing,
        "spectrum": _points(light.frequencies / 0.5, light.amplitudes / (1.15 * top), _LOW),
        "top": top,
        "half": float(rate) / 2,
        "marks": [(mains, round(step / 0.5 * _WIDE, 1), step * float(rate)) for mains, step in marks(rate)],
        "frames": len(light.curve),
    }


def _points(x: Any, y: Any, height: int) -> str:
    """Points of a line, from shares of its width and height."""
    if len(x) > 2 * _WIDE:
        # Both ends of what changes within a pixel are drawn.
        cuts = np.array_split(np.arange(len(x)), _WIDE)
        at = np.unique([k for part in cuts for k in (part[y[part].argmin()], part[y[part].argmax()])])
        x, y = x[at], y[at]
    return " ".join(f"{a * _WIDE:.1f},{height - b * height:.1f}" for a, b in zip(x, y, strict=True))


@pages.get("/reels/<int:reel_id>/light/<any(strip,map):kind>.png")
def picture(reel_id: int, kind: str) -> Response:
    """Rows over time, or where in the picture it flickers."""
    reel = reel_or_404(reel_id)
    light = seen(reel, shot_named(reel))
    if light is None:
        abort(404)
    plane = light.strip if kind == "strip" else 255 - light.map
    made, data = cv2.imencode(".png", np.ascontiguousarray(plane))
    if not made:
        abort(500)
    return Response(data.tobytes(), mimetype="image/png", headers={"Cache-Control": "private, max-age=60"})


@pages.get("/mains")
def mains() -> str | tuple[str, int]:
    """What a camera's settings make of lamps; starts from a reel's frame rate when one is named."""
    reel = reel_or_404(int(request.args["reel"])) if request.args.get("reel", "").isdigit() else None
    rate = request.args.get("rate") or (reel.facts["rate"] if reel else "25")
    asked = {
        "rate": rate,
        "shutter": request.args.get("shutter", "180°"),
        "mains": request.args.get("mains", "50"),
        "readout": request.args.get("readout", "0"),
        "lines": request.args.get("lines", str(reel.facts["height"]) if reel else "1080"),
    }
    fault, told = "", None
    try:
        frames = _number(asked["rate"], "The frame rate")
        if frames <= 0:
            raise ValueError("The frame rate has to be above 0.")
        shutter = _shutter(asked["shutter"], frames)
        hertz = int(asked["mains"])
        if hertz not in MAINS:
            raise ValueError("Mains are 50 or 60 Hz.")
        lines = _number(asked["lines"], "The number of lines")
        told = sheet(hertz, frames, float(shutter), float(_number(asked["readout"], "The line time") * lines) / 1e6)
    except ValueError as error:
        fault = str(error)
    place = place_named(reel) if reel else 0
    page = render_template("mains.html", asked=asked, told=told, fault=fault, mains=MAINS, reel=reel, place=place)
    return (page, 422) if fault else page


def _number(text: str, name: str) -> Fraction:
    try:
        return Fraction(text.strip().replace(",", "."))
    except (ValueError, ZeroDivisionError) as error:
        raise ValueError(f"{name} has to be a number such as 25, 23.976 or 30000/1001; this is {text!r}.") from error


def _shutter(text: str, rate: Fraction) -> Fraction:
    """A shutter in seconds, from a fraction or an angle."""
    text = text.strip()
    if text.endswith(("°", "deg")):
        return _number(text.removesuffix("°").removesuffix("deg"), "The shutter's angle") / 360 / rate
    return _number(text, "The shutter")
