"""Treatments, keys, recipes, rendering and the comparison, on a small real reel."""

from __future__ import annotations

import json
import os
from pathlib import Path

import numpy as np
import pytest
from pydantic import ValidationError
from skimage.metrics import peak_signal_noise_ratio

from benchmarks.material import psnr
from nimbus_sweep.core.base.errors import Cancelled, ChangedReel, SweepError
from nimbus_sweep.core.evidence.light_record import kept_record, record
from nimbus_sweep.core.evidence.shot_evidence import ShotEvidence
from nimbus_sweep.core.evidence.summary import Summary, SummaryMaker
from nimbus_sweep.core.evidence.time_volume import TimeVolume, VolumeWriter, build_volume, kept_volume, sample_numbers
from nimbus_sweep.core.media.opening import fingerprint
from nimbus_sweep.core.media.reader import MovieReader
from nimbus_sweep.core.media.reel import Reading
from nimbus_sweep.core.media.view import Proxy, ProxyMaker, difference, jpeg, to_bgr
from nimbus_sweep.core.media.writer import Cut
from nimbus_sweep.core.model.recipes import Recipe, Step, read_recipe
from nimbus_sweep.core.pipeline import render as rendering
from nimbus_sweep.core.pipeline.analyses import Analyses, analysis_key, chain
from nimbus_sweep.core.pipeline.comparison import compare, report_of
from nimbus_sweep.core.pipeline.render import RenderedShot, RenderSpec, clear, plan, render
from nimbus_sweep.core.pipeline.report import Report, ReportedRegion, TreatedShot, make_report
from nimbus_sweep.core.pipeline.suggestions import suggested
from nimbus_sweep.core.pipeline.survey import Finding, survey
from tests.conftest import SITES, decoded, small, write_movie

MEND = Step(kind="pixel-mend", settings={"sites": [{"x": s.x, "y": s.y, "width": s.size, "height": s.size} for s in SITES]})


def prepared(tmp_path: Path, reel: Path, recipe: Recipe | None = None, shot: tuple[int, int] | None = None) -> tuple[RenderSpec, Report]:
    recipe = recipe or Recipe(steps=(MEND,))
    source = MovieReader(reel)
    first, stop = shot or (0, len(source))
    analyses = Analyses(tmp_path / "analyses", fingerprint(reel), first, stop)
    known = analyses.make(recipe, source, lambda: build_volume(tmp_path / "volume.bin", source, first=first, stop=stop))
    treated = TreatedShot("Shot 1", first, stop, recipe, [], known)
    report = make_report(source, fingerprint(reel), Reading(), Cut(0, len(source)), "ffv1", [treated])
    stat = reel.stat()
    spec = RenderSpec(
        reel=str(reel),
        fingerprint=fingerprint(reel),
        size=stat.st_size,
        modified=stat.st_mtime_ns,
        shots=(RenderedShot(first=first, stop=stop, span=(first, stop), recipe=recipe),),
        first=0,
        stop=len(source),
        analyses=str(analyses.folder),
        chunks=str(tmp_path / "chunks"),
    )
    return spec, report


@pytest.mark.slow
def test_a_render_is_the_preview_and_proves_it(tmp_path: Path, reel: Path, clean, spoiled) -> None:
    spec, report = prepared(tmp_path, reel)
    shares: list[float] = []
    out = tmp_path / "out.mkv"
    render(spec, out, report, lambda share, _rate: shares.append(share))
    assert shares == sorted(shares)
    assert shares[-1] == 1
    source, treated = MovieReader(reel), MovieReader(out)
    known = Analyses(tmp_path / "analyses", fingerprint(reel), 0, len(source)).load(Recipe(steps=(MEND,)), source.format)
    preview = chain(source, known, 0, len(source))
    for n in range(len(source)):
        assert all(np.array_equal(a, b) for a, b in zip(preview.frame(n).planes, treated.frame(n).planes, strict=True))
    result = compare(source, treated, report_of(out))
    assert result.proven
    assert result.outside == 0
    assert 0 < result.differing < 0.02 * result.samples
    assert result.changed_frames == ((0, 29),)
    assert result.sound_identical
    mended = [treated.frame(n).planes for n in range(len(treated))]
    assert psnr(clean.pictures, mended, spoiled[1]) > psnr(clean.pictures, spoiled[0].pictures, spoiled[1]) + 15


