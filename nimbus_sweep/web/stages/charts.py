"""Small charts of the sheets, as points of SVG lines."""

from __future__ import annotations

from typing import Any

import numpy as np

# Units across and down.
CHART_WIDE, CHART_HIGH = 276, 64


def chart_points(x: Any, y: Any, height: int = CHART_HIGH) -> str:
    """Points of a line, from shares of its width and height."""
    if len(x) > 2 * CHART_WIDE:
        # Both ends of what changes within a pixel are drawn.
        cuts = np.array_split(np.arange(len(x)), CHART_WIDE)
        at = np.unique([k for part in cuts for k in (part[y[part].argmin()], part[y[part].argmax()])])
        x, y = x[at], y[at]
    return " ".join(f"{a * CHART_WIDE:.1f},{height - b * height:.1f}" for a, b in zip(x, y, strict=True))
