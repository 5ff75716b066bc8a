"""Weights that make up lost samples from those around them."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray


def biharmonic_weights(hole: NDArray[np.bool_]) -> NDArray[np.float64]:
    """How each lost sample follows from the known ones, so that the squared Laplacian of the window is least.

    The smoothest surface through the known samples (biharmonic in-painting: Chui and Mhaskar 2010). It is linear
    in the known samples, so one solution serves every frame.

    Parameters
    ----------
    hole : ndarray, bool, (height, width)
        True where a sample is lost.

    Returns
    -------
    ndarray, float64, (lost, known)
        In row order of the lost and of the known samples. Rows add up to 1.
    """
    return _weights(hole.tobytes(), hole.shape)


@lru_cache(maxsize=512)
def _weights(packed: bytes, shape: tuple[int, int]) -> NDArray[np.float64]:
    hole = np.frombuffer(packed, bool).reshape(shape)
    height, width = shape
    laplacian = np.zeros((height * width, height * width))
    at = np.arange(height * width).reshape(shape)
    for a, b in ((at[:, :-1], at[:, 1:]), (at[:-1], at[1:])):
        for one, other in ((a.ravel(), b.ravel()), (b.ravel(), a.ravel())):
            laplacian[one, other] += 1
            laplacian[one, one] -= 1
    energy = laplacian.T @ laplacian
    lost, known = np.flatnonzero(hole.ravel()), np.flatnonzero(~hole.ravel())
    weights: NDArray[np.float64] = -np.linalg.solve(energy[np.ix_(lost, lost)], energy[np.ix_(lost, known)]).astype(np.float64)
    weights.setflags(write=False)
    return weights
