"""What treatments need before they can be seen: analyses, and tracks."""

from __future__ import annotations

from ..core.base.errors import SweepError
from ..core.media.reel import ReelReader
from ..core.model.shots import Shots
from ..core.pipeline.report import TreatedShot
from ..core.pipeline.tracking import follow
from ..core.pipeline.works import analyse_shot
from ..store import edits
from ..store.data import DataFolder
from ..store.models import Reel, Task
from .machines import Work, done
from .progress import Progress
from .reels import at_hand, open_as_taken_in
from .tasks import TaskResult, TrackDone, TrackSettings, settings_of


def analysed_shots(data: DataFolder, reel: Reel, shots: Shots, source: ReelReader, progress: Progress, task: Task) -> list[TreatedShot]:
    """The shots that are treated, with what their steps know; what is missing is made.

    Parameters
    ----------
    data : DataFolder
    reel : Reel
    shots : tuple of Shot
    source : ReelReader
        The reel, opened.
    progress : Progress
    task : Task
        That needs them.
    """
    hand = at_hand(data, reel)
    active = [(n, s, edits.resolved(s)) for n, s in enumerate(shots, start=1) if s.treated]
    wanted = [
        Work(analyse_shot, (hand, s, recipe), f"Analysing shot {n}", s.stop - s.first)
        for n, s, recipe in active
        if not hand.analyses_of(s).ready(recipe)
    ]
    for _ in done(data.works(task.id), wanted, progress, (reel.path,)):
        pass
    return [
        TreatedShot(
            s.name or f"Shot {n}",
            s.enter,
            s.leave,
            recipe,
            [f.as_json() for f in edits.kept(s)],
            # Damaged ones are made again here.
            hand.knowledge(s, recipe, source, lambda _: None),
        )
        for n, s, recipe in active
    ]


def do_analysis(data: DataFolder, reel: Reel, task: Task, progress: Progress) -> TaskResult:
    """Make the analyses that the reel's treatments need."""
    progress(0, what="Analysing")
    analysed_shots(data, reel, edits.shots_of(reel), open_as_taken_in(reel), progress, task)
    return TaskResult()


def do_track(data: DataFolder, reel: Reel, task: Task, progress: Progress) -> TrackDone:
    """Follow a plane; what was changed by the user meanwhile stays, the path alone is put in."""
    wanted = settings_of(task, TrackSettings)
    shot = next((s for s in edits.shots_of(reel) if s.id == wanted.number), None)
    tracks = shot.recipe.tracks if shot is not None else ()
    found = next((t for t in tracks if t.id == wanted.track), None)
    if shot is None or found is None:
        raise SweepError("The track that was to be followed is gone. Draw it again.")
    track = found
    progress(0, what=f"Following {track.name}")
    at = min(max(wanted.frame, shot.enter), shot.leave - 1)
    if not track.path:
        at = track.reference
    elif track.first <= at < track.first + len(track.followed().numbers):  # type: ignore[union-attr]
        track = track.settled_to(at)
    else:
        raise SweepError(f"Frame {at} was not tracked yet. Go to a frame that was, and follow on from there.")
    source, above = open_as_taken_in(reel), [masked for _, masked in shot.recipe.above(found)]
    ways = {"on": [range(at, shot.leave)], "back": [range(at, shot.enter - 1, -1)]}
    goes = ways.get(wanted.direction, ways["on"] + ways["back"])
    for n, numbers in enumerate(goes):
        if len(numbers) > 1 or not track.path:
            track = track.with_path(follow(source, track, at, numbers, above, tracks, progress.part(n / len(goes), (n + 1) / len(goes))))

    def with_path(now_: Shots) -> Shots:
        put = {name: getattr(track, name) for name in ("first", "path", "box", "nudges", "smooth")}
        host = next((s for s in now_ if any(t.id == found.id for t in s.recipe.tracks)), None)
        was = next((t for t in host.recipe.tracks if t.id == found.id), None) if host is not None else None
        if host is None or was is None:
            raise SweepError(f"{track.name} was removed while it was followed.")
        if (was.region, was.model, was.reference) != (found.region, found.model, found.reference):
            raise SweepError(f"{track.name} was drawn anew while it was followed. Follow it again.")
        fresh = tuple(t.model_copy(update=put) if t.id == found.id else t for t in host.recipe.tracks)
        return tuple(s.with_(recipe=s.recipe.model_copy(update={"tracks": fresh})) if s is host else s for s in now_)

    edits.change(reel, f"Followed {track.name}", with_path)
    held = track.summary()
    return TrackDone(frames=held.frames, held=held.held, loose=held.loose)
