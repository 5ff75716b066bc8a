"""What is sent to do harm: bombs, endless nesting, numbers and characters that are none. It is refused in words and the server lives."""

from __future__ import annotations

import io
import json
import zipfile
import zlib
from collections.abc import Iterator

import pytest

from nimbus_sweep.store.models import Job, Reel
from tests.conftest import small, write_movie
from tests.web.conftest import ASKED, Desk


@pytest.fixture
def reel(desk: Desk) -> Iterator[int]:
    number = desk.take_in(write_movie(desk.services.allowed[0] / "reel.mkv", small(12)))
    yield number
    desk.services.apart.end()


def bomb(width: int, height: int) -> bytes:
    """A PNG of few bytes and very many pixels (PNG, third edition, W3C 2025: chunks IHDR, IDAT, IEND)."""

    def chunk(kind: bytes, body: bytes) -> bytes:
        return len(body).to_bytes(4, "big") + kind + body + zlib.crc32(kind + body).to_bytes(4, "big")

    head = width.to_bytes(4, "big") + height.to_bytes(4, "big") + bytes([8, 2, 0, 0, 0])
    packer = zlib.compressobj(9)
    row = bytes(1 + 3 * width)
    body = b"".join(packer.compress(row) for _ in range(min(height, 2000))) + packer.flush()
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", body) + chunk(b"IEND", b"")


def lives(desk: Desk, reel: int) -> None:
    assert desk.client.get(f"/reels/{reel}/pulse").status_code == 200


@pytest.mark.parametrize("what", ["otio", "edl"])
def test_lists_that_nest_without_end_are_refused(desk: Desk, reel: int, what: str) -> None:
    text = '{"OTIO_SCHEMA": "Timeline.1", "tracks": ' + "[" * 100_000
    answer = desk.post(f"/reels/{reel}/cut-list", {"text": text, "name": f"cuts.{what}"})
    assert answer.status_code == 422
    assert "cannot be read" in answer.get_json()["error"] or "no event" in answer.get_json()["error"]
    lives(desk, reel)


def test_a_clip_without_a_range_is_refused_in_words(desk: Desk, reel: int) -> None:
    clip = {"OTIO_SCHEMA": "Clip.2", "name": "a", "source_range": None, "media_references": {}, "active_media_reference_key": "none"}
    track = {"OTIO_SCHEMA": "Track.1", "kind": "Video", "name": "v", "children": [clip], "source_range": None}
    stack = {"OTIO_SCHEMA": "Stack.1", "name": "tracks", "children": [track], "source_range": None}
    text = json.dumps({"OTIO_SCHEMA": "Timeline.1", "name": "t", "tracks": stack, "global_start_time": None})
    answer = desk.post(f"/reels/{reel}/cut-list", {"text": text, "name": "cuts.otio"})
    assert answer.status_code == 422
    assert "Save it again" in answer.get_json()["error"] or "Export it again" in answer.get_json()["error"]


def test_pictures_of_very_many_pixels_are_refused(desk: Desk, reel: int) -> None:
    desk.post(f"/reels/{reel}/steps", {"kind": "plate-patch"})
    for url in (f"/reels/{reel}/steps/0/plates/0/picture", f"/reels/{reel}/steps/0/region/mask"):
        answer = desk.client.post(url, data=bomb(30_000, 30_000), headers=ASKED)
        assert answer.status_code == 422, url
    lives(desk, reel)


def test_an_archive_with_a_swollen_manifest_is_refused(desk: Desk, reel: int) -> None:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("manifest.json", b'{"format": "nimbus-sweep job", "title": "' + b"a" * (400 << 20) + b'"}')
    answer = desk.client.post("/jobs/archive?name=job.zip", data=packed.getvalue(), headers=ASKED)
    assert answer.status_code == 422
    assert "manifest" in answer.get_json()["error"]
    assert Job.select().count() == 1
    lives(desk, reel)


def test_a_recipe_of_very_many_steps_is_refused_at_once(desk: Desk, reel: int) -> None:
    recipe = {"format": "nimbus-sweep recipe", "version": 1, "steps": [{"kind": "pixel-mend"}] * 20_000}
    answer = desk.post(f"/reels/{reel}/recipe", recipe)
    assert answer.status_code == 422
    assert "steps" in answer.get_json()["error"]


def test_numbers_and_characters_that_are_none_are_refused(desk: Desk, reel: int) -> None:
    asked = {"Accept": "application/json"}
    for url in (f"/reels/{2**63}", f"/reels/{10**30}/state", f"/deliveries/{2**64}/file/0"):
        assert desk.client.get(url, headers=asked).status_code == 404, url
    assert desk.post(f"/tasks/{2**63}/cancel").status_code == 404
    deep = ("[" * 50_000 + "]" * 50_000).encode()
    for url in (f"/reels/{reel}/findings/0/set", f"/reels/{reel}/recipe", f"/reels/{reel}/cuts"):
        answer = desk.client.post(url, data=b'{"a": ' + deep + b"}", headers={**ASKED, "Content-Type": "application/json"})
        assert 400 <= answer.status_code < 500, url
    answer = desk.client.post(
        f"/reels/{reel}/rename", data=b'{"title": "\\ud800", "name": "\\ud800"}', headers={**ASKED, "Content-Type": "application/json"}
    )
    assert 400 <= answer.status_code < 500
    lives(desk, reel)


def test_names_in_any_script_are_saved_under(desk: Desk, reel: int) -> None:
    name = 'wetter \u5929\u6c17 \u00e9t\u00e9 "9"\n.mkv'
    path = write_movie(desk.services.allowed[0] / "plain.mkv", small(12))
    odd = path.rename(path.with_name(name))
    number = desk.take_in(odd)
    assert Reel.get_by_id(number).state == "ready"
    answer = desk.client.get(f"/reels/{number}/cuts.edl")
    assert answer.status_code == 200
    told = answer.headers["Content-Disposition"]
    assert "filename*=UTF-8''" in told
    assert "\n" not in told
