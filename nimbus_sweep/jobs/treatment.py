"""What treatments need before they can be seen: analyses, and tracks."""

from __future__ import annotations

from ..core.base.errors import SweepError
from ..core.model.shots import Shot
from ..core.model.tracks import track_named
from ..core.pipeline.tracking import follow
from ..store import edits
from ..store.data import DataFolder
from ..store.models import Reel, Task
from .progress import TaskProgress
from .reels import analysed_shots, open_as_taken_in
from .tasks import TaskResult, TrackDone, TrackSettings, settings_of


def do_analysis(data: DataFolder, reel: Reel, _task: Task, progress: TaskProgress) -> TaskResult:
    """Make the analyses that the reel's treatments need."""
    progress(0, what="Analysing")
    analysed_shots(data, reel, edits.shots_of(edits.current(reel)), open_as_taken_in(reel), progress)
    return TaskResult()


def do_track(data: DataFolder, reel: Reel, task: Task, progress: TaskProgress) -> TrackDone:
    """Follow a plane; what was changed by the user meanwhile stays, the path alone is put in."""
    wanted = settings_of(task, TrackSettings)
    place = wanted.shot
    progress(0, what=f"Following {wanted.track}")
    shot = edits.shot_of(reel, place)
    tracks = shot.recipe.tracks
    track = track_named(tracks, wanted.track)
    at = min(max(wanted.frame, shot.enter), shot.leave - 1)
    if not track.path:
        at = track.reference
    elif track.first <= at < track.first + len(track.followed().numbers):  # type: ignore[union-attr]
        track = track.settled_to(at)
    else:
        raise SweepError(f"Frame {at} was not tracked yet. Go to a frame that was, and follow on from there.")
    source, above = open_as_taken_in(reel), [masked for _, masked in shot.recipe.above(track_named(tracks, track.name))]
    ways = {"on": [range(at, shot.leave)], "back": [range(at, shot.enter - 1, -1)]}
    goes = ways.get(wanted.direction, ways["on"] + ways["back"])
    for n, numbers in enumerate(goes):
        if len(numbers) > 1 or not track.path:
            track = track.with_path(follow(source, track, at, numbers, above, tracks, progress.part(n / len(goes), (n + 1) / len(goes))))

    def with_path(now_: Shot) -> Shot:
        track_named(now_.recipe.tracks, track.name)
        put = {name: getattr(track, name) for name in ("first", "path", "box", "nudges", "smooth")}
        fresh = tuple(t.model_copy(update=put) if t.name == track.name else t for t in now_.recipe.tracks)
        return now_.with_(recipe=now_.recipe.model_copy(update={"tracks": fresh}))

    edits.change_shot(reel, f"Followed {track.name}", place, with_path)
    held = track.summary()
    return TrackDone(frames=held.frames, held=held.held, loose=held.loose)
