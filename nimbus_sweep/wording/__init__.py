"""The words for what the core tells as codes and numbers, for screens, papers and the command line alike.

Each kind of defect has one template in ``defects/``, named as the kind, with macros: ``title`` and ``sentence`` of a finding,
``note`` of what could not be looked for, and what the condition sheet says about all findings of the kind.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from jinja2 import BaseLoader, Environment, FileSystemLoader

from ..core.model.findings import Finding, Note
from ..core.model.registry import DEFECTS
from . import lamps, numbers

FOLDER = Path(__file__).parent
_folders = [FOLDER]


class _Templates(BaseLoader):
    """Finds the templates of the kinds, in all folders there are."""

    def get_source(self, environment: Environment, template: str) -> tuple[str, str | None, Callable[[], bool] | None]:
        return FileSystemLoader(_folders).get_source(environment, template)


TEMPLATES = _Templates()
_plain = Environment(loader=TEMPLATES, trim_blocks=True, lstrip_blocks=True)
_plain.filters.update(numbers.FILTERS)
_plain.globals.update(lamps.GLOBALS)


@contextmanager
def including(folder: Path) -> Iterator[None]:
    """Look for templates in one more folder for a while."""
    _folders.append(folder)
    try:
        yield
    finally:
        _folders.remove(folder)


def _macro(kind: str, name: str) -> Any:
    return getattr(_plain.get_template(f"defects/{kind}.html").module, name)


def _joined(text: str) -> str:
    return " ".join(text.split())


def title(finding: Finding) -> str:
    """What a finding is, in a few words."""
    return finding.title or _joined(_macro(finding.kind, "title")(finding))


def sentence(finding: Finding) -> str:
    """What a finding rests on, with its numbers."""
    return finding.sentence or _joined(_macro(finding.kind, "sentence")(finding))


def note(remark: Note) -> str:
    """What a survey could not tell, and what to do."""
    if remark.said:
        return remark.said
    if remark.code == "failed":
        return (
            f"{DEFECTS[remark.kind].title} could not be looked for ({remark.values['error']}). "
            f"Look for {remark.values['mark']} in the log, and place what you see by hand."
        )
    return _joined(_macro(remark.kind, "note")(remark.code, remark.values))


FILTERS = {**numbers.FILTERS, "title_of": title, "sentence_of": sentence, "note_of": note}
