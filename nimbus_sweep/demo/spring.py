"""The demo's second job: ten short reels, made to be run while nobody looks. Three are sound, most are sure, a few are not."""

from __future__ import annotations

from .reels import DemoReel
from .shade import sprinkle
from .station import HEIGHT, WIDTH

_LOSSLESS = (("qp", "0"), ("preset", "ultrafast"))
_CAMERA = (("crf", "10"), ("preset", "ultrafast"))
_HALF = (HEIGHT // 2, WIDTH // 2)


def _reel(file: str, title: str, frames: int, seed: int, stuck: int = 0, moving: bool = True, dust: int = 0, **more: object) -> DemoReel:
    """A reel of half the size, with stuck pixels and dust if any are wanted."""
    marks = tuple(sprinkle(_HALF, dust, seed, largest=14, depth=(0.3, 0.6))) if dust else ()
    options = _LOSSLESS if file.endswith(".mkv") else _CAMERA
    sound = "pcm_s16le" if file.endswith(".mkv") else "aac"
    return DemoReel(file, title, "libx264", options, sound, frames, stuck, seed, moving, marks, halved=True, **more)  # type: ignore[arg-type]


REELS = (
    _reel("reel-20-north-face.mkv", "Reel 20, north face", 60, 41, stuck=6),
    _reel("reel-21-cable.mp4", "Reel 21, along the cable", 60, 42, stuck=4),
    _reel("reel-22-path.mkv", "Reel 22, the path", 48, 43),
    _reel("reel-23-heather.mkv", "Reel 23, over the heather", 72, 44, dust=5),
    _reel("reel-24-bay.mp4", "Reel 24, the bay", 40, 45, moving=False),
    _reel("reel-25-squall.mkv", "Reel 25, a squall in time lapse", 60, 46, moving=False, light="breathes"),
    _reel("reel-26-shutter.mkv", "Reel 26, high rate by the mast", 60, 47, moving=False, light="strobes", rate=200),
    _reel("reel-27-two-faults.mkv", "Reel 27, two faults at once", 72, 48, stuck=5, dust=4),
    _reel("reel-28-return.mkv", "Reel 28, the way back", 48, 49),
    _reel("reel-29-post.mp4", "Reel 29, the post, camera standing", 40, 50, stuck=5, moving=False),
)

DRAWN = {reel.file: reel for reel in REELS}
