"""Image sequences read as reels: frame *n* is the picture whose name carries the first number plus *n*.

A number without a picture is a missing frame, and so is a picture that cannot be read; neither is closed up.
"""

from __future__ import annotations

import re
import threading
from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import OpenImageIO as oiio

from ..base.errors import ChangedReel, DamagedReel, UnreadableReel
from .frames import Colour, Component, Frame, FrameCache, PictureFormat, Samples, blank
from .layout import picture_format, planes_of
from .reel import ReelFacts, ReelReader, gone
from .remarks import Remark, some_of

SUFFIXES = {
    ".dpx": "dpx",
    ".tif": "tiff",
    ".tiff": "tiff",
    ".png": "png",
    ".exr": "exr",
    ".jpg": "jpeg",
    ".jpeg": "jpeg",
}
# Numbers in one sequence may leave this many out for each that is there; more is a mixture of things.
_SPARSE = 20
_MAX_PIXELS = 1 << 27
_NUMBER = re.compile(r"^(?P<head>.*?)(?P<number>\d+)(?P<tail>\D*)$")
_PATTERN = re.compile(r"%0?(\d*)d|(#+)")
USUAL_RATE = Fraction(24)

# A picture that claims to be larger than this is refused by the library before it takes the room.
oiio.attribute("limits:imagesize_MB", 2048)


@dataclass(frozen=True)
class Listing:
    """The pictures of one sequence: paths by number, and the name with its number left open."""

    folder: Path
    pattern: str
    kind: str
    pictures: dict[int, Path]

    @property
    def stamp(self) -> tuple[int, int]:
        """Bytes of all pictures, and when the newest was written, in nanoseconds."""
        found = [p.stat() for p in self.pictures.values()]
        return sum(s.st_size for s in found), max(s.st_mtime_ns for s in found)


def is_sequence(path: str | Path) -> bool:
    """Whether the path names a folder, or a pattern such as ``name.%05d.dpx`` or ``name.####.dpx``."""
    path = Path(path)
    return path.is_dir() or (not path.exists() and path.suffix.lower() in SUFFIXES and bool(_PATTERN.search(path.name)))


def list_sequence(path: str | Path) -> Listing:
    """Find the pictures of a sequence.

    Parameters
    ----------
    path : path-like
        Its folder, or a pattern.

    Raises
    ------
    UnreadableReel
        If there are none, or several sequences that the folder alone cannot tell apart.
    """
    path = Path(path)
    folder = path if path.is_dir() else path.parent
    if not folder.is_dir():
        raise UnreadableReel(f"{folder} is not a folder. Name the folder of an image sequence, or a pattern such as name.%05d.dpx.")
    wanted = None if path.is_dir() else _matcher(path.name)
    groups: dict[tuple[str, str], dict[int, Path]] = {}
    root = folder.resolve()
    for entry in folder.iterdir():
        suffix = entry.suffix.lower()
        if suffix not in SUFFIXES or entry.name.startswith(".") or not entry.is_file():
            continue
        if entry.is_symlink() and not entry.resolve().is_relative_to(root):
            raise UnreadableReel(f"{entry.name} is a link to a file outside {folder.name}. Put the picture itself there.")
        parts = _NUMBER.match(entry.stem)
        if parts is None:
            continue
        if wanted is not None:
            hit = wanted.match(entry.name)
            if hit is None:
                continue
            groups.setdefault((path.name, suffix), {})[int(hit["number"])] = entry
        else:
            groups.setdefault((parts["head"], parts["tail"] + suffix), {})[int(parts["number"])] = entry
    if not groups:
        what = f"No picture is called like {path.name} in {folder}." if wanted else f"{folder.name} holds no numbered pictures."
        raise UnreadableReel(f"{what} A sequence is made of DPX, TIFF, PNG, OpenEXR or JPEG files with a number in their names.")
    if len(groups) > 1:
        named = ", ".join(f"{head}####{tail} ({len(p)})" for (head, tail), p in sorted(groups.items())[:4])
        raise UnreadableReel(f"{folder.name} holds several sequences: {named}. Name one by its pattern.")
    (head, tail), pictures = next(iter(groups.items()))
    pictures = dict(sorted(pictures.items()))
    if len(pictures) == 1:
        raise UnreadableReel(
            f"{next(iter(pictures.values())).name} is a sequence of one. Defects are found by looking along time: bring in more frames."
        )
    span = max(pictures) - min(pictures) + 1
    if span > _SPARSE * len(pictures) + 1000:
        raise UnreadableReel(
            f"The numbers in {folder.name} run from {min(pictures)} to {max(pictures)} for {len(pictures)} pictures: "
            "these are not the frames of one reel. Name the part that is, by its pattern."
        )
    pattern = path.name if wanted else f"{head}%0{len(_digits(next(iter(pictures.values()))))}d{tail}"
    return Listing(folder, pattern, SUFFIXES[next(iter(pictures.values())).suffix.lower()], pictures)