def test_psnr_is_scikit_image_s(clean, spoiled) -> None:
    # Outside reference: scikit-image 0.26, metrics.peak_signal_noise_ratio.
    everywhere = tuple(np.ones(p.shape, bool) for p in clean.pictures[0])
    one = np.concatenate([p.ravel() for planes in clean.pictures for p in planes])
    other = np.concatenate([p.ravel() for planes in spoiled[0].pictures for p in planes])
    assert psnr(clean.pictures, spoiled[0].pictures, everywhere) == pytest.approx(peak_signal_noise_ratio(one, other, data_range=255))


@pytest.mark.slow
def test_a_change_outside_is_found(tmp_path: Path, reel: Path, spoiled) -> None:
    _, report = prepared(tmp_path, reel)
    pictures = [tuple(p.copy() for p in planes) for planes in spoiled[0].pictures]
    pictures[4][0][5, 7] ^= 1
    pictures[9][1][2, 3] ^= 3
    other = write_movie(tmp_path / "tampered.mkv", spoiled[0].over(pictures), sound=True)
    result = compare(MovieReader(reel), MovieReader(other), report)
    assert (result.differing, result.outside, result.proven) == (2, 2, False)
    assert result.changed_frames == (
        (4, 4),
        (9, 9),
    )
    assert result.box == (6, 4, 8, 6)
    assert compare(MovieReader(reel), MovieReader(other), None).proven is False
    silent = write_movie(tmp_path / "silent.mkv", spoiled[0])
    assert compare(MovieReader(reel), MovieReader(silent), report).sound_identical is False
    with pytest.raises(SweepError, match="not the same reel"):
        compare(MovieReader(reel), MovieReader(write_movie(tmp_path / "short.mkv", small(12))), report)
    with pytest.raises(SweepError, match="cannot be compared"):
        compare(MovieReader(reel), MovieReader(write_movie(tmp_path / "wide.mkv", small(30, width=176))), report)


@pytest.mark.slow
def test_only_the_shot_is_treated(tmp_path: Path, reel: Path) -> None:
    spec, report = prepared(tmp_path, reel, shot=(10, 22))
    render(spec, tmp_path / "out.mkv", report)
    result = compare(MovieReader(reel), MovieReader(tmp_path / "out.mkv"), report)
    assert result.changed_frames == ((10, 21),)
    assert result.proven


