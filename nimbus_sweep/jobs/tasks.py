"""What tasks of each kind are asked to do, and what they give: plain values in the database, models in the code."""

from __future__ import annotations

from typing import TypeVar

from pydantic import BaseModel, ConfigDict

from ..core.media.formats import Delivery
from ..core.model.recipes import Recipe
from ..core.model.shots import Shot
from ..core.pipeline.comparison import Comparison
from ..core.pipeline.inspection import Inspected
from ..core.pipeline.known_truth import MarkTruth
from ..store.models import Task


class _Stored(BaseModel):
    # Rows of other versions may hold more than this one knows.
    model_config = ConfigDict(frozen=True, extra="ignore")


class TaskSettings(_Stored):
    """What a task is asked to do; this for tasks that need no more than their reel."""


class TaskResult(_Stored):
    """What a task gives; this for tasks whose work lies elsewhere."""


class DrawSettings(TaskSettings):
    """A demo reel that is to be drawn; `asked` is larger for one that was asked for later."""

    asked: int = 0


class OpenSettings(TaskSettings):
    """The number of the shot that is laid open in time."""

    number: int = 0


class SurveySettings(TaskSettings):
    """The numbers of the shots that are surveyed; all that are not excluded if none is named."""

    numbers: tuple[int, ...] = ()


class AnalysisSettings(TaskSettings):
    """What the analyses that are to be made are called, in short: others supersede a task."""

    learns: str = ""


class TrackSettings(TaskSettings):
    """The track that is followed, by its number and its shot's, from a frame ``on``, ``back`` or ``both`` ways."""

    number: int
    track: int
    direction: str = "both"
    frame: int


class TrialSettings(TaskSettings):
    """The number of the trial."""

    trial: int


class CheckSettings(TaskSettings):
    """The numbers of the shots that are checked."""

    numbers: tuple[int, ...] = ()


class RenderSettings(TaskSettings):
    """What is delivered, and the shots as they were when the render began."""

    delivery: Delivery = Delivery()
    shots: tuple[Shot, ...] | None = None


class InspectionSettings(TaskSettings):
    """The number of the render that is compared with its source."""

    render: int


class RunSettings(TaskSettings):
    """How an unattended run treats its reels: as their surveys suggest, or by a recipe; and what is delivered at its end, if anything.

    With `usual` each reel is delivered as is usual for its kind.
    """

    recipe: Recipe | None = None
    delivery: Delivery | None = None
    usual: bool = False


class RunReel(TaskSettings):
    """A reel of an unattended run, by the run's number, and its place in it."""

    run: int
    place: float = 0.0


class RunDone(TaskResult):
    """What a run did to a reel.

    Attributes
    ----------
    shots, treated : int
    found, doubtful : int
        Findings that are mended, and those that are not sure.
    eyes : int
        Entries on the list of what needs eyes.
    delivered : tuple of str
        Files.
    """

    shots: int
    treated: int
    found: int
    doubtful: int
    eyes: int
    delivered: tuple[str, ...] = ()


class FinishSettings(TaskSettings):
    """What is delivered when a job is finished."""

    delivery: Delivery = Delivery()


class Drawn(TaskResult):
    """A reel that was drawn."""

    frames: int


class TakenIn(TaskResult):
    """A reel that was taken in."""

    frames: int
    cuts: int


class SurveyDone(TaskResult):
    """How much was found, in how many seconds."""

    found: int
    seconds: float


class TrackDone(TaskResult):
    """In how many frames a track was followed and held, and the looseness of its corners in pixels."""

    frames: int
    held: int
    loose: float


class TrialDone(TaskResult):
    """The number of the trial."""

    trial: int


class CheckedShot(Inspected):
    """A shot that was checked, and the mark of the treatment it had."""

    first: int
    stop: int
    mark: str


class CheckDone(TaskResult):
    """The shots that were checked."""

    shots: tuple[CheckedShot, ...]


class DeliveredFile(_Stored):
    """A file of a delivery."""

    name: str
    bytes: int = 0
    frames: int = 0


class RenderDone(TaskResult):
    """The files of a delivery, the first by its name, and what they come to."""

    file: str
    files: tuple[DeliveredFile, ...] = ()
    bytes: int = 0
    frames: int = 0

    @property
    def every(self) -> tuple[DeliveredFile, ...]:
        """All files, of a render of an early version too."""
        return self.files or (DeliveredFile(name=self.file, bytes=self.bytes, frames=self.frames),)


class ComparisonDone(Comparison):
    """A delivery compared with its source, and with the truth where that is known."""

    truth: tuple[MarkTruth, ...] = ()


class PapersDone(TaskResult):
    """The names of the papers."""

    files: tuple[str, ...]


Settings = TypeVar("Settings", bound=TaskSettings)
Result = TypeVar("Result", bound=BaseModel)


def settings_of(task: Task, model: type[Settings]) -> Settings:
    """What a task is asked to do."""
    return model.model_validate(task.settings or {})


def result_of(task: Task, model: type[Result]) -> Result:
    """What a task that is done gave."""
    return model.model_validate(task.result)
