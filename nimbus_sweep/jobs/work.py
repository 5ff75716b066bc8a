"""What the queue does: each kind of work, with progress, cancelling and plain words for failures."""

from __future__ import annotations

import logging
import re
import shutil
import time
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from pydantic import BaseModel

from ..core.base.errors import Cancelled, DamagedReel, SweepError
from ..core.base.failures import mark_failure
from ..core.base.files import atomic_write
from ..core.evidence.frames_at_hand import Span
from ..core.evidence.scan import Scan, scan
from ..core.evidence.shot_evidence import ShotEvidence
from ..core.evidence.time_volume import build_volume
from ..core.media.formats import FORMATS, Delivery, usual_kind
from ..core.media.frames import Frame
from ..core.media.opening import fingerprint, open_reel, stamp_of
from ..core.media.reel import ReelReader
from ..core.media.view import PROXY_WIDTH, ProxyMaker, jpeg, to_bgr
from ..core.model.findings import JudgedFinding
from ..core.model.registry import DEFECTS
from ..core.model.shots import Shot, divided, place_of
from ..core.model.tracks import track_named
from ..core.pipeline.analyses import Analyses, chain
from ..core.pipeline.comparison import Comparison, compare, merged, report_of
from ..core.pipeline.inspection import Known, TreatedSpan, inspect
from ..core.pipeline.known_truth import MarkTruth, held_against, truth_file
from ..core.pipeline.render import clear, render
from ..core.pipeline.report import make_report
from ..core.pipeline.survey import Finding, Surveyed, survey
from ..core.pipeline.tracking import follow
from ..core.pipeline.trials import Computed, Judge, Plan
from ..logs import about, log_path
from ..store import edits, strokes
from ..store.data import DataFolder
from ..store.models import Edit, Reel, Task, Trial, database, now
from . import drawing, papers
from .reels import (
    analysed_shots,
    computed_under,
    facts_of,
    light_path,
    open_as_taken_in,
    open_light,
    open_volume,
    reading_of,
    repeats_of,
    size_of,
    spec_of,
    usable_of,
    volume_path,
)
from .tasks import (
    CheckDone,
    CheckedShot,
    CheckSettings,
    ComparisonDone,
    DeliveredFile,
    InspectionSettings,
    OpenSettings,
    PapersDone,
    RenderDone,
    RenderSettings,
    SurveyDone,
    SurveySettings,
    TakenIn,
    TaskResult,
    TrackDone,
    TrackSettings,
    TrialDone,
    TrialSettings,
    result_of,
    settings_of,
)

log = logging.getLogger(__name__)


class TaskProgress:
    """Notes progress of a task now and then, and raises Cancelled when it is to stop."""

    def __init__(self, task: Task) -> None:
        self._task, self._last = task, 0.0

    def __call__(self, share: float, rate: float = 0.0, what: str | None = None) -> None:
        at = time.monotonic()
        if at - self._last < 0.25 and what is None:
            return
        self._last = at
        values: dict[str, Any] = {"share": min(1.0, share), "rate": rate}
        if what is not None:
            values["what"] = what
        Task.update(**values).where(Task.id == self._task.id).execute()
        if Task.select(Task.cancel).where(Task.id == self._task.id).scalar():
            raise Cancelled

    def part(self, start: float, stop: float) -> Callable[[float], None]:
        """Progress of a part that takes the shares `start` to `stop` of the whole."""
        return lambda share: self(start + share * (stop - start))


def perform(data: DataFolder, task_id: int) -> None:
    """Do one task of the queue; every failure is kept with it."""
    with database.connection_context():
        taken = (
            Task.update(state="running", started=now(), attempts=Task.attempts + 1)
            .where(Task.id == task_id, Task.state == "waiting")
            .execute()
        )
        if not taken:
            return
        task = Task.get_by_id(task_id)
        with about(task.reel_id, task.id):
            log.info("%s begins", task.kind)
            _end(task, **_outcome(data, task))