@pytest.fixture
def short_chunks(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(rendering, "CHUNK_FRAMES", 8)


@pytest.mark.slow
def test_a_render_goes_on_behind_the_chunks_that_are_there(tmp_path: Path, reel: Path, short_chunks: None) -> None:
    spec, report = prepared(tmp_path, reel)
    render(spec, tmp_path / "whole.mkv", report)
    chunks = sorted(Path(spec.chunks).glob("*.mkv"))
    assert len(chunks) == 4
    chunks[1].unlink()
    (Path(spec.chunks) / ".00000024-00000030.mkv.part").write_bytes(b"half")
    kept = {p: p.stat().st_mtime_ns for p in chunks if p.exists()}
    render(spec, tmp_path / "again.mkv", report)
    assert {p: p.stat().st_mtime_ns for p in kept} == kept, "whole chunks are not rendered again"
    assert all(np.array_equal(a, b) for a, b in zip(decoded(tmp_path / "whole.mkv"), decoded(tmp_path / "again.mkv"), strict=True))
    clear(spec)
    assert not Path(spec.chunks).exists()


def test_stopping_leaves_no_file(tmp_path: Path, reel: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    spec, report = prepared(tmp_path, reel)

    def stop(share: float, _rate: float) -> None:
        if share > 0.3:
            raise Cancelled

    monkeypatch.setattr(rendering.time, "monotonic", iter(range(10_000)).__next__)
    with pytest.raises(Cancelled):
        render(spec, tmp_path / "out.mkv", report, stop)
    assert not (tmp_path / "out.mkv").exists()
    assert not list(tmp_path.glob("chunks/*.part"))


@pytest.mark.slow
def test_several_processes_give_the_same(tmp_path: Path, reel: Path, short_chunks: None) -> None:
    spec, report = prepared(tmp_path, reel)
    assert len(plan(MovieReader(reel), Cut(0, 30), 3)) == 3
    render(spec, tmp_path / "many.mkv", report, workers=2)
    clear(spec)
    render(spec, tmp_path / "one.mkv", report, workers=1)
    assert all(np.array_equal(a, b) for a, b in zip(decoded(tmp_path / "many.mkv"), decoded(tmp_path / "one.mkv"), strict=True))


def test_stretches_begin_at_key_frames(tmp_path: Path) -> None:
    path = write_movie(tmp_path / "long.mp4", small(40), "libx264", options={"g": "10", "sc_threshold": "0", "bf": "0"})
    reader = MovieReader(path)
    assert reader.key_frames == [0, 10, 20, 30]
    one_key = MovieReader(write_movie(tmp_path / "one.mp4", small(40), "libx264", options={"g": "900", "sc_threshold": "0"}))
    assert len(plan(one_key, Cut(0, 40), 4)) == 1, "a single key frame is decoded by a single process"


def test_the_wrong_file_is_refused(tmp_path: Path, reel: Path) -> None:
    spec, report = prepared(tmp_path, reel)
    with pytest.raises(ChangedReel, match="Nothing was computed"):
        render(spec.model_copy(update={"size": spec.size + 1}), tmp_path / "out.mkv", report)
    reel.unlink()
    with pytest.raises(ChangedReel, match="is gone"):
        render(spec, tmp_path / "out.mkv", report)
    assert not (tmp_path / "out.mkv").exists()


def test_keys_change_with_what_they_depend_on() -> None:
    other = Step(kind="pixel-mend", settings={"sites": [{"x": 1, "y": 1}]})
    off = MEND.model_copy(update={"on": False})
    keys = {
        analysis_key("f", 0, 9, [MEND]),
        analysis_key("g", 0, 9, [MEND]),
        analysis_key("f", 1, 9, [MEND]),
        analysis_key("f", 0, 8, [MEND]),
        analysis_key("f", 0, 9, [other]),
        analysis_key("f", 0, 9, [other, MEND]),
    }
    assert len(keys) == 6
    assert analysis_key("f", 0, 9, [off, MEND]) == analysis_key("f", 0, 9, [MEND]), "a step that is off changes nothing"


@pytest.mark.slow
def test_an_analysis_is_made_once(tmp_path: Path, reel: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    source = MovieReader(reel)
    volume = build_volume(tmp_path / "volume.bin", source)
    analyses = Analyses(tmp_path / "a", "print", 0, len(source))
    recipe = Recipe(steps=(MEND, MEND))
    assert not analyses.ready(recipe)
    analyses.make(recipe, source, lambda: volume)
    assert analyses.ready(recipe)
    times = {p: p.stat().st_mtime_ns for p in analyses.folder.iterdir()}
    assert len(times) == 2
    analyses.make(recipe, source, lambda: volume)
    assert {p: p.stat().st_mtime_ns for p in analyses.folder.iterdir()} == times


def test_recipes_round_trip_and_are_checked(tmp_path: Path) -> None:
    recipe = Recipe(name="Mast camera", steps=(MEND, Step(kind="pixel-mend", on=False)))
    path = tmp_path / "recipe.json"
    path.write_text(recipe.model_dump_json())
    assert read_recipe(path) == recipe
    assert [s.kind for s in recipe.active] == ["pixel-mend"]
    assert not recipe.needs_survey
    assert Recipe(steps=(Step(kind="pixel-mend"),)).needs_survey
    for text, said in (
        ("{", "not a usable recipe"),
        (json.dumps({"steps": [{"kind": "polish"}]}), "no step called 'polish'"),
        (json.dumps({"version": 9}), "version"),
        (json.dumps({"steps": [{"kind": "pixel-mend", "settings": {"sites": [{"x": -1, "y": 2}]}}]}), "greater than or equal to 0"),
        (json.dumps({"steps": [{"kind": "pixel-mend", "settings": {"colour": "red"}}]}), "not permitted"),
    ):
        path.write_text(text)
        with pytest.raises(SweepError, match=said):
            read_recipe(path)
    with pytest.raises(SweepError, match="cannot be read"):
        read_recipe(tmp_path / "none.json")
    with pytest.raises(ValidationError):
        Step(kind="pixel-mend", settings={"sure": 2})


@pytest.mark.slow
def test_a_survey_suggests_and_settles(tmp_path: Path, reel: Path) -> None:
    source = MovieReader(reel)
    found = survey(ShotEvidence(build_volume(tmp_path / "volume.bin", source), 0, len(source))).findings
    recipe = suggested(found)
    assert [s.kind for s in recipe.steps] == ["pixel-mend"]
    sites = recipe.resolved(found).steps[0].settings.sites
    assert {(s.x, s.y) for s in sites} == {(s.x, s.y) for s in SITES}
    assert suggested([]).steps == ()
    doubtful = Finding(kind="stuck-pixel", step="pixel-mend", x=1, y=1, width=1, height=1, first=0, stop=9, confidence=0.4)
    assert suggested([doubtful]).steps == ()


def test_regions_pack_and_unpack() -> None:
    places = np.sort(np.random.default_rng(2).choice(10**8, 5000, replace=False))
    packed = ReportedRegion.of("Y", 0, 9, places)
    assert np.array_equal(ReportedRegion.model_validate_json(packed.model_dump_json()).unpacked(), places)
    assert packed.samples == 5000


def test_the_volume_holds_native_frames(tmp_path: Path, reel: Path) -> None:
    source = MovieReader(reel)
    volume = build_volume(tmp_path / "volume.bin", source, most=10)
    assert len(volume.numbers) == 10
    assert (volume.numbers[0], volume.numbers[-1]) == (0, 29)
    for n in volume.numbers:
        assert all(np.array_equal(a, b) for a, b in zip(volume.frame(int(n)).planes, source.frame(int(n)).planes, strict=True))
    assert [f.number for f in TimeVolume(tmp_path / "volume.bin").frames(5, 20)] == [int(n) for n in volume.numbers if 5 <= n < 20]
    assert len(sample_numbers(0, 100_000, 3_000_000)) == 160
    assert len(sample_numbers(0, 5, 3_000_000)) == 5


def test_a_volume_holds_the_frames_that_came_and_a_damaged_one_is_dropped(tmp_path: Path, reel: Path) -> None:
    source, path = MovieReader(reel), tmp_path / "volume.bin"
    writer = VolumeWriter(path, source, np.arange(10))
    for frame in source.frames(0, 7):
        writer.add(frame)
    assert list(writer.finish().numbers) == list(range(7))
    assert kept_volume(path) is not None
    for spoil in (lambda: os.truncate(path, 1000), lambda: path.write_bytes(b""), lambda: path.with_suffix(".json").write_text("{}")):
        build_volume(path, source, most=4)
        spoil()
        assert kept_volume(path) is None
        assert not path.exists()
    assert kept_volume(path) is None


def test_a_damaged_light_record_is_dropped(tmp_path: Path, reel: Path) -> None:
    source, path = MovieReader(reel), tmp_path / "shot.light"
    record(path, source)
    assert kept_record(path) is not None
    os.truncate(path, 100)
    assert kept_record(path) is None
    assert not path.exists()


def test_a_damaged_analysis_is_made_again(tmp_path: Path, reel: Path) -> None:
    source, recipe = MovieReader(reel), Recipe(steps=(MEND,))
    analyses = Analyses(tmp_path / "analyses", "abc", 0, len(source))

    def volume() -> TimeVolume:
        return build_volume(tmp_path / "volume.bin", source)

    whole = analyses.make(recipe, source, volume)[0]
    path = analyses.path(recipe.active)
    for damaged in (path.read_bytes()[:50], b"", b"no archive"):
        path.write_bytes(damaged)
        with pytest.raises(FileNotFoundError):
            analyses.load(recipe, source.format)
        path.write_bytes(damaged)
        again = analyses.make(recipe, source, volume)[0]
        assert np.array_equal(again.apply(source, 0, 5).frame(3).planes[0], whole.apply(source, 0, 5).frame(3).planes[0])


def test_the_proxy_and_the_summary(tmp_path: Path, reel: Path) -> None:
    source = MovieReader(reel)
    proxy, summary = ProxyMaker(tmp_path / "p.jpegs"), SummaryMaker()
    for frame in source.frames(0, len(source)):
        proxy.add(jpeg(to_bgr(frame)))
        summary.add(frame)
    held = proxy.finish()
    assert len(Proxy(tmp_path / "p.jpegs")) == 30
    import cv2

    back = cv2.imdecode(np.frombuffer(held.jpeg(7), np.uint8), cv2.IMREAD_COLOR)
    assert np.abs(back.astype(int) - to_bgr(source.frame(7))).mean() < 4
    summary.finish().save(tmp_path / "s.npz")
    told = Summary.load(tmp_path / "s.npz")
    assert told.light[3] == pytest.approx(source.frame(3).planes[0].mean() / 255, abs=1e-3)
    assert told.rows.shape == (30, 64)
    one = to_bgr(source.frame(0))
    assert difference(one, one, 8).max() == 0
    assert difference(one, 255 - one, 1).max() > 100
