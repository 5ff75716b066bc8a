"""The demo's jobs: what they are called, and their reels in the order they stand on the rack.

What draws them is brought in only when one is drawn: the list is read before the first page answers.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path


@dataclass(frozen=True)
class DemoJob:
    """A job of the demo: its title, the customer's reference, and notes."""

    title: str
    reference: str
    notes: str


ARCHIVE = DemoJob(
    "Skerrow Point weather station, film and camera archive",
    "SKP 1958-61",
    "Lossless copies for the archive; the edit also for the open day. Nothing may be cropped.",
)
SPRING = DemoJob(
    "Skerrow Point weather station, spring round", "SKP 1962", "Ten short reels of one morning. Press Run and come back later."
)


@dataclass(frozen=True)
class Listed:
    """A demo reel on the list.

    Attributes
    ----------
    file, title : str
    frames : int
    module : str
        Of this package, which has it in its ``DRAWN`` by its file.
    job : DemoJob
    """

    file: str
    title: str
    frames: int
    module: str
    job: DemoJob = ARCHIVE

    def draw(self, folder: Path, on_progress: Callable[[float], None]) -> Path:
        """Draw it into `folder`, with its truth beside it; told the share done, 0 to 1, which may raise to stop."""
        folder.mkdir(parents=True, exist_ok=True)
        path: Path = import_module(f".{self.module}", __package__).DRAWN[self.file].draw(folder, on_progress)
        return path


ALL = (
    Listed("reel-01-headland-pan.mkv", "Reel 01, headland pan", 144, "reels"),
    Listed("reel-02-instruments.mp4", "Reel 02, instruments", 120, "reels"),
    Listed("reel-03-film-scan", "Reel 03, film scan of the hut", 40, "carriers"),
    Listed("reel-04-transfer.mov", "Reel 04, film carried at 30", 90, "carriers"),
    Listed("reel-05-edit.mov", "Reel 05, the winter edit", 160, "carriers"),
    Listed("reel-06-telephone.mp4", "Reel 06, the keeper's telephone", 60, "carriers"),
    Listed("reel-07-dusty-pan.mkv", "Reel 07, dusty pan", 120, "reels"),
    Listed("reel-08-instrument-room.mkv", "Reel 08, instrument room", 144, "reels"),
    Listed("reel-09-lamps.mkv", "Reel 09, room under lamps", 90, "reels"),
    Listed("reel-10-clouds.mkv", "Reel 10, clouds in time lapse", 96, "reels"),
    Listed("reel-11-recorder.mkv", "Reel 11, recorder at a high rate", 96, "reels"),
    Listed("reel-12-from-the-air.mkv", "Reel 12, from the air", 96, "reels"),
    Listed("reel-13-barograph-screen.mkv", "Reel 13, barograph screen", 75, "reels"),
    Listed("reel-14-four-shots.mov", "Reel 14, four shots of the autumn edit", 160, "carriers"),
    Listed("reel-15-launch-day.mov", "Reel 15, launch day on worn film", 235, "carriers"),
    Listed("reel-16-gulls.mp4", "Reel 16, clouds and gulls in time lapse", 60, "carriers"),
    Listed("reel-17-glass-case.mp4", "Reel 17, barograph behind glass", 72, "carriers"),
    Listed("reel-18-mast.mp4", "Reel 18, beacons on the mast at dusk", 72, "carriers"),
    Listed("reel-19-gale.mov", "Reel 19, the gale on film that fared worse", 120, "carriers"),
    Listed("reel-20-north-face.mkv", "Reel 20, north face", 60, "spring", SPRING),
    Listed("reel-21-cable.mp4", "Reel 21, along the cable", 60, "spring", SPRING),
    Listed("reel-22-path.mkv", "Reel 22, the path", 48, "spring", SPRING),
    Listed("reel-23-heather.mkv", "Reel 23, over the heather", 72, "spring", SPRING),
    Listed("reel-24-bay.mp4", "Reel 24, the bay", 40, "spring", SPRING),
    Listed("reel-25-squall.mkv", "Reel 25, a squall in time lapse", 60, "spring", SPRING),
    Listed("reel-26-shutter.mkv", "Reel 26, high rate by the mast", 60, "spring", SPRING),
    Listed("reel-27-two-faults.mkv", "Reel 27, two faults at once", 72, "spring", SPRING),
    Listed("reel-28-return.mkv", "Reel 28, the way back", 48, "spring", SPRING),
    Listed("reel-29-post.mp4", "Reel 29, the post, camera standing", 40, "spring", SPRING),
)