def _outcome(data: DataFolder, task: Task) -> dict[str, Any]:
    """Do a task; gives what is to be kept with it."""
    try:
        result = _WORK[task.kind](data, task.reel, task, TaskProgress(task))
    except Cancelled:
        log.info("%s was stopped", task.kind)
        return {"state": "cancelled"}
    except SweepError as error:
        log.warning("%s failed: %s", task.kind, error)
        return {"state": "failed", "error": str(error)}
    except MemoryError:
        log.error("%s failed: not enough memory", task.kind)
        return {"state": "failed", "error": "There was not enough memory. Close other programs and start it again."}
    except Exception as error:
        mark = mark_failure(log, f"{task.kind} failed")
        said = f"{type(error).__name__}: {error}"
        where = log_path(data.root, "worker")
        text = f"Something unforeseen went wrong ({said}). The reel was not touched. Start it again; {where} says more at {mark}."
        return {"state": "failed", "error": text}
    log.info("%s is done", task.kind)
    return {"state": "done", "share": 1.0, "result": result.model_dump(mode="json")}


def _end(task: Task, **values: Any) -> None:
    Task.update(ended=now(), **values).where(Task.id == task.id).execute()
    if task.kind == "draw" and values["state"] != "done":
        Reel.update(state="refused", refusal=values.get("error") or "Drawing was stopped. Start the demo again to draw it.").where(
            Reel.id == task.reel_id
        ).execute()
    if task.kind == "intake" and values["state"] != "done" and Reel.get_by_id(task.reel_id).state != "ready":
        refusal = values.get("error") or "Intake was stopped."
        Reel.update(state="refused", refusal=refusal).where(Reel.id == task.reel_id).execute()


def _intake(data: DataFolder, reel: Reel, task: Task, progress: TaskProgress) -> TakenIn:
    progress(0, what="Reading the index")
    # A reel that was read before stays as it is while it is read again.
    again = reel.state == "ready"
    if not again:
        Reel.update(state="reading").where(Reel.id == reel.id).execute()
    path, reading = Path(reel.path), reading_of(reel)
    source = open_reel(path, reading, reel.accept_missing)
    size, modified = stamp_of(path)
    if not reel.accept_missing:
        if source.facts.promised > len(source):
            Reel.update(missing=source.missing).where(Reel.id == reel.id).execute()
        source.require_whole()
    FORMATS[usual_kind(source.facts, source.format)].held(source.format)
    folder = data.of_reel(reel.id)
    folder.mkdir(parents=True, exist_ok=True)
    if not again:
        Reel.update(
            state="open", refusal="", size=size, modified=modified, frames=len(source), facts=facts_of(source), look=reading.key
        ).where(Reel.id == reel.id).execute()
    progress(0.02, what="Reading every frame")
    start = time.monotonic()

    def on_frame(frame: Frame) -> None:
        done = frame.number + 1
        progress(0.02 + 0.9 * done / len(source), done / (time.monotonic() - start))

    volume = volume_path(data, reel, 0, len(source))
    volume.parent.mkdir(exist_ok=True)
    light = light_path(volume)
    try:
        proxy = ProxyMaker(folder / "proxy.jpegs")
        seen = scan(source, on_frame, proxy, None if volume.exists() else volume, None if light.exists() else light)
    except DamagedReel as error:
        Reel.update(missing=error.missing).where(Reel.id == reel.id).execute()
        raise
    seen.summary.save(folder / "summary.npz")
    seen.repeats.save(folder / "repeats.npz")
    progress(0.92, what="Taking the fingerprint")
    print_ = fingerprint(path, progress.part(0.92, 1))
    source.check_unchanged()
    fresh = Reel.get_by_id(reel.id)
    facts = facts_of(source) if fresh.reading == reel.reading else fresh.facts
    told: dict[str, Any] = {
        "cadence": seen.repeats.cadence,
        "repeated": int(seen.repeats.repeated.sum()),
        "period": seen.repeats.period,
        "still_runs": tuple(seen.repeats.still_runs[:20]),
    }
    unreadable = sorted(set(seen.missing) - set(source.facts.absent))
    if unreadable:
        told["absent"] = tuple(sorted(seen.missing))
        shown = ", ".join(str(n) for n in unreadable[:8]) + (" ..." if len(unreadable) > 8 else "")
        cannot = f"{len(unreadable)} frame{'s' if len(unreadable) > 1 else ''} cannot be read: {shown}. Shown as missing."
        told["notes"] = (*facts.notes, cannot)
    _first_state(fresh, seen, len(source))
    Reel.update(
        state="ready",
        size=size,
        modified=modified,
        look=reading.key,
        fingerprint=print_ + (":missing accepted" if reel.accept_missing else ""),
        missing=source.missing + len(unreadable),
        facts=facts.model_copy(update=told),
    ).where(Reel.id == reel.id).execute()
    if reading_of(fresh).key != reading.key:
        # Corrected meanwhile: the small pictures are made once more.
        return _intake(data, Reel.get_by_id(reel.id), task, progress)
    return TakenIn(frames=len(source), cuts=len(seen.cuts))


