"""The light of a shot, drawn for the condition sheet, and the sheet of mains and shutters."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from functools import lru_cache
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from flask import Blueprint, Response, abort, jsonify, render_template, request

from ...core.defects.unsteady_light.forms import Forms, Steadied, forms
from ...core.defects.unsteady_light.light_plan import LightPlan
from ...core.defects.unsteady_light.mains import MAINS, Sheet, lamp, lit_rows, sheet
from ...core.defects.unsteady_light.overview import Overview, marks, overview
from ...core.defects.unsteady_light.reading import look_for
from ...core.evidence.light_record import LightRecord, kept_record
from ...core.imaging.motion import Along, Plane
from ...core.model.regions import Masked
from ...core.model.shots import Shot
from ...core.pipeline.at_hand import light_path
from ...core.pipeline.confined import Confined
from ...jobs.reels import volume_path
from ...store import edits
from ...store.models import Reel
from ..viewing import NotReady
from .charts import CHART_HIGH, CHART_WIDE, chart_points
from .common import place_named, reel_or_404, services, shot_named

pages = Blueprint("light", __name__)

# An analysis, and the region and what is held out of it as JSON, or nothing.
_Analysis = tuple[Path, Masked | None, Masked | None]
# Size of the drawings in the sheet.
_LOW = 54


@lru_cache(maxsize=64)
def _is_whole(path: Path, modified: float) -> bool:
    return kept_record(path) is not None


def _is_there(path: Path) -> bool:
    """Whether a shot's light can be read; it is opened to be sure once for each file, not for each request."""
    return path.exists() and _is_whole(path, path.stat().st_mtime)


@lru_cache(maxsize=16)
def _overview(path: Path, modified: float, first: int, stop: int) -> Overview:
    return overview(LightRecord(path).between(first, stop))


def seen(reel: Reel, shot: Shot) -> Overview | None:
    """The light of a shot, once it has been laid open."""
    path = light_path(volume_path(services().data, reel, shot.first, shot.stop))
    if not _is_there(path):
        return None
    return _overview(path, path.stat().st_mtime, *shot.span)


def drawn(reel: Reel, shot: Shot) -> dict[str, Any] | None:
    """Curve and spectrum as points for the sheet; None until the shot is laid open."""
    light = seen(reel, shot)
    if light is None or len(light.curve) < 4:
        return None
    rate = reel.facts.frames_a_second
    swing = max(0.05, float(np.abs(light.curve - 1).max()))
    curve = chart_points(np.linspace(0, 1, len(light.curve)), 0.5 + (light.curve - 1) / (2.2 * swing))
    top = max(0.02, float(light.amplitudes.max()))
    return {
        "width": CHART_WIDE,
        "high": CHART_HIGH,
        "low": _LOW,
        "curve": curve,
        "swing": swing,
        "spectrum": chart_points(light.frequencies / 0.5, light.amplitudes / (1.15 * top), _LOW),
        "top": top,
        "half": float(rate) / 2,
        "marks": [(mains, round(step / 0.5 * CHART_WIDE, 1), step * float(rate)) for mains, step in marks(rate)],
        "frames": len(light.curve),
    }


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


@lru_cache(maxsize=8)
def _along(path: Path, modified: float, first: int, stop: int) -> Along:
    return look_for(LightRecord(path).between(first, stop))


@lru_cache(maxsize=300)
def _forms(
    path: Path, modified: float, span: tuple[int, int], analyses: tuple[_Analysis, ...], frame: int, reach: int, grain: float
) -> Forms:
    """The forms of a frame; `analyses` are the analyses of the steps that are divided out first."""
    record = LightRecord(path).between(*span)
    seen = Steadied(record, [_divided(record, *one) for one in analyses]) if analyses else record
    return forms(seen, frame - span[0], reach, grain, _along(path, modified, *span))


def _divided(record: LightRecord, path: Path, region: Masked | None, hold_out: Masked | None) -> Callable[[Plane, int], Plane]:
    """What a step makes of the light of a frame, kept to its region."""
    plan = _plan(path)
    if region is None and hold_out is None:
        return plan.on_light
    layout = record.format

    def divided(light: Plane, at: int) -> Plane:
        mask = Confined(plan, layout, region, hold_out).mask(0, record.first + at)
        share = cv2.resize(mask, light.shape[::-1], interpolation=cv2.INTER_AREA)
        return light + share * (plan.on_light(light, at) - light)

    return divided


@lru_cache(maxsize=16)
def _plan(path: Path) -> LightPlan:
    return LightPlan.load(path)


@pages.errorhandler(NotReady)
def _not_ready(error: NotReady) -> tuple[Response, int]:
    return jsonify(error=str(error)), 425


