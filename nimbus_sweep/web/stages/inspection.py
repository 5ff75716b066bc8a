"""Inspection: the treated reel against the source, by eye and by measurement."""

from __future__ import annotations

import numpy as np
from flask import Blueprint, Response, jsonify, render_template

from ...store import edits
from .common import SweepError, latest, place_named, reel_or_404, services

pages = Blueprint("inspection", __name__)


@pages.get("/reels/<int:reel_id>/sheet/inspection")
def sheet(reel_id: int) -> str:
    """The sheet."""
    reel = reel_or_404(reel_id)
    viewing = services().viewing
    shots, place = viewing.shots(reel), place_named(reel)
    shot = shots[place]
    recipe = edits.settled(shot)
    ready = viewing.ready(reel)
    mended = {(f.x, f.y) for f in edits.mended(shot)}
    touched = []
    patched: dict[int, int] = {}
    if ready and shot.treated:
        layout = viewing.reader(reel).format
        every = viewing.analyses(reel, shot).load(recipe, layout)
        places = [np.unique(np.concatenate([known.touched()[i] for known in every])) for i in range(len(layout.components))]
        touched = [(c.name, len(p), c.width * c.height) for c, p in zip(layout.components, places, strict=True) if len(p)]
        for known in every:
            for n, places_in in known.touched_in().items():
                patched[n] = patched.get(n, 0) + sum(map(len, places_in))
    return render_template(
        "sheets/inspection.html",
        reel=reel,
        shots=shots,
        place=place,
        shot=shot,
        active=recipe.active if shot.use == "treat" else [],
        ready=ready,
        touched=touched,
        patched=(len(patched), sum(patched.values())),
        kept=[(i, f) for i, f in enumerate(shot.findings) if (f["x"], f["y"]) in mended and f["state"] == "kept"],
        rendered=latest(reel, "render", "done"),
        compared=latest(reel, "inspection"),
    )


@pages.post("/reels/<int:reel_id>/compare")
def compare(reel_id: int) -> Response:
    """Queue the comparison of the newest delivery with the source."""
    reel = reel_or_404(reel_id)
    rendered = latest(reel, "render", "done")
    if rendered is None:
        raise SweepError("There is no delivery yet. Render the reel first, in Delivery.")
    return jsonify(task=services().queue.put("inspection", reel, {"render": rendered.id}).id)