def _first_state(reel: Reel, seen: Scan, frames: int) -> None:
    """Divide the reel into shots, unless that was done before and still fits."""
    edit = Edit.select().where(Edit.reel == reel).order_by(Edit.id.desc()).first()
    if edit is not None and edits.shots_of(edits.current(reel))[-1].stop == frames:
        return
    Edit.delete().where(Edit.reel == reel).execute()  # type: ignore[misc]
    Edit.create(reel=reel, what="Intake", shots=[s.model_dump(mode="json") for s in divided(frames, seen.cuts)])


def _open(data: DataFolder, reel: Reel, task: Task, progress: TaskProgress) -> TaskResult:
    progress(0, what="Preparing time slices")
    open_volume(data, reel, edits.shot_of(reel, settings_of(task, OpenSettings).shot), open_as_taken_in(reel), progress)
    return TaskResult()


def _survey(data: DataFolder, reel: Reel, task: Task, progress: TaskProgress) -> SurveyDone:
    progress(0, what="Surveying")
    source = open_as_taken_in(reel)
    places = settings_of(task, SurveySettings).shots
    total, took = 0, 0.0
    for done, place in enumerate(places):
        shot = edits.shot_of(reel, place)
        start = time.monotonic()
        begin, end = done / len(places), (done + 1) / len(places)
        if len(places) > 1:
            progress(begin, what=f"Surveying shot {place + 1}")
        volume = open_volume(data, reel, shot, source, progress.part(begin, begin + 0.4 * (end - begin)))
        share = progress.part(begin + 0.4 * (end - begin), end)
        held = {s.kind: out for s in shot.recipe.steps if (out := s.with_tracks(shot.recipe.tracks).held_out) is not None}
        light = open_light(data, reel, shot, source)
        whole, lit = volume.between(*shot.span), light.between(*shot.span)
        with TemporaryDirectory(prefix="steadied-", dir=data.of_reel(reel.id)) as scratch:
            steadied, frames = Path(scratch) / "volume.bin", Span.of(source, *shot.span, usable_of(data, reel), whole)
            found = survey(ShotEvidence(whole, shot.first, shot.stop, light=lit, frames=frames, scratch=steadied), share, hold_outs=held)
        seconds = time.monotonic() - start
        took += seconds
        total += len(found.findings)
        edits.change_shot(
            reel, "Survey" if len(places) == 1 else f"Survey of shot {place + 1}", place, partial(_surveyed, found=found, seconds=seconds)
        )
    total += _share_marks(data, reel, source, progress)
    return SurveyDone(found=total, seconds=round(took, 2))


