"""Failures that nobody foresaw: logged under a mark that the user is told."""

from __future__ import annotations

import logging
import secrets


def mark_failure(log: logging.Logger, what: str) -> str:
    """Log the exception being handled with its traceback; gives the mark to look for in the log, such as ``F-3a9c51``."""
    code = f"F-{secrets.token_hex(3)}"
    log.exception("%s: %s", code, what)
    return code
