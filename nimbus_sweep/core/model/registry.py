"""All kinds of step and of defect there are. A new kind is a package of its own and one line here."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from importlib import import_module
from typing import TYPE_CHECKING, Any, Generic, TypeVar

if TYPE_CHECKING:
    from .kinds import DefectKind, StepKind

Kind = TypeVar("Kind")

# In the order that works: what changes the light of a whole frame first, what makes every sample anew last.
_MODULES = [
    "nimbus_sweep.core.defects.unsteady_light.kind",
    "nimbus_sweep.core.tools.frame_blend",
    "nimbus_sweep.core.defects.stuck_pixels.kind",
    "nimbus_sweep.core.defects.static_shade.kind",
    "nimbus_sweep.core.defects.film_dirt.kind",
    "nimbus_sweep.core.defects.scratches.kind",
    "nimbus_sweep.core.defects.cue_marks.kind",
    "nimbus_sweep.core.defects.transients.kind",
    "nimbus_sweep.core.tools.borrow_fill",
    "nimbus_sweep.core.tools.region_median",
    "nimbus_sweep.core.tools.plate_patch.kind",
    "nimbus_sweep.core.tools.retouch",
    "nimbus_sweep.core.tools.lend_grain",
    "nimbus_sweep.core.tools.reframe",
]


class Kinds(Mapping[str, Kind], Generic[Kind]):
    """Kinds by their names, in the order that works; their modules are imported when the first is asked for.

    A name that a kind had in an earlier version is known as well, but not listed.
    """

    def __init__(self, attribute: str) -> None:
        self._attribute = attribute
        self._known: dict[str, Kind] | None = None
        self._renamed: dict[str, str] = {}

    def _all(self) -> dict[str, Kind]:
        if self._known is None:
            known: dict[str, Any] = {}
            for name in _MODULES:
                for kind in getattr(import_module(name), self._attribute, ()):
                    known[kind.kind] = kind
            self._renamed = {old: kind.kind for kind in known.values() for old in kind.old_names}
            self._known = known
        return self._known

    def __getitem__(self, name: str) -> Kind:
        known = self._all()
        return known[self._renamed.get(name, name)]

    def __iter__(self) -> Iterator[str]:
        return iter(self._all())

    def __len__(self) -> int:
        return len(self._all())

    def forget(self) -> None:
        """Import the modules again when the next kind is asked for."""
        self._known = None


STEPS: Kinds[StepKind] = Kinds("STEPS")
DEFECTS: Kinds[DefectKind] = Kinds("DEFECTS")


@contextmanager
def including(module: str) -> Iterator[None]:
    """Add the kinds of one more module, by its dotted name, for a while."""
    _MODULES.append(module)
    try:
        STEPS.forget()
        DEFECTS.forget()
        yield
    finally:
        _MODULES.remove(module)
        STEPS.forget()
        DEFECTS.forget()
