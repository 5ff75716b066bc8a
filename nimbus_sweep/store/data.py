"""Where things lie in the data folder, and the lock that keeps a second start out of it."""

from __future__ import annotations

import os
import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from filelock import FileLock, Timeout

from ..core.base.errors import SweepError
from ..core.base.files import atomic_write, clear_left


@dataclass(frozen=True)
class DataFolder:
    """Paths below the data folder."""

    root: Path

    @property
    def database(self) -> Path:
        """The tables."""
        return self.root / "nimbus-sweep.db"

    @property
    def queue(self) -> Path:
        """The queue."""
        return self.root / "queue.db"

    @property
    def uploads(self) -> Path:
        """Reels that came by upload."""
        return self.root / "uploads"

    @property
    def arriving(self) -> Path:
        """What is being sent, until it is whole."""
        return self.root / "arriving"

    @property
    def demo(self) -> Path:
        """The demo reels."""
        return self.root / "demo"

    @property
    def analyses(self) -> Path:
        """Analyses under their keys."""
        return self.root / "analyses"

    def of_reel(self, reel_id: int) -> Path:
        """What intake made of a reel: small pictures, summary, map of repeats."""
        return self.root / "reels" / str(reel_id)

    def volumes(self, reel_id: int) -> Path:
        """Shots of a reel laid open in time."""
        return self.of_reel(reel_id) / "volumes"

    def trial(self, reel_id: int, trial_id: int) -> Path:
        """Small pictures of a trial's ways."""
        return self.of_reel(reel_id) / "trials" / str(trial_id)

    @property
    def deliveries(self) -> Path:
        """Finished files, by task."""
        return self.root / "deliveries"

    def chunks(self, task_id: int) -> Path:
        """Working files of a render."""
        return self.root / "chunks" / str(task_id)

    def works(self, task_id: int) -> Path:
        """Pieces of a task's work, handed out and done."""
        return self.root / "works" / str(task_id)

    def delivery(self, task_id: int, name: str) -> Path:
        """A finished file."""
        return self.deliveries / str(task_id) / name

    def papers(self, task_id: int) -> Path:
        """Condition and treatment report, by task."""
        return self.root / "papers" / str(task_id)

    def secret(self) -> bytes:
        """What cookies are signed with; made when it is first asked for, and nobody else's to read."""
        path = self.root / "secret"
        if not path.exists():
            with atomic_write(path) as stream:
                Path(stream.name).chmod(0o600)
                stream.write(secrets.token_bytes(32))
        return path.read_bytes()

    def make(self) -> None:
        """Make the folder."""
        try:
            self.root.mkdir(parents=True, exist_ok=True)
            # What is being worked on is nobody else's business.
            self.root.chmod(0o700)
        except OSError as error:
            raise SweepError(f"The data folder {self.root} cannot be made ({error.strerror}). Name another with --data.") from error

    def clear_left(self, *patterns: str) -> int:
        """Remove working folders that a process left behind when it was killed; gives how many."""
        return sum(clear_left(self.root, pattern) for pattern in patterns)

    @contextmanager
    def lock(self) -> Iterator[None]:
        """Keep others out.

        Raises
        ------
        SweepError
            If another start holds the folder.
        """
        try:
            # A server that was killed lets go of it a moment later.
            with FileLock(self.root / "lock", timeout=1):
                yield
        except Timeout as error:
            who = self._address.read_text().strip() if self._address.exists() else ""
            raise SweepError(
                f"Nimbus Sweep is running on the data folder {self.root} already ({who or 'no address noted'}). "
                "Use that one, stop it first, or name another folder with --data."
            ) from error

    @property
    def _address(self) -> Path:
        return self.root / "address"

    def note_address(self, address: str) -> None:
        """Note where the application answers, for whoever starts a second one."""
        self._address.write_text(f"{address}, process {os.getpid()}")
