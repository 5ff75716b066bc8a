"""Where each component of a pixel format lies in memory, and exact moves between a format and its kin."""

from __future__ import annotations

import av
import numpy as np

from ..base.errors import UnreadableReel
from .frames import Component, Frame, PictureFormat, Samples

# Formats whose components share a plane: component -> (plane, offset, step), in samples.
_INTERLEAVED: dict[str, dict[str, tuple[int, int, int]]] = {
    **{
        name: {c: (0, i, len(order)) for i, c in enumerate(order) if c != "x"}
        for name, order in {
            "rgb24": "RGB",
            "bgr24": "BGR",
            "rgba": "RGBA",
            "bgra": "BGRA",
            "argb": "ARGB",
            "abgr": "ABGR",
            "rgb0": "RGBx",
            "bgr0": "BGRx",
            "0rgb": "xRGB",
            "0bgr": "xBGR",
            "rgb48le": "RGB",
            "bgr48le": "BGR",
            "rgba64le": "RGBA",
            "bgra64le": "BGRA",
        }.items()
    },
    "yuyv422": {"Y": (0, 0, 2), "Cb": (0, 1, 4), "Cr": (0, 3, 4)},
    "uyvy422": {"Y": (0, 1, 2), "Cb": (0, 0, 4), "Cr": (0, 2, 4)},
    "yvyu422": {"Y": (0, 0, 2), "Cr": (0, 1, 4), "Cb": (0, 3, 4)},
    **{n: {"Y": (0, 0, 1), "Cb": (1, 0, 2), "Cr": (1, 1, 2)} for n in ("nv12", "nv16", "nv24", "p010le", "p210le")},
    "nv21": {"Y": (0, 0, 1), "Cr": (1, 0, 2), "Cb": (1, 1, 2)},
    "ya8": {"Y": (0, 0, 2), "A": (0, 1, 2)},
    "ya16le": {"Y": (0, 0, 2), "A": (0, 1, 2)},
}
_SHIFTED = {"p010le": 6, "p210le": 6}

# A format the lossless writer cannot hold, and one it can, with the very same samples in another order.
EXACT_KIN = {
    "rgb24": "bgr0",
    "bgr24": "bgr0",
    "rgb0": "bgr0",
    "0rgb": "bgr0",
    "0bgr": "bgr0",
    "gbrp": "bgr0",
    "rgba": "bgra",
    "argb": "bgra",
    "abgr": "bgra",
    "gbrap": "bgra",
    "rgb48le": "gbrp16le",
    "bgr48le": "gbrp16le",
    "rgba64le": "gbrap16le",
    "bgra64le": "gbrap16le",
    "yuyv422": "yuv422p",
    "uyvy422": "yuv422p",
    "yvyu422": "yuv422p",
    "nv12": "yuv420p",
    "nv21": "yuv420p",
    "nv16": "yuv422p",
    "nv24": "yuv444p",
    "p010le": "yuv420p10le",
    "p210le": "yuv422p10le",
    "yuvj420p": "yuv420p",
    "yuvj422p": "yuv422p",
    "yuvj444p": "yuv444p",
    "yuvj440p": "yuv440p",
}


def native_name(name: str) -> str:
    """The format samples are held in: that of the file, in this machine's order of bytes."""
    return name.removesuffix("be") + "le" if name.endswith("be") else name


