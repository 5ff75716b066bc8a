"""Brush strokes as they are kept: a chain of changes, of which a treatment holds the last."""

from __future__ import annotations

import threading
import uuid
from typing import Any

from cachetools import LRUCache

from ..core.base.errors import SweepError
from ..core.model.recipes import Recipe, Step
from ..core.model.registry import STEPS
from ..core.tools.retouch import RetouchSettings, Touch
from .models import Reel, StrokeChange

# Strokes in order, each under the name it is taken off by.
Named = dict[str, Touch]
# Books kept at hand.
_MOST = 8
_held: LRUCache[str, Named] = LRUCache(_MOST)
_lock = threading.Lock()


def book(number: int) -> Named:
    """The strokes of a book.

    Raises
    ------
    SweepError
        If there is no such book.
    """
    changes: list[StrokeChange] = []
    base: Named = {}
    at = number
    while at:
        node = StrokeChange.get_or_none(StrokeChange.id == at)
        if node is None:
            raise SweepError("The brush strokes of this treatment are gone. Take the step off and put it on anew.")
        with _lock:
            known = _held.get(node.mark)
        # Most often all but the last change is at hand.
        if known is not None:
            base = known
            break
        changes.append(node)
        at = node.before
    if not changes:
        return base
    strokes = dict(base)
    for node in reversed(changes):
        strokes |= {f"{node.id}.{n}": Touch.model_validate(touch) for n, touch in enumerate(node.added)}
        for name in node.gone:
            strokes.pop(name, None)
    with _lock:
        _held[changes[0].mark] = strokes
    return strokes


def put_on(reel: Reel, number: int, added: list[Touch]) -> int:
    """The number of the book with some more strokes."""
    return _changed(reel, number, added=[t.model_dump(mode="json") for t in added])


def taken_off(reel: Reel, number: int, gone: list[str]) -> int:
    """The number of the book without some of its strokes."""
    return _changed(reel, number, gone=gone)


def _changed(reel: Reel, number: int, **change: Any) -> int:
    return int(StrokeChange.create(reel=reel, before=number, mark=uuid.uuid4().hex, **change).id)


def unfolded(recipe: Recipe) -> Recipe:
    """The recipe with the strokes themselves in the place of their book."""
    if not any(_book_of(s) for s in recipe.steps):
        return recipe
    return recipe.model_copy(update={"steps": tuple(_unfolded(s) for s in recipe.steps)})


def _unfolded(step: Step) -> Step:
    settings = step.settings
    if not isinstance(settings, RetouchSettings) or not settings.book:
        return step
    strokes = (*settings.strokes, *book(settings.book).values())
    return step.model_copy(update={"settings": settings.model_copy(update={"strokes": strokes, "book": 0})})


def _book_of(step: Step) -> int:
    return step.settings.book if isinstance(step.settings, RetouchSettings) else 0


def folded(reel: Reel, recipe: Recipe) -> Recipe:
    """A recipe that was taken in, its strokes put into a book of the reel; a book it names is not of this place."""
    steps = []
    for step in recipe.steps:
        if isinstance(step.settings, RetouchSettings):
            strokes = list(step.settings.strokes)
            step = step.with_settings(strokes=(), book=put_on(reel, 0, strokes) if strokes else 0)
        steps.append(step)
    return recipe.model_copy(update={"steps": tuple(steps)})


def for_other_shot(recipe: Recipe, current: Recipe) -> Recipe:
    """A recipe as it is put on another shot: strokes and tracks are of its own frames, so that shot keeps those it has."""
    order = list(STEPS)
    kept = [s for s in recipe.steps if not _of_its_frames(s, recipe)] + [s for s in current.steps if _of_its_frames(s, current)]
    return recipe.model_copy(update={"steps": tuple(sorted(kept, key=lambda s: order.index(s.kind))), "tracks": current.tracks})


def _of_its_frames(step: Step, recipe: Recipe) -> bool:
    return step.of.stays or any(step.rides_on(track.name) for track in recipe.tracks)
