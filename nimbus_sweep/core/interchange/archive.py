"""A job in one file: its reels' shots with recipes, regions, strokes and masks, so that the same delivery can be made again.

A zip archive (PKWARE APPNOTE). ``manifest.json`` names every other member with its SHA-256 and says which reels belong to it;
the reels themselves are not in it, but are named by their own SHA-256.
"""

from __future__ import annotations

import hashlib
import json
import re
import zipfile
import zlib
from collections.abc import Iterable, Mapping
from itertools import pairwise
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from ... import __version__
from ..base.errors import SweepError
from ..base.files import atomic_write
from ..media.formats import Delivery
from ..media.reel import Reading
from ..model.recipes import first_fault, recipe_of, refuse_newer
from ..model.shots import Shot, Shots

_MANIFEST = "manifest.json"
_MEMBER = re.compile(r"reel-\d{1,4}/(shots\.json|shot-\d{1,5}\.recipe\.json|analyses/[0-9a-f]{32}\.npz)")
# Members, and bytes they unpack to, that an archive may have: more is no job.
_MOST_MEMBERS, _MOST_BYTES = 100_000, 64 << 30
# Bytes of one member, which is held whole.
_MOST_AT_ONCE = 2 << 30
# Bytes of a manifest at most: it holds a sum for each member.
_LARGEST_MANIFEST = 32 << 20
_DATE = (1980, 1, 1, 0, 0, 0)


class _Plain(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class ArchivedReel(_Plain):
    """A reel of an archived job."""

    folder: str = Field(pattern=r"^reel-\d{1,4}$")
    title: str
    file: str
    sha256: str
    bytes: int
    frames: int
    reading: Reading = Reading()
    accept_missing: bool = False
    delivery: Delivery | None = None


class Manifest(_Plain):
    """What an archive says of itself."""

    format: Literal["nimbus-sweep job"] = "nimbus-sweep job"
    version: Literal[1] = 1
    made_by: str = f"Nimbus Sweep {__version__}"
    title: str
    reference: str = ""
    notes: str = ""
    reels: tuple[ArchivedReel, ...] = ()
    sums: dict[str, str] = Field(default_factory=dict)


def write_archive(path: Path, manifest: Manifest, shots: Mapping[str, Shots], analyses: Mapping[str, Iterable[Path]] | None = None) -> None:
    """Write a job to `path`, whole or not at all.

    Parameters
    ----------
    path : Path
    manifest : Manifest
        Its sums are made here.
    shots : mapping
        By the reels' folders; their recipes hold the strokes themselves.
    analyses : mapping
        By the reels' folders, files of what their steps have learned, so that nothing has to be learned again.

    Raises
    ------
    DiskFull
        If there is no room.
    """
    sums: dict[str, str] = {}
    with atomic_write(path) as stream, zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED, compresslevel=6) as packed:

        def add(name: str, content: bytes) -> None:
            sums[name] = hashlib.sha256(content).hexdigest()
            # Of one time all, so that the same job makes the same archive.
            packed.writestr(zipfile.ZipInfo(name, _DATE), content, zipfile.ZIP_DEFLATED)

        for reel in manifest.reels:
            reel_shots = shots[reel.folder]
            bare = [s.model_dump(mode="json", exclude={"recipe"}) for s in reel_shots]
            add(f"{reel.folder}/shots.json", json.dumps(bare, indent=1).encode())
            for n, shot in enumerate(reel_shots, start=1):
                add(f"{reel.folder}/shot-{n:05d}.recipe.json", shot.recipe.model_dump_json(indent=1).encode())
            for analysis in (analyses or {}).get(reel.folder, ()):
                add(f"{reel.folder}/analyses/{analysis.name}", analysis.read_bytes())
        complete = manifest.model_copy(update={"sums": sums})
        packed.writestr(zipfile.ZipInfo(_MANIFEST, _DATE), complete.model_dump_json(indent=1), zipfile.ZIP_DEFLATED)


def read_archive(path: Path) -> tuple[Manifest, dict[str, Shots]]:
    """What an archive says of itself, and the shots of its reels by their folders; raises SweepError as `Archive` does."""
    archive = Archive(path)
    try:
        return archive.manifest, {reel.folder: archive.shots(reel) for reel in archive.manifest.reels}
    finally:
        archive.close()


def unpack_learned(path: Path, folder: Path) -> int:
    """Put what was learned of the reels of an archive into `folder`; raises SweepError as `Archive` does."""
    archive = Archive(path)
    try:
        return sum(archive.unpack_analyses(reel, folder) for reel in archive.manifest.reels)
    finally:
        archive.close()


