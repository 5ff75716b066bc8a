"""What a delivery can be: the kinds of file, what each holds of a source exactly, and what it cannot hold."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Literal

import av
import numpy as np
from pydantic import BaseModel, ConfigDict

from ..base.errors import SweepError, UnreadableReel
from .convert import values_of, with_values
from .frames import Frame, PictureFormat
from .layout import EXACT_KIN, picture_format, to_kin
from .reel import ReelFacts
from .remarks import Remark

# Of those that its encoder names, floats are an experiment that it refuses.
_FFV1 = frozenset(f.name for f in av.Codec("ffv1", "w").video_formats or () if not re.search(r"f(16|32)(le|be)?$", f.name))
Kind = Literal["ffv1", "prores-422hq", "prores-4444", "dnxhr-hqx", "v210", "h264", "dpx", "tiff", "png", "exr"]


class Delivery(BaseModel):
    """What is to be delivered, as the user chose it.

    Attributes
    ----------
    kind : str
        One of `FORMATS`.
    part : str
        ``reel``, or ``shots``: each shot that is not excluded as a delivery of its own, from its in to its out point.
    distinct : bool
        Leave repeated frames out and deliver at the true rate.
    burn : bool
        Burn the frame number in; for review only.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    kind: Kind = "ffv1"
    part: Literal["reel", "shots"] = "reel"
    distinct: bool = False
    burn: bool = False


@dataclass(frozen=True)
class DeliveryFormat:
    """One kind of delivery.

    Attributes
    ----------
    kind, title, summary : str
        Its name, in recipes and on the screens, and what it is for.
    suffix : str
        Of the file, or of each picture of a sequence.
    container, codec : str
        Names of the media library; empty for sequences.
    held : callable
        The layout in which it holds a source's layout; raises SweepError if it cannot.
    lossless : bool
        What it holds comes out as it went in.
    options : dict
        For the encoder.
    copies : frozenset or None
        Codecs of sound it takes as they are; None takes all. Others are turned into `sound`.
    sound : str
        Codec of sound that is not copied.
    """

    kind: str
    title: str
    summary: str
    suffix: str
    container: str
    codec: str
    held: Callable[[PictureFormat], PictureFormat]
    lossless: bool
    options: dict[str, str]
    copies: frozenset[str] | None = None
    sound: str = "pcm_s24le"

    @property
    def is_sequence(self) -> bool:
        """Whether it is a folder of pictures."""
        return not self.container

    def exact(self, layout: PictureFormat) -> bool:
        """Whether every sample of such a source comes out as it went in."""
        try:
            held = self.held(layout)
        except SweepError:
            return False
        return self.lossless and same_samples(layout, held)

    def holds(self, layout: PictureFormat) -> bool:
        """Whether it can hold such a source at all."""
        try:
            self.held(layout)
        except SweepError:
            return False
        return True

    def losses(self, facts: ReelFacts, layout: PictureFormat) -> list[Remark]:
        """Everything of the source that it cannot hold."""
        held = self.held(layout)
        losses = []
        source_bits, bits = layout.components[0].bits, held.components[0].bits
        from_float = layout.components[0].floating
        if from_float and not held.components[0].floating:
            losses.append(Remark.of("float-to-whole", bits=bits))
        elif bits < source_bits:
            losses.append(Remark.of("fewer-bits", source=source_bits, bits=bits))
        if held.components[0].floating and not from_float:
            losses.append(Remark.of("whole-to-float"))
        names, kept = ({c.name for c in f.components} for f in (layout, held))
        if "A" in names - kept:
            losses.append(Remark.of("alpha-lost"))
        if ("Y" in names) != ("Y" in kept) and len(names - {"A"}) > 1:
            losses.append(Remark.of("to-rgb" if "Y" in names else "to-ycbcr"))
        elif len(names - {"A"}) > 1 and "Y" in names and held.subsampling(1) != layout.subsampling(1):
            ours, theirs = (f.subsampling(1)[0] * f.subsampling(1)[1] for f in (held, layout))
            losses.append(Remark.of("colour-coarser" if ours > theirs else "colour-spread"))
        if not self.lossless:
            losses.append(Remark.of("lossy"))
        if facts.colour.transfer == 9 and self.kind != "dpx":
            losses.append(Remark.of("log-not-named"))
        if self.is_sequence and facts.colour.primaries not in (1, 2):
            losses.append(Remark.of("primaries-not-named"))
        if self.is_sequence and facts.field_order in ("top", "bottom"):
            losses.append(Remark.of("fields-not-named"))
        if self.is_sequence and not facts.constant_timing:
            losses.append(Remark.of("timing-lost"))
        if self.kind in ("tiff", "png") and facts.time_code:
            losses.append(Remark.of("time-code-lost"))
        if self.copies is not None and not self.is_sequence:
            lost = sorted({s.codec for s in facts.sounds} - self.copies)
            if lost:
                losses.append(Remark.of("sound-recoded", codecs=", ".join(lost), sound=self.sound))
        if facts.absent:
            losses.append(Remark.of("gaps-stay" if self.is_sequence else "gaps-black", count=len(facts.absent)))
        return losses


