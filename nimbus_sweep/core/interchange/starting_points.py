"""Ordinary recipes to start from, by what has gone wrong with the light."""

from __future__ import annotations

from dataclasses import dataclass

from ..model.recipes import Recipe, Step


@dataclass(frozen=True)
class StartingPoint:
    """A recipe for a cause.

    Attributes
    ----------
    key, name : str
    note : str
        What it is for, and what is still to be done by hand.
    recipe : Recipe
    """

    key: str
    name: str
    note: str
    recipe: Recipe


def _point(key: str, name: str, note: str, *steps: Step) -> StartingPoint:
    return StartingPoint(key, name, note, Recipe(name=name, steps=steps))


STARTING_POINTS: dict[str, StartingPoint] = {
    point.key: point
    for point in (
        _point(
            "time-lapse",
            "Time lapse that pumps",
            "Every exposure is set anew: level and contrast of each frame are steadied; dusk and dawn stay.",
            Step.new("steady-frame", takes="all"),
        ),
        _point("lamps", "Lamps with bands", "Bands that roll through the whole picture.", Step.new("steady-bands")),
        _point(
            "screen",
            "Screen in the picture",
            "Bands on a screen alone: draw the screen under Where, so that nothing else is touched.",
            Step.new("steady-bands", lie="rows"),
        ),
        _point(
            "stage",
            "Stage lamps",
            "Lamps that light parts of the picture, each with a pulse of its own.",
            Step.new("steady-patches", fine=8),
        ),
        _point(
            "high-rate",
            "High frame rate",
            "Frames dimmed by turns first, then what is slower.",
            Step.new("steady-frame", takes="rhythm"),
            Step.new("steady-frame", takes="all"),
        ),
        _point(
            "old-film",
            "Old film that breathes",
            "Level and contrast of each frame, then uneven light over the picture.",
            Step.new("steady-patches", amount=0.8),
            Step.new("steady-frame", takes="all", reach=8),
        ),
        _point(
            "key-frames", "Jumps at key frames", "Compression with too little room, as from the air.", Step.new("steady-frame", takes="all")
        ),
    )
}
