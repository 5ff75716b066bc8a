"""Masks from picture files, and as picture files."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..base.errors import SweepError
from .shapes import Mask, Picture

# How far, as a share, two shapes of picture may differ and still be the same shape.
_SAME_SHAPE = 0.01


def from_picture(
    pixels: NDArray[np.uint8], size: tuple[int, int], colour: tuple[int, int, int] | None = None, tolerance: int = 60, trim: int = 0
) -> tuple[Picture, list[str]]:
    """Take a mask from a picture: its alpha, or a vivid colour painted on it.

    Parameters
    ----------
    pixels : ndarray, uint8, (height, width, 3 or 4)
        Red, green, blue, and alpha if there is any.
    size : tuple of int
        Height and width of the reel's pictures.
    colour : tuple of int
        The colour that marks the region; the most vivid one of the picture when None. Only used without alpha.
    tolerance : int
        How far, of 255, a pixel may be from that colour.
    trim : int
        Pixels taken off the edge of what was found.

    Returns
    -------
    mask : Picture
        At the reel's size.
    warnings : list of str
        What the user should know.

    Raises
    ------
    SweepError
        If the picture has another shape than the reel, or no mask in it.
    """
    height, width = pixels.shape[:2]
    warnings = []
    if abs(width * size[0] / (height * size[1]) - 1) > _SAME_SHAPE:
        raise SweepError(
            f"The mask is {width} x {height}, the reel {size[1]} x {size[0]}: not the same shape. Make the mask over a picture of this reel."
        )
    if pixels.shape[2] == 4 and pixels[..., 3].min() < 250:
        mask = pixels[..., 3].astype(np.float32) / 255
    else:
        rgb = pixels[..., :3].astype(np.int16)
        vivid = rgb.max(-1) - rgb.min(-1)
        if colour is None:
            if vivid.max() < 100:
                raise SweepError(
                    "This picture has neither transparency nor a vivid colour to take for the mask. Paint the region in pure red, say."
                )
            row, col = np.unravel_index(int(vivid.argmax()), vivid.shape)
            colour = (int(rgb[row, col, 0]), int(rgb[row, col, 1]), int(rgb[row, col, 2]))
        mask = (np.abs(rgb - np.array(colour)).max(-1) <= tolerance).astype(np.float32)
    if trim > 0:
        mask = cv2.erode(mask, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * trim + 1, 2 * trim + 1)))
    if (height, width) != size:
        warnings.append(f"The mask is {width} x {height} and was scaled to the reel's {size[1]} x {size[0]}.")
        mask = cv2.resize(mask, size[::-1], interpolation=cv2.INTER_AREA if height > size[0] else cv2.INTER_LINEAR)
    if not (mask > 0.5).any():
        raise SweepError("The mask is empty: nothing in this picture is marked. Check its colour, the tolerance and the trimming.")
    return Picture.of(mask), warnings


def to_picture(mask: Mask) -> NDArray[np.uint8]:
    """A mask as a picture to be saved: white, with the mask for its alpha; (height, width, 4), uint8."""
    levels = np.clip(np.rint(mask * 255), 0, 255).astype(np.uint8)
    return np.dstack([np.full((*levels.shape, 3), 255, np.uint8), levels])