def same_samples(one: PictureFormat, other: PictureFormat) -> bool:
    """Whether the two layouts hold the very same samples, in whatever order."""
    mine = {c.name: (c.width, c.height, c.bits, c.floating) for c in one.components}
    return mine == {c.name: (c.width, c.height, c.bits, c.floating) for c in other.components}


def _named(layout: PictureFormat, name: str) -> PictureFormat:
    return layout if layout.name == name else picture_format(name, layout.width, layout.height)


def lossless_format(layout: PictureFormat) -> PictureFormat:
    """The layout in which FFV1 holds `layout`: its own, or an exact kin of it.

    Raises
    ------
    UnreadableReel
        If it can hold neither.
    """
    name = EXACT_KIN.get(layout.name, layout.name)
    if name not in _FFV1:
        raise UnreadableReel(
            f"FFV1 cannot hold the pixel format {layout.name} exactly. Deliver OpenEXR pictures, or convert the reel to whole numbers of 16 bit first."
        )
    return _named(layout, name)


def _alpha(layout: PictureFormat) -> bool:
    return any(c.name == "A" for c in layout.components)


def _dnxhr(layout: PictureFormat) -> PictureFormat:
    if layout.width < 256 or layout.height < 120:
        raise SweepError(f"DNxHR holds pictures of 256 x 120 and more; these are {layout.width} x {layout.height}. Choose another format.")
    return _named(layout, "yuv422p10le")


def _v210(layout: PictureFormat) -> PictureFormat:
    return _named(layout, "yuv422p10le")


def _h264(layout: PictureFormat) -> PictureFormat:
    return _named(layout, "yuv420p" if layout.width % 2 == 0 and layout.height % 2 == 0 else "yuv444p")


def _rgb(layout: PictureFormat, depths: tuple[int, ...], alpha: bool = True) -> PictureFormat:
    """The R'G'B' layout with the least of these depths that holds the source's."""
    first = layout.components[0]
    bits = next((d for d in depths if d >= (16 if first.floating else first.bits)), depths[-1])
    grey = len({c.name for c in layout.components} - {"A"}) == 1
    with_alpha = alpha and _alpha(layout)
    if grey:
        if bits in (10, 12):
            return _named(layout, f"gray{bits}le")
        return _named(layout, {8: "ya8" if with_alpha else "gray", 16: "ya16le" if with_alpha else "gray16le"}[bits])
    if bits in (10, 12):
        return _named(layout, f"{'gbrap' if with_alpha else 'gbrp'}{bits}le")
    return _named(layout, {8: "rgba" if with_alpha else "rgb24", 16: "rgba64le" if with_alpha else "rgb48le"}[bits])


def _exr(layout: PictureFormat) -> PictureFormat:
    if layout.components[0].floating:
        return layout
    base = _rgb(layout, (16,))
    size = 16 if layout.components[0].bits <= 10 else 32
    grey = base.components[0].name == "Y"
    names = (["Y"] if grey else ["G", "B", "R"]) + (["A"] if _alpha(base) else [])
    name = ("yaf" if _alpha(base) else "grayf") if grey else ("gbrapf" if _alpha(base) else "gbrpf")
    components = tuple(
        replace(base.components[0], name=n, plane=i, offset=0, step=1, bits=size, floating=True) for i, n in enumerate(names)
    )
    shapes = tuple((layout.height, layout.width) for _ in names)
    return PictureFormat(
        f"{name}{size}le", layout.width, layout.height, components, shapes, np.dtype(np.float16 if size == 16 else np.float32)
    )