def _digits(path: Path) -> str:
    parts = _NUMBER.match(path.stem)
    return parts["number"] if parts else ""


def _matcher(name: str) -> re.Pattern[str]:
    found = _PATTERN.search(name)
    if found is None:
        raise UnreadableReel(f"{name} is not a pattern. Write the number as %05d, such as name.%05d.dpx.")
    return re.compile(re.escape(name[: found.start()]) + r"(?P<number>\d+)" + re.escape(name[found.end() :]) + "$", re.IGNORECASE)


class SequenceReader(ReelReader):
    """An image sequence as a reel.

    Parameters
    ----------
    path : path-like
        Its folder, or a pattern.
    accept_missing : bool
        Take pictures of another size or kind for missing, too, instead of refusing the sequence.
    cache_bytes : int
        Bound of the frames kept in memory.

    Raises
    ------
    UnreadableReel
        If there is no sequence, or its kind of picture cannot be treated.
    """

    def __init__(self, path: str | Path, accept_missing: bool = False, cache_bytes: int = 192 << 20) -> None:
        self.path = Path(path)
        self.listing = list_sequence(path)
        self.first_number = min(self.listing.pictures)
        self._count = max(self.listing.pictures) - self.first_number + 1
        self._accept = accept_missing
        self._cache = FrameCache(cache_bytes)
        self._lock = threading.Lock()
        self._stamps = {n: (s.st_size, s.st_mtime_ns) for n, s in ((n, p.stat()) for n, p in self.listing.pictures.items())}
        self._absent = {
            n - self.first_number for n in range(self.first_number, self.first_number + self._count) if n not in self.listing.pictures
        }
        self._unreadable: dict[int, str] = {}
        self._describe()

    def _describe(self) -> None:
        spec = None
        for path in self.listing.pictures.values():
            spec = _header(path)
            if spec is not None:
                break
        if spec is None:
            raise UnreadableReel(
                f"Not one picture of {self.listing.pattern} can be read. They may be damaged, or something else under these names."
            )
        if spec.width * spec.height > _MAX_PIXELS or spec.width < 1 or spec.height < 1:
            raise UnreadableReel(f"{self.listing.pattern}: {spec.width} x {spec.height} pixels is beyond what can be treated.")
        self.format, self._places, shift = _layout(spec, self.listing.pattern)
        self._shift = shift
        self._shape = (spec.height, spec.width, spec.nchannels)
        transfer, transfer_known = _transfer(spec, self.listing.kind)
        rgb = self.format.components[0].name in "RGB"
        self.colour = Colour(matrix=0 if rgb else 2, transfer=transfer, full_range=True, range_code=2)
        rate = _rate(spec)
        self.rate = rate or USUAL_RATE
        aspect = Fraction(spec.get_float_attribute("PixelAspectRatio", 1.0) or 1.0).limit_denominator(200)
        orientation = spec.get_int_attribute("Orientation", 1)
        seconds = 1 / float(self.rate)
        assumptions = [name for name, known in (("rate", rate), ("transfer", transfer_known)) if not known]
        gaps = sorted(self._absent)
        self.facts = ReelFacts(
            path=str(self.path),
            container="sequence",
            codec=self.listing.kind,
            pixel_format=self.format.name,
            bits=self.format.components[0].bits,
            width=self.format.width,
            height=self.format.height,
            frames=self._count,
            promised=self._count,
            rate=self.rate,
            constant_timing=True,
            interval_range=(seconds, seconds),
            start=Fraction(0),
            duration=self._count / self.rate,
            colour=self.colour,
            sample_aspect=aspect if aspect > 0 else Fraction(1),
            sounds=(),
            notes=tuple(_notes(spec, self.listing, gaps, self.first_number)),
            assumptions=tuple(assumptions),
            field_order="progressive",
            time_code=_time_code(spec),
            turned={1: 0, 3: 2, 6: 1, 8: 3}.get(orientation, 0),
            first_number=self.first_number,
            absent=tuple(gaps),
        )

    def __len__(self) -> int:
        return self._count

    def name_of(self, number: int) -> str:
        """The file name that frame `number` has, or would have."""
        path = self.listing.pictures.get(number + self.first_number)
        if path is not None:
            return path.name
        found = _PATTERN.search(self.listing.pattern)
        assert found is not None
        width = int(found[1] or 0) if found[2] is None else len(found[2])
        return f"{self.listing.pattern[: found.start()]}{number + self.first_number:0{width}d}{self.listing.pattern[found.end() :]}"

    @property
    def unreadable(self) -> dict[int, str]:
        """Frames that turned out not to be readable so far, and why."""
        return dict(self._unreadable)

    @property
    def missing(self) -> int:
        """How many pictures are not there, or cannot be read as far as that is known."""
        return super().missing + len(self._unreadable)

    def time_of(self, number: int) -> Fraction:
        """Seconds from the first frame to frame `number`, exact."""
        return number / self.rate

    def frame(self, number: int) -> Frame:
        """Frame `number` on its native planes; a missing one is black and says so.

        Raises
        ------
        IndexError
            Outside the reel.
        DamagedReel
            If the picture has another size or kind than the first.
        ChangedReel
            If it is not the one that was there when the sequence was opened.
        """
        if not 0 <= number < self._count:
            raise IndexError(number)
        held = self._cache.get(number)
        if held is None:
            held = self._read(number)
            self._cache.put(held)
        return held

    def frames(self, first: int, stop: int) -> Iterator[Frame]:
        """Frames `first` to `stop` - 1 in order."""
        if not 0 <= first <= stop <= self._count:
            raise IndexError((first, stop))
        return (self._cache.get(n) or self._read(n) for n in range(first, stop))

    def _read(self, number: int) -> Frame:
        path = self.listing.pictures.get(number + self.first_number)
        if path is None or number in self._unreadable:
            return blank(number, self.format, self.colour)
        try:
            found = path.stat()
        except OSError as error:
            raise gone(path) from error
        if (found.st_size, found.st_mtime_ns) != self._stamps[number + self.first_number]:
            raise ChangedReel(f"{path.name} has changed while it was in use. Take the reel in again.")
        spec, pixels, why = _pixels(path, self._shape)
        if spec is not None and (
            (spec.height, spec.width, spec.nchannels) != self._shape or _layout(spec, path.name)[0].name != self.format.name
        ):
            described = f"{spec.width} x {spec.height}, {spec.nchannels} channels of {spec.format}"
            if not self._accept:
                raise DamagedReel(
                    f"{path.name} is {described}; the sequence began with {self._shape[1]} x {self._shape[0]}, {self.format.name}. "
                    "Take it out, or accept it as a missing frame.",
                    1,
                    self._count - 1,
                )
            pixels, why = None, f"it is {described}"
        if pixels is None:
            with self._lock:
                self._unreadable[number] = why
            return blank(number, self.format, self.colour)
        return Frame(number, self._planes(pixels), self.format, self.colour)

    def _planes(self, pixels: Samples) -> tuple[Samples, ...]:
        if self._shift:
            pixels = pixels >> self._shift
        planes: tuple[Samples, ...]
        if len(self.format.plane_shapes) == 1:
            planes = (np.ascontiguousarray(pixels[..., : len(self._places)]).reshape(self.format.plane_shapes[0]),)
        else:
            planes = tuple(np.ascontiguousarray(pixels[..., place]) for place in self._places)
        for plane in planes:
            plane.setflags(write=False)
        return planes

    def check_unchanged(self) -> None:
        """Refuse to go on when the folder is gone; each picture is checked as it is read."""
        if not self.listing.folder.is_dir():
            raise gone(self.listing.folder)

    def close(self) -> None:
        """Drop the frames kept."""
        self._cache = FrameCache(self._cache.max_bytes)