def picture_format(name: str, width: int, height: int) -> PictureFormat:
    """Describe a pixel format of the media library at a given size.

    Raises
    ------
    UnreadableReel
        If samples of the format cannot be edited one by one (palettes, floats, bit-packed data).
    """
    name = native_name(name)
    described = av.VideoFormat(name, width, height)
    depths = {c.bits for c in described.components}
    unusable = described.has_palette or described.is_bit_stream or described.is_bayer or max(depths) > 16 or "f16" in name
    if unusable:
        raise UnreadableReel(
            f"Its pixel format, {name}, is not one whose samples can be treated. "
            "Convert it to a planar format such as yuv422p10le or gbrp16le first."
        )
    dtype = np.dtype(np.uint8 if max(depths) <= 8 else np.uint16)
    places = _INTERLEAVED.get(name)
    if places is None:
        if described.is_rgb:
            names = {0: "G", 1: "B", 2: "R", 3: "A"}
            if not name.startswith("gbr"):
                raise UnreadableReel(f"Its pixel format, {name}, is not supported. Convert it to gbrp or yuv444p first.")
            places = {names[c.plane]: (c.plane, 0, 1) for c in described.components}
        else:
            chroma = iter(("Cb", "Cr"))
            places = {("A" if c.is_alpha else "Y" if c.is_luma else next(chroma)): (c.plane, 0, 1) for c in described.components}
            if len({plane for plane, _, _ in places.values()}) != len(places):
                raise UnreadableReel(f"Its pixel format, {name}, is not supported. Convert it to yuv422p10le first.")
    across, down = _chroma_shift(name, width, height)
    bits = max(depths)
    components = tuple(
        Component(
            name=c,
            plane=plane,
            offset=offset,
            step=step,
            width=across if c in ("Cb", "Cr") else width,
            height=down if c in ("Cb", "Cr") else height,
            bits=bits,
            shift=_SHIFTED.get(name, 0),
        )
        for c, (plane, offset, step) in places.items()
    )
    shapes = []
    for plane in range(1 + max(c.plane for c in components)):
        here = [c for c in components if c.plane == plane]
        shapes.append((here[0].height, max(c.step * c.width for c in here)))
    return PictureFormat(name, width, height, components, tuple(shapes), dtype)


def _chroma_shift(name: str, width: int, height: int) -> tuple[int, int]:
    described = av.VideoFormat(name, width, height)
    return described.chroma_width(width), described.chroma_height(height)


def planes_of(picture: av.VideoFrame, layout: PictureFormat) -> tuple[Samples, ...]:
    """The planes of a decoded picture without the padding at the end of rows: views on it that cannot be written.

    The decoder may still refer to the picture; whoever changes samples works on a copy.
    """
    planes = []
    for plane, (rows, cols) in zip(picture.planes, layout.plane_shapes, strict=False):
        pitch = plane.line_size // layout.dtype.itemsize
        swapped = picture.format.name.endswith("be")
        view = np.frombuffer(memoryview(plane), layout.dtype.newbyteorder(">") if swapped else layout.dtype)
        samples = view[: rows * pitch].reshape(rows, pitch)[:, :cols]
        if swapped:
            samples = samples.astype(layout.dtype)
        samples.setflags(write=False)
        planes.append(samples)
    return tuple(planes)


def to_picture(frame: Frame) -> av.VideoFrame:
    """The frame as a picture of the media library, sample for sample, with its colour tags."""
    layout = frame.format
    picture = av.VideoFrame(layout.width, layout.height, layout.name)
    for plane, samples in zip(picture.planes, frame.planes, strict=False):
        pitch = plane.line_size // layout.dtype.itemsize
        rows, cols = samples.shape
        view = np.frombuffer(memoryview(plane), layout.dtype)[: rows * pitch].reshape(rows, pitch)
        view[:, :cols] = samples
    colour = frame.colour
    picture.colorspace = colour.matrix
    picture.color_range = colour.range_code
    picture.color_primaries = colour.primaries
    picture.color_trc = colour.transfer
    return picture


def to_kin(frame: Frame, layout: PictureFormat) -> Frame:
    """The same samples laid out as `layout`, an exact kin of the frame's own format."""
    if layout == frame.format:
        return frame
    planes = tuple(np.zeros(shape, layout.dtype) for shape in layout.plane_shapes)
    kin = Frame(frame.number, planes, layout, frame.colour, frame.missing)
    for i, component in enumerate(layout.components):
        index = frame.format.index(component.name)
        source = frame.component(index).astype(layout.dtype)
        shift = frame.format.components[index].shift
        kin.component(i)[:] = np.right_shift(source, shift) if shift else source
    return kin