class Archive:
    """An archive that was checked: every member is there and is what the manifest says.

    Parameters
    ----------
    path : Path

    Raises
    ------
    SweepError
        If it is no archive of a job, was made by a newer version, or is damaged; the text says what and where.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        try:
            self._packed = zipfile.ZipFile(path)
        except (OSError, zipfile.BadZipFile) as error:
            raise SweepError(
                f"{path.name} is not an archive of a job, or it is cut short. Copy it again from where it was saved."
            ) from error
        try:
            self.manifest = _manifest(path.name, self._packed)
            self._check()
        except BaseException:
            self._packed.close()
            raise

    def _check(self) -> None:
        packed = {i.filename for i in self._packed.infolist()} - {_MANIFEST}
        strange = sorted(n for n in packed | set(self.manifest.sums) if not _MEMBER.fullmatch(n))
        size = sum(i.file_size for i in self._packed.infolist())
        too_much = len(packed) > _MOST_MEMBERS or size > _MOST_BYTES or any(i.file_size > _MOST_AT_ONCE for i in self._packed.infolist())
        if strange or too_much:
            raise SweepError(
                f"{self._path.name} holds what does not belong to a job ({', '.join(strange[:3]) or 'too much'}). It was not taken in."
            )
        if lacking := sorted(set(self.manifest.sums) - packed):
            raise SweepError(f"{self._path.name} is damaged: {lacking[0]} is missing in it. Copy it again from where it was saved.")
        for name in sorted(packed):
            self._read(name)

    def _read(self, name: str) -> bytes:
        try:
            content = self._packed.read(name)
        except (KeyError, OSError, zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError) as error:
            raise SweepError(f"{self._path.name} is damaged: {name} cannot be unpacked. Copy it again from where it was saved.") from error
        if self.manifest.sums.get(name) != hashlib.sha256(content).hexdigest():
            raise SweepError(f"{self._path.name} is damaged: {name} is not what was saved. Copy it again from where it was saved.")
        return content

    def shots(self, reel: ArchivedReel) -> Shots:
        """The shots of one of its reels, with their recipes.

        Raises
        ------
        SweepError
            If they cannot be read.
        """
        try:
            bare: list[dict[str, Any]] = json.loads(self._read(f"{reel.folder}/shots.json"))
            made = []
            for n, shot in enumerate(bare, start=1):
                recipe = recipe_of(json.loads(self._read(f"{reel.folder}/shot-{n:05d}.recipe.json")))
                made.append(Shot.model_validate({**shot, "recipe": recipe}))
        except (ValidationError, TypeError, ValueError) as error:
            why = first_fault(error) if isinstance(error, ValidationError) else str(error)
            raise SweepError(f"The shots of {reel.title} in {self._path.name} cannot be read ({why}).") from error
        if not made or made[0].first != 0 or made[-1].stop != reel.frames or any(a.stop != b.first for a, b in pairwise(made)):
            raise SweepError(f"The shots of {reel.title} in {self._path.name} do not make up the reel.")
        return tuple(made)

    def unpack_analyses(self, reel: ArchivedReel, folder: Path) -> int:
        """Put what was learned of a reel into `folder`; what is there already stays. Gives how many files were put there."""
        folder.mkdir(parents=True, exist_ok=True)
        count = 0
        for name in self.manifest.sums:
            target = folder / Path(name).name
            if name.startswith(f"{reel.folder}/analyses/") and not target.exists():
                with atomic_write(target) as stream:
                    stream.write(self._read(name))
                count += 1
        return count

    def close(self) -> None:
        """Let go of the file."""
        self._packed.close()


def _manifest(name: str, packed: zipfile.ZipFile) -> Manifest:
    try:
        if packed.getinfo(_MANIFEST).file_size > _LARGEST_MANIFEST:
            raise SweepError(f"{name} is not a usable archive of a job: its manifest is larger than one can be.")
        sent = json.loads(packed.read(_MANIFEST))
    except (KeyError, ValueError, OSError, zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError) as error:
        raise SweepError(f"{name} is not an archive of a job: it has no manifest that can be read.") from error
    refuse_newer(name, Manifest, sent)
    try:
        return Manifest.model_validate(sent)
    except ValidationError as error:
        raise SweepError(f"{name} is not a usable archive of a job: {first_fault(error)}.") from error