def _open(path: Path) -> tuple[oiio.ImageInput | None, str]:
    config = oiio.ImageSpec()
    config.attribute("oiio:UnassociatedAlpha", 1)
    opened = oiio.ImageInput.open(str(path), config)
    return (opened, "") if opened else (None, (oiio.geterror().strip().splitlines() or ["it cannot be opened"])[0][:200])


def _header(path: Path) -> oiio.ImageSpec | None:
    opened, _ = _open(path)
    if opened is None:
        return None
    spec = opened.spec()
    opened.close()
    return spec


def _pixels(path: Path, shape: tuple[int, int, int]) -> tuple[oiio.ImageSpec | None, Samples | None, str]:
    """The picture's samples (height, width, channels) in its own type; None when they cannot be read, and why."""
    opened, why = _open(path)
    if opened is None:
        return None, None, why
    spec = opened.spec()
    if (spec.height, spec.width, spec.nchannels) != shape:
        opened.close()
        return spec, None, ""
    if path.suffix.lower() == ".dpx" and shape[2] == 4 and spec.get_int_attribute("oiio:BitsPerSample", 0) == 10:
        opened.close()
        return _packed_with_alpha(path, spec)
    pixels = opened.read_image(spec.format)
    why = opened.geterror().strip().splitlines()[0][:200] if opened.has_error else ""
    opened.close()
    if pixels is None or why:
        return spec, None, why or "its samples cannot be read"
    return spec, pixels, ""