def _share_marks(data: DataFolder, reel: Reel, source: ReelReader, progress: TaskProgress) -> int:
    """Look in every surveyed shot for the marks that others proved: they are of one camera."""
    shots = edits.shots_of(edits.current(reel))
    proven = [[f for f in edits.kept(s) if DEFECTS[f.kind].proves(f)] for s in shots]
    looked = [n for n, s in enumerate(shots) if s.surveyed is not None and any(proven[:n] + proven[n + 1 :])]
    gained: dict[int, list[Finding]] = {}
    for n in looked:
        progress(0.99, what=f"Looking for the marks of other shots in shot {n + 1}")
        volume = open_volume(data, reel, shots[n], source).between(*shots[n].span)
        others = [(shots[m].name or f"shot {m + 1}", f) for m in range(len(shots)) if m != n for f in proven[m]]
        known = [f.finding for f in shots[n].findings]
        found = []
        for kind in DEFECTS.values():
            own = [(name, f) for name, f in others if f.kind == kind.kind]
            if kind.share is not None and own:
                found += kind.share(volume, own, known, shots[n].first, shots[n].stop)
        if found:
            gained[n] = found
    if gained:

        def with_them(n: int, shot: Shot) -> Shot:
            return shot.with_(findings=(*shot.findings, *(JudgedFinding.of(f) for f in gained[n]))) if n in gained else shot

        edits.change(reel, "Marks shared between shots", tuple(with_them(n, s) for n, s in enumerate(shots)))
    return sum(map(len, gained.values()))


def _surveyed(shot: Shot, found: Surveyed, seconds: float) -> Shot:
    """The shot with what a survey found; what the user placed or dismissed stays so."""
    by_hand = [f for f in shot.findings if f.by_hand or (f.state == "dismissed" and f.evidence.shared)]
    dismissed = {(f.kind, f.x, f.y) for f in shot.findings if f.state == "dismissed"}
    judged = [JudgedFinding.of(f) for f in found.findings]
    judged = [f.with_(state="dismissed") if (f.kind, f.x, f.y) in dismissed else f for f in judged]
    return shot.with_(findings=(*judged, *by_hand), surveyed=round(seconds, 2), notes=found.notes)


def _analysis(data: DataFolder, reel: Reel, _task: Task, progress: TaskProgress) -> TaskResult:
    progress(0, what="Analysing")
    analysed_shots(data, reel, edits.shots_of(edits.current(reel)), open_as_taken_in(reel), progress)
    return TaskResult()


def _track(data: DataFolder, reel: Reel, task: Task, progress: TaskProgress) -> TrackDone:
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
    return TrackDone.model_validate(track.told())


def shot_of_trial(reel: Reel, plan: Plan) -> int:
    """The place of the shot that a trial's frames lie in.

    Raises
    ------
    SweepError
        If a cut parts them.
    """
    shots = edits.shots_of(edits.current(reel))
    place = place_of(shots, min(plan.first, shots[-1].stop - 1))
    if plan.stop > shots[place].stop:
        raise SweepError(
            f"Frames {plan.first} to {plan.stop - 1} do not lie in one shot any more. Make a new trial on one side of the cut at "
            f"{shots[place].stop}."
        )
    return place


class _Timed:
    """Frames, and the time they took to be made."""

    def __init__(self, frames: Iterator[Frame], learning: float) -> None:
        self._frames, self._seconds = frames, learning

    def __iter__(self) -> Iterator[Frame]:
        return self

    def __next__(self) -> Frame:
        start = time.perf_counter()
        try:
            return next(self._frames)
        finally:
            self._seconds += time.perf_counter() - start

    def took(self) -> float:
        """Seconds so far, learning included."""
        return self._seconds