_MOV = frozenset(
    (
        "aac",
        "alac",
        "mp3",
        "ac3",
        "eac3",
        "pcm_s16le",
        "pcm_s16be",
        "pcm_s24le",
        "pcm_s24be",
        "pcm_s32le",
        "pcm_s32be",
        "pcm_f32le",
        "pcm_f32be",
        "pcm_u8",
    )
)
_MP4 = frozenset(("aac", "mp3", "ac3", "eac3", "alac", "opus", "flac"))

FORMATS: dict[str, DeliveryFormat] = {
    f.kind: f
    for f in (
        DeliveryFormat("ffv1", "FFV1, Matroska", "Lossless, every sample proven", ".mkv", "matroska", "ffv1", lossless_format, True, {}),
        DeliveryFormat(
            "prores-422hq",
            "ProRes 422 HQ",
            "For editing, 10 bit",
            ".mov",
            "mov",
            "prores_ks",
            lambda f: _named(f, "yuv422p10le"),
            False,
            {"profile": "3", "vendor": "apl0"},
            _MOV,
        ),
        DeliveryFormat(
            "prores-4444",
            "ProRes 4444",
            "For editing, full colour and alpha",
            ".mov",
            "mov",
            "prores_ks",
            lambda f: _named(f, "yuva444p10le" if _alpha(f) else "yuv444p10le"),
            False,
            {"profile": "4", "vendor": "apl0"},
            _MOV,
        ),
        DeliveryFormat(
            "dnxhr-hqx", "DNxHR HQX", "For editing, 10 bit", ".mov", "mov", "dnxhd", _dnxhr, False, {"profile": "dnxhr_hqx"}, _MOV
        ),
        DeliveryFormat("v210", "v210, uncompressed", "10 bit 4:2:2, large", ".mov", "mov", "v210", _v210, True, {}, _MOV),
        DeliveryFormat(
            "h264",
            "H.264, review",
            "Small, for looking only",
            ".mp4",
            "mp4",
            "libx264",
            _h264,
            False,
            {"crf": "16", "preset": "fast", "bf": "0"},
            _MP4,
            "aac",
        ),
        DeliveryFormat(
            "dpx",
            "DPX pictures",
            "10 to 16 bit, one file a frame",
            ".dpx",
            "",
            "",
            lambda f: _rgb(f, (8, 10, 12, 16)),
            True,
            {},
            frozenset(),
        ),
        DeliveryFormat(
            "tiff", "TIFF pictures", "8 or 16 bit, one file a frame", ".tif", "", "", lambda f: _rgb(f, (8, 16)), True, {}, frozenset()
        ),
        DeliveryFormat(
            "png", "PNG pictures", "8 or 16 bit, one file a frame", ".png", "", "", lambda f: _rgb(f, (8, 16)), True, {}, frozenset()
        ),
        DeliveryFormat("exr", "OpenEXR pictures", "Half or full floats, one file a frame", ".exr", "", "", _exr, True, {}, frozenset()),
    )
}


def usual_kind(facts: ReelFacts, layout: PictureFormat) -> str:
    """The kind offered first: lossless, in the manner of the source."""
    if facts.container == "sequence":
        return facts.codec if facts.codec in FORMATS else "png"
    return "ffv1" if not layout.components[0].floating else "exr"


def converted(frame: Frame, held: PictureFormat) -> Frame:
    """The frame in the layout `held`: its very samples where that is possible, the nearest otherwise.

    Y'CbCr is turned into R'G'B' and back by the frame's own matrix (ITU-R BT.601, BT.709, BT.2020), in floats.
    """
    if frame.format == held:
        return frame
    if same_samples(frame.format, held):
        return to_kin(frame, held)
    return with_values(frame, values_of(frame), held)
