"""The papers of a reel: condition and treatment report, as JSON and as pages that carry their pictures with them."""

from __future__ import annotations

import base64
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from importlib.resources import files
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from jinja2 import Environment, PackageLoader, StrictUndefined

from ..core.base.files import atomic_write
from ..core.evidence.light_record import kept_record
from ..core.interchange import papers
from ..core.media.formats import FORMATS
from ..core.media.frames import FrameSource
from ..core.media.opening import fingerprint
from ..core.media.reel import ReelReader
from ..core.media.view import Picture, crop, jpeg, png, to_bgr
from ..core.model.findings import Finding
from ..core.model.shots import Shot, Shots
from ..core.model.tracks import TrackSummary
from ..core.pipeline.at_hand import light_path
from ..core.pipeline.confined import unconfined
from ..core.pipeline.render import treated as with_treatment
from ..core.pipeline.report import TreatedShot
from ..store import edits
from ..store.data import DataFolder
from ..store.facts import StoredFacts
from ..store.models import Reel, Task
from ..wording import numbers
from ..wording import papers as wording
from ..wording.checks import proof
from ..wording.reels import cadence
from .checks import checks_of
from .progress import Progress
from .reels import size_of, spec_of, volume_path
from .tasks import ComparisonDone, InspectionSettings, RenderDone, RenderSettings, result_of, settings_of
from .treatment import analysed_shots

# Findings of a shot that get a picture, and pixels across of pictures on a page.
_PICTURED, _WIDE = 24, 900
# Pixels around a finding, and times it is enlarged at most.
_ROUND, _LARGEST = 14, 12