def _packed_with_alpha(path: Path, spec: oiio.ImageSpec) -> tuple[oiio.ImageSpec, Samples | None, str]:
    """Four samples of 10 bit a pixel, three of which share a word: the library loses the last of each row, FFmpeg's reader does not."""
    try:
        with av.open(str(path)) as container:
            picture = next(container.decode(video=0))
    except (av.FFmpegError, StopIteration, OSError) as error:
        return spec, None, str(error)[:200] or "its samples cannot be read"
    if picture.format.name != "gbrap10le":
        return spec, None, f"its samples are {picture.format.name}"
    green, blue, red, alpha = planes_of(picture, picture_format(picture.format.name, picture.width, picture.height))
    return spec, np.stack([red, green, blue, alpha], -1) << 6, ""


def _layout(spec: oiio.ImageSpec, name: str) -> tuple[PictureFormat, list[int], int]:
    """The format samples are held in, which channel goes to which plane, and how far samples are shifted down."""
    kind = str(spec.format)
    channels = [c.upper().rpartition(".")[2] for c in spec.channelnames]
    colours = (
        [channels.index(c) for c in "RGB"]
        if set("RGB") <= set(channels)
        else list(range(min(3, spec.nchannels)))
        if spec.nchannels >= 3
        else [0]
    )
    alpha = channels.index("A") if "A" in channels else None
    bits = spec.get_int_attribute("oiio:BitsPerSample", 0)
    grey = len(colours) == 1
    with_alpha = alpha is not None
    if kind in ("half", "float"):
        letters = "grayf" if grey and not with_alpha else "yaf" if grey else "gbrapf" if with_alpha else "gbrpf"
        size = 16 if kind == "half" else 32
        names = (["Y"] if grey else ["G", "B", "R"]) + (["A"] if with_alpha else [])
        places = (colours if grey else [colours[1], colours[2], colours[0]]) + ([alpha] if alpha is not None else [])
        components = tuple(Component(n, i, 0, 1, spec.width, spec.height, size, floating=True) for i, n in enumerate(names))
        dtype: np.dtype[np.generic] = np.dtype(np.float16 if size == 16 else np.float32)
        shapes = tuple((spec.height, spec.width) for _ in names)
        return PictureFormat(f"{letters}{size}le", spec.width, spec.height, components, shapes, dtype), places, 0
    if kind not in ("uint8", "uint16"):
        raise UnreadableReel(f"{name}: samples of {kind} cannot be treated. Convert the sequence to 16-bit integers or to half floats.")
    in_order = colours + ([alpha] if alpha is not None else [])
    if kind == "uint16" and bits in (10, 12):
        chosen = f"gray{bits}le" if grey else f"gbrap{bits}le" if with_alpha else f"gbrp{bits}le"
        places = [0] if grey else [colours[1], colours[2], colours[0]] + ([alpha] if alpha is not None else [])
        return picture_format(chosen, spec.width, spec.height), places, 16 - bits
    deep = kind == "uint16"
    if grey:
        chosen = ("ya16le" if deep else "ya8") if with_alpha else ("gray16le" if deep else "gray")
    else:
        chosen = ("rgba64le" if deep else "rgba") if with_alpha else ("rgb48le" if deep else "rgb24")
    return picture_format(chosen, spec.width, spec.height), in_order, 0


