"""Between Y'CbCr and R'G'B' and between depths, in floats: for deliveries that cannot hold the source's own samples."""

from __future__ import annotations

from dataclasses import replace

import cv2
import numpy as np
from numpy.typing import NDArray

from .colour import luma_weights
from .frames import Colour, Component, Frame, PictureFormat

Values = dict[str, NDArray[np.float32]]


def values_of(frame: Frame) -> Values:
    """Every component as floats: luma, R'G'B', grey and alpha of 0 to 1, chroma about 0 from -0.5 to 0.5."""
    values: Values = {}
    for i, component in enumerate(frame.format.components):
        black, span = _scale(component, frame.colour)
        values[component.name] = (
            (frame.component(i).astype(np.float32) / np.float32(1 << component.shift)) - np.float32(black)
        ) / np.float32(span)
    return values


def with_values(frame: Frame, values: Values, held: PictureFormat) -> Frame:
    """A frame of layout `held` that shows `values`."""
    names = {c.name for c in held.components}
    colour = frame.colour
    if "R" in names and "R" not in values:
        values = {**to_rgb_values(values, colour, held.height), **({"A": values["A"]} if "A" in values else {})}
        colour = _rgb_colour(colour)
    elif "Y" in names and "Y" not in values:
        values, colour = _to_luma(values, colour, held)
    planes = tuple(np.zeros(shape, held.dtype) for shape in held.plane_shapes)
    made = Frame(frame.number, planes, held, colour, frame.missing)
    for i, component in enumerate(held.components):
        plane = values.get(component.name)
        if plane is None:
            plane = (
                np.ones((component.height, component.width), np.float32)
                if component.name == "A"
                else np.zeros((component.height, component.width), np.float32)
            )
        if plane.shape != (component.height, component.width):
            smaller = plane.shape[0] > component.height or plane.shape[1] > component.width
            plane = cv2.resize(plane, (component.width, component.height), interpolation=cv2.INTER_AREA if smaller else cv2.INTER_LINEAR)
        black, span = _scale(component, colour)
        if component.floating:
            made.component(i)[:] = plane.astype(held.dtype)
        else:
            top = (1 << component.bits) - 1
            made.component(i)[:] = (
                np.clip(np.rint(plane * np.float32(span) + np.float32(black)), 0, top).astype(held.dtype)
            ) << component.shift
    return made


def _scale(component: Component, colour: Colour) -> tuple[float, float]:
    """The sample value of 0, and the distance from there to 1 (ranges of ITU-R BT.709 and BT.2100)."""
    if component.floating:
        return 0.0, 1.0
    unit = (1 << component.bits) / 256
    if component.is_chroma:
        return float(1 << component.bits >> 1), float((1 << component.bits) - 1) if colour.full_range else 224 * unit
    if component.name == "Y" and not colour.full_range:
        return 16 * unit, 219 * unit
    return 0.0, float((1 << component.bits) - 1)


def _full(values: Values, name: str, shape: tuple[int, int]) -> NDArray[np.float32]:
    plane = values[name]
    return plane if plane.shape == shape else cv2.resize(plane, (shape[1], shape[0]), interpolation=cv2.INTER_LINEAR)


def to_rgb_values(values: Values, colour: Colour, height: int) -> Values:
    """Luma and chroma, or luma alone, as R'G'B' of 0 to 1; an unnamed matrix is chosen by picture height."""
    luma = values["Y"]
    if "Cb" not in values:
        return {"R": luma, "G": luma, "B": luma}
    kr, kg, kb = luma_weights(colour, height)
    blue, red = _full(values, "Cb", luma.shape), _full(values, "Cr", luma.shape)
    r, b = luma + np.float32(2 * (1 - kr)) * red, luma + np.float32(2 * (1 - kb)) * blue
    return {"R": r, "B": b, "G": (luma - np.float32(kr) * r - np.float32(kb) * b) / np.float32(kg)}


def _rgb_colour(colour: Colour) -> Colour:
    return replace(colour, matrix=0, full_range=True, range_code=2, assumed=False)


def _to_luma(values: Values, colour: Colour, held: PictureFormat) -> tuple[Values, Colour]:
    # R'G'B' names no matrix of luma; BT.709 from 720 lines on, BT.601 below (common practice, no source).
    matrix = 9 if colour.primaries == 9 else 1 if held.height >= 720 else 6
    colour = replace(colour, matrix=matrix, full_range=False, range_code=1, assumed=False)
    kr, kg, kb = luma_weights(colour, held.height)
    r, g, b = values["R"], values["G"], values["B"]
    luma = np.float32(kr) * r + np.float32(kg) * g + np.float32(kb) * b
    made = {"Y": luma, "Cb": (b - luma) / np.float32(2 * (1 - kb)), "Cr": (r - luma) / np.float32(2 * (1 - kr))}
    if "A" in values:
        made["A"] = values["A"]
    return made, colour