def moving_share(reel: Reel, shot: Shot) -> float | None:
    """How much of the picture moves in the middle of a shot; None until it is laid open."""
    path = light_path(volume_path(services().data, reel, shot.first, shot.stop))
    if not _is_there(path):
        return None
    enter, leave = shot.span
    return float(_forms(path, path.stat().st_mtime, shot.span, (), (enter + leave) // 2, 2, 0.0).moving.mean())


@pages.get("/reels/<int:reel_id>/forms/<any(moving,flickering,untold):form>/<int:frame>.png")
def form(reel_id: int, form: str, frame: int) -> Response:
    """Where in a frame something moves, flickers, or cannot be told: white, transparent elsewhere.

    Light that the steps before number `before` steady is divided out first.
    """
    reel = reel_or_404(reel_id)
    shot = shot_named(reel)
    enter, leave = shot.span
    path = light_path(volume_path(services().data, reel, shot.first, shot.stop))
    if not enter <= frame < leave or not _is_there(path):
        abort(404)
    reach, grain, before = (request.args.get(name, usual, type=float) for name, usual in (("reach", 16.0), ("grain", 0.0), ("before", 0.0)))
    if reach is None or grain is None or before is None or not np.isfinite(reach + grain + before):
        abort(400, "reach, grain and before have to be numbers.")
    analyses = _analyses_before(reel, shot, int(before))
    forms = _forms(path, path.stat().st_mtime, shot.span, analyses, frame, int(np.clip(reach, 1, 60)), grain)
    plane = np.full((*getattr(forms, form).shape, 4), 255, np.uint8)
    plane[..., 3] = 255 * getattr(forms, form)
    made, data = cv2.imencode(".png", plane)
    if not made:
        abort(500)
    return Response(data.tobytes(), mimetype="image/png", headers={"Cache-Control": "private, max-age=600"})


def _analyses_before(reel: Reel, shot: Shot, before: int) -> tuple[_Analysis, ...]:
    """The analyses of the light's steps that come before step number `before`, and their regions."""
    recipe = edits.resolved(shot)
    active = [s.with_tracks(recipe.tracks) for s in recipe.steps[:before] if s.on]
    analyses = services().viewing.analyses(reel, shot)
    found = [(analyses.path(active[: n + 1]), s.acts_in, s.held_out) for n, s in enumerate(active) if s.of.learns_from == "light"]
    if not all(path.exists() for path, *_ in found):
        raise NotReady("The light is still being measured; it follows in a moment.")
    return tuple(found)


@pages.get("/mains")
def mains() -> str | tuple[str, int]:
    """What a camera's settings make of lamps; starts from a reel's frame rate when one is named."""
    reel = reel_or_404(int(request.args["reel"])) if request.args.get("reel", "").isdigit() else None
    rate = request.args.get("rate") or (reel.facts.rate if reel else "25")
    asked = {
        "rate": rate,
        "shutter": request.args.get("shutter", "180°"),
        "mains": request.args.get("mains", "50"),
        "readout": request.args.get("readout", "0"),
        "lines": request.args.get("lines", str(reel.facts.height) if reel else "1080"),
    }
    fault, result = "", None
    try:
        frames = _number(asked["rate"], "The frame rate")
        if frames <= 0:
            raise ValueError("The frame rate has to be above 0.")
        shutter = _shutter(asked["shutter"], frames)
        hertz = int(asked["mains"])
        if hertz not in MAINS:
            raise ValueError("Mains are 50 or 60 Hz.")
        lines = _number(asked["lines"], "The number of lines")
        result = sheet(hertz, frames, float(shutter), float(_number(asked["readout"], "The line time") * lines) / 1e6)
    except ValueError as error:
        fault = str(error)
    place = place_named(reel) if reel else 0
    drawn_as = None if result is None else _as_drawn(result, frames)
    page = render_template("mains.html", asked=asked, result=result, drawn=drawn_as, fault=fault, mains=MAINS, reel=reel, place=place)
    return (page, 422) if fault else page


# Frames and rows of the picture of bands, frames that the pulse is drawn over, and its points.
_PLAYED, _ROWS, _PULSES, _POINTS = 60, 48, 3, 240


def _as_drawn(worked: Sheet, rate: Fraction) -> dict[str, Any]:
    """The light of rows, frame by frame, as it is played; the lamp's pulse, and when the shutter is open."""
    mains, beat = worked.alias.mains, worked.alias.beat
    many = _PLAYED if beat > _PLAYED else max(1, round(_PLAYED // beat * beat))
    lit = lit_rows(mains, rate, worked.shutter, worked.readout, many, _ROWS)
    last = (_PULSES - 1) / float(rate) + worked.shutter + worked.readout
    shares = np.linspace(0, 1, _POINTS)
    opened = [(n / float(rate) / last, worked.shutter / last) for n in range(_PULSES)]
    return {
        "lit": np.rint(100 * lit).astype(int).tolist(),
        "swing": f"{100 * float(np.ptp(lit)) / 2:.1f}",
        "width": CHART_WIDE,
        "high": CHART_HIGH,
        "pulse": chart_points(shares, lamp(mains, shares * last) / 2),
        "opened": [(round(at * CHART_WIDE, 1), round(wide * CHART_WIDE, 1)) for at, wide in opened],
        "closes": [(round((at + worked.readout / last) * CHART_WIDE, 1), round(wide * CHART_WIDE, 1)) for at, wide in opened],
    }


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
