"""The words for how a track holds."""

from __future__ import annotations

from ..core.model.planes import State

STATES = {State.HELD: "held", State.WEAK: "weak", State.BRIDGED: "not seen: bridged", State.OUT: "off the picture"}
GLOBALS = {"track_states": STATES}