def _trial(data: DataFolder, reel: Reel, task: Task, progress: TaskProgress) -> TrialDone:
    progress(0, what="Reading the frames")
    trial = Trial.get_or_none(Trial.id == settings_of(task, TrialSettings).trial)
    if trial is None:
        raise SweepError("This trial was removed.")
    plan = Plan.model_validate(trial.plan)
    shot = edits.shot_of(reel, shot_of_trial(reel, plan))
    source = open_as_taken_in(reel)
    first, stop, count = plan.first, plan.stop, len(plan.variants)
    made = []
    with TemporaryDirectory(prefix="trial-", dir=data.of_reel(reel.id)) as name:
        scratch = Path(name)
        # Beside those of the last time, which stay until these are whole.
        folder = scratch / "pictures"
        folder.mkdir()
        judge = Judge(scratch, source, first, stop)
        for n, variant in enumerate(plan.variants):
            progress(0.1 + 0.9 * n / count, what=f"Way {n + 1} of {count}")
            recipe = variant.recipe.resolved(edits.kept(shot))
            start = time.perf_counter()
            share = progress.part(0.1 + 0.9 * n / count, 0.1 + 0.9 * (n + 0.5) / count)
            known = Analyses(data.analyses, computed_under(reel), first, stop).make(
                strokes.unfolded(recipe),
                source,
                partial(build_volume, scratch / "volume.bin", source, first=first, stop=stop),
                share,
                lambda: judge.light,
                usable_of(data, reel),
            )
            frames = _Timed(iter(chain(source, known, first, stop).frames(first, stop)), time.perf_counter() - start)
            maker = ProxyMaker(folder / f"{n}.jpegs")

            def each(frame: Frame, n: int = n, maker: ProxyMaker = maker) -> None:
                maker.add(jpeg(to_bgr(frame, min(PROXY_WIDTH, frame.format.width))))
                progress(0.1 + 0.9 * (n + 0.5 + 0.4 * (frame.number - first) / (stop - first)) / count)

            try:
                figures = judge.figures(frames, frames.took, each)
            except BaseException:
                maker.drop()
                raise
            maker.finish()
            made.append(Computed(recipe=recipe, figures=figures).model_dump(mode="json"))
        kept = data.trial(reel.id, trial.id)
        shutil.rmtree(kept, ignore_errors=True)
        kept.parent.mkdir(exist_ok=True)
        folder.rename(kept)
    Trial.update(result=made, task=task.id).where(Trial.id == trial.id).execute()
    return TrialDone(trial=trial.id)


def _check(data: DataFolder, reel: Reel, task: Task, progress: TaskProgress) -> CheckDone:
    """Hold treated shots against their sources, and survey them once more."""
    progress(0, what="Analysing")
    source = open_as_taken_in(reel)
    shots = edits.shots_of(edits.current(reel))
    wanted = [(n, shots[n]) for n in settings_of(task, CheckSettings).shots if n < len(shots) and shots[n].treated]
    checked = []
    for done, (n, shot) in enumerate(wanted):
        begin, end = done / len(wanted), (done + 1) / len(wanted)
        made = analysed_shots(data, reel, (shot,), source, progress.part(begin, begin + 0.2 * (end - begin)))[0]
        progress(begin + 0.2 * (end - begin), what="Looking at the treated shot" + (f" {n + 1}" if len(shots) > 1 else ""))
        kept, every = edits.kept(shot), [f.finding for f in shot.findings]
        with TemporaryDirectory(prefix="check-", dir=data.of_reel(reel.id)) as scratch:
            span = TreatedSpan(source, made.recipe.active, made.knowledge, shot.enter, shot.leave, usable_of(data, reel))
            known = Known(kept, edits.mended(shot), every)
            result = inspect(span, Path(scratch), known, progress.part(begin + 0.2 * (end - begin), end))
        checked.append(CheckedShot(**dict(result), first=shot.first, stop=shot.stop, mark=edits.mark_of(shot)))
    return CheckDone(shots=tuple(checked))