@dataclass
class Pictures:
    """Pictures of a reel for its papers, as data addresses."""

    source: ReelReader
    treated: FrameSource | None

    def overview(self, shot: Shot, marks: Sequence[papers.ReportedFinding], view: str = "source") -> str:
        """The middle of a shot, with its findings numbered."""
        picture = self._frame(view, self._middle(shot))
        scale = min(1.0, _WIDE / picture.shape[1])
        picture = cv2.resize(picture, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA) if scale < 1 else picture.copy()
        for mark in marks:
            if mark.width * mark.height < 0.5 * self.source.format.width * self.source.format.height:
                _ringed(picture, mark, scale)
        return _address(jpeg(picture, 90), "jpeg")

    def part(self, number: int, box: tuple[int, int, int, int], view: str = "source") -> str:
        """What lies about a box of a frame, enlarged in whole steps."""
        x, y, width, height = box
        side = max(width, height, 12) + 2 * _ROUND
        left = min(max(0, x + width // 2 - side // 2), max(0, self.source.format.width - side))
        top = min(max(0, y + height // 2 - side // 2), max(0, self.source.format.height - side))
        picture = crop(self._of(view).frame(number), left, top, side, side)
        times = max(1, min(_LARGEST, 240 // max(picture.shape[:2])))
        if times == 1 and max(picture.shape[:2]) > 320:
            shrunk = 320 / max(picture.shape[:2])
            return _address(jpeg(cv2.resize(picture, None, fx=shrunk, fy=shrunk, interpolation=cv2.INTER_AREA), 90), "jpeg")
        return _address(png(cv2.resize(picture, None, fx=times, fy=times, interpolation=cv2.INTER_NEAREST)), "png")

    def of_finding(self, shot: Shot, mark: papers.ReportedFinding) -> str:
        """A finding in a frame that shows it."""
        number = min(max((mark.first + mark.last) // 2, shot.first), shot.stop - 1)
        return self.part(number, (mark.x, mark.y, mark.width, mark.height))

    def _of(self, view: str) -> FrameSource:
        return self.treated if view == "treated" and self.treated is not None else self.source

    def _middle(self, shot: Shot) -> int:
        return (shot.enter + shot.leave) // 2

    def _frame(self, view: str, number: int) -> Picture:
        return to_bgr(self._of(view).frame(number))


def _ringed(picture: Picture, mark: papers.ReportedFinding, scale: float) -> None:
    x, y = round((mark.x + mark.width / 2) * scale), round((mark.y + mark.height / 2) * scale)
    reach = (max(9, round(mark.width * scale / 2) + 5), max(9, round(mark.height * scale / 2) + 5))
    at = (min(x + reach[0] + 3, picture.shape[1] - 22), max(12, y - reach[1] + 4))
    for colour, thick in (((24, 24, 24), 3), ((240, 240, 240), 1)):
        cv2.ellipse(picture, (x, y), reach, 0, 0, 360, colour, thick, cv2.LINE_AA)
        cv2.putText(picture, str(mark.number), at, cv2.FONT_HERSHEY_SIMPLEX, 0.45, colour, thick, cv2.LINE_AA)


def _address(data: bytes, kind: str) -> str:
    return f"data:image/{kind};base64,{base64.b64encode(data).decode()}"


def curve(path: Path, shot: Shot) -> str:
    """The light of a shot over time as points of a line 600 wide and 60 high; empty where it was not measured."""
    record = kept_record(path)
    if record is None:
        return ""
    inside = range(max(shot.first, record.first), min(shot.stop, record.first + len(record)))
    light = np.array([float(record.light(n - record.first).mean()) for n in inside])
    if len(light) < 2:
        return ""
    low, high = float(light.min()), max(float(light.max()), float(light.min()) + 1e-6)
    across = np.linspace(0, 600, len(light))
    return " ".join(f"{x:.1f},{58 - 56 * (v - low) / (high - low):.1f}" for x, v in zip(across, light, strict=True))


def head_of(reel: Reel) -> papers.Head:
    """What both papers of a reel begin with."""
    return papers.Head(
        made_at=papers.now(),
        made_by=f"Nimbus Sweep {papers.versions()['nimbus-sweep']}",
        versions=papers.versions(),
        job=reel.job.title,
        reference=reel.job.reference,
        reel=reel.title,
        file=Path(reel.path).name,
        sha256=reel.fingerprint.split(":")[0],
        bytes=reel.size,
        frames=reel.frames,
        missing=reel.missing,
        facts=_facts(reel.facts),
    )


def _facts(facts: StoredFacts) -> dict[str, str]:
    """How the reel was read, in words."""
    lines = {
        "Picture": f"{facts.width} x {facts.height}, {facts.pixel_format}, {facts.bits} bits",
        "Coding": f"{facts.codec} in {facts.container}" if facts.container != "sequence" else f"{facts.codec}, a sequence",
        "Rate": f"{facts.rate} frames a second" + ("" if facts.constant else ", at uneven times"),
        "Colour": f"{facts.matrix}, {facts.transfer}, {'full' if facts.full_range else 'limited'} range",
        "Fields": facts.fields,
        "Pixel aspect": facts.aspect,
        "Time code": facts.time_code or "none",
        "Sound": ", ".join(f"{s.codec}, {s.channels} ch, {s.rate} Hz" for s in facts.sounds) or "none",
        "Repeated frames": f"{facts.repeated}: {cadence(facts)}" if facts.repeated else "none",
    }
    if facts.corrections:
        lines["Corrected at intake"] = "; ".join(facts.corrections)
    if facts.assumptions:
        lines["Assumed"] = "; ".join(facts.assumptions)
    return lines


def make(data: DataFolder, reel: Reel, source: ReelReader, task: Task, progress: Progress) -> list[str]:
    """Write both papers of a reel into the folder of their task; gives the names of the files.

    Raises
    ------
    SweepError
        If an analysis or a picture cannot be made.
    """
    shots = edits.shots_of(reel)
    names = ["condition.json", "condition.html", "treatment.json", "treatment.html"]
    made = {m.first: m for m in analysed_shots(data, reel, shots, source, progress.part(0, 0.3), task)}
    folder = data.papers(task.id)
    spec = spec_of(data, reel, 0, shots)
    pictures = Pictures(source, with_treatment(spec, source) if made else None)
    head = head_of(reel)
    found = [[(f.finding, f.state) for f in shot.findings] for shot in shots]
    condition = papers.ConditionReport(
        head=head, shots=tuple(wording.condition_of(n, s, f) for n, (s, f) in enumerate(zip(shots, found, strict=True), start=1))
    )
    progress(0.35)
    treatment = _treatment(data, reel, shots, found, head, made)
    progress(0.5)
    pages = {
        "condition.html": ("condition.html", condition, _condition_pictures(data, reel, shots, condition, pictures, progress)),
        "treatment.html": ("treatment.html", treatment, _treatment_pictures(shots, treatment, pictures)),
    }
    folder.mkdir(parents=True, exist_ok=True)
    written: list[tuple[str, bytes]] = [
        ("condition.json", condition.model_dump_json(indent=2).encode()),
        ("treatment.json", treatment.model_dump_json(indent=2).encode()),
    ]
    for name, (template, paper, shown) in pages.items():
        page = _templates().get_template(template).render(paper=paper, pictures=shown, fonts=_fonts(), formats=FORMATS)
        written.append((name, page.encode()))
    for name, content in written:
        with atomic_write(folder / name) as stream:
            stream.write(content)
    progress(1.0)
    return names


def _treatment(
    data: DataFolder,
    reel: Reel,
    shots: Shots,
    found: Sequence[Sequence[tuple[Finding, str]]],
    head: papers.Head,
    made: dict[int, TreatedShot],
) -> papers.TreatmentReport:
    rendered = Task.select().where(Task.reel == reel, Task.kind == "render", Task.state == "done").order_by(Task.id.desc()).first()
    files = []
    for one in result_of(rendered, RenderDone).files if rendered else ():
        path = data.delivery(rendered.id, one.name)
        if path.exists():
            files.append(papers.DeliveredFile(name=one.name, sha256=fingerprint(path), bytes=size_of(path), frames=one.frames))
    compared = next(
        (
            t
            for t in Task.select().where(Task.reel == reel, Task.kind == "inspection", Task.state == "done").order_by(Task.id.desc())
            if rendered and settings_of(t, InspectionSettings).render == rendered.id
        ),
        None,
    )
    checks = checks_of(reel, shots)
    absent = set(reel.facts.absent if reel.facts else ())
    treated = []
    for n, shot in enumerate(shots):
        shot_made = made.get(shot.enter) if shot.treated else None
        known = iter([] if shot_made is None else [_figures_of(k) for k in shot_made.knowledge])
        recipe = edits.resolved(shot)
        steps = tuple(
            wording.reported_step(k, step, next(known, {}) if step.on and shot_made else {}) for k, step in enumerate(recipe.steps, start=1)
        )
        states = [state for _, state in found[n]]
        untreated = len(edits.kept(shot)) - len(edits.mended(shot))
        gone = len([f for f in absent if shot.first <= f < shot.stop])
        treated.append(
            papers.ShotTreatment(
                number=n + 1,
                name=shot.name or f"Shot {n + 1}",
                enter=shot.enter,
                leave=shot.leave - 1,
                use=shot.use,
                steps=steps,
                tracks=tuple(_track(t.name, t.model, t.summary()) for t in recipe.tracks),
                check=checks[n],
                verdict=shot.verdict,
                judged_by=shot.judged_by,
                remark=shot.remark,
                could_not=tuple(wording.left_undone(shot, states, untreated, gone)),
            )
        )
    return papers.TreatmentReport(
        head=head,
        shots=tuple(treated),
        delivery=FORMATS[settings_of(rendered, RenderSettings).delivery.kind].title if rendered else "",
        files=tuple(files),
        proof=_proof(compared) if compared else None,
        recipes=tuple(m.recipe for m in made.values()),
    )


def _proof(compared: Task) -> papers.Proof:
    result = result_of(compared, ComparisonDone)
    return proof(result, result.truth)


def _figures_of(known: Any) -> dict[str, Any]:
    inner = unconfined(known)
    return dict(getattr(inner, "told", None) or {})


def _track(name: str, model: str, held: TrackSummary) -> str:
    return f"{name} ({model}): held in {held.held} of {held.frames} frames" if held.frames else f"{name} ({model}): not followed"


def _condition_pictures(
    data: DataFolder, reel: Reel, shots: Shots, paper: papers.ConditionReport, pictures: Pictures, progress: Callable[[float], None]
) -> dict[str, Any]:
    shown: dict[str, Any] = {}
    for n, (shot, condition) in enumerate(zip(shots, paper.shots, strict=True)):
        kept = [f for f in condition.findings if f.state == "kept"]
        local = [f for f in kept if f.width * f.height < 0.5 * pictures.source.format.width * pictures.source.format.height]
        shown[f"{n}"] = pictures.overview(shot, kept)
        shown[f"{n}.light"] = curve(light_path(volume_path(data, reel, shot.first, shot.stop)), shot)
        for mark in local[:_PICTURED]:
            shown[f"{n}.{mark.number}"] = pictures.of_finding(shot, mark)
        progress(0.5 + 0.3 * (n + 1) / len(shots))
    return shown


def _treatment_pictures(shots: Shots, paper: papers.TreatmentReport, pictures: Pictures) -> dict[str, Any]:
    shown: dict[str, Any] = {}
    for n, (shot, treatment) in enumerate(zip(shots, paper.shots, strict=True)):
        if not shot.treated:
            continue
        for view in ("source", "treated"):
            shown[f"{n}.{view}"] = pictures.overview(shot, (), view)
        for k, place in enumerate(treatment.check.worst if treatment.check else ()):
            box = (place.x, place.y, place.width, place.height)
            shown[f"{n}.{k}"] = [pictures.part(place.frame, box, view) for view in ("source", "treated")]
    return shown


@lru_cache(maxsize=1)
def _templates() -> Environment:
    templates = Environment(
        loader=PackageLoader("nimbus_sweep.jobs"), autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    templates.filters.update(numbers.FILTERS)
    return templates


@lru_cache(maxsize=1)
def _fonts() -> dict[str, str]:
    folder = files("nimbus_sweep") / "web" / "static" / "fonts"
    names = {"words": "barlow-semi-condensed-400", "bold": "barlow-semi-condensed-600", "numbers": "source-code-pro-400"}
    return {key: base64.b64encode((folder / f"{name}.woff2").read_bytes()).decode() for key, name in names.items()}
