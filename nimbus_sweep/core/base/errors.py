"""What can go wrong with a user's material, each said so that the user knows what to do."""

from __future__ import annotations


class SweepError(Exception):
    """A failure that is explained to the user; its text says what happened and what to do."""


class UnreadableReel(SweepError):
    """The file cannot be read as a reel at all."""


class DamagedReel(SweepError):
    """Some of the frames the file promises cannot be read.

    Parameters
    ----------
    message : str
        What happened and what to do.
    missing : int
        How many frames are missing, or may show what is wrong.
    readable : int
        How many frames can be read.
    """

    def __init__(self, message: str, missing: int, readable: int) -> None:
        super().__init__(message)
        self.missing = missing
        self.readable = readable

    def __reduce__(self) -> tuple[type[DamagedReel], tuple[str, int, int]]:
        """So that it can be raised in another process."""
        return type(self), (str(self), self.missing, self.readable)


class ChangedReel(SweepError):
    """The reel's file is not the one that was taken in."""


class DiskFull(SweepError):
    """There is no room left where something had to be written."""


class Cancelled(Exception):
    """The user asked for the work to stop; not a failure."""


class Paused(Cancelled):
    """The user asked for the work to wait; what was done is kept, and it goes on from there."""


class Overtaken(Exception):
    """What was asked for is not wanted any more; not a failure."""