def _render(data: DataFolder, reel: Reel, task: Task, progress: TaskProgress) -> RenderDone:
    progress(0, what="Preparing")
    settings = settings_of(task, RenderSettings)
    # The shots are kept with the task, so that a render that resumes after a crash goes on with the same treatment.
    if settings.shots is None:
        settings = settings.model_copy(update={"shots": edits.shots_of(edits.current(reel))})
        Task.update(settings=settings.model_dump(mode="json")).where(Task.id == task.id).execute()
    shots, delivery = settings.shots or (), settings.delivery
    source = open_as_taken_in(reel)
    made = analysed_shots(data, reel, shots, source, progress.part(0, 0.05))
    parts: list[tuple[Shot | None, str]] = [(None, _delivered_name(reel, delivery, ""))]
    if delivery.part == "shots":
        parts = [(s, _delivered_name(reel, delivery, f"-{n:02d}")) for n, s in enumerate(shots, start=1) if s.use != "exclude"]
        if not parts:
            raise SweepError("Every shot is excluded, so there is nothing to deliver. Take one in again, in Intake.")
    frames = [(s.leave - s.enter) if s else len(source) for s, _ in parts]
    progress(0.05, what="Rendering")
    files = []
    for n, (part, name) in enumerate(parts):
        spec = spec_of(data, reel, task.id, shots, delivery, part)
        spec = spec.model_copy(update={"chunks": str(Path(spec.chunks) / str(n))})
        inside = [s for s in made if part is None or (s.first < part.leave and s.stop > part.enter)]
        cut = spec.cut(source.rate)
        report = make_report(source, reel.fingerprint, spec.reading, cut, delivery.kind, inside, repeats_of(data, reel))
        out = data.delivery(task.id, name)
        out.parent.mkdir(parents=True, exist_ok=True)
        if len(parts) > 1:
            progress(0.05 + 0.95 * sum(frames[:n]) / sum(frames), what=f"Rendering {n + 1} of {len(parts)}")

        def share(done: float, rate: float, n: int = n) -> None:
            progress(0.05 + 0.95 * (sum(frames[:n]) + done * frames[n]) / sum(frames), rate)

        try:
            if not out.exists():
                render(spec, out, report, share)
        except (Cancelled, SweepError):
            shutil.rmtree(data.chunks(task.id), ignore_errors=True)
            raise
        clear(spec)
        with atomic_write(out.parent / f"{out.stem}-report.json") as stream:
            stream.write(report.model_dump_json(indent=2).encode())
        files.append(DeliveredFile(name=name, bytes=size_of(out), frames=len(cut)))
    shutil.rmtree(data.chunks(task.id), ignore_errors=True)
    recipe = edits.resolved(next((s for s in shots if s.treated), shots[0]))
    with atomic_write(data.delivery(task.id, "recipe.json")) as stream:
        stream.write(recipe.model_dump_json(indent=2).encode())
    return RenderDone(file=files[0].name, files=tuple(files), bytes=sum(f.bytes for f in files), frames=sum(f.frames for f in files))


def _delivered_name(reel: Reel, delivery: Delivery, mark: str) -> str:
    form = FORMATS[delivery.kind]
    stem = re.sub(r"[^\w.() -]", "_", Path(reel.path).stem.partition("%")[0].rstrip("._-#") or reel.title)
    return f"{stem}-treated{mark}{'' if form.is_sequence else form.suffix}"


def _inspection(data: DataFolder, reel: Reel, task: Task, progress: TaskProgress) -> ComparisonDone:
    progress(0, what="Comparing every sample")
    rendered = Task.get_by_id(settings_of(task, InspectionSettings).render)
    start = time.monotonic()
    source = open_as_taken_in(reel)
    files = [f.name for f in result_of(rendered, RenderDone).every]
    results: list[Comparison] = []
    truths: list[MarkTruth] = []
    truth = truth_file(Path(reel.path))
    for n, name in enumerate(files):
        out = data.delivery(rendered.id, name)
        report = report_of(out)
        total = len(report.numbers()) if report else len(source)

        def share(done: float, n: int = n, total: int = total) -> None:
            progress((n + done) / len(files), done * total / (time.monotonic() - start))

        delivered = open_reel(out)
        results.append(compare(source, delivered, report, share))
        if truth is not None and len(files) == 1 and delivered.format.as_json()["components"] == source.format.as_json()["components"]:
            places = {int(number): at for at, number in enumerate(report.numbers() if report else range(len(source)))}
            truths = held_against(truth, source, delivered, places.get)
    return ComparisonDone(**dict(merged(results)), truth=tuple(truths))


def _papers(data: DataFolder, reel: Reel, task: Task, progress: TaskProgress) -> PapersDone:
    progress(0, what="Writing the papers")
    return PapersDone(files=tuple(papers.make(data, reel, open_as_taken_in(reel), data.papers(task.id), progress)))


_WORK: dict[str, Callable[[DataFolder, Reel, Task, TaskProgress], BaseModel]] = {
    "draw": drawing.draw,
    "intake": _intake,
    "open": _open,
    "survey": _survey,
    "analysis": _analysis,
    "track": _track,
    "trial": _trial,
    "check": _check,
    "render": _render,
    "inspection": _inspection,
    "papers": _papers,
}
