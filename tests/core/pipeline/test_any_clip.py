"""Whatever the footage, no detector and no step fails: clips of all sizes, lengths, formats and contents, drawn at random."""

from __future__ import annotations

import tempfile
import warnings
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import cv2
import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from benchmarks.material import MemorySource
from nimbus_sweep.core.base.errors import SweepError
from nimbus_sweep.core.evidence.frames_at_hand import Span
from nimbus_sweep.core.evidence.light_record import record
from nimbus_sweep.core.evidence.shot_evidence import ShotEvidence
from nimbus_sweep.core.evidence.time_volume import build_volume
from nimbus_sweep.core.media.frames import Component, Frame, PictureFormat, blank
from nimbus_sweep.core.media.layout import picture_format
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.model.regions import box_region
from nimbus_sweep.core.model.registry import STEPS
from nimbus_sweep.core.pipeline.analyses import Analyses, chain
from nimbus_sweep.core.pipeline.survey import survey

CONTENTS = (
    "black",
    "white",
    "one code",
    "noise",
    "a still",
    "moving",
    "one component flat",
    "a cut",
    "half black",
    "frames missing",
    "not numbers",
)
FORMATS = ("yuv420p", "yuv422p10le", "yuv444p", "gbrp", "gbrp16le", "gray", "gray16le", "gbrpf16le", "gbrpf32le")
SIZES = ((17, 9), (16, 16), (40, 70), (96, 54))


@dataclass
class Drawn(MemorySource):
    """A clip, some of whose frames may be missing."""

    gone: frozenset[int] = frozenset()

    def frame(self, number: int) -> Frame:
        """Frame `number`, or what stands for it."""
        return blank(number, self.format, self.colour) if number in self.gone else super().frame(number)


def plane_of(content: str, shape: tuple[int, int], top: int, frame: int, index: int, rng: np.random.Generator) -> np.ndarray:
    """A component in codes of 0 to `top`."""
    texture = cv2.resize(rng.random((12, 12)), (shape[1] + 64, shape[0] + 64), interpolation=cv2.INTER_CUBIC)
    at = {"moving": 3 * frame, "half black": 2 * frame, "a cut": 40 * (frame // 3), "frames missing": 2 * frame}.get(content, 5) % 60
    picture = texture[at : at + shape[0], at : at + shape[1]] * 0.8 + 0.1
    if content == "one component flat" and index == 0:
        picture = np.full(shape, 0.4)
    if content in ("black", "white", "one code"):
        picture = np.full(shape, {"black": 0.0, "white": 1.0, "one code": 0.37}[content])
    if content == "noise":
        picture = np.random.default_rng(1000 * frame + index).random(shape)
    if content == "half black":
        picture[:, : shape[1] // 2] = 0
    return np.clip(picture, 0, 1) if top == 1 else np.clip(np.rint(picture * top), 0, top)


def of_floats(name: str, width: int, height: int) -> PictureFormat:
    """How a sequence of floating point pictures is held."""
    bits = 16 if "16" in name else 32
    components = tuple(Component(n, i, 0, 1, width, height, bits, floating=True) for i, n in enumerate("GBR"))
    return PictureFormat(name, width, height, components, ((height, width),) * 3, np.dtype(f"f{bits // 8}"))


@st.composite
def clips(draw: st.DrawFn) -> Drawn:
    """A clip of 1 to 8 frames."""
    name, (width, height) = draw(st.sampled_from(FORMATS)), draw(st.sampled_from(SIZES))
    content, count, seed = draw(st.sampled_from(CONTENTS)), draw(st.integers(1, 8)), draw(st.integers(0, 99))
    layout = of_floats(name, width, height) if "f" in name else picture_format(name, width, height)
    pictures = [_planes(layout, content, n, seed) for n in range(count)]
    gone = frozenset(range(0, count, 3)) if content == "frames missing" and count > 1 else frozenset()
    return Drawn(pictures, layout, gone=gone)


def _planes(layout: PictureFormat, content: str, frame: int, seed: int) -> tuple[np.ndarray, ...]:
    planes = [np.zeros(shape, layout.dtype) for shape in layout.plane_shapes]
    for i, c in enumerate(layout.components):
        rng = np.random.default_rng(seed + 7 * i)
        top = 1 if c.floating else (1 << c.bits) - 1
        planes[c.plane][...] = plane_of(content, planes[c.plane].shape, top, frame, i, rng).astype(layout.dtype)
    if content == "not numbers" and layout.dtype.kind == "f":
        for plane, value in zip(planes, (np.nan, np.inf, -np.inf), strict=False):
            plane[frame % plane.shape[0], ::3] = value
    return tuple(planes)


EXAMPLES = settings(deadline=None, derandomize=True, suppress_health_check=list(HealthCheck), print_blob=True)


def all_evidence(source: MemorySource, folder: Path) -> ShotEvidence:
    """What a survey looks at."""
    volume, light = build_volume(folder / "volume.bin", source), record(folder / "light", source)
    usable = np.array([n for n in range(len(source)) if not source.frame(n).missing], np.int64)
    span = Span.of(source, 0, len(source), usable)
    return ShotEvidence(volume, 0, len(source), light=light, frames=span, scratch=folder / "steadied.bin")


@pytest.mark.slow
@settings(EXAMPLES, max_examples=25)
@given(clips())
def test_every_detector_answers(source: MemorySource) -> None:
    with tempfile.TemporaryDirectory() as folder, warnings.catch_warnings():
        # What NumPy only warns of, an empty mean or a division by nothing, is a fault here.
        warnings.simplefilter("error", RuntimeWarning)
        told = survey(all_evidence(source, Path(folder)))
    assert not [note for note in told.notes if note.code == "failed"]
    numbers = [v for f in told.findings for v in (f.confidence, f.x, f.y, f.width, f.height)]
    assert np.isfinite(numbers).all()


@pytest.mark.slow
@settings(EXAMPLES, max_examples=30)
@given(clips(), st.sampled_from([k for k, kind in STEPS.items() if kind.kind != "retouch"]))
def test_every_step_treats_or_says_why_not(source: MemorySource, kind: str) -> None:
    count, (width, height) = len(source), (source.format.width, source.format.height)
    region = box_region(width // 4, height // 4, max(2, width // 3), max(2, height // 3)) if STEPS[kind].needs_region else None
    with tempfile.TemporaryDirectory() as name, warnings.catch_warnings():
        warnings.simplefilter("error", RuntimeWarning)
        folder = Path(name)
        recipe = Recipe(steps=(Step.new(kind, region=region),)).resolved(())
        usable = np.array([n for n in range(count) if not source.frame(n).missing], np.int64)
        try:
            known = Analyses(folder, "any", 0, count).make(
                recipe,
                source,
                partial(build_volume, folder / "volume.bin", source),
                None,
                partial(record, folder / "light", source),
                usable,
            )
        except SweepError:
            # Said in words: too short, too small, nothing to go by.
            return
        for before, after in zip(source.frames(0, count), chain(source, known, 0, count).frames(0, count), strict=True):
            assert [p.shape for p in after.planes] == [p.shape for p in before.planes] or STEPS[kind].whole_picture
            assert all(p.dtype == source.format.dtype for p in after.planes)
            assert after.missing == before.missing
