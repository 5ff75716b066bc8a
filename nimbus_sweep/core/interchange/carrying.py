"""Recipes for other shots, reels and jobs: geometry and settings, carried together or each alone."""

from __future__ import annotations

from typing import Literal, get_args

from ..base.errors import SweepError
from ..model.recipes import Recipe, Step
from ..model.regions import Region
from ..model.registry import STEPS
from ..model.tracks import Track

Take = Literal["all", "settings", "regions"]
TAKES: tuple[Take, ...] = get_args(Take)
# How far, as a share, two pictures may differ in shape for regions to be carried from one to the other.
_SAME_SHAPE = 0.01


def portable(recipe: Recipe, name: str, size: tuple[int, int], enter: int) -> Recipe:
    """A shot's treatment as it may be put on another: without what belongs to its own frames.

    Parameters
    ----------
    recipe : Recipe
        As the shot has it, not resolved: what its survey names, another shot's own survey names there.
    name : str
    size : tuple of int
        Width and height of the shot's pictures, which its regions were drawn on.
    enter : int
        The first frame of the shot, which the keys of its regions count from.
    """
    steps = tuple(made for s in recipe.steps if (made := _for_other_shots(s)) is not None)
    tracks = tuple(t.unfollowed() for t in recipe.tracks)
    return Recipe(name=name, steps=steps, tracks=tracks, size=size, enter=enter)


def _for_other_shots(step: Step) -> Step | None:
    """The step without what belongs to the shot's own frames; None when all of it does."""
    settings = step.of.for_other_shot(step.settings)
    if settings is None:
        return None
    return step.model_copy(update={"settings": settings})


def fitted(recipe: Recipe, size: tuple[int, int], enter: int) -> Recipe:
    """A recipe with its regions scaled to pictures of another size, and their keys counted from another frame.

    Raises
    ------
    SweepError
        If its regions were drawn on pictures of another shape.
    """
    across, down = (s / was if was else 1.0 for s, was in zip(size, recipe.size, strict=True))
    moved = enter - recipe.enter if recipe.size != (0, 0) else 0
    drawn = [r for s in recipe.steps for r in (s.region, s.hold_out) if r is not None and r.parts]
    if drawn and abs(across / down - 1) > _SAME_SHAPE:
        raise SweepError(
            f"The regions of this recipe were drawn on pictures of {recipe.size[0]} x {recipe.size[1]}, which is another shape than "
            f"{size[0]} x {size[1]}. Take its settings alone, and draw where they are to act."
        )

    # A path leads through pictures as they were.
    same = not moved and across == down == 1

    def laid(region: Region | None) -> Region | None:
        return None if region is None else region.carried_to(moved, across, down)

    steps = tuple(s.model_copy(update={"region": laid(s.region), "hold_out": laid(s.hold_out)}) for s in recipe.steps)
    tracks = tuple(
        t.model_copy(
            update={
                "region": t.region.carried_to(moved, across, down),
                "hold_out": laid(t.hold_out),
                "reference": max(0, t.reference + moved),
                "size": (size[1], size[0]) if t.size != (0, 0) else t.size,
            }
        )
        for t in (recipe.tracks if same else [t.unfollowed() for t in recipe.tracks])
    )
    return recipe.model_copy(update={"steps": steps, "tracks": tracks, "size": size, "enter": enter})


def carried(recipe: Recipe, current: Recipe, take: Take) -> Recipe:
    """What a shot's treatment becomes when a recipe, fitted to it, is put on.

    Parameters
    ----------
    recipe, own : Recipe
        That which is put on, and the shot's.
    take : str
        ``all``: steps with their regions, in place of the shot's; ``settings``: steps in place of the shot's, which keep the
        regions the shot has for steps of their kind; ``regions``: the shot's steps, which get the recipe's regions for steps of
        their kind. Brush strokes are of the shot's own frames and stay in every case.

    Raises
    ------
    SweepError
        If nothing of it can be taken.
    """
    order = list(STEPS)
    staying = tuple(s for s in current.steps if s.of.stays)
    if take == "regions":
        others = [s for s in current.steps if not s.of.stays]
        steps = _with_regions(others, recipe)
        if all(a is b for a, b in zip(steps, others, strict=True)):
            raise SweepError("No step of this treatment is of a kind that the recipe has a region for, so nothing was changed.")
    else:
        steps = list(recipe.steps) if take == "all" else _with_regions([_bare(s) for s in recipe.steps], current, every=True)
    tracks = current.tracks if take == "settings" else _joined(recipe, current)
    kept = sorted([*steps, *staying], key=lambda s: order.index(s.kind))
    return current.model_copy(update={"steps": tuple(kept), "tracks": tracks})


def _bare(step: Step) -> Step:
    return step.with_track("").model_copy(update={"region": None, "hold_out": None})


def _with_regions(steps: list[Step], lender: Recipe, every: bool = False) -> list[Step]:
    """Steps with the regions of another treatment's steps of the same kind, first with first; `every`: also where it has none."""
    waiting: dict[str, list[Step]] = {}
    for step in lender.steps:
        waiting.setdefault(step.kind, []).append(step)
    made = []
    for step in steps:
        others = waiting.get(step.kind, [])
        other = others.pop(0) if others else None
        if other is not None and (every or other.region is not None or other.hold_out is not None):
            step = step.model_copy(update={"region": other.region, "hold_out": other.hold_out})
        made.append(step)
    return made


def _joined(recipe: Recipe, current: Recipe) -> tuple[Track, ...]:
    """The shot's tracks, and those of the recipe it has none of that name for."""
    names = {t.name for t in current.tracks}
    return (*current.tracks, *(t for t in recipe.tracks if t.name not in names))