def _transfer(spec: oiio.ImageSpec, kind: str) -> tuple[int, bool]:
    """Transfer code (ITU-T H.273) and whether the pictures tell it."""
    if kind == "exr":
        return 8, True
    name = spec.get_string_attribute("dpx:Transfer", "").lower()
    if "density" in name or "log" in name:
        return 9, True
    if name == "linear":
        return 8, True
    if "709" in name:
        return 1, True
    if kind == "dpx":
        # A 10-bit scan that does not say is most often printing density (common practice, no source).
        return (9 if spec.get_int_attribute("oiio:BitsPerSample", 0) == 10 else 1), False
    return 13, kind in ("png", "jpeg")


def _rate(spec: oiio.ImageSpec) -> Fraction | None:
    told = spec.getattribute("FramesPerSecond")
    if isinstance(told, tuple) and len(told) == 2 and told[1]:
        return Fraction(int(told[0]), int(told[1]))
    for name in ("dpx:FrameRate", "dpx:TemporalFrameRate", "FramesPerSecond"):
        rate = spec.get_float_attribute(name, 0.0)
        if 1 <= rate <= 1000:
            exact = Fraction(round(rate * 1001), 1000) if abs(rate * 1.001 - round(rate * 1.001)) < 1e-3 else None
            return (
                Fraction(round(rate))
                if abs(rate - round(rate)) < 1e-4
                else Fraction(round(rate * 1.001) * 1000, 1001)
                if exact
                else Fraction(rate).limit_denominator(1001)
            )
    return None


def _time_code(spec: oiio.ImageSpec) -> str:
    code = spec.get_string_attribute("dpx:TimeCode", "")
    return code if re.fullmatch(r"\d\d:\d\d:\d\d[:;]\d\d", code) else ""


def _notes(spec: oiio.ImageSpec, listing: Listing, gaps: list[int], first: int) -> list[Remark]:
    notes = []
    if gaps:
        notes.append(Remark.of("numbers-without-picture", count=len(gaps), shown=some_of([n + first for n in gaps])))
    others = [c for c in spec.channelnames if c.upper().rpartition(".")[2] not in ("R", "G", "B", "A", "Y")]
    if others and spec.nchannels > 3:
        notes.append(Remark.of("channels-left-out", names=", ".join(others)))
    if spec.get_int_attribute("oiio:subimages", 1) > 1:
        notes.append(Remark.of("first-part-only"))
    return notes
